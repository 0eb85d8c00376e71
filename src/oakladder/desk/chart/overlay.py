"""What stands over a pane: the legend with values at the cursor, the corner notes, crosshair, last price, measure."""

from __future__ import annotations

from dataclasses import dataclass, field

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from oakladder.desk.chart.layer import Layer
from oakladder.desk.look.fonts import SMALL, TEXT, ui_font, words
from oakladder.desk.look.theme import Theme

#: A pane narrower than so many pixels keeps its legend to the names, in small letters.
_NARROW = 300.0
#: How thick the ground is behind words, of 255.
_VEIL = 190


@dataclass(slots=True)
class LegendLine:
    """A line of the legend: a colour, a name, the value at the cursor, and whether its drawing is shown."""

    color: QColor
    name: str
    value: str
    hidden: bool = False


@dataclass(frozen=True, slots=True)
class Measure:
    """Two points that are measured against one another: bar and price of each, and what there is to say."""

    start: tuple[float, float]
    end: tuple[float, float]
    words: tuple[str, ...]


@dataclass(slots=True)
class OverlayContent:
    """Everything that an overlay shows."""

    entries: list[LegendLine] = field(default_factory=list)
    notes: list[tuple[str, str, QColor]] = field(default_factory=list)
    trouble: str = ""
    cursor_x: float | None = None
    cursor_y: float | None = None
    cursor_text: str = ""
    pinned: float | None = None
    last: tuple[float, QColor, str] | None = None
    known: tuple[float, float] | None = None
    measure: Measure | None = None
    #: Whether the pane can be folded, and is.
    foldable: bool = False
    folded: bool = False


