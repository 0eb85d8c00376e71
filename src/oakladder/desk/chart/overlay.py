"""What stands over a pane: the legend with values at the cursor, the corner notes, the crosshair's price."""

from __future__ import annotations

from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from ..look.theme import Theme, ui_font
from .items import Item


@dataclass(slots=True)
class Entry:
    """A line of the legend: a colour, a name and the value at the cursor."""

    color: QColor
    name: str
    value: str


@dataclass(slots=True)
class OverlayContent:
    """Everything that an overlay shows."""

    entries: list[Entry] = field(default_factory=list)
    notes: list[tuple[str, str, QColor]] = field(default_factory=list)
    trouble: str = ""
    cursor_x: float | None = None
    cursor_y: float | None = None
    cursor_text: str = ""
    pinned: float | None = None


class Overlay(Item):
    """Paints an `OverlayContent` over its pane."""

    def __init__(self, theme: Theme):
        super().__init__()
        self.theme = theme
        self.content = OverlayContent()
        self.setZValue(50)

    def draw(self, painter: QPainter) -> None:
        view = self._map.mapRect(QRectF(self.viewRect()))
        self._lines(painter, view)
        painter.setFont(ui_font(8.5))
        top = self._legend(painter, view)
        self._notes(painter, view, top)
        if self.content.trouble:
            painter.setPen(self.theme.color("falling"))
            painter.drawText(
                view.adjusted(10, top + 4, -10, 0),
                Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap,
                self.content.trouble,
            )

    def _lines(self, painter: QPainter, view: QRectF) -> None:
        c = self.content
        if c.pinned is not None:
            painter.setPen(QPen(self.theme.color("oak"), 1.4))
            x = round(float(self.bar_x(c.pinned)))
            painter.drawLine(QPointF(x, view.top()), QPointF(x, view.bottom()))
        painter.setPen(QPen(self.theme.color("faint"), 1, Qt.PenStyle.DotLine))
        if c.cursor_x is not None:
            x = round(float(self.bar_x(c.cursor_x)))
            painter.drawLine(QPointF(x, view.top()), QPointF(x, view.bottom()))
        if c.cursor_y is not None:
            y = round(float(self.price_y(c.cursor_y)))
            painter.drawLine(QPointF(view.left(), y), QPointF(view.right(), y))
            painter.setFont(ui_font(8))
            width = painter.fontMetrics().horizontalAdvance(c.cursor_text) + 8
            box = QRectF(view.right() - width, y - 9, width, 18)
            painter.fillRect(box, self.theme.color("raised"))
            painter.setPen(self.theme.color("ink"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, c.cursor_text)

    def _legend(self, painter: QPainter, view: QRectF) -> float:
        """Writes the legend; gives how far down it reaches."""
        x, y = view.left() + 8, view.top() + 4
        metrics = painter.fontMetrics()
        height = metrics.height()
        if not self.content.entries:
            return 4.0
        for entry in self.content.entries:
            text = f"{entry.name} {entry.value}".strip()
            width = metrics.horizontalAdvance(text) + 26
            if x + width > view.right() - 8 and x > view.left() + 8:
                x, y = view.left() + 8, y + height
            painter.setPen(QPen(entry.color, 3))
            painter.drawLine(QPointF(x, y + height / 2), QPointF(x + 10, y + height / 2))
            painter.setPen(self.theme.color("ink"))
            painter.drawText(QPointF(x + 15, y + metrics.ascent()), text)
            x += width
        return y + height - view.top()

    def _notes(self, painter: QPainter, view: QRectF, legend: float) -> None:
        height = painter.fontMetrics().height() + 2
        used: dict[str, float] = {"top left": legend + 2, "top right": 4}
        for corner, text, color in self.content.notes:
            if not text:
                continue
            rows = text.count("\n") + 1
            down = used.get(corner, 4.0)
            used[corner] = down + rows * height
            vertical, horizontal = corner.split()
            y = view.top() + down if vertical == "top" else view.bottom() - down - rows * height
            align = Qt.AlignmentFlag.AlignLeft if horizontal == "left" else Qt.AlignmentFlag.AlignRight
            painter.setPen(color)
            painter.drawText(QRectF(view.left() + 8, y, view.width() - 16, rows * height), align, text)
