"""Frees what Python would free by itself, on the window's thread only.

Objects that refer to each other in a circle are freed by Python's collector, which runs in whichever thread
happens to allocate. A widget among them would be taken down in a worker's thread, and Qt does not bear that.
"""

from __future__ import annotations

import gc

from PyQt6.QtCore import QObject, QTimer

_INTERVAL_MS = 250
#: After at most so many sweeps everything is looked through: what a script was compiled to is a web of circles, and the
#: garbage of half a minute of typing, freed in one go, would hold the window up.
_MOST_BETWEEN = 8
#: Where a look through everything frees more objects than this, the next one comes sooner; what lives on costs the same
#: at each look, so it is what is freed that counts and not the time.
_MUCH = 20_000


class Sweeper(QObject):
    """Turns the collector off, and does its work by the same thresholds between the window's events."""

    def __init__(self, parent: QObject):
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self, interval=_INTERVAL_MS)
        self._timer.timeout.connect(self.sweep)
        self._timer.start()
        self._since, self._between = 0, _MOST_BETWEEN

    def sweep(self) -> None:
        """Frees the youngest generations where they are due, and now and then all: the more often, the more is freed."""
        self._since += 1
        counts = gc.get_count()
        if self._since >= self._between and any(counts):
            freed = gc.collect()
            self._since = 0
            self._between = max(self._between // 2, 1) if freed > _MUCH else min(self._between + 1, _MOST_BETWEEN)
            return
        due = [k for k, (count, most) in enumerate(zip(counts, gc.get_threshold(), strict=True)) if count > most]
        if due:
            gc.collect(min(due[-1], 1))


def keep_for_good() -> None:
    """Lets what is there now stay unlooked at for good: a window, once opened, is not freed before the end, and looking
    through all of it would hold it up for as long as a frame takes, again and again."""
    gc.collect()
    gc.freeze()
