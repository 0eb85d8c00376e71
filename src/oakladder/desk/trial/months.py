"""A sheet of years and months: by how much the account changed in each."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QWidget

from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.trial.breakdowns import Month, months
from oakladder.trial.trial import Trial

_NAMES = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec", "Year")
#: A change of so much has the full colour.
_FULL = 0.1
_HEAD, _ROW, _YEAR = 22, 24, 48
#: What a screen reader says of it when it is empty.
_NOTHING = "Results by month"


class MonthSheet(PaintedWidget):
    """Paints the sheet; a year's last column is the whole year."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(_NOTHING)
        self.theme = theme
        self._years: dict[int, dict[int, float]] = {}

    def sizeHint(self) -> QSize:
        return QSize(600, _HEAD + _ROW * max(len(self._years), 1) + 6)

    def show_trial(self, trial: Trial | None) -> None:
        """Shows the months of a trial."""
        self._years = _by_year(months(trial)) if trial is not None else {}
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


_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter


def _by_year(found: list[Month]) -> dict[int, dict[int, float]]:
    made: dict[int, dict[int, float]] = {}
    for one in found:
        row = made.setdefault(one.year, {13: 0.0})
        row[one.month] = one.change
        row[13] = (1 + row[13]) * (1 + one.change) - 1
    return made
