"""The painter of marks and labels: what meets on a bar is stacked outward, and never covers the candle."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPaintEngine, QPainter, QPainterPath, QPen, QPixmap

from oakladder.bars.bars import Bars
from oakladder.desk.chart.layer import Layer
from oakladder.desk.chart.overplotting import MANY, newest_in_cells, told_apart
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.shapes import shape_path
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.picture.parts import Label, Mark

_GAP = 5.0
#: The width of a label without a text, and the least distance between the texts of very many marks, in pixels.
_LEAST_LABEL, _TEXT_APART = 10.0, 14.0
#: Max number of collapsed labels that a tooltip lists.
_MOST_FOLDED = 7
#: Font sizes of labels from size 1 to 5.
_LABEL_FONTS = (7.0, 8.0, 9.5, 11.5, 14.0)


def radius_of(size: int) -> float:
    """How large a shape is from its middle, in pixels."""
    return 2.6 + 1.5 * size


@dataclass(slots=True)
class Drawn:
    """Something that was painted: where, what it says, and the bars where it stands and became known."""

    box: QRectF
    words: str
    bar: int
    known: int


@dataclass(slots=True)
class _Box:
    """A label that has found its place, how many more are folded into it, and what the first of them say."""

    box: QRectF
    text: str
    color: QColor
    point: QPointF
    tail: QPointF
    size: int
    count: int = 0
    folded: list[str] = field(default_factory=list)

    def fold(self, text: str) -> None:
        """Takes in another label."""
        self.count += 1
        if len(self.folded) < _MOST_FOLDED:
            self.folded.append(text)


class MarksAndLabels(Layer):
    """Shapes and texts at bars. Labels that would cover one another fold into the newest with a count."""

    def __init__(self, on_bars: bool = True) -> None:
        """``on_bars`` says that the bars are in this pane; in other panes marks are placed at the lower or upper edge."""
        super().__init__()
        self._on_bars = on_bars
        self._bars: Bars | None = None
        self.marks: tuple[Mark, ...] = ()
        self.labels: tuple[Label, ...] = ()
        self._theme: Theme | None = None
        self.as_known = False
        #: What the last painting put where, for the hover.
        self.drawn: list[Drawn] = []
        self._stacked: dict[tuple[int, str], float] = {}
        #: Sides of bars on which several drawings may meet.
        self._shared_sides: set[str] = set()
        self._hits: list[tuple[np.ndarray, np.ndarray, float, Mark, np.ndarray]] = []
        self._stamps: dict[tuple[str, float, int, float], QPixmap] = {}
        self._paths: dict[tuple[str, float], tuple[QPainterPath, bool]] = {}

    def show_all(self, bars: Bars, marks: tuple[Mark, ...], labels: tuple[Label, ...], theme: Theme) -> None:
        self._bars, self.marks, self.labels, self._theme = bars, marks, labels, theme
        self.drawn, self._hits = [], []  # the mouse may come before the next painting
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self._bars is None or self._theme is None or not len(self._bars):
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        first, last = self.seen(len(self._bars))
        self._stacked = {}
        self.drawn, self._hits = [], []
        sides = [m.side for m in self.marks if m.prices is None] + [x.side for x in self.labels if x.prices is None]
        self._shared_sides = {side for side in sides if sides.count(side) > 1}
        for mark in self.marks:
            self._draw_mark(painter, mark, first, last)
        boxes: list[_Box] = []
        for label in self.labels:
            self._place_label(painter, label, first, last, boxes)
        for box in boxes:
            self._draw_box(painter, box)

    @property
    def above(self) -> float:
        """How far the first thing above a bar reaches, in pixels: that of the highest must not stand under the legend."""
        marks = [2 * radius_of(m.size) for m in self.marks if m.prices is None and m.side == "above"]
        labels = [2 * _LABEL_FONTS[x.size - 1] + _GAP for x in self.labels if x.prices is None and x.side == "above"]
        return _GAP + sum((max(marks, default=0.0), max(labels, default=0.0))) if marks or labels else 0.0

    def at(self, point: QPointF) -> Drawn | None:
        """What was painted under a point."""
        for drawn in reversed(self.drawn):
            if drawn.box.adjusted(-2, -2, 2, 2).contains(point):
                return drawn
        for xs, ys, radius, mark, which in reversed(self._hits):
            near = np.flatnonzero((np.abs(xs - point.x()) <= radius + 2) & (np.abs(ys - point.y()) <= radius + 2))
            if len(near):
                k, at = int(near[-1]), int(which[near[-1]])
                box = QRectF(xs[k] - radius, ys[k] - radius, 2 * radius, 2 * radius)
                words = mark.texts[at] if mark.texts is not None else mark.name
                return Drawn(box, words, int(mark.bars[at]), int(mark.known[at]))
        return None

    def _places(self, drawing: Mark | Label, first: int, last: int) -> tuple[np.ndarray, np.ndarray]:
        """Which of a drawing's occurrences can be seen, and the bars they are drawn at."""
        bars = drawing.known if self.as_known else drawing.bars
        if self.as_known:
            which = np.flatnonzero((bars >= first) & (bars < last))
        else:
            which = np.arange(*np.searchsorted(bars, (first, last)))
        return which, bars[which]

    def _edges(self, bars: np.ndarray, side: str) -> np.ndarray:
        """Where the first thing on a side of each bar may begin."""
        assert self._bars is not None
        gap = _GAP if side == "below" else -_GAP
        if not self._on_bars:
            edge = self.box.bottom() - 22 if side == "below" else self.box.top() + 40
            return np.full(len(bars), edge)
        return self.price_y(self._bars["low" if side == "below" else "high"][bars]) + gap

    def _draw_mark(self, painter: QPainter, mark: Mark, first: int, last: int) -> None:
        radius = radius_of(mark.size)
        which, bars = self._places(mark, first, last)
        if not len(which):
            return
        xs, colours = self.bar_x(bars), mark.colours[which]
        outward = 1.0 if mark.side == "below" else -1.0
        if mark.prices is not None:
            ys = self.price_y(mark.prices[which])
        else:
            ys = self._edges(bars, mark.side) + outward * radius
            # So many stand closer than they could be stacked.
            shared = bars.tolist() if mark.side in self._shared_sides and len(bars) <= MANY else []
            for k, bar in enumerate(shared):  # marks already placed push the next one outward
                edge = self._stacked.get((bar, mark.side))
                if edge is not None:
                    ys[k] = edge + outward * radius
                self._stacked[bar, mark.side] = float(ys[k]) + outward * (radius + 2)
        self._hits.append((xs, ys, radius, mark, which))
        kept = told_apart(xs, ys, radius / 2)
        self._put_shapes(painter, mark.shape, radius, xs[kept], ys[kept], colours[kept])
        if mark.texts is not None:
            kept = told_apart(xs, ys, _TEXT_APART)
            for x, y, k in zip(xs[kept].tolist(), ys[kept].tolist(), which[kept].tolist(), strict=True):
                if y == y:
                    self._draw_text(painter, mark.texts[k], x, y + outward * (radius + 1), mark)

    def _put_shapes(
        self, painter: QPainter, shape: str, radius: float, xs: np.ndarray, ys: np.ndarray, colours: np.ndarray
    ) -> None:
        """Puts a shape down in many places; on a screen as a stamp, in a picture of lines as what it is."""
        engine = painter.paintEngine()
        stamped = engine is not None and engine.type() != QPaintEngine.Type.SVG
        for tone in dict.fromkeys(colours.tolist()):
            if not tone >> 24:
                continue
            here = ~np.isnan(ys) & (colours == tone)
            if not stamped:
                for x, y in zip(xs[here].tolist(), ys[here].tolist(), strict=True):
                    self._draw_shape(painter, shape, radius, tone, x, y)
                continue
            device, put = painter.device(), painter.drawPixmap
            ratio = device.devicePixelRatioF() if device is not None else 1.0
            stamp = self._stamp(shape, radius, tone, ratio)
            half = stamp.deviceIndependentSize().width() / 2
            left, top = xs[here] - half, ys[here] - half
            if ratio == 1:  # whole numbers are put down more quickly
                left, top = (np.floor(at + 0.5).astype(np.int64) for at in (left, top))
            for x, y in zip(left.tolist(), top.tolist(), strict=True):
                if ratio == 1:
                    put(x, y, stamp)
                else:
                    put(QPointF(x, y), stamp)

    def _draw_shape(self, painter: QPainter, shape: str, radius: float, tone: int, x: float, y: float) -> None:
        path, filled = self._path(shape, radius)
        color = qcolor(tone)
        painter.setPen(QPen(color, 1.6))
        painter.setBrush(color if filled else Qt.BrushStyle.NoBrush)
        painter.drawPath(path.translated(x, y))

    def _stamp(self, shape: str, radius: float, tone: int, ratio: float) -> QPixmap:
        """A shape as a small picture, painted once for a screen of some pixel ratio and put down many times."""
        key = (shape, radius, tone, ratio)
        if key not in self._stamps:
            size = 2 * int(radius + 3) + 1
            made = QPixmap(round(size * ratio), round(size * ratio))
            made.setDevicePixelRatio(ratio)
            made.fill(Qt.GlobalColor.transparent)
            with QPainter(made) as painter:
                painter.setRenderHint(QPainter.RenderHint.Antialiasing)
                self._draw_shape(painter, shape, radius, tone, size / 2, size / 2)
            if len(self._stamps) > 200:
                self._stamps.clear()
            self._stamps[key] = made
        return self._stamps[key]

    def _path(self, shape: str, radius: float) -> tuple[QPainterPath, bool]:
        if (shape, radius) not in self._paths:
            self._paths[shape, radius] = shape_path(shape, 0, 0, radius)
        return self._paths[shape, radius]

    def _draw_text(self, painter: QPainter, text: str, x: float, y: float, mark: Mark) -> None:
        """The text of a mark, outward of its shape; what comes next on that bar goes beyond it."""
        assert self._theme is not None
        painter.setFont(ui_font(SMALL))
        metrics = painter.fontMetrics()
        width, height = metrics.horizontalAdvance(text) + 2.0, float(metrics.height())
        below = mark.side == "below" or mark.prices is not None
        box = QRectF(x - width / 2, y if below else y - height, width, height)
        painter.setPen(self._theme.color("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)

    def _place_label(self, painter: QPainter, label: Label, first: int, last: int, boxes: list[_Box]) -> None:
        painter.setFont(ui_font(_LABEL_FONTS[label.size - 1]))
        metrics = painter.fontMetrics()
        which, bars = self._places(label, first, last)
        if not len(which):
            return
        edges = self._edges(bars, label.side) if label.prices is None else self.price_y(label.prices[which])
        places = self.bar_x(bars)
        height = metrics.height() + 2.0
        below = label.side == "below" and label.prices is None
        # Labels that begin within half a label of one another would cover one another: the newest stands for them.
        newest = np.arange(len(which))
        if len(which) > MANY:
            newest = newest_in_cells(places, edges, _LEAST_LABEL, height / 2)
        alike = np.bincount(newest, minlength=len(which)).tolist()
        edges, xs = edges.tolist(), places.tolist()
        for k in np.flatnonzero(newest == np.arange(len(which)))[::-1].tolist():
            at, x, color = int(which[k]), xs[k], qcolor(int(label.colours[which[k]]))
            text = label.texts[at]
            width = metrics.horizontalAdvance(text) + _LEAST_LABEL
            bar = int(bars[k])
            if label.prices is not None:
                y = edges[k] - height - 6
            else:
                edge = self._stacked.get((bar, label.side), edges[k])
                y = edge + 5 if below else edge - 5 - height
            box = QRectF(x - width / 2, y, width, height)
            if y != y or not color.alpha():
                continue
            other = next((b for b in boxes if box.intersects(b.box)), None)
            more = alike[k] - 1
            if other is not None:
                other.fold(text)
                other.count += more
                continue
            if label.prices is None:
                self._stacked[bar, label.side] = box.bottom() + 3 if below else box.top() - 3
            tail = box.top() if below else box.bottom()
            point = QPointF(x, tail - 5 if below else tail + 5)
            boxes.append(_Box(box, text, color, point, QPointF(x, tail), label.size, more))
            self.drawn.append(Drawn(box, text, int(label.bars[at]), int(label.known[at])))

    def _draw_box(self, painter: QPainter, made: _Box) -> None:
        assert self._theme is not None
        painter.setFont(ui_font(_LABEL_FONTS[made.size - 1]))
        painter.setPen(QPen(made.color, 1))
        painter.drawLine(made.tail, made.point)
        painter.setBrush(self._theme.color("raised"))
        painter.drawRoundedRect(made.box, 3, 3)
        painter.setPen(self._theme.color("ink"))
        painter.drawText(made.box, Qt.AlignmentFlag.AlignCenter, made.text)
        if not made.count:
            return
        painter.setFont(ui_font(SMALL, strong=True))
        count = f"+{made.count:,}"
        width = painter.fontMetrics().horizontalAdvance(count) + 6.0
        badge = QRectF(made.box.right() - width * 0.4, made.box.top() - 6, width, 12)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(made.color)
        painter.drawRoundedRect(badge, 6, 6)
        painter.setPen(self._theme.color("ground"))
        painter.drawText(badge, Qt.AlignmentFlag.AlignCenter, count)
        words = [made.text, *made.folded]
        left = made.count + 1 - len(words)
        for drawn in self.drawn:
            if drawn.box is made.box:
                drawn.words = "\n".join([*words, *([f"and {left:,} more"] if left else [])])
