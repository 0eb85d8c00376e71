"""Runs Python's garbage collector on the window's thread only.

Objects that refer to each other in a circle are freed by Python's collector, which runs in whichever thread
happens to allocate. A widget among them would be taken down in a worker's thread, and Qt does not bear that.
"""

from __future__ import annotations

import gc
import time

from PyQt6.QtCore import QObject, Qt, QTimer
from PyQt6.QtGui import QGuiApplication

_INTERVAL_MS = 250
#: After at most so many sweeps everything is looked through: the garbage of half a minute of typing, freed in one go, would
#: hold the window up.
_MOST_BETWEEN = 8
#: Where a look through everything frees more objects than this, the next one comes sooner.
_MUCH = 20_000
#: A look that takes longer (seconds of processor time) shall not look at the same objects again: what programs are
#: remembered, and what they were made of, lives on and costs the same at each look.
_LONG = 0.015
#: How long the user has been in another program before everything is looked through (ms).
_AWAY_MS = 3_000


class GcScheduler(QObject):
    """Turns the collector off, and does its work between the window's events.

    What has survived a long collection is not visited again unless the user is in another program: scripts and runs
    leave no circles, so that hardly any garbage is among it (`tests/rung/test_circles.py`, `tests/engine/test_garbage.py`).
    """

    def __init__(self, parent: QGuiApplication):
        super().__init__(parent)
        gc.disable()
        self._timer = QTimer(self, interval=_INTERVAL_MS)
        self._timer.timeout.connect(self.sweep)
        self._timer.start()
        self._since, self._between = 0, _MOST_BETWEEN
        self._away = QTimer(self, singleShot=True, interval=_AWAY_MS)
        self._away.timeout.connect(look_through_everything)
        parent.applicationStateChanged.connect(self._note_state)

    def sweep(self) -> None:
        """Frees the youngest generations where they are due, and now and then all: the more often, the more is freed."""
        self._since += 1
        counts = gc.get_count()
        if self._since >= self._between and any(counts):
            begin = time.thread_time()
            freed = gc.collect()
            if time.thread_time() - begin > _LONG:
                gc.freeze()
            self._since = 0
            self._between = max(self._between // 2, 1) if freed > _MUCH else min(self._between + 1, _MOST_BETWEEN)
            return
        due = [k for k, (count, most) in enumerate(zip(counts, gc.get_threshold(), strict=True)) if count > most]
        if due:
            gc.collect(min(due[-1], 1))

    def _note_state(self, state: Qt.ApplicationState) -> None:
        if state == Qt.ApplicationState.ApplicationActive:
            self._away.stop()
        else:
            self._away.start()


def look_through_everything() -> None:
    """Frees all garbage there is, also among what has lived long; takes long."""
    gc.unfreeze()
    keep_for_good()


def keep_for_good() -> None:
    """Lets what is there now stay unlooked at: a window, once opened, is not freed before the end, and looking through all
    of it would hold it up for as long as a frame takes, again and again."""
    gc.collect()
    gc.freeze()
