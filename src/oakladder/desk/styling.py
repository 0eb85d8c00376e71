"""Gives the window's parts their colours: what is in sight at once, the rest one part after the other.

Styling and repainting a part each take time for all of its widgets: the part is repainted at the next turn.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator

from PyQt6 import sip
from PyQt6.QtCore import QObject, Qt, QTimer
from PyQt6.QtWidgets import QSplitterHandle, QStackedWidget, QTabWidget, QWidget

from oakladder.desk.widgets.self_drawn import Card, Splitter

_PAUSE_MS = 10
#: A turn goes on to the next part for so many seconds of processor time.
_TURN = 0.008
#: A container with at most so many widgets in it is one part: to read the style sheet for a part takes time too.
_FEW = 40


def parts_of(place: QWidget, *, in_sight: bool = False) -> Iterator[QWidget]:
    """The parts of a place that are styled one by one, since all of them together would hold the window up; or those that
    are not hidden. Containers that draw nothing of their own are left out: the palette colours them."""
    if not _is_bare(place) or len(place.findChildren(QWidget)) <= _FEW:
        yield place
        return
    for child in place.findChildren(QWidget, options=Qt.FindChildOption.FindDirectChildrenOnly):
        if not (child.isWindow() or isinstance(child, QSplitterHandle) or (in_sight and child.isHidden())):
            yield from parts_of(child, in_sight=in_sight)


def _is_bare(widget: QWidget) -> bool:
    if isinstance(widget, QTabWidget):
        return widget.documentMode()
    plain = type(widget) in (QWidget, QStackedWidget) or widget.objectName() == "place"
    return plain or isinstance(widget, (Splitter, Card))


class Styling(QObject):
    """``sheet`` gives the style sheet as it is now."""

    def __init__(self, sheet: Callable[[], str], parent: QObject | None = None):
        super().__init__(parent)
        self._sheet = sheet
        self._waiting: list[QWidget] = []
        self._unpainted: list[QWidget] = []
        self._timer = QTimer(self, singleShot=True, interval=_PAUSE_MS)
        self._timer.timeout.connect(self._next)

    def ask(self, parts: Iterable[QWidget]) -> None:
        """Styles these instead of what was still waiting, from the next `go_on` on."""
        self._waiting = list(parts)

    def also(self, parts: Iterable[QWidget]) -> None:
        """Styles these after what is still waiting."""
        self._waiting += parts
        self.go_on()

    def go_on(self) -> None:
        """Styles what waits."""
        self._timer.start()

    def now(self, part: QWidget) -> None:
        """Styles a part at once, where it is not styled so already."""
        if part.styleSheet() != self._sheet():
            part.setStyleSheet(self._sheet())

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
            part = self._waiting.pop(0)
            if not sip.isdeleted(part) and part.styleSheet() != sheet:
                if part.isVisible():
                    self._unpainted.append(part)
                    part.setUpdatesEnabled(False)
                part.setStyleSheet(sheet)
        if self._waiting or self._unpainted:
            self._timer.start()
