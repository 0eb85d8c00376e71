"""Painters of what every bar has: its prices in four styles, its volume, and the hours behind it."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from oakladder.app.chart_options import BarStyle
from oakladder.bars.bars import Bars
from oakladder.desk.chart.arrays import draw_boxes, draw_chain, draw_lines, draw_uprights, tones_in
from oakladder.desk.chart.layer import Layer
from oakladder.desk.chart.minmax_pyramid import Pyramid
from oakladder.desk.look.theme import Theme, qcolor

#: Sessions narrower than this many pixels are not parted by lines.
_LEAST_SESSION = 28


class BarLayer(Layer):
    """A painter of something that every bar has, in the script's colours where it paints."""

    def __init__(self) -> None:
        super().__init__()
        self._bars: Bars | None = None
        self._theme: Theme | None = None
        self.colours: np.ndarray | None = None
        self._pyramids: dict[str, Pyramid] = {}

    def show_bars(self, bars: Bars, colours: np.ndarray | None, theme: Theme) -> None:
        """Shows bars, in colours of a script (shape (bars,), uint32, 0 for none) if there are any."""
        if self._bars is not bars:
            self._pyramids = {}
        self._bars, self._theme, self.colours = bars, theme, colours
        self.update()

    def pyramid(self, name: str) -> Pyramid:
        """The extremes of a column at any zoom."""
        assert self._bars is not None
        if name not in self._pyramids:
            self._pyramids[name] = Pyramid(self._bars[name])
        return self._pyramids[name]

    def draw(self, painter: QPainter) -> None:
        if self._bars is None or self._theme is None:
            return
        first, last = self.seen(len(self._bars))
        if first < last:
            self.draw_bars(painter, self._bars, self._theme, first, last)

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        raise NotImplementedError


class PriceBars(BarLayer):
    """Prices: hollow rising and filled falling bodies, plain bars, a line, or averaged candles.

    Painted bars keep the shape and take the colour. ``drawn`` holds other prices to draw (the averaged ones).
    """

    def __init__(self) -> None:
        super().__init__()
        self.style = BarStyle.CANDLES
        self.drawn: Mapping[str, np.ndarray] | None = None

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        thin = self.thinned(first, last)
        if self.style is BarStyle.LINE:
            self._draw_line(painter, bars, theme, first, last, thin)
            return
        if thin is not None:
            self._draw_thin(painter, theme, *thin)
            return
        c = self.drawn if self.drawn is not None and self.style is BarStyle.AVERAGED else bars.columns
        part = slice(first, last)
        x = np.round(self.bar_x(np.arange(first, last)))
        o, h, lo, cl = (np.round(self.price_y(c[k][part])) for k in ("open", "high", "low", "close"))
        rising = c["close"][part] >= c["open"][part]
        known = ~np.isnan(o + h + lo + cl)
        colours = self.colours[part] if self.colours is not None else np.zeros(last - first, dtype=np.uint32)
        plain = (theme.paint("good"), theme.paint("bad"))
        half = max(int(self.bar_width * 0.34), 0)
        ground = theme.color("ground")
        draw = self._draw_ticked if self.style is BarStyle.BARS else self._draw_candles
        for tone, there in tones_in(colours):
            of_tone = known if isinstance(there, slice) else known & there
            for up in (True, False):
                pick = np.flatnonzero(of_tone & (rising == up))
                if not len(pick):
                    continue
                color = qcolor(tone if tone else plain[0 if up else 1])
                draw(painter, (x[pick], o[pick], h[pick], lo[pick], cl[pick]), half, color, ground if up else color)

    @staticmethod
    def _draw_candles(
        painter: QPainter, places: tuple[np.ndarray, ...], half: int, color: QColor, fill: QColor
    ) -> None:
        x, o, h, lo, c = places
        painter.setPen(QPen(color, 1))
        painter.setBrush(fill)
        if half < 1:
            draw_lines(painter, x, h, x, lo)
            return
        top, bottom = np.minimum(o, c), np.maximum(o, c)
        above, below = h < top, bottom < lo
        draw_lines(painter, x[above], h[above], x[above], top[above])
        draw_lines(painter, x[below], bottom[below], x[below], lo[below])
        draw_boxes(painter, x - half, top, np.float64(2 * half), np.maximum(bottom - top, 0.5))

    @staticmethod
    def _draw_ticked(painter: QPainter, places: tuple[np.ndarray, ...], half: int, color: QColor, _: QColor) -> None:
        """An upright from low to high, the open ticked on its left, the close on its right."""
        x, o, h, lo, c = places
        painter.setPen(QPen(color, 1 if half < 3 else 1.6))
        draw_lines(painter, x, h, x, lo)
        if half >= 1:
            draw_lines(painter, x - half, o, x, o)
            draw_lines(painter, x, c, x + half, c)

    def _draw_line(
        self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int, thin: tuple[np.ndarray, int] | None
    ) -> None:
        if thin is not None:
            low, high = self.pyramid("close").groups(*thin)
            places = self.bar_x(thin[0]), self.price_y(high), self.price_y(low)
            draw_columns(painter, theme.color("rising"), *places, thin[1] * self.bar_width)
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.color("rising"), 1.6))
        draw_chain(painter, self.bar_x(np.arange(first, last)), self.price_y(bars["close"][first:last]))

    def _draw_thin(self, painter: QPainter, theme: Theme, groups: np.ndarray, step: int) -> None:
        low, high = self.pyramid("low").groups(groups, step)[0], self.pyramid("high").groups(groups, step)[1]
        places = self.bar_x(groups), self.price_y(high), self.price_y(low)
        draw_columns(painter, theme.color("rising"), *places, step * self.bar_width)


