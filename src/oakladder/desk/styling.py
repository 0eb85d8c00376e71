"""Gives the window's parts their colours: what is in sight at once, the rest one part after the other.

Styling and repainting a part each take time for all of its widgets: the part is repainted at the next turn.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterable

from PyQt6 import sip
from PyQt6.QtCore import QObject, Qt, QTimer
from PyQt6.QtWidgets import QSplitterHandle, QStackedWidget, QTabWidget, QWidget

from oakladder.desk.widgets.self_drawn import Card, Splitter

_PAUSE_MS = 10
#: A turn goes on to the next part for so many seconds of processor time.
_TURN = 0.008


def _inside(part: QWidget) -> list[QWidget]:
    """The parts of a container that draws nothing itself (the palette colours it); empty for a single part."""
    if not _is_bare(part):
        return []
    children = part.findChildren(QWidget, options=Qt.FindChildOption.FindDirectChildrenOnly)
    return [child for child in children if not (child.isWindow() or isinstance(child, QSplitterHandle))]


def _is_bare(widget: QWidget) -> bool:
    if isinstance(widget, QTabWidget):
        return widget.documentMode()
    plain = type(widget) in (QWidget, QStackedWidget) and not widget.objectName()
    return plain or widget.objectName() == "place" or isinstance(widget, (Splitter, Card))


class Styling(QObject):
    """``sheet`` gives the style sheet as it is now. Places are styled part by part."""

    def __init__(self, sheet: Callable[[], str], parent: QObject | None = None):
        super().__init__(parent)
        self._sheet = sheet
        self._waiting: deque[QWidget] = deque()
        self._unpainted: list[QWidget] = []
        self._timer = QTimer(self, singleShot=True, interval=_PAUSE_MS)
        self._timer.timeout.connect(self._next)

    def ask(self, parts: Iterable[QWidget]) -> None:
        """Styles these instead of what was still waiting, from the next `go_on` on."""
        self._waiting = deque(parts)

    def also(self, part: QWidget) -> None:
        """Styles this after what is still waiting."""
        self._waiting.append(part)
        self.go_on()

    def go_on(self) -> None:
        """Styles what waits."""
        self._timer.start()

    def now(self, part: QWidget) -> None:
        """Styles at once what is not hidden in a part; nothing where nothing waits: it is styled then."""
        if self._waiting:
            self._style(part, self._sheet())

    def _style(self, part: QWidget, sheet: str) -> None:
        inside = _inside(part)
        for child in inside:
            if not child.isHidden():
                self._style(child, sheet)
        if not inside and part.styleSheet() != sheet:
            part.setStyleSheet(sheet)

    def is_waiting(self) -> bool:
        """Whether a part in sight has still to be styled or painted."""
        if not self._timer.isActive():
            return False
        sheet = self._sheet()
        seen = any(p.isVisible() and p.styleSheet() != sheet for p in self._waiting if not sip.isdeleted(p))
        return seen or bool(self._unpainted)

    def _next(self) -> None:
        """Paints what was styled at the last turn, styles what is next."""
        for part in (p for p in self._unpainted if not sip.isdeleted(p)):
            part.setUpdatesEnabled(True)
        self._unpainted = []
        sheet, begun = self._sheet(), time.thread_time()
        while self._waiting and time.thread_time() - begun < _TURN:
            part = self._waiting.popleft()
            if sip.isdeleted(part):
                continue
            inside = _inside(part)
            self._waiting.extendleft(reversed(inside))
            if not inside and part.styleSheet() != sheet:
                if part.isVisible():
                    self._unpainted.append(part)
                    part.setUpdatesEnabled(False)
                part.setStyleSheet(sheet)
        if self._waiting or self._unpainted:
            self._timer.start()
