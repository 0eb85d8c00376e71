"""A sheet of small pictures: as many on a page as fit, turned and opened by keys."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter
from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme

#: The line under the pictures, in pixels; how many times as large as it must be a picture is at most.
_FOOT, _LARGEST = 18.0, 2.0


class Sheet(PaintedWidget):
    """The arrow and page keys move, Enter or a double click opens. ``opened`` tells the number of a picture."""

    opened = pyqtSignal(int)

    #: How wide and high a picture is at least, in pixels.
    least = (170.0, 104.0)

    def __init__(self, theme: Theme, name: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.at = 0
        #: The text of an empty sheet.
        self.empty = ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(int(self.least[1]))
        self.setAccessibleName(name)

    # --- what a sheet shows -------------------------------------------------------------------------

    def count(self) -> int:
        """How many pictures there are."""
        raise NotImplementedError

    def draw(self, painter: QPainter, k: int, box: QRectF) -> None:
        """Paints a picture."""
        raise NotImplementedError

    def hint(self, k: int) -> str:
        """What the hover says of the picture that was clicked."""
        raise NotImplementedError

    # --- where pictures are -------------------------------------------------------------------------

    def first(self) -> None:
        """Begins with the first picture again."""
        self._go_to(0)

    def _go_to(self, k: int) -> None:
        self.at = k
        self.setAccessibleDescription(self.hint(k) if k < self.count() else "")
        self.update()

    @property
    def _most_across(self) -> int:
        return max(int(self.width() // self.least[0]), 1)

    @property
    def _down(self) -> int:
        return max(int((self.height() - _FOOT) // self.least[1]), 1)

    @property
    def _across(self) -> int:
        """The fewest columns that still fit on one page: a few pictures are large ones."""
        for across in range(1, self._most_across):
            rows = -(-self.count() // across)
            if rows <= self._down and self.width() / across <= _LARGEST * self.least[0]:
                return across
        return self._most_across

    @property
    def _on_page(self) -> int:
        return self._across * self._down

    def box(self, place: int) -> QRectF:
        """A place on the page."""
        rows = min(max(-(-self.count() // self._across), 1), self._down)
        wide, high = self.width() / self._across, min((self.height() - _FOOT) / rows, self.least[1] * _LARGEST)
        return QRectF(place % self._across * wide, place // self._across * high, wide, high)

    def page(self) -> range:
        """The numbers of the pictures on the page."""
        begin = self.at // self._on_page * self._on_page
        return range(begin, min(begin + self._on_page, self.count()))

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        page = self.page()
        if not page:
            painter.setPen(self.theme.color("faint"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self.empty)
            return
        for place, k in enumerate(page):
            box = self.box(place).adjusted(4, 3, -4, -3)
            if k == self.at and self.hasFocus():
                painter.setPen(self.theme.color("pin"))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(box)
            self.draw(painter, k, box.adjusted(4, 2, -4, -3))
        painter.setPen(self.theme.color("faint"))
        painter.setFont(ui_font(SMALL))
        words = f"{page.start + 1} to {page.stop} of {self.count():,}"
        words += "; Enter opens" if len(page) == self.count() else "; Page Up and Page Down turn the sheet, Enter opens"
        foot = QRectF(8, self.height() - _FOOT + 1, self.width() - 16, _FOOT - 2)
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, words)

    # --- mouse and keys -------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self._across,
            Qt.Key.Key_Down: self._across,
            Qt.Key.Key_PageUp: -self._on_page,
            Qt.Key.Key_PageDown: self._on_page,
            Qt.Key.Key_Home: -self.count(),
            Qt.Key.Key_End: self.count(),
        }
        if event.key() in steps:
            self._go_to(min(max(self.at + steps[Qt.Key(event.key())], 0), max(self.count() - 1, 0)))
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.count():
            self.opened.emit(self.at)
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        for place, k in enumerate(self.page()):
            if self.box(place).contains(event.position()):
                self._go_to(k)
                self.setToolTip(self.hint(k))

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if self.count():
            self.opened.emit(self.at)
