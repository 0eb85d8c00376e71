"""The painter of a script's lines."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from oakladder.desk.chart.arrays import draw_chain, draw_dots, tones_in
from oakladder.desk.chart.bars import draw_columns
from oakladder.desk.chart.layer import PEN_STYLES, Layer
from oakladder.desk.chart.minmax_pyramid import Pyramid
from oakladder.desk.look.theme import qcolor
from oakladder.engine.picture.parts import DrawnLine


class Lines(Layer):
    """The lines of a script in one pane, with gaps at missing values."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[DrawnLine] = []
        self._pyramids: dict[int, Pyramid] = {}

    def show_lines(self, lines: list[DrawnLine]) -> None:
        self.lines, self._pyramids = lines, {}
        self.update()

    def _pyramid(self, line: DrawnLine) -> Pyramid:
        if id(line) not in self._pyramids:
            shown = line.values if (line.colours != 0).all() else np.where(line.colours != 0, line.values, np.nan)
            self._pyramids[id(line)] = Pyramid(shown)
        return self._pyramids[id(line)]

    def ends(self, line: DrawnLine, first: int, last: int) -> tuple[float, float]:
        """The smallest and the largest value of a line that is drawn between two bars."""
        return self._pyramid(line).ends(first, last)

    def draw(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for line in self.lines:
            first, last = self.seen(len(line.values))
            if last - first < 1:
                continue
            thin = self.thinned(first, last)
            if thin is not None:
                self._draw_thin(painter, line, *thin)
            else:
                self._draw_line(painter, line, first, last)

    def _draw_thin(self, painter: QPainter, line: DrawnLine, groups: np.ndarray, step: int) -> None:
        low, high = self._pyramid(line).groups(groups, step)
        colours = line.colours[groups]
        x, top, bottom = self.bar_x(groups), self.price_y(high), self.price_y(low)
        for tone, pick in tones_in(colours):
            if not tone:
                continue
            draw_columns(painter, qcolor(tone), x[pick], top[pick], bottom[pick], step * self.bar_width)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)

    def _draw_line(self, painter: QPainter, line: DrawnLine, first: int, last: int) -> None:
        at = np.arange(first, last)
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
            px, py = x[a:end], y[a:end]
            pen = QPen(qcolor(int(colours[a])), line.width, PEN_STYLES.get(line.style, Qt.PenStyle.SolidLine))
            if line.style == "dots":
                pen.setStyle(Qt.PenStyle.SolidLine)
                pen.setWidthF(line.width * 2)
                pen.setCapStyle(Qt.PenCapStyle.RoundCap)
                painter.setPen(pen)
                draw_dots(painter, px, py)
                continue
            painter.setPen(pen)
            if len(px) == 1:
                draw_dots(painter, px, py)
            elif pen.style() == Qt.PenStyle.SolidLine:
                # Round ends hide the joints of thick lines; on thin ones they are invisible and cost time.
                pen.setCapStyle(Qt.PenCapStyle.RoundCap if line.width >= 2 else Qt.PenCapStyle.FlatCap)
                painter.setPen(pen)
                draw_chain(painter, px, py)
            else:
                points = zip(px.tolist(), py.tolist(), strict=True)
                painter.drawPolyline(QPolygonF([QPointF(p, q) for p, q in points]))
