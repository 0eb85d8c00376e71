"""Timers of the controllers."""

from __future__ import annotations

from PyQt6.QtCore import QObject, QTimer


def repeating(parent: QObject, interval: int) -> QTimer:
    """A timer that goes off every ``interval`` milliseconds once it is started."""
    made = QTimer(parent)
    made.setInterval(interval)
    return made


def single_shot(parent: QObject, interval: int = 0) -> QTimer:
    """A timer that goes off once, ``interval`` milliseconds after each start."""
    made = QTimer(parent)
    made.setSingleShot(True)
    made.setInterval(interval)
    return made
