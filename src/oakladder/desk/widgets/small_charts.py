"""Closes as a line in a cell, and a small chart of a symbol on each of several timeframes."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen, QResizeEvent
from PyQt6.QtWidgets import QLabel, QSizePolicy, QWidget

from oakladder.desk.chart.arrays import draw_chain
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.small_bars import draw_thumbnail
from oakladder.engine.picture.thumbnail import Thumbnail


def draw_spark(painter: QPainter, closes: np.ndarray, box: QRectF, theme: Theme, hit: int | None = None) -> None:
    """The last closes as a line in a box, risen or fallen by its colour; ``hit`` is a bar to mark, counted from the
    end. Closes: shape (bars,), float64."""
    known = closes[~np.isnan(closes)]
    if len(known) < 2:
        return
    low, high = float(known.min()), float(known.max())
    span = (high - low) or 1.0
    x = box.left() + box.width() * np.arange(len(closes)) / (len(closes) - 1)
    y = box.bottom() - box.height() * (closes - low) / span
    color = theme.color("rising" if known[-1] >= known[0] else "falling")
    painter.setPen(QPen(color, 1.3))
    draw_chain(painter, x, y)
    if hit is not None and 0 <= hit < len(closes):
        at = len(closes) - 1 - hit
        painter.setPen(QPen(theme.color("pin"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(int(x[at]), int(box.top()), int(x[at]), int(box.bottom()))
        if y[at] == y[at]:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(theme.color("pin"))
            painter.drawEllipse(QRectF(x[at] - 2.5, y[at] - 2.5, 5, 5))


class Minis(PaintedWidget):
    """One chart below the other; a click tells its timeframe."""

    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName("Small charts")
        self.theme = theme
        self.symbol = ""
        self.series: list[Thumbnail] = []
        self.why = QLabel(self)
        self.why.setWordWrap(True)
        self.why.setFont(ui_font(SMALL))
        self.why.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        self.why.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(250, 400)

    def show_series(self, symbol: str, series: list[Thumbnail]) -> None:
        self.symbol, self.series = symbol, series
        self.setAccessibleName(f"{symbol} on {', '.join(g.timeframe for g in series)}")
        self.update()

    def show_why(self, head: str, lines: tuple[str, ...]) -> None:
        """Tells below the charts why a cell says what it says; an empty head takes it away."""
        self.why.setText("\n".join([head, *lines]) if head else "")
        self._place_why()
        self.update()

    def _place_why(self) -> None:
        width = self.width() - 16
        height = min(self.why.heightForWidth(width), self.height() // 2) if self.why.text() else 0
        self.why.setVisible(height > 0)
        self.why.setGeometry(8, self.height() - height - 6, width, height)

    def resizeEvent(self, _: QResizeEvent | None) -> None:
        self._place_why()

    def _box(self, k: int) -> QRectF:
        room = self.height() - 24 - (self.why.height() + 12 if self.why.isVisible() else 0)
        height = min(room / max(len(self.series), 1), 150)
        return QRectF(8, 24 + k * height, self.width() - 16, height)

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        painter.setFont(ui_font(strong=True))
        painter.setPen(self.theme.color("ink"))
        painter.drawText(QRectF(8, 4, self.width() - 16, 18), Qt.AlignmentFlag.AlignLeft, self.symbol)
        for k, mini in enumerate(self.series):
            box = self._box(k)
            painter.setPen(self.theme.color("line"))
            painter.drawLine(box.topLeft(), box.topRight())
            draw_thumbnail(painter, mini, box.adjusted(2, 4, -2, -4), self.theme)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        for k, mini in enumerate(self.series):
            if self._box(k).contains(event.position()):
                self.chosen.emit(mini.timeframe)
