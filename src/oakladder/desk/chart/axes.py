"""The axes of the chart: time by bars, prices in the symbol's decimals."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QColor, QPainter

from oakladder.bars.bars import Bars
from oakladder.desk.chart.scale import Scale
from oakladder.desk.chart_options import ScaleKind
from oakladder.desk.look.letters import SMALL, ui_font

#: How long a tick is, and how far its words stand from the pane, in pixels.
_TICK, _APART = 4.0, 8.0
#: So many words under bars are remembered.
_MOST_WORDS = 5000
#: The width of an axis of prices, and the height of one of times.
WIDTH, HEIGHT = 62, 24


class Axis(pg.GraphicsWidget):
    """Ticks beside a view. The plotting library's own axis works out far more on every frame than is shown here."""

    def __init__(self) -> None:
        super().__init__()
        self._view: pg.ViewBox | None = None
        self._line = self._ink = QColor()
        self._shows_values = True

    def link(self, view: pg.ViewBox) -> None:
        """Follows what a view shows."""
        self._view = view
        view.sigRangeChanged.connect(self._again)

    def _again(self, *_: object) -> None:
        self.update()

    def set_colors(self, line: QColor, ink: QColor) -> None:
        """The colours of ticks and of words."""
        self._line, self._ink = line, ink
        self.update()

    def show_values(self, shows: bool) -> None:
        """Whether there are ticks at all."""
        self._shows_values = shows
        self.update()

    def _seen(self, which: int) -> tuple[float, float]:
        """What the view shows along the axis."""
        if self._view is None:
            return 0.0, 1.0
        low, high = self._view.state["viewRange"][which]
        return low, high


class TimeAxis(Axis):
    """Ticks where a new hour, day, month or year begins, whichever has room."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(HEIGHT)
        self._bars: Bars | None = None
        self._steps: list[tuple[np.ndarray, str]] = []
        self._local = self._days = np.zeros(0, dtype=np.int64)
        #: What was written under bars so far: while a chart is moved the same ticks come again and again.
        self._words: dict[int, str] = {}

    def show_bars(self, bars: Bars) -> None:
        """Finds the places of the ticks, from fine to coarse."""
        if bars is self._bars:
            return
        self._bars, self._words = bars, {}
        local = self._local = bars.calendar.shown(bars.times, bars.timeframe)
        days = self._days = bars.calendar.days(bars.times)
        months = days.astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
        kinds = [
            (months // 12, "%Y"),
            (months // 3, "%b %y"),
            (months, "%b %y"),
            ((days + 3) // 7, "%d %b"),
            (days, "%d %b"),
        ]
        if bars.timeframe.intraday:
            kinds += [(local // (3600 * h), "%H:%M") for h in (3, 1)] + [(local // (60 * m), "%H:%M") for m in (15, 5)]
        self._steps = []
        for values, form in kinds:
            places = np.flatnonzero(np.diff(values, prepend=values[:1])) if len(values) else np.zeros(0, dtype=np.int64)
            self._steps.append((places, form))
        self.update()

    def paint(self, painter: QPainter, *_: object) -> None:
        width, (low, high) = self.size().width(), self._seen(0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setFont(ui_font())
        for _spacing, values in self.tickValues(low, high, width):
            words = self.tickStrings(values, 1.0, 1.0)
            for value, word in zip(values, words, strict=True):
                x = round((value - low) / max(high - low, 1e-12) * width)
                painter.setPen(self._line)
                painter.drawLine(x, 0, x, int(_TICK))
                painter.setPen(self._ink)
                wide = painter.fontMetrics().horizontalAdvance(word)
                left = min(max(x - wide / 2, 0), width - wide)  # whole, at the ends as well
                painter.drawText(QRectF(left, _TICK, wide + 1, HEIGHT - _TICK), Qt.AlignmentFlag.AlignLeft, word)

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        if self._bars is None or not len(self._bars):
            return []
        most = max(size / 74, 1)
        inside = _between(self._steps[0][0], low, high)
        for places, _ in self._steps:
            more = _between(places, low, high)
            if len(more) > most:
                break
            inside = more
        return [(1.0, self._apart(inside, size / max(high - low, 1e-9)).astype(float).tolist())]

    @staticmethod
    def _apart(places: np.ndarray, pixels: float) -> np.ndarray:
        """Leaves out ticks that would stand on their neighbour's text."""
        kept: list[int] = []
        for place in places.tolist():
            if not kept or (place - kept[-1]) * pixels >= 52:
                kept.append(place)
        return np.array(kept, dtype=np.int64)

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        if self._bars is None:
            return []
        bars, there = [int(v) for v in values], range(len(self._bars))
        return [(self._words.get(bar) or self._written(bar)) if bar in there else "" for bar in bars]

    def _written(self, bar: int) -> str:
        form = next((f for places, f in self._steps if _holds(places, bar)), "%H:%M")
        seconds = int(self._local[bar]) if "%H" in form else int(self._days[bar]) * 86_400
        moment = np.datetime64(seconds, "s").item()
        if len(self._words) > _MOST_WORDS:
            self._words.clear()
        made = self._words[bar] = f"{moment:{form}}"
        return made


def _between(places: np.ndarray, low: float, high: float) -> np.ndarray:
    """Those of some places, which are in order, from low to high."""
    return places[np.searchsorted(places, low) : np.searchsorted(places, high, "right")]


