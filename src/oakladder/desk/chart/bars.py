"""Painters of what every bar has: its prices in four styles, its volume, and the hours behind it."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from PyQt6.QtCore import QLineF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen

from oakladder.bars.series import Bars
from oakladder.bars.sessions import DAY

from ..look.theme import Theme, qcolor
from .item import Item
from .options import BarStyle
from .pyramid import Pyramid

#: Sessions narrower than this many pixels are not parted by lines.
_LEAST_SESSION = 28


class BarItem(Item):
    """A painter of something that every bar has, in colours of its own where the script paints."""

    def __init__(self) -> None:
        super().__init__()
        self._bars: Bars | None = None
        self._theme: Theme | None = None
        self.colours: np.ndarray | None = None
        self._pyramids: dict[str, Pyramid] = {}

    def show_bars(self, bars: Bars, colours: np.ndarray | None, theme: Theme) -> None:
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


class PriceBars(BarItem):
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
        for tone in np.unique(colours):
            for up in (True, False):
                pick = np.flatnonzero(known & (colours == tone) & (rising == up))
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

    @staticmethod
    def _draw_ticked(painter: QPainter, places: tuple[np.ndarray, ...], half: int, color: QColor, _: QColor) -> None:
        """An upright from low to high, the open ticked on its left, the close on its right."""
        x, o, h, lo, c = places
        painter.setPen(QPen(color, 1 if half < 3 else 1.6))
        rows = list(zip(x.tolist(), o.tolist(), h.tolist(), lo.tolist(), c.tolist(), strict=True))
        painter.drawLines([QLineF(a, top, a, bottom) for a, _, top, bottom, _ in rows])
        if half >= 1:
            painter.drawLines([QLineF(a - half, b, a, b) for a, b, *_ in rows])
            painter.drawLines([QLineF(a, b, a + half, b) for a, _, _, _, b in rows])

    def _draw_line(
        self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int, thin: tuple[np.ndarray, int] | None
    ) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(theme.color("rising"), 1.6))
        if thin is not None:
            low, high = self.pyramid("close").groups(*thin)
            draw_columns(painter, self.bar_x(thin[0]), self.price_y(high), self.price_y(low))
            return
        x, y = self.bar_x(np.arange(first, last)).tolist(), self.price_y(bars["close"][first:last]).tolist()
        ends = zip(x[:-1], y[:-1], x[1:], y[1:], strict=True)
        painter.drawLines([QLineF(*e) for e in ends if e[1] == e[1] and e[3] == e[3]])

    def _draw_thin(self, painter: QPainter, theme: Theme, groups: np.ndarray, step: int) -> None:
        low, high = self.pyramid("low").groups(groups, step)[0], self.pyramid("high").groups(groups, step)[1]
        painter.setPen(QPen(theme.color("rising")))
        draw_columns(painter, self.bar_x(groups), self.price_y(high), self.price_y(low))


def draw_columns(painter: QPainter, x: np.ndarray, top: np.ndarray, bottom: np.ndarray) -> None:
    """An upright in each place, long enough to meet its neighbours."""
    if len(x) > 1:
        low, high = bottom.copy(), top.copy()
        low[1:] = np.fmax(low[1:], np.where(np.isnan(top[:-1]), low[1:], top[:-1]))
        high[1:] = np.fmin(high[1:], np.where(np.isnan(bottom[:-1]), high[1:], bottom[:-1]))
        top, bottom = high, low
    painter.drawLines(
        [QLineF(a, b, a, d + 1) for a, b, d in zip(x.tolist(), top.tolist(), bottom.tolist(), strict=True) if b == b]
    )


class VolumeColumns(BarItem):
    """Volume as columns from zero, in the tone of their bars."""

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        thin = self.thinned(first, last)
        at = np.arange(first, last) if thin is None else thin[0]
        volume = bars["volume"][first:last] if thin is None else self.pyramid("volume").groups(*thin)[1]
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


class Hours(BarItem):
    """What lies behind the bars: early and late hours shaded, a line where a session begins."""

    def draw_bars(self, painter: QPainter, bars: Bars, theme: Theme, first: int, last: int) -> None:
        if not bars.timeframe.intraday:
            return
        view = self.box
        times = bars.times[first:last]
        if self.bar_width * 4 >= 1 and bars.extended:
            outside = ~bars.calendar.is_regular(times)
            edges = np.flatnonzero(np.diff(np.concatenate([[False], outside, [False]]).astype(np.int8)))
            for a, b in zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True):
                left, right = (float(self.bar_x(first + k - 0.5)) for k in (a, b))
                painter.fillRect(QRectF(left, view.top(), right - left, view.height()), theme.color("sunken"))
        days = bars.calendar.local(times) // DAY
        begins = np.flatnonzero(days[1:] != days[:-1]) + 1
        if len(begins) and (last - first) / (len(begins) + 1) * self.bar_width >= _LEAST_SESSION:
            painter.setPen(QPen(theme.color("line"), 1))
            x = np.round(self.bar_x(first + begins - 0.5))
            painter.drawLines([QLineF(a, view.top(), a, view.bottom()) for a in x.tolist()])
