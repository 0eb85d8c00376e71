"""Trades as a sheet of small charts: the price around each, where it went in and out."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from oakladder.desk.chart.arrays import draw_chain
from oakladder.desk.look.letters import SMALL, ui_font
from oakladder.desk.look.theme import Theme
from oakladder.trial.report import day_words, trade_words
from oakladder.trial.trial import Trial

_WIDE, _HIGH = 170.0, 104.0
#: So many bars before and behind a trade are shown, and at least so many of each.
_AROUND, _LEAST = 0.4, 12


class TradeCharts(QWidget):
    """A page of small charts; the arrow and page keys move, Enter opens. ``picked`` tells the number of a trade."""

    picked = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self._trial: Trial | None = None
        self._which = np.zeros(0, dtype=np.int64)
        self._at = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(int(_HIGH))
        self.setAccessibleName("Trades as small charts")

    def show_trial(self, trial: Trial | None) -> None:
        """Shows the closed trades of another trial, the newest first."""
        self._trial = trial
        self._which = np.zeros(0, dtype=np.int64)
        if trial is not None:
            which = np.flatnonzero(trial.book.done)
            self._which = which[np.argsort(trial.ground.panel.times[trial.trades.entered[which]], kind="stable")][::-1]
        self._at = 0
        self.update()

    # --- where charts are ---------------------------------------------------------------------------

    @property
    def _across(self) -> int:
        return max(int(self.width() // _WIDE), 1)

    @property
    def _on_page(self) -> int:
        return self._across * max(int((self.height() - 18) // _HIGH), 1)

    def _box(self, k: int) -> QRectF:
        """The place of a chart on the page."""
        wide = self.width() / self._across
        return QRectF(k % self._across * wide, k // self._across * _HIGH, wide, _HIGH)

    def _page(self) -> range:
        first = self._at // self._on_page * self._on_page
        return range(first, min(first + self._on_page, len(self._which)))

    def paintEvent(self, _: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        trial, page = self._trial, self._page()
        if trial is None or not len(self._which):
            return
        for place, k in enumerate(page):
            box = self._box(place).adjusted(4, 3, -4, -3)
            if k == self._at and self.hasFocus():
                painter.setPen(self.theme.color("oak"))
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.drawRect(box)
            self._chart(painter, trial, int(self._which[k]), box.adjusted(4, 2, -4, -3))
        painter.setPen(self.theme.color("faint"))
        painter.setFont(ui_font(SMALL))
        words = (
            f"{page.start + 1} to {page.stop} of {len(self._which)}; Page Up and Page Down turn the sheet, Enter opens"
        )
        painter.drawText(QRectF(8, self.height() - 16, self.width() - 16, 14), Qt.AlignmentFlag.AlignLeft, words)

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
        painter.setPen(self.theme.color("rising" if won else "falling"))
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

    # --- by hand ------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        steps = {
            Qt.Key.Key_Left: -1,
            Qt.Key.Key_Right: 1,
            Qt.Key.Key_Up: -self._across,
            Qt.Key.Key_Down: self._across,
            Qt.Key.Key_PageUp: -self._on_page,
            Qt.Key.Key_PageDown: self._on_page,
            Qt.Key.Key_Home: -len(self._which),
            Qt.Key.Key_End: len(self._which),
        }
        if event.key() in steps:
            self._at = min(max(self._at + steps[Qt.Key(event.key())], 0), max(len(self._which) - 1, 0))
            self.update()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and len(self._which):
            self.picked.emit(int(self._which[self._at]))
        else:
            super().keyPressEvent(event)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        for place, k in enumerate(self._page()):
            if self._box(place).contains(event.position()):
                self._at = k
                self.update()
                if self._trial is not None:
                    self.setToolTip(trade_words(self._trial, int(self._which[k])))

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        if len(self._which):
            self.picked.emit(int(self._which[self._at]))
