"""Trades as a sheet of small charts: the price around each, where it went in and out."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.sheet import Sheet
from oakladder.desk.widgets.small_bars import draw_thumbnail
from oakladder.engine.picture.thumbnail import piece
from oakladder.rung.texts import count_words
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
        symbol, won = int(trades.symbol[trade]), trial.book.net[trade] > 0
        start = int(panel.starts[symbol])
        entered, left = int(trades.entered[trade]) - start, int(trades.left[trade]) - start
        ratio = float(trial.results.ratio[trade])
        told = f"{ratio:+.1%}" if np.isfinite(ratio) else f"{trial.book.net[trade]:+,.2f}"
        self._head(painter, panel.symbols[symbol], told, box, bool(won))
        around = max(int((left - entered) * _AROUND), _LEAST)
        first, end = max(entered - around, 0), min(left + around + 1, int(panel.ends[symbol]) - start)
        prices = float(trades.entry[trade]), float(trades.exit[trade])
        room = box.adjusted(0, painter.fontMetrics().height() + 1, 0, 0)
        held = f"{day_words(trial, int(trades.entered[trade])).replace(' 20', ' ', 1)}, {count_words(int(trial.results.bars[trade]), 'bar')}"
        shown = replace(piece(panel, symbol, first, end), span=held)
        plot = draw_thumbnail(painter, shown, room, self.theme, also=prices)
        if plot is None:
            return
        color = self.theme.color("gain" if won else "loss")
        painter.setPen(QPen(color, 2))
        into, out = plot.point(entered - first, prices[0]), plot.point(left - first, prices[1])
        painter.drawLine(into, out)
        painter.setBrush(self.theme.color("ground"))
        painter.drawEllipse(into, 3.5, 3.5)
        painter.fillRect(QRectF(out.x() - 3, out.y() - 3, 6, 6), color)

    def _head(self, painter: QPainter, symbol: str, brought: str, box: QRectF, won: bool) -> None:
        """The symbol, and at the right what the trade brought."""
        painter.setFont(ui_font(SMALL))
        painter.setPen(self.theme.color("ink"))
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft, symbol)
        painter.setPen(self.theme.color("gain" if won else "loss"))
        painter.drawText(box, Qt.AlignmentFlag.AlignRight, brought)
