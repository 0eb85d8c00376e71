"""Painters of areas: ground behind the bars, bands, histograms, zones, links, and the lanes under the price."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from oakladder.desk.chart.arrays import draw_boxes, draw_lines, tones_in
from oakladder.desk.chart.layer import PEN_STYLES, Layer
from oakladder.desk.chart.minmax_pyramid import step_for
from oakladder.desk.chart.overplotting import told_apart
from oakladder.desk.look.fonts import SMALL, draw_words, ui_font, words
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.picture.parts import Band, Columns, Lane, Link, Zone

LANE_HEIGHT = 15


def runs(colours: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Stretches of one colour that is not 0: first places, places after the last, colours. Colours: shape (bars,),
    uint32; gives three of shape (stretches,): int64, int64, uint32."""
    if not len(colours):
        none = np.zeros(0, dtype=np.int64)
        return none, none, none
    cuts = np.flatnonzero(colours[1:] != colours[:-1]) + 1
    starts, ends = np.concatenate([[0], cuts]), np.concatenate([cuts, [len(colours)]])
    drawn = colours[starts] != 0
    return starts[drawn], ends[drawn], colours[starts[drawn]]


#: Where fewer bars share a pixel, those in sight are quicker worked out than remembered.
_MANY = 128


class Thinned:
    """Colours of many bars where several share a pixel; where those are many, worked out for all bars and remembered."""

    def __init__(self) -> None:
        self._of: np.ndarray | None = None
        self._step = 1
        self._made = np.zeros(0, dtype=np.uint32)

    def seen(self, colours: np.ndarray, first: int, last: int, width: float) -> tuple[np.ndarray, int, int]:
        """The colours of bars that can be seen, the first of them, and how many bars stand for each: any colour is
        better than none. Colours: shape (bars,), uint32; so are those that it gives, shape (groups,)."""
        step = step_for(width)
        if step == 1 or last <= first:
            return colours[first:last], first, 1
        if step < _MANY:
            first = first // step * step
            return np.maximum.reduceat(colours[:last], np.arange(first, last, step)), first, step
        if self._of is not colours or self._step != step:
            self._of, self._step = colours, step
            self._made = np.maximum.reduceat(colours, np.arange(0, len(colours), step))
        return self._made[first // step : -(-last // step)], first // step * step, step


class Areas(Layer):
    """Everything of one pane that lies behind its lines."""

    def __init__(self) -> None:
        super().__init__()
        self.ground: np.ndarray | None = None
        self.bands: list[Band] = []
        self.histograms: list[Columns] = []
        self.zones: list[Zone] = []
        self.links: list[Link] = []
        self.as_known = False
        self._thinned = Thinned()
        #: The zones as columns: first and last bar, high, low and colour.
        self._zones = _zone_columns([])
        self._links = _link_columns([])

    def show_areas(
        self,
        ground: np.ndarray | None,
        bands: list[Band],
        histograms: list[Columns],
        zones: list[Zone],
        links: list[Link],
    ) -> None:
        """Shows grounds (a colour on each bar, shape (bars,), uint32), bands, histograms, zones and links."""
        self.ground, self.bands, self.histograms, self.zones, self.links = ground, bands, histograms, zones, links
        self._zones, self._links = _zone_columns(zones), _link_columns(links)
        self.update()

    def draw(self, painter: QPainter) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        if self.ground is not None:
            self._draw_ground(painter, self.ground)
        self._draw_zones(painter)
        for band in self.bands:
            self._draw_band(painter, band)
        for columns in self.histograms:
            self._draw_columns(painter, columns)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for (colour, width, style), ends in self._links.items():
            pen = QPen(qcolor(colour), width, PEN_STYLES.get(style, Qt.PenStyle.SolidLine))
            self._draw_links(painter, pen, ends)

    def _draw_links(self, painter: QPainter, pen: QPen, columns: np.ndarray) -> None:
        """Draws all links of one pen; ``columns`` are their bars and prices, and when they became known."""
        left, right = self.sight.first, self.sight.last
        first, last = np.minimum(columns[0], columns[2]), np.maximum(np.maximum(columns[0], columns[2]), columns[4])
        a, p, b, q, known = columns[:, (first <= right + 1) & (last >= left - 1)]
        xs, ys, ends, heights = self.bar_x(a), self.price_y(p), self.bar_x(b), self.price_y(q)
        kept = told_apart(xs, ys, 1.0)
        painter.setPen(pen)
        draw_lines(painter, xs[kept], ys[kept], ends[kept], heights[kept])
        later = np.flatnonzero(known > b) if self.as_known else np.zeros(0, dtype=np.int64)
        if len(later):  # from the end on to the bar on which it became known
            painter.setPen(QPen(pen.color(), 1, Qt.PenStyle.DotLine))
            reached, at = self.bar_x(known[later]), heights[later]
            draw_lines(painter, ends[later], at, reached, at)
            draw_lines(painter, reached, at - 4, reached, at + 4)

    def _draw_ground(self, painter: QPainter, colours: np.ndarray) -> None:
        view = self.box
        first, last = self.seen(len(colours))
        shown, first, step = self._thinned.seen(colours, first, last, self.bar_width)
        starts, ends, tones = runs(shown)
        left, right = self.bar_x(first + step * starts - 0.5), self.bar_x(first + step * ends - 0.5)
        painter.setPen(Qt.PenStyle.NoPen)
        for tone, pick in tones_in(tones):
            color = qcolor(tone)
            color.setAlpha(min(color.alpha(), 46))
            painter.setBrush(color)
            width = right[pick] - left[pick]
            draw_boxes(painter, left[pick], np.float64(view.top()), width, np.float64(view.height()))

    def _draw_zones(self, painter: QPainter) -> None:
        start, end, high, low, colours = self._zones
        seen = np.flatnonzero((start <= self.sight.last + 1) & (end >= self.sight.first - 1))
        left, right = self.bar_x(start[seen] - 0.5), self.bar_x(end[seen] + 0.5)
        top, bottom, colours = self.price_y(high[seen]), self.price_y(low[seen]), colours[seen].astype(np.int64)
        kept = told_apart(left, top, 1.0)  # of many that begin on one pixel, one is drawn
        for tone, pick in tones_in(colours[kept]):
            which = kept[pick]
            color = qcolor(tone)
            color.setAlpha(min(color.alpha(), 60))
            painter.setBrush(color)
            draw_boxes(painter, left[which], top[which], right[which] - left[which], bottom[which] - top[which])

    def _draw_band(self, painter: QPainter, band: Band) -> None:
        first, last = self.seen(len(band.colours))
        thin = self.thinned(first, last)
        bars = np.arange(first, last) if thin is None else thin[0]
        if not len(bars):
            return
        x, upper, lower = self.bar_x(bars), self.price_y(band.first[bars]), self.price_y(band.second[bars])
        lost = np.isnan(upper + lower)
        for a, b, colour in zip(*(v.tolist() for v in runs(np.where(lost, 0, band.colours[bars]))), strict=True):
            end = b + 1 if b < len(bars) and not lost[b] else b
            points = [QPointF(p, q) for p, q in zip(x[a:end].tolist(), upper[a:end].tolist(), strict=True)]
            back = zip(x[a:end][::-1].tolist(), lower[a:end][::-1].tolist(), strict=True)
            points += [QPointF(p, q) for p, q in back]
            color = qcolor(colour)
            color.setAlpha(min(color.alpha(), 70))
            painter.setBrush(color)
            painter.drawPolygon(QPolygonF(points))

    def _draw_columns(self, painter: QPainter, columns: Columns) -> None:
        first, last = self.seen(len(columns.values))
        if last <= first:
            return
        thin = self.thinned(first, last)
        at = np.arange(first, last) if thin is None else thin[0]
        half = max(self.bar_width * 0.34, 0.5)
        x, tones = self.bar_x(at), columns.colours[at]
        tops, bases = self.price_y(columns.values[at]), self.price_y(columns.base[at])
        painter.setPen(Qt.PenStyle.NoPen)
        for tone, pick in tones_in(tones):
            if not tone:
                continue
            color = qcolor(tone)
            color.setAlpha(min(color.alpha(), 190))
            painter.setBrush(color)
            high, low = np.minimum(tops[pick], bases[pick]), np.maximum(tops[pick], bases[pick])
            draw_boxes(painter, x[pick] - half, high, np.float64(2 * half), low - high)


class Lanes(Layer):
    """Rows of squares, one a bar, with the lane's name at the left."""

    def __init__(self, theme: Theme):
        super().__init__()
        self.theme = theme
        self.lanes: tuple[Lane, ...] = ()
        self._thinned: list[Thinned] = []

    def show_lanes(self, lanes: tuple[Lane, ...], theme: Theme) -> None:
        self.lanes, self.theme = lanes, theme
        self._thinned = [Thinned() for _ in lanes]
        self.update()

    def draw(self, painter: QPainter) -> None:
        view = self.box
        painter.setFont(ui_font(SMALL))
        for row, lane in enumerate(self.lanes):
            top = view.top() + 2 + row * LANE_HEIGHT
            first, last = self.seen(len(lane.colours))
            if last <= first:
                continue
            self._draw_lane(painter, row, first, last, top + 2)
            name = words(lane.name, SMALL)
            box = QRectF(view.left() + 4, top, name.size().width() + 8, LANE_HEIGHT - 1)
            painter.fillRect(box, self.theme.color("ground"))  # squares begin behind the name, not under it
            painter.setPen(self.theme.color("ink"))
            draw_words(painter, box, name)

    def _draw_lane(self, painter: QPainter, row: int, first: int, last: int, top: float) -> None:
        """Squares with gaps; stretches of one colour if the bars are too narrow."""
        lane = self.lanes[row]
        painter.setPen(Qt.PenStyle.NoPen)
        width = self.bar_width * 0.8
        if width >= 3:
            starts, tones = np.flatnonzero(lane.colours[first:last]), lane.colours[first:last]
            tones = tones[starts]
            left = self.bar_x(first + starts) - width / 2
            right = left + width
        else:
            shown, first, step = self._thinned[row].seen(lane.colours, first, last, self.bar_width)
            starts, ends, tones = runs(shown)
            left, right = self.bar_x(first + step * starts - 0.5), self.bar_x(first + step * ends - 0.5)
        for tone, pick in tones_in(tones):
            painter.setBrush(qcolor(tone))
            draw_boxes(painter, left[pick], np.float64(top), right[pick] - left[pick], np.float64(LANE_HEIGHT - 5))


def _zone_columns(zones: list[Zone]) -> tuple[np.ndarray, ...]:
    """First and last bar, high, low and colour of zones, an array each."""
    rows = np.array([(z.start, z.end, z.high, z.low, z.colour) for z in zones], dtype=np.float64).reshape(-1, 5)
    return tuple(np.ascontiguousarray(column) for column in rows.T)


def _link_columns(links: list[Link]) -> dict[tuple[int, float, str], np.ndarray]:
    """The links of each colour, width and style: bar and price of both ends, and the bar on which they became known."""
    rows: dict[tuple[int, float, str], list[tuple[float, ...]]] = {}
    for link in links:
        pen = (link.colour, link.width, link.style)
        rows.setdefault(pen, []).append((*link.start, *link.end, link.known))
    return {pen: np.array(found, dtype=np.float64).T.copy() for pen, found in rows.items()}