def draw_columns(
    painter: QPainter, color: QColor, x: np.ndarray, top: np.ndarray, bottom: np.ndarray, wide: float
) -> None:
    """An upright in each place, long enough to meet its neighbours, the next of which is ``wide`` pixels on. Pixels,
    each shape (columns,), float64."""
    if len(x) > 1:
        low, high = bottom.copy(), top.copy()
        there = ~np.isnan(bottom[1:])  # what is not there does not begin with its neighbour
        np.fmax(low[1:], top[:-1], out=low[1:], where=there)
        np.fmin(high[1:], bottom[:-1], out=high[1:], where=there)
        top, bottom = high, low
    draw_uprights(painter, color, x, top, bottom + 1, wide)


class VolumeColumns(BarLayer):
    """Volume as columns from zero, in the tone of their bars."""

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        thin = self.thinned(first, last)
        floor = self.price_y(0.0)
        if thin is not None:
            top = self.price_y(self.pyramid("volume").groups(*thin)[1])
            draw_uprights(painter, theme.color("mute"), self.bar_x(thin[0]), top, floor, thin[1] * self.bar_width)
            return
        at = np.arange(first, last)
        rising = bars["close"][at] >= bars["open"][at]
        x, y = np.round(self.bar_x(at)), np.round(self.price_y(bars["volume"][at]))
        half = max(int(self.bar_width * 0.34), 0)
        painter.setPen(Qt.PenStyle.NoPen)
        painted = self.colours[at] if self.colours is not None else np.zeros(len(at), dtype=np.uint32)
        for tone, there in tones_in(painted):
            for up in (True, False):
                color = qcolor(tone) if tone else theme.color("rising" if up else "falling")
                color.setAlpha(200 if tone else 120)
                painter.setBrush(color)
                pick = (rising == up) if isinstance(there, slice) else (rising == up) & there
                draw_boxes(painter, x[pick] - half, y[pick], np.float64(2 * half + 1), floor - y[pick])


class Hours(BarLayer):
    """What lies behind the bars: early and late hours shaded, a line where a session begins."""

    def __init__(self) -> None:
        super().__init__()
        self._begins = np.zeros(0, dtype=np.int64)
        self._outside = np.zeros((0, 2), dtype=np.int64)

    def show_bars(self, bars: Bars, colours: np.ndarray | None, theme: Theme) -> None:
        """Shows the hours of bars; their colours (shape (bars,), uint32) do not matter."""
        if bars is not self._bars:
            self._find(bars)
        super().show_bars(bars, colours, theme)

    def _find(self, bars: Bars) -> None:
        """Where sessions begin, and the stretches outside regular hours."""
        self._begins, self._outside = np.zeros(0, dtype=np.int64), np.zeros((0, 2), dtype=np.int64)
        if not bars.timeframe.intraday or not len(bars):
            return
        days = bars.calendar.days(bars.times)
        self._begins = np.flatnonzero(days[1:] != days[:-1]) + 1
        if bars.extended:
            outside = ~bars.calendar.is_regular(bars.times)
            edges = np.flatnonzero(np.diff(np.concatenate([[False], outside, [False]]).astype(np.int8)))
            self._outside = edges.reshape(-1, 2)

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        view = self.box
        if (len(self._begins) + 1) * _LEAST_SESSION > len(bars) * self.bar_width:
            return  # the sessions are too narrow to see
        stretches = self._outside[(self._outside[:, 1] >= first) & (self._outside[:, 0] <= last)]
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(theme.color("sunken"))
        left, right = self.bar_x(stretches[:, 0] - 0.5), self.bar_x(stretches[:, 1] - 0.5)
        draw_boxes(painter, left, np.float64(view.top()), right - left, np.float64(view.height()))
        begins = self._begins[slice(*np.searchsorted(self._begins, (first, last)))]
        painter.setPen(QPen(theme.color("line"), 1))
        x = np.round(self.bar_x(begins - 0.5))
        draw_lines(painter, x, np.float64(view.top()), x, np.float64(view.bottom()))
