"""The painter of trades: from entry to exit, the result of each, and the stop as it moved."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen

from oakladder.desk.chart.layer import Layer
from oakladder.desk.chart.overplotting import told_apart
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.theme import Theme
from oakladder.engine.sealed import SEALED
from oakladder.trial.on_chart import ChartTrades

#: Narrower bars leave no space for a trade's result.
_WORDS_WIDTH = 3.0
#: Of more trades than this, one is shown for all that begin within so many pixels of it.
_MANY, _APART = 300, 6.0


class TradePaths(Layer):
    """Trades of the open script on the visible bars, at real prices in every bar style."""

    def __init__(self) -> None:
        super().__init__()
        self.trades: ChartTrades | None = None
        self.theme: Theme | None = None

    def show_trades(self, trades: ChartTrades | None, theme: Theme) -> None:
        self.trades, self.theme = trades, theme
        self.update()

    def draw(self, painter: QPainter) -> None:
        found, theme = self.trades, self.theme
        if found is None or theme is None or not len(found.entered):
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        first, last = self.seen(found.bars)
        which = np.flatnonzero((found.entered <= last) & (found.ends >= first))
        self._stops(painter, theme, found, max(first, 0), min(last, found.bars))
        columns = (
            self.bar_x(found.entered[which].astype(np.float64)),
            self.price_y(found.entry[which]),
            self.bar_x(found.ends[which].astype(np.float64)),
            self.price_y(found.last[which]),
            found.gain[which],
            found.is_open[which],
            found.is_sealed[which],
        )
        kept = told_apart(columns[0], columns[1], _APART, _MANY)
        for *trade, is_sealed in zip(*(c[kept].tolist() for c in columns), strict=True):
            (self._places if is_sealed else self._path)(painter, theme, *trade)
        self._seal(painter, theme, found)

    def _places(
        self, painter: QPainter, theme: Theme, x0: float, y0: float, x1: float, y1: float, gain: float, is_open: bool
    ) -> None:
        """Where a trade began and ended, without its result: the exit is level with the entry."""
        color = theme.color("mute")
        painter.setPen(QPen(color, 1.6))
        painter.setBrush(theme.color("ground"))
        painter.drawEllipse(QPointF(x0, y0), 3.6, 3.6)
        if not is_open:
            painter.drawRect(QRectF(x1 - 3, y0 - 3, 6, 6))

    def _seal(self, painter: QPainter, theme: Theme, found: ChartTrades) -> None:
        """A line before the first sealed bar, with a word why results end there; the word alone where that is out of sight."""
        if found.opened >= found.bars or not found.is_sealed.any():
            return
        x, box = float(self.bar_x(found.opened - 0.5)), self.box
        if x > box.right():
            return
        painter.setPen(QPen(theme.color("mute"), 1, Qt.PenStyle.DashLine))
        if x >= box.left():
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
        x = max(x, box.left())
        painter.setFont(ui_font(SMALL))
        metrics = painter.fontMetrics()
        words = f"results from here on are {SEALED}" if x > box.left() else f"results here are {SEALED}"
        width = metrics.horizontalAdvance(words)
        left = x + 4 if x + 4 + width <= box.right() else x - 4 - width
        painter.drawText(QPointF(left, box.bottom() - metrics.descent() - 3), words)

    def _path(
        self, painter: QPainter, theme: Theme, x0: float, y0: float, x1: float, y1: float, gain: float, is_open: bool
    ) -> None:
        color = theme.color("rising" if gain > 0 else "falling")
        painter.setPen(QPen(color, 2.0, Qt.PenStyle.DashLine if is_open else Qt.PenStyle.SolidLine))
        painter.drawLine(QPointF(x0, y0), QPointF(x1, y1))
        painter.setPen(QPen(color, 1.6))
        painter.setBrush(theme.color("ground"))
        painter.drawEllipse(QPointF(x0, y0), 3.6, 3.6)
        if not is_open:
            painter.fillRect(QRectF(x1 - 3, y1 - 3, 6, 6), color)
        if self.bar_width >= _WORDS_WIDTH:
            painter.setFont(ui_font(SMALL, strong=True))
            words = f"{gain:+.1%}" + (" so far" if is_open else "")
            width = painter.fontMetrics().horizontalAdvance(words) + 6
            place = QRectF(x1 + 6, y1 - 8, width, 15)
            ground = theme.color("ground")
            ground.setAlpha(200)
            painter.fillRect(place, ground)
            painter.setPen(theme.color("gain" if gain > 0 else "loss"))
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter, words)

    def _stops(self, painter: QPainter, theme: Theme, found: ChartTrades, first: int, last: int) -> None:
        """The stop in force on each bar: that of the close before."""
        stop = found.stop[first:last]
        at = np.flatnonzero(~np.isnan(stop))
        if not len(at) or self.bar_width < 1:
            return
        painter.setPen(QPen(theme.color("falling"), 1, Qt.PenStyle.DotLine))
        xs, ys = self.bar_x(at + first + 1.0), self.price_y(stop[at])
        half = self.bar_width / 2
        for x, y in zip(xs.tolist(), ys.tolist(), strict=True):
            painter.drawLine(QPointF(x - half, y), QPointF(x + half, y))
