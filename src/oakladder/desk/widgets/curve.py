"""The picture of a trial: the equity curve over buy and hold, the variants, the trades, and the drawdown below."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from oakladder.desk.chart.arrays import draw_chain, draw_dots
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.trial.report import trade_words
from oakladder.trial.trial import Trial

#: The colours of variants, one after the other; the plain rule has the ink.
VARIANT_COLOURS = ("teal", "amber", "plum", "spruce", "rose", "sky", "lime", "rust")
_RIGHT, _BOTTOM, _TOP = 64, 18, 8
#: Share of the height that the drawdown takes.
_WATER = 0.2
#: Max distance of the cursor from a trade under it, in pixels.
_NEAR = 9.0
#: More trades than this are not marked one by one.
_MOST_MARKS = 2_000


@dataclass(frozen=True, slots=True)
class Curve:
    """A trial in the picture, and the word of its colour (empty for the ink)."""

    trial: Trial
    colour: str = ""


#: What a screen reader says of it without a curve.
_NOTHING = "Equity curve"


class CurveView(PaintedWidget):
    """Paints curves over time. ``picked`` tells the number of a trade of the trial in front."""

    picked = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(_NOTHING)
        self.theme = theme
        self.front: Trial | None = None
        self.curves: list[Curve] = []
        self.plain = False
        self._marks = (np.zeros(0), np.zeros(0), np.zeros(0, dtype=np.int64))
        self.setMouseTracking(True)
        self.setMinimumHeight(90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(700, 240)

    def show_curves(self, front: Trial | None, curves: list[Curve]) -> None:
        """Shows some curves; trades and water are those of the one in ``front``."""
        self.front, self.curves = front, curves
        self._marks = (np.zeros(0), np.zeros(0), np.zeros(0, dtype=np.int64))
        self.update()
        if front is None:
            self.setAccessibleName(_NOTHING)
        else:
            known = len(front.equity.held) and np.isfinite(front.equity.held[-1])
            held = f", buy and hold {front.equity.held[-1]:,.0f}" if known else ""
            end = front.equity.value[-1] if len(front.equity.value) else front.equity.start
            self.setAccessibleName(f"Equity: from {front.equity.start:,.0f} to {end:,.0f}{held}")

    # --- where things are ---------------------------------------------------------------------------

    def _box(self) -> QRectF:
        water = 0 if self.plain else self._water().height() + 6
        right = 6 if self.plain else _RIGHT
        return QRectF(6, _TOP, self.width() - 6 - right, self.height() - _TOP - _BOTTOM - water)

    def _water(self) -> QRectF:
        height = (self.height() - _TOP - _BOTTOM) * _WATER
        return QRectF(6, self.height() - _BOTTOM - height, self.width() - 6 - _RIGHT, height)

    def _times(self) -> tuple[int, int]:
        firsts = [int(c.trial.equity.times[0]) for c in self.curves if len(c.trial.equity.times)]
        lasts = [int(c.trial.equity.times[-1]) for c in self.curves if len(c.trial.equity.times)]
        return (min(firsts), max(max(lasts), min(firsts) + 1)) if firsts else (0, 1)

    def _levels(self) -> tuple[float, float]:
        parts = [c.trial.equity.value for c in self.curves] + ([self.front.equity.held] if self.front else [])
        known = np.concatenate([p[np.isfinite(p)] for p in parts if len(p)] or [np.array([0.0, 1.0])])
        low, high = float(known.min()), float(known.max())
        room = (high - low) * 0.06 or max(abs(high) * 0.01, 1.0)
        return low - room, high + room

    def _x(self, times: np.ndarray, box: QRectF) -> np.ndarray:
        first, last = self._times()
        return np.asarray(box.left() + box.width() * (times - first) / (last - first))

    # --- painting -----------------------------------------------------------------------------------

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        if not any(len(c.trial.equity.times) for c in self.curves):
            return
        box, (low, high) = self._box(), self._levels()

        def y(values: np.ndarray) -> np.ndarray:
            return np.asarray(box.bottom() - box.height() * (values - low) / (high - low))

        self._grid(painter, box, low, high)
        front = self.front
        if front is not None:
            painter.setPen(QPen(self.theme.color("mute"), 1.4, Qt.PenStyle.DotLine))
            some = thinned(front.equity.held, self.width())
            _polyline(painter, self._x(front.equity.times[some], box), y(front.equity.held[some]))
        for curve in reversed(self.curves):
            is_front = curve.trial is front
            pen = QPen(self._colour(curve), 2.2 if is_front else 1.2)
            pen.setJoinStyle(Qt.PenJoinStyle.RoundJoin)
            painter.setPen(pen)
            some = thinned(curve.trial.equity.value, self.width())
            draw_chain(painter, self._x(curve.trial.equity.times[some], box), y(curve.trial.equity.value[some]))
        if front is not None and not self.plain:
            self._trades(painter, front, box, y)
            self._under_water(painter, front)

    def _colour(self, curve: Curve) -> QColor:
        return qcolor(self.theme.paint(curve.colour or "ink"))

    def _grid(self, painter: QPainter, box: QRectF, low: float, high: float) -> None:
        painter.setFont(ui_font(SMALL))
        for level in _round_levels(low, high, 4):
            at = box.bottom() - box.height() * (level - low) / (high - low)
            painter.setPen(self.theme.color("line"))
            painter.drawLine(QPointF(box.left(), at), QPointF(box.right(), at))
            if not self.plain:
                painter.setPen(self.theme.color("faint"))
                place = QRectF(box.right() + 6, at - 8, _RIGHT - 8, 16)
                painter.drawText(place, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, f"{level:z,.0f}")
        first, last = self._times()
        painter.setPen(self.theme.color("faint"))
        for time, words in _dates(first, last):
            x = box.left() + box.width() * (time - first) / (last - first)
            painter.drawText(QRectF(x - 40, self.height() - _BOTTOM + 2, 80, 14), Qt.AlignmentFlag.AlignHCenter, words)

    def _trades(self, painter: QPainter, trial: Trial, box: QRectF, y) -> None:  # type: ignore[no-untyped-def]
        """A dot on the curve where each trade was left, won or lost by its colour and its side of the curve."""
        which = np.flatnonzero(trial.book.done)
        if not len(which) or len(which) > _MOST_MARKS:
            return
        place = np.clip(trial.ground.grid.at[trial.trades.left[which]] - trial.ground.first_place, 0, None)
        xs = self._x(trial.equity.times[place], box)
        won = trial.book.net[which] > 0
        ys = y(trial.equity.value[place]) + np.where(won, -5.0, 5.0)
        self._marks = (xs, ys, which)
        for good, role in ((True, "rising"), (False, "falling")):
            pen = QPen(self.theme.color(role), 3.8)
            pen.setCapStyle(Qt.PenCapStyle.RoundCap)
            painter.setPen(pen)
            draw_dots(painter, xs[won == good], ys[won == good])

    def _under_water(self, painter: QPainter, trial: Trial) -> None:
        box, under = self._water(), trial.equity.under_water
        deepest = min(float(under.min()), -1e-9)
        some = thinned(under, self.width())
        under = under[some]
        xs = self._x(trial.equity.times[some], box)
        ys = box.top() + box.height() * under / deepest
        painter.setPen(self.theme.color("line"))
        painter.drawLine(box.topLeft(), box.topRight())
        fill = self.theme.color("falling")
        fill.setAlpha(90)
        painter.setBrush(fill)
        painter.setPen(Qt.PenStyle.NoPen)
        points = [QPointF(xs[0], box.top()), *map(QPointF, xs.tolist(), ys.tolist()), QPointF(xs[-1], box.top())]
        painter.drawPolygon(QPolygonF(points))
        painter.setPen(self.theme.color("faint"))
        painter.setFont(ui_font(SMALL))
        place = QRectF(box.right() + 6, box.bottom() - 14, _RIGHT - 8, 16)
        painter.drawText(place, Qt.AlignmentFlag.AlignLeft, f"{deepest:.1%}" if deepest < -1e-6 else "0%")
        painter.drawText(QRectF(box.left() + 2, box.bottom() - 14, 120, 14), Qt.AlignmentFlag.AlignLeft, "drawdown")

    # --- trades under the cursor --------------------------------------------------------------------

    def trade_at(self, place: QPointF) -> int | None:
        """The trade whose dot is nearest to a place, if one is near."""
        xs, ys, which = self._marks
        if not len(which):
            return None
        far = np.hypot(xs - place.x(), ys - place.y())
        at = int(np.argmin(far))
        return int(which[at]) if far[at] <= _NEAR else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        trade = self.trade_at(event.position())
        if trade is not None and self.front is not None:
            QToolTip.showText(event.globalPosition().toPoint(), trade_words(self.front, trade), self)
        else:
            QToolTip.hideText()

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        trade = self.trade_at(event.position())
        if trade is not None:
            self.picked.emit(trade)


def thinned(values: np.ndarray, width: int) -> np.ndarray:
    """Indices of the values that a picture of some width shows: the lowest and the highest of each pixel. Values: shape
    (points,), float64; gives shape (points shown,), int64."""
    step = len(values) // max(width, 1)
    if step < 3:
        return np.arange(len(values))
    whole = len(values) // step * step
    parts = np.where(np.isnan(values[:whole]), 0.0, values[:whole]).reshape(-1, step)
    firsts = np.arange(0, whole, step)
    ends = [
        firsts + parts.argmin(axis=1),
        firsts + parts.argmax(axis=1),
        [0],
        np.arange(whole, len(values)),
        [len(values) - 1],
    ]
    return np.unique(np.concatenate(ends))


def _polyline(painter: QPainter, x: np.ndarray, y: np.ndarray) -> None:
    """A chain of points with a pen that is not solid."""
    there = np.isfinite(y)
    painter.drawPolyline(QPolygonF(list(map(QPointF, x[there].tolist(), y[there].tolist()))))


def _round_levels(low: float, high: float, about: int) -> list[float]:
    """Round numbers between two, about so many."""
    span = high - low
    step = 10.0 ** np.floor(np.log10(span / about))
    step = next(s for s in (step, 2 * step, 5 * step, 10 * step) if span / s <= about + 1)
    first = np.ceil(low / step) * step
    return [float(v) for v in np.arange(first, high, step)]


def _dates(first: int, last: int) -> list[tuple[int, str]]:
    """Beginnings of years, or of months where there are few years."""
    a, b = datetime.fromtimestamp(first, UTC), datetime.fromtimestamp(last, UTC)
    months = [(y, m) for y in range(a.year, b.year + 1) for m in range(1, 13)]
    stamps = [(int(datetime(y, m, 1, tzinfo=UTC).timestamp()), y, m) for y, m in months]
    inside = [(s, y, m) for s, y, m in stamps if first <= s <= last]
    years = [(s, f"{y}") for s, y, m in inside if m == 1]
    if len(years) >= 3:
        return years
    every = max(len(inside) // 6, 1)
    return [(s, f"{datetime(y, m, 1, tzinfo=UTC):%b %Y}") for s, y, m in inside[::every]]
