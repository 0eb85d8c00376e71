"""The axes of the chart: time by bars, prices in the symbol's decimals."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter
from PyQt6.QtWidgets import QGraphicsWidget, QStyleOptionGraphicsItem, QWidget

from oakladder.app.chart_options import ScaleKind
from oakladder.app.time_marks import TimeMarks
from oakladder.desk.chart.pane_view import PaneView
from oakladder.desk.chart.scale import Scale
from oakladder.desk.look.fonts import SMALL, ui_font, words

#: How long a tick is, and how far its words stand from the pane, in pixels.
_TICK, _APART = 4.0, 8.0
#: So many words under bars are remembered.
_MOST_WORDS = 5000
#: The width of an axis of prices, and the height of one of times.
WIDTH, HEIGHT = 62, 24


class Axis(QGraphicsWidget):
    """Ticks beside a view."""

    def __init__(self) -> None:
        super().__init__()
        self._view: PaneView | None = None
        self._line = self._ink = QColor()
        self._shows_values = True

    def link(self, view: PaneView) -> None:
        """An axis beside a view that labels what the view shows."""
        self._view = view

    def set_colors(self, line: QColor, ink: QColor) -> None:
        """The colours of ticks and of words."""
        self._line, self._ink = line, ink
        self.update()

    def show_values(self, shows: bool) -> None:
        """Whether there are ticks at all."""
        self._shows_values = shows
        self.update()

    def paint(
        self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None
    ) -> None:
        assert painter is not None
        self.draw(painter)

    def draw(self, painter: QPainter) -> None:
        """Draws what the view shows along the axis."""
        raise NotImplementedError

    def _seen(self, which: int) -> tuple[float, float]:
        """What the view shows along the axis."""
        if self._view is None:
            return 0.0, 1.0
        return self._view.heights if which else self._view.bars


class TimeAxis(Axis):
    """Ticks where a new hour, day, month or year begins, as many as fit."""

    def __init__(self) -> None:
        super().__init__()
        self._marks: TimeMarks | None = None
        #: What was written under bars so far: while a chart is moved the same ticks come again and again.
        self._words: dict[int, str] = {}

    def show_marks(self, marks: TimeMarks) -> None:
        """Shows the times of other bars."""
        if marks is not self._marks:
            self._marks, self._words = marks, {}
            self.update()

    def draw(self, painter: QPainter) -> None:
        width, (low, high) = self.size().width(), self._seen(0)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setFont(ui_font())
        bars = self.ticks(low, high, width)
        places = [round((bar - low) / max(high - low, 1e-12) * width) for bar in bars]
        painter.setPen(self._line)
        painter.drawLines([QLineF(x, 0, x, _TICK) for x in places])
        painter.setPen(self._ink)
        for x, text in zip(places, self.written(bars), strict=True):
            word = words(text)
            wide = word.size().width()
            left = min(max(x - wide / 2, 0), width - wide)  # whole, at the ends as well
            painter.drawStaticText(QPointF(left, _TICK), word)

    def ticks(self, low: float, high: float, size: float) -> list[int]:
        """The bars between two that have a tick, on so many pixels."""
        if self._marks is None or not len(self._marks.days):
            return []
        most = max(size / 74, 1)
        inside = _between(self._marks.steps[0][0], low, high)
        for places, _ in self._marks.steps:
            more = _between(places, low, high)
            if len(more) > most:
                break
            inside = more
        pixels = size / max(high - low, 1e-9)
        kept: list[int] = []
        for bar in inside.tolist():
            if not kept or (bar - kept[-1]) * pixels >= 52:  # labels must not overlap
                kept.append(bar)
        return kept

    def written(self, bars: list[int]) -> list[str]:
        """What stands under some ticks."""
        return [self._words.get(bar) or self._written(bar) for bar in bars]

    def _written(self, bar: int) -> str:
        assert self._marks is not None
        form = next((f for places, f in self._marks.steps if _holds(places, bar)), "%H:%M")
        seconds = int(self._marks.local[bar]) if "%H" in form else int(self._marks.days[bar]) * 86_400
        moment = np.datetime64(seconds, "s").item()
        if len(self._words) > _MOST_WORDS:
            self._words.clear()
        made = self._words[bar] = f"{moment:{form}}"
        return made


def _between(places: np.ndarray, low: float, high: float) -> np.ndarray:
    """Those of some places, which are in order, from low to high."""
    ends = math.ceil(low), math.floor(high)  # whole, or all places would be turned into fractions for each question
    return places[places.searchsorted(ends[0]) : places.searchsorted(ends[1], "right")]


def _holds(places: np.ndarray, bar: int) -> bool:
    at = int(places.searchsorted(bar))
    return at < len(places) and int(places[at]) == bar


class Ticks(NamedTuple):
    """The labelled values beside a view, as heights of its scale, and the distance between two labels."""

    spacing: float
    heights: list[float]


class PriceAxis(Axis):
    """Numbers on the right, with as many decimals as they need; on a logarithmic scale the ticks are still round prices."""

    def __init__(self) -> None:
        super().__init__()
        self.decimals: int | None = None
        self.price_scale = Scale()
        #: Prices that stand out on the axis: height, text, ground and ink.
        self.tags: list[tuple[float, str, QColor, QColor]] = []

    def ticks(self, low: float, high: float, size: float) -> Ticks:
        """Whole steps of 1, 2 or 5, about thirty-five pixels apart; closer in a pane that would show less than two."""
        if self.price_scale.kind is ScaleKind.LOG:
            return self._log_ticks(low, high, size)
        made = Ticks(0.0, [])
        for apart in (34, 17):
            wanted = (high - low) / max(size / apart, 1)
            if not wanted > 0:
                break
            step = _round_step(wanted)
            heights = np.arange(np.ceil(low / step), np.floor(high / step) + 1) * step
            made = Ticks(step, [h for h in heights.tolist() if _stands_free(h, low, high, size)])
            if len(made.heights) > 1:
                break
        return made

    def set_tags(self, tags: list[tuple[float, str, QColor, QColor]]) -> None:
        """Puts prices on the axis over its numbers: the last one, that of the cursor."""
        if tags != self.tags:
            self.tags = tags
            self.update()

    def draw(self, painter: QPainter) -> None:
        height, (low, high) = self.size().height(), self._seen(1)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setPen(self._line)
        painter.drawLine(0, 0, 0, int(height))
        if not self._shows_values or not high > low:
            return
        painter.setFont(ui_font())
        ticks = self.ticks(low, high, height)
        places = [round(height - (tick - low) / (high - low) * height) for tick in ticks.heights]
        painter.setPen(self._line)
        painter.drawLines([QLineF(0, y, _TICK, y) for y in places])
        painter.setPen(self._ink)
        for y, text in zip(places, self.written(ticks), strict=True):
            word = words(text)
            painter.drawStaticText(QPointF(_APART, round(y - word.size().height() / 2)), word)
        painter.setFont(ui_font(SMALL))
        for at, text, ground, ink in self.tags:
            if low < at < high:
                y = round(height - (at - low) / (high - low) * height)
                place = QRectF(5, y - 9, WIDTH - 6, 18)
                painter.fillRect(place, ground)
                painter.setPen(ink)
                painter.drawText(place, Qt.AlignmentFlag.AlignCenter, text)

    def _log_ticks(self, low: float, high: float, size: float) -> Ticks:
        """Round prices whose heights keep their distance."""
        made = Ticks(0.0, [])
        bottom, top = (self.price_scale.back(h) for h in (low, high))
        if not (np.isfinite(top) and top > bottom > 0):
            return made
        powers = 10.0 ** np.arange(np.floor(np.log10(bottom)), np.ceil(np.log10(top)) + 1)
        rounded = float(bottom), np.sort(np.concatenate([powers, 2 * powers, 5 * powers]))
        step = _round_step((top - bottom) / max(size / 34, 1))
        even = step, np.arange(np.ceil(bottom / step), np.floor(top / step) + 1) * step
        for spacing, prices in (even,) if top / bottom < 3 else (rounded, even):
            made = Ticks(spacing, self._apart(prices, low, high, size))
            if len(made.heights) > 1:
                break
        return made

    def _apart(self, prices: np.ndarray, low: float, high: float, size: float) -> list[float]:
        """The heights of those of some prices that keep their distance."""
        pixels = size / max(high - low, 1e-12)
        kept: list[float] = []
        for price in prices.tolist():
            height = float(self.price_scale.to(price))
            if _stands_free(height, low, high, size) and (not kept or (height - kept[-1]) * pixels >= 24):
                kept.append(height)
        return kept

    def written(self, ticks: Ticks) -> list[str]:
        """The numbers of the ticks; one that a tag would cover in part is left out."""
        low, high = self._seen(1)
        reach = (high - low) / max(self.size().height(), 1) * 17
        covered = [any(abs(v - tag[0]) < reach for tag in self.tags) for v in ticks.heights]
        numbers = self._numbers([v + 0.0 for v in ticks.heights], ticks.spacing)  # a zero has no sign
        return ["" if hidden else number for number, hidden in zip(numbers, covered, strict=True)]

    def _numbers(self, values: list[float], spacing: float) -> list[str]:
        if self.price_scale.kind is ScaleKind.PERCENT:
            places = 0 if spacing >= 1 else 1 if spacing >= 0.1 else 2
            return [f"{v:+.{places}f}%" for v in values]
        prices = [self.price_scale.back(v) for v in values]
        if self.decimals is not None and spacing >= 10.0**-self.decimals:
            return [f"{v:,.{self.decimals if spacing < 1 or self.decimals < 2 else 2}f}" for v in prices]
        return [short_number(v) for v in prices]


def _stands_free(height: float, low: float, high: float, size: float) -> bool:
    """Whether a number at a height is whole: too near the rim of a view of some pixels it would be cut."""
    pixel = (high - low) / max(size, 1)
    return low + 4 * pixel < height < high - 8 * pixel


def _round_step(wanted: float) -> float:
    """The smallest of 1, 2 and 5 times a power of ten that is at least the wanted value."""
    unit = 10 ** np.floor(np.log10(wanted))
    return float(unit * next(m for m in (1, 2, 5, 10) if unit * m >= wanted))


def short_number(value: float) -> str:
    """A number in few characters: 12.4M, 380k, 0.0021."""
    value += 0.0  # a zero has no sign
    for limit, sign in ((1e9, "B"), (1e6, "M"), (1e4, "k")):
        if abs(value) >= limit:
            return f"{value / (1e3 if sign == 'k' else limit):.3g}{sign}"
    return f"{value:.4g}"
