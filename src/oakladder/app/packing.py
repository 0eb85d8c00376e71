"""Packs the bars of a large market in the background while the program is idle, so that scans read them quickly."""

from __future__ import annotations

from PyQt6.QtCore import QObject

from oakladder.app.jobs import Jobs
from oakladder.app.timers import single_shot
from oakladder.bars.store.library import BarLibrary

#: So long bars must have stood still, and nothing have been worked on, before they are packed (ms).
PAUSE_MS = 5000


class Packing(QObject):
    """Packs some time after bars have changed."""

    def __init__(self, library: BarLibrary, jobs: Jobs, parent: QObject | None = None):
        super().__init__(parent)
        self._library, self._jobs = library, jobs
        self._timer = single_shot(self, PAUSE_MS)
        self._timer.timeout.connect(self._begin)

    def soon(self) -> None:
        """Schedules packing: bars have changed, or may have."""
        self._jobs.stop("pack")
        self._timer.start()

    def _begin(self) -> None:
        if self._jobs.busy():
            self._timer.start()
            return
        self._jobs.start("pack", lambda ticket: self._library.pack(ticket.cancelled), lambda _: None, slow=True)

    def stop(self) -> None:
        """Packs no more."""
        self._timer.stop()
        self._jobs.stop("pack")