class Overlay(Layer):
    """Paints an `OverlayContent` over its pane and knows which entry of the legend is where."""

    def __init__(self, theme: Theme):
        super().__init__()
        self.theme = theme
        self.content = OverlayContent()
        self.places: list[tuple[QRectF, str]] = []
        self.fold_place: QRectF | None = None

    def entry_at(self, point: QPointF) -> str | None:
        """The name of the legend's entry under a point."""
        return next((name for box, name in self.places if box.contains(point)), None)

    def fold_at(self, point: QPointF) -> bool:
        """Whether a point is on the sign that folds the pane."""
        return self.fold_place is not None and self.fold_place.contains(point)

    def draw(self, painter: QPainter) -> None:
        view = self.box
        if not self.content.folded:
            self._lines(painter, view)
        painter.setFont(ui_font(self._size(view)))
        top = self._legend(painter, view)
        if self.content.folded:
            return
        self._notes(painter, view, top)
        if self.content.measure is not None:
            self._measure(painter, view, self.content.measure)
        if self.content.trouble:
            painter.setPen(self.theme.color("loss"))
            painter.drawText(
                view.adjusted(10, top + 4, -10, 0),
                Qt.AlignmentFlag.AlignTop | Qt.TextFlag.TextWordWrap,
                self.content.trouble,
            )

    @staticmethod
    def _size(view: QRectF) -> float:
        return SMALL if view.width() < _NARROW else TEXT

    def _upright(self, painter: QPainter, view: QRectF, bar: float) -> None:
        x = round(float(self.bar_x(bar)))
        painter.drawLine(QPointF(x, view.top()), QPointF(x, view.bottom()))

    @staticmethod
    def _level(painter: QPainter, view: QRectF, height: float) -> None:
        y = round(height)
        painter.drawLine(QPointF(view.left(), y), QPointF(view.right(), y))

    def _lines(self, painter: QPainter, view: QRectF) -> None:
        c = self.content
        if c.last is not None:
            price, color, _ = c.last
            height = float(self.price_y(price))
            if view.top() < height < view.bottom():
                painter.setPen(QPen(color, 1, Qt.PenStyle.DashDotLine))
                self._level(painter, view, height)
        if c.known is not None:
            painter.setPen(QPen(self.theme.color("warn"), 1, Qt.PenStyle.DashLine))
            self._upright(painter, view, c.known[1])
        if c.pinned is not None:
            painter.setPen(QPen(self.theme.color("pin"), 1.4))
            self._upright(painter, view, c.pinned)
        painter.setPen(QPen(self.theme.color("faint"), 1, Qt.PenStyle.DotLine))
        if c.cursor_x is not None:
            self._upright(painter, view, c.cursor_x)
        if c.cursor_y is not None:
            self._level(painter, view, float(self.height_y(c.cursor_y)))

    def _legend(self, painter: QPainter, view: QRectF) -> float:
        """Writes the legend; gives how far down it reaches."""
        x, y = view.left() + 8, view.top() + 4
        height, size = painter.fontMetrics().height(), self._size(view)
        self.places, self.fold_place = [], None
        if self.content.foldable:
            self.fold_place = QRectF(x - 4, y, 14, height)
            painter.setPen(self.theme.color("faint"))
            painter.drawText(self.fold_place, Qt.AlignmentFlag.AlignCenter, "+" if self.content.folded else "–")
            x += 14
        left = x
        for entry in self.content.entries:
            text = words(entry.name if view.width() < _NARROW else f"{entry.name} {entry.value}".strip(), size)
            width = text.size().width() + 26
            if x + width > view.right() - 8 and x > left:
                if self.content.folded:
                    break
                x, y = left, y + height
            self.places.append((QRectF(x, y, width - 10, height), entry.name))
            self._ground(painter, QRectF(x - 2, y, width - 8, height))
            painter.setPen(QPen(entry.color if not entry.hidden else self.theme.color("line"), 3))
            painter.drawLine(QPointF(x, y + height / 2), QPointF(x + 10, y + height / 2))
            painter.setPen(self.theme.color("faint" if entry.hidden else "ink"))
            painter.drawStaticText(QPointF(x + 15, y), text)
            x += width
        return y + height - view.top() if self.content.entries or self.content.foldable else 4.0

    def _notes(self, painter: QPainter, view: QRectF, legend: float) -> None:
        height = painter.fontMetrics().height() + 2
        used: dict[str, float] = {"top left": legend + 2, "top right": 4}
        taken = [box for box, _ in self.places]
        for corner, text, color in self.content.notes:
            if not text:
                continue
            vertical, horizontal = corner.split()
            align = Qt.AlignmentFlag.AlignLeft if horizontal == "left" else Qt.AlignmentFlag.AlignRight
            flags = align | Qt.TextFlag.TextWordWrap
            room = QRectF(view.left() + 8, view.top(), view.width() - 16, view.height())
            box = painter.boundingRect(room, flags, text)
            needed, down = max(box.height(), height), used.get(corner, 4.0)
            while True:  # further from the rim as long as it would cover other words
                top = view.top() + down if vertical == "top" else view.bottom() - down - needed
                box.moveTop(top)
                if down > view.height() or not any(box.intersects(other) for other in taken):
                    break
                down += height
            used[corner] = down + needed
            taken.append(QRectF(box))
            room.moveTop(top)
            self._ground(painter, box)
            painter.setPen(color)
            painter.drawText(room, flags, text)

    def _ground(self, painter: QPainter, box: QRectF) -> None:
        """Lightens what lies behind words, so that they can be read over bars."""
        ground = self.theme.color("ground")
        ground.setAlpha(_VEIL)
        painter.fillRect(box, ground)

    def _measure(self, painter: QPainter, view: QRectF, measure: Measure) -> None:
        """The line between the two points, the box that they span, and the words beside it."""
        points = [
            QPointF(float(self.bar_x(bar)), float(self.price_y(price))) for bar, price in (measure.start, measure.end)
        ]
        box = QRectF(*points).normalized()
        shade = self.theme.color("pin")
        shade.setAlpha(36)
        painter.fillRect(box, shade)
        painter.setPen(QPen(self.theme.color("pin"), 1.2))
        painter.drawLine(*points)
        painter.setFont(ui_font())
        metrics = painter.fontMetrics()
        width = max(metrics.horizontalAdvance(w) for w in measure.words) + 14.0
        height = metrics.height() * len(measure.words) + 8.0
        x = min(max(points[1].x() + 8, view.left() + 4), view.right() - width - 4)
        y = min(max(points[1].y() - height - 6, view.top() + 4), view.bottom() - height - 4)
        words = QRectF(x, y, width, height)
        painter.setPen(QPen(self.theme.color("pin"), 1))
        painter.setBrush(self.theme.color("raised"))
        painter.drawRect(words)
        painter.setPen(self.theme.color("ink"))
        painter.drawText(words, Qt.AlignmentFlag.AlignCenter, "\n".join(measure.words))
