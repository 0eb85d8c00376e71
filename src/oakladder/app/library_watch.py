"""Follows the library: what other programs change in it, or move elsewhere, is shown a moment later."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QElapsedTimer, QObject, pyqtSignal

from oakladder.app.jobs import Jobs, Ticket
from oakladder.app.main_thread import MainThreadDispatcher
from oakladder.app.timers import single_shot
from oakladder.bars.store.access import GENERATION, NOTE
from oakladder.bars.store.append_log import NAME as LIVE
from oakladder.bars.store.library import BarLibrary
from oakladder.user.folder_watch import Watch

#: Milliseconds between a change and the next check, and between two changes that are shown: an import of thousands of
#: files changes the library all the time.
_SOON_MS, _BETWEEN_MS = 100, 2000


class LibraryWatch(QObject):
    """Checks in the background for changes of the library by other programs. ``changed`` reports them,
    ``minutes_came`` that live minutes may have been appended."""

    changed = pyqtSignal()
    minutes_came = pyqtSignal()

    def __init__(self, library: BarLibrary, jobs: Jobs, parent: QObject | None = None):
        super().__init__(parent)
        self._library, self._jobs = library, jobs
        self._watch: Watch | None = None
        self._watchlist: Path | None = None
        self._outside = MainThreadDispatcher(self._written, self)
        self._soon = single_shot(self)
        self._soon.timeout.connect(self._look)
        self._since = QElapsedTimer()

    def begin(self) -> None:
        """Begins to watch the library's folder, or watches that where it is now."""
        folder = self._library.folder
        if folder == self._watchlist:
            return
        if self._watch is not None:
            self._watch.close()
        self._watchlist = folder
        self._watch = Watch([folder], self._outside, polled=[folder / GENERATION, folder / NOTE, folder / LIVE])
        self.minutes_came.emit()

    def _written(self, paths: set[Path]) -> None:
        if any(path.name == LIVE for path in paths):
            self.minutes_came.emit()
        if any(path.name in (GENERATION, NOTE) or path == self._watchlist for path in paths):
            self.soon()

    def soon(self) -> None:
        """Looks in a moment."""
        if not self._soon.isActive():
            passed = self._since.elapsed() if self._since.isValid() else _BETWEEN_MS
            self._soon.start(max(_BETWEEN_MS - passed, _SOON_MS))

    @property
    def waiting(self) -> bool:
        """Whether it will be looked in a moment."""
        return self._soon.isActive()

    def _look(self) -> None:
        if self._jobs.busy_with("library"):
            self.soon()
            return

        def work(ticket: Ticket) -> bool:
            fresh = self._library.fresh()
            return fresh and len(self._library.infos) >= 0  # reads the catalogue here, off the window's thread

        self._jobs.start("library", work, self._take, slow=True)

    def _take(self, fresh: bool) -> None:
        if self._watch is not None:
            self.begin()
        if fresh:
            self._since.start()
            self.changed.emit()

    def stop(self) -> None:
        """Watches no more."""
        self._soon.stop()
        self._outside.close()
        if self._watch is not None:
            self._watch.close()
