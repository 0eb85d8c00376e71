"""How many of many runs came to what, with the real one among them."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme

_BOTTOM, _TOP, _SIDE = 20, 22, 14
_MOST_COLUMNS = 40
#: Values that lie closer together than this share of them count as equal.
_LEAST_SPREAD = 1e-9


class Histogram(PaintedWidget):
    """Paints columns, a line where the real value is, and a strip under the range that most lie in."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName("Distribution of random runs, with the real result")
        self.theme = theme
        self._values, self._real = np.zeros(0), 0.0
        self._range: tuple[float, float] | None = None
        self._write: Callable[[float], str] = str
        self._words = "the rule"
        self._better_up = True
        self.setMinimumHeight(90)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(420, 180)

    def show_values(
        self,
        values: np.ndarray,
        real: float,
        write: Callable[[float], str],
        *,
        words: str = "the rule",
        within: tuple[float, float] | None = None,
        better_up: bool = True,
    ) -> None:
        """Shows values with the real one among them. What is at least as good as that one is filled darker; ``within``
        is a range that is marked. Values: shape (draws,), float64."""
        self._values, self._real, self._write, self._words = values[np.isfinite(values)], real, write, words
        self._range, self._better_up = within, better_up
        told = f", {within[0]:.4g} to {within[1]:.4g}" if within is not None else ""
        self.setAccessibleName(f"{len(values)} runs, {words} at {write(real)}{told}")
        self.update()

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        if not len(self._values):
            return
        low, high = min(float(self._values.min()), self._real), max(float(self._values.max()), self._real)
        least = max(abs(low), abs(high)) * _LEAST_SPREAD or 0.02
        if high - low < least:  # rounding alone tells the values apart
            middle = (low + high) / 2
            low, high = middle - least / 2, middle + least / 2
        box = QRectF(_SIDE, _TOP, self.width() - 2 * _SIDE, self.height() - _TOP - _BOTTOM)
        columns = int(min(_MOST_COLUMNS, max(box.width() // 9, 8)))
        counts, edges = np.histogram(self._values, columns, (low, high))

        def x(value: float) -> float:
            return box.left() + box.width() * (value - low) / (high - low)

        width = box.width() / columns
        for k, count in enumerate(counts.tolist()):
            middle = (edges[k] + edges[k + 1]) / 2
            as_good = middle >= self._real if self._better_up else middle <= self._real
            height = box.height() * count / max(int(counts.max()), 1)
            place = QRectF(box.left() + k * width + 1, box.bottom() - height, width - 2, height)
            painter.fillRect(place, self.theme.color("pin" if as_good else "line"))
        painter.setPen(self.theme.color("faint"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        self._marks(painter, box, x)
        self._axis(painter, box, low, high, x)

    def _marks(self, painter: QPainter, box: QRectF, x: Callable[[float], float]) -> None:
        if self._range is not None:
            left, right = (min(max(x(v), box.left()), box.right()) for v in self._range)
            painter.fillRect(QRectF(left, box.bottom() - 3, right - left, 6), self.theme.color("calm"))
        at = x(self._real)
        painter.setPen(QPen(self.theme.color("ink"), 2))
        painter.drawLine(QPointF(at, box.top() - 4), QPointF(at, box.bottom()))
        painter.setFont(ui_font(strong=True))
        words = f"{self._words} {self._write(self._real)}"
        wide = painter.fontMetrics().horizontalAdvance(words) + 4
        left = min(max(at - wide / 2, 2.0), max(self.width() - wide - 2, 2.0))
        painter.drawText(QRectF(left, 2, wide, 15), Qt.AlignmentFlag.AlignCenter, words)

    def _axis(self, painter: QPainter, box: QRectF, low: float, high: float, x: Callable[[float], float]) -> None:
        painter.setFont(ui_font(SMALL))
        painter.setPen(self.theme.color("faint"))
        for k in range(5):
            value = low + (high - low) * k / 4
            place = QRectF(x(value) - 40, box.bottom() + 4, 80, 14)
            align = Qt.AlignmentFlag.AlignHCenter
            if k == 0:
                place, align = QRectF(box.left(), box.bottom() + 4, 80, 14), Qt.AlignmentFlag.AlignLeft
            elif k == 4:
                place, align = QRectF(box.right() - 80, box.bottom() + 4, 80, 14), Qt.AlignmentFlag.AlignRight
            painter.drawText(place, align, self._write(value))