def _holds(places: np.ndarray, bar: int) -> bool:
    at = int(np.searchsorted(places, bar))
    return at < len(places) and int(places[at]) == bar


class PriceAxis(Axis):
    """Numbers on the right, with as many decimals as they need; on a logarithmic scale the ticks are still round prices."""

    def __init__(self) -> None:
        super().__init__()
        self.decimals: int | None = None
        self.price_scale = Scale()
        #: Prices that stand out on the axis: height, text, ground and ink.
        self.tags: list[tuple[float, str, QColor, QColor]] = []
        self.setFixedWidth(WIDTH)

    def tickValues(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        """Whole steps of 1, 2 or 5, about thirty-five pixels apart; closer in a pane that would show less than two."""
        if self.price_scale.kind is ScaleKind.LOG:
            return self._log_ticks(low, high, size)
        made: list[tuple[float, list[float]]] = []
        for apart in (34, 17):
            wanted = (high - low) / max(size / apart, 1)
            if not wanted > 0:
                return []
            step = _round_step(wanted)
            values = np.arange(np.ceil(low / step), np.floor(high / step) + 1) * step
            edge = (high - low) / max(size, 1) * 8  # a number too near the rim would be cut
            made = [(step, values[(values > low + edge * 0.5) & (values < high - edge)].tolist())]
            if len(made[0][1]) > 1:
                break
        return made

    def set_tags(self, tags: list[tuple[float, str, QColor, QColor]]) -> None:
        """Puts prices on the axis over its numbers: the last one, that of the cursor."""
        if tags != self.tags:
            self.tags = tags
            self.update()

    def paint(self, painter: QPainter, *_: object) -> None:
        height, (low, high) = self.size().height(), self._seen(1)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(self._line)
        painter.drawLine(0, 0, 0, int(height))
        if not self._shows_values or not high > low:
            return
        painter.setFont(ui_font())
        for spacing, values in self.tickValues(low, high, height):
            for value, word in zip(values, self.tickStrings(values, 1.0, spacing), strict=True):
                y = round(height - (value - low) / (high - low) * height)
                painter.setPen(self._line)
                painter.drawLine(0, y, int(_TICK), y)
                painter.setPen(self._ink)
                place = QRectF(_APART, y - 12, WIDTH - _APART, 24)
                painter.drawText(place, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, word)
        painter.setFont(ui_font(SMALL))
        for at, text, ground, ink in self.tags:
            if low < at < high:
                y = round(height - (at - low) / (high - low) * height)
                place = QRectF(5, y - 9, WIDTH - 6, 18)
                painter.fillRect(place, ground)
                painter.setPen(ink)
                painter.drawText(place, Qt.AlignmentFlag.AlignCenter, text)

    def _log_ticks(self, low: float, high: float, size: float) -> list[tuple[float, list[float]]]:
        """Round prices whose heights keep their distance."""
        bottom, top = (self.price_scale.back(h) for h in (low, high))
        if not (np.isfinite(top) and top > bottom > 0):
            return []
        pixels = size / max(high - low, 1e-12)
        if top / bottom < 3:
            step = _round_step((top - bottom) / max(size / 34, 1))
            candidates = np.arange(np.ceil(bottom / step), np.floor(top / step) + 1) * step
        else:
            powers = 10.0 ** np.arange(np.floor(np.log10(bottom)), np.ceil(np.log10(top)) + 1)
            candidates = np.sort(np.concatenate([powers, 2 * powers, 5 * powers]))
            step = float(bottom)
        kept: list[float] = []
        for price in candidates.tolist():
            height = float(self.price_scale.to(price))
            if low < height < high and (not kept or (height - kept[-1]) * pixels >= 24):
                kept.append(height)
        return [(step, kept)]

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """The numbers of the ticks; one that a tag would cover in part is left out."""
        low, high = self._seen(1)
        reach = (high - low) / max(self.size().height(), 1) * 17
        covered = [any(abs(v - tag[0]) < reach for tag in self.tags) for v in values]
        words = self._words(values, spacing)
        return ["" if hidden else word for word, hidden in zip(words, covered, strict=True)]

    def _words(self, values: list[float], spacing: float) -> list[str]:
        if self.price_scale.kind is ScaleKind.PERCENT:
            places = 0 if spacing >= 1 else 1 if spacing >= 0.1 else 2
            return [f"{v:+.{places}f}%" for v in values]
        prices = [self.price_scale.back(v) for v in values]
        if self.decimals is not None and spacing >= 10.0**-self.decimals:
            return [f"{v:,.{self.decimals if spacing < 1 or self.decimals < 2 else 2}f}" for v in prices]
        return [short_number(v) for v in prices]


def _round_step(wanted: float) -> float:
    """The smallest of 1, 2 and 5 times a power of ten that is no less than what is wanted."""
    unit = 10 ** np.floor(np.log10(wanted))
    return float(unit * next(m for m in (1, 2, 5, 10) if unit * m >= wanted))


def short_number(value: float) -> str:
    """A number in few characters: 12.4M, 380k, 0.0021."""
    value += 0.0  # a zero has no sign
    for limit, sign in ((1e9, "B"), (1e6, "M"), (1e4, "k")):
        if abs(value) >= limit:
            return f"{value / (1e3 if sign == 'k' else limit):.3g}{sign}"
    return f"{value:.4g}"
