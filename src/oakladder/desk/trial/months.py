"""A sheet of years and months: by how much the account changed in each."""

from __future__ import annotations

import math

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPen
from PyQt6.QtWidgets import QWidget

from oakladder.desk.chart.arrays import draw_chain
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.curve import thinned
from oakladder.trial.breakdowns import Month, months
from oakladder.trial.regimes import rolling_year
from oakladder.trial.trial import Trial

_NAMES = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec", "Year")
#: A change of so much has the full colour.
_FULL = 0.1
_HEAD, _ROW, _YEAR = 22, 24, 48
#: Between the sheet and the line below it, and how high that is at least.
_GAP, _LEAST_LINE = 6, 28
#: What a screen reader says of it when it is empty.
_NOTHING = "Results by month"


class MonthSheet(PaintedWidget):
    """Paints the sheet; a year's last column is the whole year."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(_NOTHING)
        self.theme = theme
        self._years: dict[int, dict[int, float]] = {}
        #: The times and the results of the year up to each session.
        self._rolling = np.zeros(0, dtype=np.int64), np.zeros(0)

    def sizeHint(self) -> QSize:
        return QSize(600, _HEAD + _ROW * max(len(self._years), 1) + 6)

    def show_trial(self, trial: Trial | None) -> None:
        """Shows the months of a trial."""
        self._years = _by_year(months(trial)) if trial is not None else {}
        self._rolling = rolling_year(trial) if trial is not None else (np.zeros(0, dtype=np.int64), np.zeros(0))
        self.setMinimumHeight(self.sizeHint().height())
        self.setAccessibleName("; ".join(f"{year}: {row[13]:+.1%}" for year, row in self._years.items()) or _NOTHING)
        self.update()

    def paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), self.theme.color("ground"))
        painter.setFont(ui_font())
        width = (self.width() - _YEAR - 12) / len(_NAMES)
        painter.setPen(self.theme.color("faint"))
        for k, name in enumerate(_NAMES):
            painter.drawText(QRectF(_YEAR + k * width, 2, width, _HEAD), Qt.AlignmentFlag.AlignCenter, name)
        for r, (year, row) in enumerate(self._years.items()):
            top = _HEAD + r * _ROW
            painter.setPen(self.theme.color("faint"))
            painter.drawText(QRectF(0, top, _YEAR - 6, _ROW), _RIGHT, str(year))
            for month, change in row.items():
                cell = QRectF(_YEAR + (month - 1) * width + 1, top + 1, width - 2, _ROW - 2)
                fill = self.theme.color("rising" if change > 0 else "falling")
                fill.setAlpha(int(110 * min(abs(change) / _FULL, 1.0)))
                painter.fillRect(cell, fill)
                painter.setPen(self.theme.color("ink"))
                painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, f"{change:+.1%}")
        self._line(painter, _HEAD + len(self._years) * _ROW + _GAP)

    def _line(self, painter: QPainter, top: float) -> None:
        """What the twelve months up to each day brought, below the sheet where there is room."""
        times, values = self._rolling
        box = QRectF(_YEAR, top + 16, self.width() - _YEAR - 70, self.height() - top - 22)
        if len(values) < 2 or box.height() < _LEAST_LINE:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(ui_font(SMALL))
        painter.setPen(self.theme.color("faint"))
        worst, best = float(values.min()), float(values.max())
        words = f"The twelve months up to each day: from {worst:+.1%} to {best:+.1%}, {math.floor(100 * np.mean(values > 0))}% of them with a gain"
        painter.drawText(QRectF(_YEAR, top, self.width() - _YEAR, 16), Qt.AlignmentFlag.AlignVCenter, words)
        low, high = min(worst, 0.0), max(best, 0.0)
        some = thinned(values, int(box.width()))

        def y(value: np.ndarray) -> np.ndarray:
            return np.asarray(box.bottom() - box.height() * (value - low) / max(high - low, 1e-9))

        edges = [0.0, *(v for v in (low, high) if abs(v) * box.height() > 14 * (high - low))]
        for value in edges:
            level = float(y(np.array([value]))[0])
            painter.setPen(QPen(self.theme.color("line"), 1, Qt.PenStyle.DotLine))
            painter.drawLine(QPointF(box.left(), level), QPointF(box.right(), level))
            painter.setPen(self.theme.color("faint"))
            place = QRectF(box.right() + 6, level - 8, 60, 16)
            painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, f"{value:+.0%}")
        x = box.left() + box.width() * (times[some] - times[0]) / max(int(times[-1] - times[0]), 1)
        painter.setPen(QPen(self.theme.color("ink"), 1.6))
        draw_chain(painter, x, y(values[some]))


_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


def _by_year(found: list[Month]) -> dict[int, dict[int, float]]:
    made: dict[int, dict[int, float]] = {}
    for one in found:
        row = made.setdefault(one.year, {13: 0.0})
        row[one.month] = one.change
        row[13] = (1 + row[13]) * (1 + one.change) - 1
    return made
