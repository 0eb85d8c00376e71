"""Frees what Python would free by itself, on the window's thread only.

Objects that refer to each other in a circle are freed by Python's collector, which runs in whichever thread
happens to allocate. A widget among them would be taken down in a worker's thread, and Qt does not bear that.
"""

from __future__ import annotations

import gc

from PyQt6.QtCore import QObject, QTimer

_INTERVAL_MS = 250


class Sweeper(QObject):
    """Turns the collector off, and does its work by the same thresholds between the window's events."""

    def __init__(self, parent: QObject):
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self, interval=_INTERVAL_MS)
        self._timer.timeout.connect(self.sweep)
        self._timer.start()

    def sweep(self) -> None:
        """Frees the oldest generation that is due, and with it the younger ones."""
        due = [
            k for k, (count, most) in enumerate(zip(gc.get_count(), gc.get_threshold(), strict=True)) if count > most
        ]
        if due:
            gc.collect(due[-1])


def keep_for_good() -> None:
    """Lets what is there now stay unlooked at for good: a window, once opened, is not freed before the end, and looking
    through all of it would hold it up for as long as a frame takes, again and again."""
    gc.collect()
    gc.freeze()
