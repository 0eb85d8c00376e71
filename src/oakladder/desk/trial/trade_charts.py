"""Trades as a sheet of small charts: the price around each, where it went in and out."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from oakladder.desk.chart.arrays import draw_chain
from oakladder.desk.look.letters import SMALL, ui_font
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.sheet import Sheet
from oakladder.trial.report import day_words, trade_words
from oakladder.trial.trial import Trial

#: So many bars before and behind a trade are shown, and at least so many of each.
_AROUND, _LEAST = 0.4, 12


class TradeCharts(Sheet):
    """The closed trades, the newest first. ``picked`` tells the number of a trade."""

    picked = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(theme, "Trades as small charts", parent)
        self._trial: Trial | None = None
        self.empty = "No trade has ended yet."
        self._which = np.zeros(0, dtype=np.int64)
        self.opened.connect(lambda k: self.picked.emit(int(self._which[k])))

    def show_trial(self, trial: Trial | None) -> None:
        """Shows the trades of another trial."""
        self._trial = trial
        self._which = np.zeros(0, dtype=np.int64)
        if trial is not None:
            which = np.flatnonzero(trial.book.done)
            self._which = which[np.argsort(trial.ground.panel.times[trial.trades.entered[which]], kind="stable")][::-1]
        self.first()

    def count(self) -> int:
        return len(self._which)

    def hint(self, k: int) -> str:
        return trade_words(self._trial, int(self._which[k])) if self._trial is not None else ""

    def draw(self, painter: QPainter, k: int, box: QRectF) -> None:
        if self._trial is not None:
            self._chart(painter, self._trial, int(self._which[k]), box)

    def _chart(self, painter: QPainter, trial: Trial, trade: int, box: QRectF) -> None:
        trades, panel = trial.trades, trial.ground.panel
        entered, left = int(trades.entered[trade]), int(trades.left[trade])
        symbol = int(trades.symbol[trade])
        around = max(int((left - entered) * _AROUND), _LEAST)
        first, last = max(entered - around, int(panel.starts[symbol])), min(left + around, int(panel.ends[symbol]) - 1)
        closes = panel.column("close")[first : last + 1]
        won = trial.book.net[trade] > 0
        painter.setFont(ui_font(SMALL))
        brought = f"{trial.results.ratio[trade]:+.1%}"
        metrics = painter.fontMetrics()
        room = int(box.width()) - metrics.horizontalAdvance(brought) - 6
        words = f"{panel.symbols[symbol]}  {day_words(trial, entered).replace(' 20', ' ', 1)}"
        painter.setPen(self.theme.color("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft, metrics.elidedText(words, Qt.TextElideMode.ElideRight, room))
        painter.setPen(self.theme.color("gain" if won else "loss"))
        painter.drawText(box, Qt.AlignmentFlag.AlignRight, brought)
        plot = box.adjusted(0, 18, 0, -2)
        prices = np.append(closes, [trades.entry[trade], trades.exit[trade]])
        low, high = float(np.nanmin(prices)), float(np.nanmax(prices))
        span = (high - low) or 1.0

        def at(bar: float, price: float) -> QPointF:
            x = plot.left() + plot.width() * (bar - first) / max(last - first, 1)
            return QPointF(x, plot.bottom() - plot.height() * (price - low) / span)

        painter.setPen(QPen(self.theme.color("mute"), 1.1))
        xs = plot.left() + plot.width() * np.arange(len(closes)) / max(last - first, 1)
        draw_chain(painter, xs, plot.bottom() - plot.height() * (closes - low) / span)
        color = self.theme.color("rising" if won else "falling")
        painter.setPen(QPen(color, 1.6))
        start, end = at(entered, float(trades.entry[trade])), at(left, float(trades.exit[trade]))
        painter.drawLine(start, end)
        painter.setBrush(self.theme.color("ground"))
        painter.drawEllipse(start, 3, 3)
        painter.fillRect(QRectF(end.x() - 2.5, end.y() - 2.5, 5, 5), color)
