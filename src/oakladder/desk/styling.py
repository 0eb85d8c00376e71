"""Gives the window's parts their colours: what is in sight at once, the rest one part after the other.

Styling and repainting a part each take time for all of its widgets: the part is repainted at the next turn.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtWidgets import QWidget

_PAUSE_MS = 10


class Styling(QObject):
    """``sheet`` gives the style sheet as it is now."""

    def __init__(self, sheet: Callable[[], str], parent: QObject | None = None):
        super().__init__(parent)
        self._sheet = sheet
        self._waiting: list[QWidget | None] = []
        self._unpainted: QWidget | None = None
        self._timer = QTimer(self, singleShot=True, interval=_PAUSE_MS)
        self._timer.timeout.connect(self._next)

    def ask(self, parts: Iterable[QWidget | None]) -> None:
        """Styles these instead of what was still waiting, from the next `go_on` on."""
        self._waiting = list(parts)

    def also(self, parts: Iterable[QWidget | None]) -> None:
        """Styles these after what is still waiting."""
        self._waiting += parts
        self.go_on()

    def go_on(self) -> None:
        """Styles what waits."""
        self._timer.start()

    def now(self, part: QWidget | None) -> None:
        """Styles a part at once, where it is not styled so already."""
        if part is not None and part.styleSheet() != self._sheet():
            part.setStyleSheet(self._sheet())

    def is_waiting(self) -> bool:
        """Whether a part in sight has still to be styled or painted."""
        if not self._timer.isActive():
            return False
        sheet = self._sheet()
        seen = any(part is not None and part.isVisible() and part.styleSheet() != sheet for part in self._waiting)
        return seen or self._unpainted is not None

    def _next(self) -> None:
        """Paints what was styled at the last turn, styles what is next."""
        if self._unpainted is not None:
            self._unpainted.setUpdatesEnabled(True)
            self._unpainted = None
        while self._waiting:
            part = self._waiting.pop(0)
            if part is not None and part.styleSheet() != self._sheet():
                if part.isVisible():
                    self._unpainted = part
                    part.setUpdatesEnabled(False)
                self.now(part)
                break
        if self._waiting or self._unpainted is not None:
            self._timer.start()
