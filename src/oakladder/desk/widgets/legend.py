"""What the fills of script columns mean, under their table."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.engine.columns.cells import FADES

_STEPS, _STEP, _GAP = 6, 9, 5
_FIRST, _LAST = "now", f"{FADES} bars ago"


class FillLegend(PaintedWidget):
    """A bullish fill over a bearish one, fading from now on."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.setFont(ui_font(SMALL))
        self.setToolTip(
            "A signal's cell says how long ago it was last true, and is filled while that is not long ago: "
            "blue for a bullish one, rust for a bearish one, green for any other. "
            "A script's own column has the fills that the script gives it. A dot is nothing."
        )
        self.setAccessibleName(f"Legend: fills fade from now to {_LAST}")

    def sizeHint(self) -> QSize:
        metrics = self.fontMetrics()
        words = metrics.horizontalAdvance(_FIRST) + metrics.horizontalAdvance(_LAST)
        return QSize(words + 2 * _GAP + _STEPS * _STEP, metrics.height() + 2)

    def minimumSizeHint(self) -> QSize:
        return self.sizeHint()

    def paint(self, painter: QPainter) -> None:
        painter.setPen(self.theme.color("faint"))
        begin = painter.fontMetrics().horizontalAdvance(_FIRST)
        middle = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(0, 0, begin + 1, self.height()), middle, _FIRST)
        left, half = begin + _GAP, (self.height() - 4) / 2
        for k in range(_STEPS):
            for row, word in enumerate(("good", "bad")):
                fill = self.theme.fill(word, 1 - k / _STEPS)
                painter.fillRect(QRectF(left + k * _STEP, 2 + row * half, _STEP, half), fill)
        left += _STEPS * _STEP + _GAP
        painter.drawText(QRectF(left, 0, self.width() - left, self.height()), middle, _LAST)
