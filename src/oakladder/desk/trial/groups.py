"""Trades in groups: what each group brought, as bars."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from oakladder.desk.look.theme import Theme, ui_font
from oakladder.trial import groups
from oakladder.trial.figures import Unit, written
from oakladder.trial.groups import TradeGroup
from oakladder.trial.trial import Trial

_ROW, _NAME, _NUMBERS = 22, 130, 330


class GroupBars(QWidget):
    """Paints groups as rows: a name, a bar of what it brought, and its figures."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.groups: list[TradeGroup] = []

    def sizeHint(self) -> QSize:
        return QSize(600, _ROW * (len(self.groups) + 1) + 8)

    def show_groups(self, found: list[TradeGroup]) -> None:
        self.groups = found
        self.setMinimumHeight(self.sizeHint().height())
        self.setAccessibleName("; ".join(f"{g.name}: {written(g.figures['net'], Unit.MONEY)}" for g in found))
        self.update()

    def paintEvent(self, _: QPaintEvent | None) -> None:
        painter = QPainter(self)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        painter.setFont(ui_font(8.5))
        largest = max((abs(g.figures["net"] or 0.0) for g in self.groups), default=0.0) or 1.0
        room = max(self.width() - _NAME - _NUMBERS - 16, 40)
        middle = _NAME + room / 2
        self._head(painter, room)
        for k, group in enumerate(self.groups):
            top = (k + 1) * _ROW
            net = group.figures["net"] or 0.0
            painter.setPen(self.theme.color("ink"))
            painter.drawText(QRectF(8, top, _NAME - 12, _ROW), Qt.AlignmentFlag.AlignVCenter, group.name)
            extent = room / 2 * abs(net) / largest
            bar = QRectF(middle if net >= 0 else middle - extent, top + 4, extent, _ROW - 8)
            painter.fillRect(bar, self.theme.color("rising" if net >= 0 else "falling"))
            for j, words in enumerate(_numbers(group)):
                cell = QRectF(_NAME + room + 8 + j * _NUMBERS / 4, top, _NUMBERS / 4 - 8, _ROW)
                painter.drawText(cell, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)
        painter.setPen(self.theme.color("line"))
        painter.drawLine(int(middle), _ROW, int(middle), _ROW * (len(self.groups) + 1))

    def _head(self, painter: QPainter, room: float) -> None:
        painter.setPen(self.theme.color("faint"))
        for j, words in enumerate(("result", "trades", "winners", "average")):
            cell = QRectF(_NAME + room + 8 + j * _NUMBERS / 4, 0, _NUMBERS / 4 - 8, _ROW)
            painter.drawText(cell, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words)


def _numbers(group: TradeGroup) -> tuple[str, str, str, str]:
    found = group.figures
    return (
        written(found["net"], Unit.MONEY),
        written(found["trades"], Unit.COUNT),
        written(found.get("winners"), Unit.RATIO).lstrip("+"),
        written(found.get("average"), Unit.RATIO),
    )


class GroupsPanel(QWidget):
    """Chooses by what trades are grouped, and shows the groups."""

    def __init__(self, theme: Theme, group_of: Callable[[], Mapping[str, str]], parent: QWidget | None = None):
        super().__init__(parent)
        self._trial: Trial | None = None
        self._kinds: dict[str, Callable[[Trial], list[TradeGroup]]] = {
            "side and reason it was left": lambda trial: [*groups.by_side(trial), *groups.by_reason(trial)],
            "symbol": groups.by_symbol,
            "group": lambda trial: groups.by_group(trial, group_of()),
            "weekday of the entry": groups.by_weekday,
            "hour of the entry": groups.by_hour,
            "month of the entry": groups.by_entry_month,
        }
        self.chooser = QComboBox()
        self.chooser.addItems(self._kinds)
        self.chooser.activated.connect(lambda _: self._show())
        self.bars = GroupBars(theme)
        row = QHBoxLayout()
        row.setContentsMargins(8, 4, 8, 2)
        row.addWidget(QLabel("By", objectName="quiet"))
        row.addWidget(self.chooser)
        row.addStretch(1)
        area = QScrollArea()
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setWidget(self.bars)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(area, 1)

    def show_trial(self, trial: Trial | None) -> None:
        """Shows the groups of another trial."""
        self._trial = trial
        self._show()

    def _show(self) -> None:
        found = self._kinds[self.chooser.currentText()](self._trial) if self._trial is not None else []
        if self.chooser.currentText() == "symbol":
            found = sorted(found, key=lambda g: -(g.figures["net"] or 0.0))
        self.bars.show_groups(found)

    def set_theme(self, theme: Theme) -> None:
        self.bars.theme = theme
        self.bars.update()
