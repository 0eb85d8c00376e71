"""Garbage is freed between the window's events, and what lives long is not looked at again and again."""

from __future__ import annotations

import gc
import time
import weakref
from collections.abc import Iterator

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from oakladder.desk.gc_scheduler import GcScheduler


class Node:
    """Something that a circle can be made of."""

    other: Node | None = None


@pytest.fixture
def sweeper(qapp: QApplication) -> Iterator[GcScheduler]:
    made = GcScheduler(qapp)
    yield made
    made.deleteLater()
    gc.unfreeze()
    gc.collect()


def look(sweeper: GcScheduler) -> float:
    """Sweeps as often as it takes to look through everything; gives the longest sweep in seconds of processor time."""
    longest = 0.0
    for _ in range(9):
        Node()
        begin = time.thread_time()
        sweeper.sweep()
        longest = max(longest, time.thread_time() - begin)
    return longest


def test_what_lives_long_is_looked_at_once(sweeper: GcScheduler) -> None:
    look(sweeper)
    held = [[k] for k in range(600_000)]
    first = look(sweeper)
    assert look(sweeper) < first / 4 and len(held) == 600_000


def test_circles_are_freed_also_those_that_lived_long(sweeper: GcScheduler, qapp: QApplication) -> None:
    young = Node()
    young.other, dead = young, weakref.ref(young)
    del young
    look(sweeper)
    assert dead() is None
    old, held = Node(), [[k] for k in range(600_000)]
    old.other, dead = old, weakref.ref(old)
    look(sweeper)
    del old
    look(sweeper)
    assert dead() is not None  # it is looked at no more while the user is here
    qapp.applicationStateChanged.emit(Qt.ApplicationState.ApplicationInactive)
    QTest.qWait(3_400)
    assert dead() is None and len(held) == 600_000
