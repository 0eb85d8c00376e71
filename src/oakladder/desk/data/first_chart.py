"""The first look at bars that are about to come in: all of them in one picture, with what was found in them marked."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QToolTip, QWidget

from oakladder.bars.time_words import bar_time
from oakladder.desk.chart.arrays import draw_lines
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.intake.cleaning import Finding
from oakladder.intake.importing import Intake
from oakladder.rung.texts import count_words

_NEAR = 5.0


class FirstChart(PaintedWidget):
    """From low to high at every pixel; a triangle over each place where something was found."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self._intake: Intake | None = None
        self.setMinimumHeight(120)
        self.setAccessibleName("Bars to import")

    def sizeHint(self) -> QSize:
        return QSize(460, 200)

    def show_intake(self, intake: Intake | None) -> None:
        """Shows another symbol, at adjusted prices as charts do; None for none."""
        self._intake = intake if intake is not None and intake.bars is not None and len(intake.bars) else None
        if self._intake is not None and self._intake.bars is not None and self._intake.info is not None:
            self._intake = replace(self._intake, bars=self._intake.bars.adjusted(self._intake.info.adjustments))
        self.update()

    def _plot(self) -> QRectF:
        return QRectF(8, 24, self.width() - 16, self.height() - 44)

    def marks(self) -> list[tuple[float, Finding, int]]:
        """Where each finding stands: x in pixels, the finding, and its bar."""
        if self._intake is None or self._intake.bars is None:
            return []
        times, plot = self._intake.bars.times, self._plot()
        made = []
        for finding in self._intake.findings:
            for _, time in finding.places:
                if time:
                    bar = min(int(np.searchsorted(times, time)), len(times) - 1)
                    made.append((plot.left() + plot.width() * (bar + 0.5) / len(times), finding, bar))
        return made

    def paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), self.theme.color("raised"))
        painter.setFont(ui_font(SMALL))
        if self._intake is None or self._intake.bars is None:
            return
        bars, plot = self._intake.bars, self._plot()
        painter.setPen(self.theme.color("ink"))
        painter.drawText(QRectF(8, 3, self.width() - 16, 16), Qt.AlignmentFlag.AlignLeft, self._words())
        low, high = bars["low"], bars["high"]
        count, across = len(bars), max(int(plot.width()), 1)
        begins = np.unique(np.linspace(0, count, min(across, count), endpoint=False).astype(np.int64))
        with np.errstate(invalid="ignore"):
            lows, highs = np.fmin.reduceat(low, begins), np.fmax.reduceat(high, begins)
        if np.isnan(lows).all() or np.isnan(highs).all():  # a column without prices was chosen
            painter.setPen(self.theme.color("faint"))
            painter.drawText(plot, Qt.AlignmentFlag.AlignCenter, "There is no price in these columns.")
            return
        bottom, top = float(np.nanmin(lows)), float(np.nanmax(highs))
        span = (top - bottom) or 1.0
        painter.setPen(QPen(self.theme.color("rising"), 1))
        xs = plot.left() + plot.width() * (begins + 0.5) / count
        low_y, high_y = (plot.bottom() - plot.height() * (edge - bottom) / span for edge in (lows, highs))
        draw_lines(painter, xs, low_y, xs, high_y - 1)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("warn"))
        for x, _, _ in self.marks():
            painter.drawPolygon(QPolygonF([QPointF(x - 4, 18), QPointF(x + 4, 18), QPointF(x, plot.top())]))
        painter.setPen(self.theme.color("faint"))
        foot = QRectF(8, self.height() - 18, self.width() - 16, 16)
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, bar_time(bars, 0))
        painter.drawText(foot, Qt.AlignmentFlag.AlignRight, bar_time(bars, count - 1))

    def _words(self) -> str:
        assert self._intake is not None and self._intake.bars is not None
        return f"{self._intake.symbol}  {self._intake.timeframe}, {count_words(len(self._intake.bars), 'bar')}"

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent) and self._intake is not None and self._intake.bars is not None:
            near = [(abs(x - event.pos().x()), f, bar) for x, f, bar in self.marks()]
            near = [one for one in near if one[0] <= _NEAR]
            if near:
                _, finding, bar = min(near, key=lambda one: one[0])
                QToolTip.showText(
                    event.globalPos(), f"{bar_time(self._intake.bars, bar)}: {finding.trouble.value}", self
                )
            else:
                QToolTip.hideText()
            return True
        return bool(super().event(event))
