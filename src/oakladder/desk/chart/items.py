"""The painters of the chart: each draws one thing, only where it can be seen, in whole pixels."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF, QTransform

from oakladder.bars.series import Bars
from oakladder.engine.drawing import Label, Line, Mark

from ..look.shapes import shape_path
from ..look.theme import Theme, qcolor, ui_font

PEN_STYLES = {"dashed": Qt.PenStyle.DashLine, "dotted": Qt.PenStyle.DotLine, "dots": Qt.PenStyle.DotLine}


class Item(pg.GraphicsObject):
    """A painter in a pane. Subclasses draw in pixels: `bar_x` and `price_y` say where."""

    def __init__(self) -> None:
        super().__init__()
        self._map = QTransform()

    def boundingRect(self) -> QRectF:
        """Everything that the pane shows: painters look after their own limits."""
        return QRectF(self.viewRect())

    def paint(self, painter: QPainter, *_: object) -> None:
        painter.save()
        self._map = painter.transform()
        painter.resetTransform()
        self.draw(painter)
        painter.restore()

    def draw(self, painter: QPainter) -> None:
        raise NotImplementedError

    def bar_x(self, bar: np.ndarray | float) -> np.ndarray:
        """Pixel of the middle of a bar."""
        return np.asarray(bar) * self._map.m11() + self._map.dx()

    def price_y(self, price: np.ndarray | float) -> np.ndarray:
        return np.asarray(price) * self._map.m22() + self._map.dy()

    @property
    def bar_width(self) -> float:
        """Pixels from one bar to the next."""
        return abs(self._map.m11())

    def seen(self, count: int) -> tuple[int, int]:
        """The bars that can be seen, one more on each side."""
        rect = self.viewRect()
        return max(int(rect.left()) - 1, 0), min(int(rect.right()) + 3, count)

    def viewRangeChanged(self) -> None:
        self.prepareGeometryChange()
        self.update()


def thinned(first: int, last: int, width: float) -> np.ndarray | None:
    """Where bars are narrower than a pixel: the first bar of each group that shares one; else None."""
    if width >= 1.0 or last - first < 4:
        return None
    step = int(np.ceil(1.0 / max(width, 1e-9)))
    return np.arange(first - first % step, last, step)


class BarItem(Item):
    """A painter of something that every bar has, in colours of its own where the script paints."""

    def __init__(self) -> None:
        super().__init__()
        self._bars: Bars | None = None
        self._theme: Theme | None = None
        self.colours: np.ndarray | None = None

    def show_bars(self, bars: Bars, colours: np.ndarray | None, theme: Theme) -> None:
        self._bars, self._theme, self.colours = bars, theme, colours
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self._bars is None or self._theme is None:
            return
        first, last = self.seen(len(self._bars))
        if first < last:
            self.draw_bars(painter, self._bars, self._theme, first, last)

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        raise NotImplementedError


class Candles(BarItem):
    """Bars with hollow rising and filled falling bodies; painted bars keep the shape and take the colour."""

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        groups = thinned(first, last, self.bar_width)
        if groups is not None:
            self._draw_thin(painter, bars, theme, groups, last)
            return
        c = bars.columns
        part = slice(first, last)
        x = np.round(self.bar_x(np.arange(first, last)))
        o, h, lo, cl = (np.round(self.price_y(c[k][part])) for k in ("open", "high", "low", "close"))
        rising = c["close"][part] >= c["open"][part]
        known = ~np.isnan(o + h + lo + cl)
        colours = self.colours[part] if self.colours is not None else np.zeros(last - first, dtype=np.uint32)
        plain = (theme.paint("good"), theme.paint("bad"))
        half = max(int(self.bar_width * 0.34), 0)
        ground = theme.color("ground")
        for tone in np.unique(colours):
            for up in (True, False):
                pick = np.flatnonzero(known & (colours == tone) & (rising == up))
                if not len(pick):
                    continue
                color = qcolor(tone if tone else plain[0 if up else 1])
                self._draw_some(
                    painter, x[pick], o[pick], h[pick], lo[pick], cl[pick], half, color, ground if up else color
                )

    @staticmethod
    def _draw_some(
        painter: QPainter,
        x: np.ndarray,
        o: np.ndarray,
        h: np.ndarray,
        lo: np.ndarray,
        c: np.ndarray,
        half: int,
        color: QColor,
        fill: QColor,
    ) -> None:
        pen = QPen(color)
        pen.setWidth(1)
        painter.setPen(pen)
        painter.setBrush(fill)
        top, bottom = np.minimum(o, c), np.maximum(o, c)
        if half < 1:
            painter.drawLines([QLineF(a, b, a, d) for a, b, d in zip(x.tolist(), h.tolist(), lo.tolist(), strict=True)])
            return
        wicks = [QLineF(a, b, a, t) for a, b, t in zip(x.tolist(), h.tolist(), top.tolist(), strict=True) if b < t]
        wicks += [QLineF(a, b, a, d) for a, b, d in zip(x.tolist(), bottom.tolist(), lo.tolist(), strict=True) if b < d]
        painter.drawLines(wicks)
        painter.drawRects(
            [
                QRectF(a - half, t, 2 * half, max(b - t, 0.5))
                for a, t, b in zip(x.tolist(), top.tolist(), bottom.tolist(), strict=True)
            ]
        )

    def _draw_thin(self, painter: QPainter, bars: Bars, theme: Theme, groups: np.ndarray, last: int) -> None:
        high = np.fmax.reduceat(bars["high"][:last], groups)
        low = np.fmin.reduceat(bars["low"][:last], groups)
        painter.setPen(QPen(theme.color("rising")))
        x, top, bottom = self.bar_x(groups), self.price_y(high), self.price_y(low)
        painter.drawLines(
            [
                QLineF(a, b, a, d + 1)
                for a, b, d in zip(x.tolist(), top.tolist(), bottom.tolist(), strict=True)
                if b == b
            ]
        )


class VolumeColumns(BarItem):
    """Volume as columns from zero, in the tone of their bars."""

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        groups = thinned(first, last, self.bar_width)
        at = np.arange(first, last) if groups is None else groups
        volume = bars["volume"][first:last] if groups is None else np.fmax.reduceat(bars["volume"][:last], groups)
        rising = bars["close"][at] >= bars["open"][at]
        x, y, floor = np.round(self.bar_x(at)), np.round(self.price_y(volume)), float(self.price_y(0.0))
        half = max(int(self.bar_width * 0.34), 0)
        painter.setPen(Qt.PenStyle.NoPen)
        painted = self.colours[at] if self.colours is not None else np.zeros(len(at), dtype=np.uint32)
        for tone in np.unique(painted).tolist():
            for up in (True, False):
                color = qcolor(tone) if tone else theme.color("rising" if up else "falling")
                color.setAlpha(200 if tone else 120)
                painter.setBrush(color)
                pick = np.flatnonzero((rising == up) & (painted == tone) & ~np.isnan(y))
                painter.drawRects(
                    [
                        QRectF(a - half, b, 2 * half + 1, floor - b)
                        for a, b in zip(x[pick].tolist(), y[pick].tolist(), strict=True)
                    ]
                )


class Lines(Item):
    """The lines of a script in one pane, with gaps where there is no value."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[Line] = []

    def show_lines(self, lines: list[Line]) -> None:
        self.lines = lines
        self.update()

    def draw(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for line in self.lines:
            first, last = self.seen(len(line.values))
            if last - first < 1:
                continue
            self._draw_line(painter, line, first, last)

    def _draw_line(self, painter: QPainter, line: Line, first: int, last: int) -> None:
        groups = thinned(first, last, self.bar_width)
        at = np.arange(first, last) if groups is None else groups
        x, y, colours = self.bar_x(at), self.price_y(line.values[at]), line.colours[at]
        shown = ~np.isnan(y) & (colours != 0)
        if line.style == "steps":
            x = np.repeat(x, 2)[1:]
            y, shown, colours = (np.repeat(v, 2)[:-1] for v in (y, shown, colours))
        cuts = np.flatnonzero((shown[1:] != shown[:-1]) | (colours[1:] != colours[:-1])) + 1
        for a, b in zip([0, *cuts.tolist()], [*cuts.tolist(), len(shown)], strict=True):
            if not shown[a]:
                continue
            end = b + 1 if b < len(shown) and shown[b] else b
            px, py = x[a:end].tolist(), y[a:end].tolist()
            pen = QPen(qcolor(int(colours[a])), line.width, PEN_STYLES.get(line.style, Qt.PenStyle.SolidLine))
            if line.style == "dots":
                pen.setStyle(Qt.PenStyle.SolidLine)
                pen.setWidthF(line.width * 2)
                pen.setCapStyle(Qt.PenCapStyle.RoundCap)
                painter.setPen(pen)
                painter.drawPoints([QPointF(p, q) for p, q in zip(px, py, strict=True)])
                continue
            painter.setPen(pen)
            if len(px) == 1:
                painter.drawPoint(QPointF(px[0], py[0]))
            elif pen.style() == Qt.PenStyle.SolidLine:
                # Single segments are many times quicker to paint than one thick polyline.
                pen.setCapStyle(Qt.PenCapStyle.RoundCap)
                painter.setPen(pen)
                painter.drawLines([QLineF(*ends) for ends in zip(px[:-1], py[:-1], px[1:], py[1:], strict=True)])
            else:
                painter.drawPolyline(QPolygonF([QPointF(p, q) for p, q in zip(px, py, strict=True)]))


class MarksAndLabels(Item):
    """Shapes and texts at bars. What meets on a bar is stacked outward, and never covers the candle."""

    GAP = 5.0

    def __init__(self) -> None:
        super().__init__()
        self._bars: Bars | None = None
        self.marks: tuple[Mark, ...] = ()
        self.labels: tuple[Label, ...] = ()
        self._theme: Theme | None = None

    def show_all(self, bars: Bars, marks: tuple[Mark, ...], labels: tuple[Label, ...], theme: Theme) -> None:
        self._bars, self.marks, self.labels, self._theme = bars, marks, labels, theme
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self._bars is None or self._theme is None or not len(self._bars):
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        first, last = self.seen(len(self._bars))
        stacked: dict[tuple[int, str], float] = {}
        for mark in self.marks:
            self._draw_mark(painter, mark, first, last, stacked)
        taken: list[QRectF] = []
        for label in self.labels:
            self._draw_label(painter, label, first, last, stacked, taken)

    def _edge(self, bar: int, side: str, stacked: dict[tuple[int, str], float]) -> float:
        """Where the next thing on a side of a bar may begin."""
        assert self._bars is not None
        base = float(self.price_y(self._bars["low" if side == "below" else "high"][bar]))
        return stacked.get((bar, side), base + (self.GAP if side == "below" else -self.GAP))

    def _draw_mark(
        self, painter: QPainter, mark: Mark, first: int, last: int, stacked: dict[tuple[int, str], float]
    ) -> None:
        assert self._theme is not None
        radius = 2.6 + 1.5 * mark.size
        a, b = np.searchsorted(mark.bars, (first, last))
        for k in range(int(a), int(b)):
            color, bar = qcolor(int(mark.colours[k])), int(mark.bars[k])
            x = float(self.bar_x(bar))
            if mark.prices is not None:
                y = float(self.price_y(mark.prices[k]))
            else:
                edge = self._edge(bar, mark.side, stacked)
                y = edge + radius if mark.side == "below" else edge - radius
                stacked[bar, mark.side] = y + (radius + 2) * (1 if mark.side == "below" else -1)
            if y != y or not color.alpha():
                continue
            path, filled = shape_path(mark.shape, x, y, radius)
            painter.setPen(QPen(color, 1.6))
            painter.setBrush(color if filled else Qt.BrushStyle.NoBrush)
            painter.drawPath(path)

    def _draw_label(
        self,
        painter: QPainter,
        label: Label,
        first: int,
        last: int,
        stacked: dict[tuple[int, str], float],
        taken: list[QRectF],
    ) -> None:
        assert self._theme is not None
        painter.setFont(ui_font(8))
        metrics = painter.fontMetrics()
        a, b = np.searchsorted(label.bars, (first, last))
        for k in range(int(b) - 1, int(a) - 1, -1):
            color, bar = qcolor(int(label.colours[k])), int(label.bars[k])
            text = label.texts[k]
            width, height = metrics.horizontalAdvance(text) + 10.0, metrics.height() + 2.0
            x = float(self.bar_x(bar))
            if label.prices is not None:
                y = float(self.price_y(label.prices[k])) - height - 6
            else:
                edge = self._edge(bar, label.side, stacked)
                y = edge + 5 if label.side == "below" else edge - 5 - height
            box = QRectF(x - width / 2, y, width, height)
            if y != y or not color.alpha() or any(box.intersects(other) for other in taken):
                continue
            taken.append(box)
            if label.prices is None:
                stacked[bar, label.side] = box.bottom() + 3 if label.side == "below" else box.top() - 3
            tail_y = box.top() if label.side == "below" and label.prices is None else box.bottom()
            point = tail_y - 5 if tail_y == box.top() else tail_y + 5
            painter.setPen(QPen(color, 1))
            painter.drawLine(QPointF(x, tail_y), QPointF(x, point))
            painter.setBrush(self._theme.color("raised"))
            painter.drawRoundedRect(box, 3, 3)
            painter.setPen(self._theme.color("ink"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, text)
