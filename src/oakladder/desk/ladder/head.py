"""The head of the Ladder's table: columns over timeframes, shared heads, and a row to filter by."""

from __future__ import annotations

from PyQt6.QtCore import (
    QRect,
    QSize,
    Qt,
)
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QHeaderView, QLineEdit, QWidget

from oakladder.desk.ladder.model import FIXED, LEFT, LadderModel, LadderRows
from oakladder.desk.look.letters import SMALL, ui_font
from oakladder.desk.look.theme import Theme


class LadderHead(QHeaderView):
    """Two lines of heads, the upper one shared by the timeframes of a column, and a line to filter by below each."""

    def __init__(self, theme: Theme, model: LadderModel, rows: LadderRows, parent: QWidget | None = None):
        super().__init__(Qt.Orientation.Horizontal, parent)
        self.theme, self._model, self._rows = theme, model, rows
        self.setSectionsClickable(True)
        self.setSectionsMovable(True)
        self.setSortIndicatorShown(True)
        self.setSortIndicatorClearable(True)
        self.setFont(ui_font(SMALL))
        self.lines: list[QLineEdit] = []
        self.sectionResized.connect(lambda *_: self.place_lines())
        self.sectionMoved.connect(lambda *_: self.place_lines())
        self.geometriesChanged.connect(self.place_lines)

    def sizeHint(self) -> QSize:
        return QSize(super().sizeHint().width(), 62)

    def make_lines(self) -> None:
        """A filter line for each section of the table."""
        sections = self._model.columnCount()
        for line in self.lines[sections:]:
            line.deleteLater()
        del self.lines[sections:]
        self.lines += [self._made_line(section) for section in range(len(self.lines), sections)]
        for section, line in enumerate(self.lines):  # those that are there stay: each takes a millisecond to be styled
            line.blockSignals(True)
            line.setText(self._rows.filters.get(section, ""))
            line.blockSignals(False)
        self.place_lines()

    def _made_line(self, section: int) -> QLineEdit:
        line = QLineEdit(self)
        line.setFont(ui_font(SMALL))
        line.setPlaceholderText("filter" if section == 0 else "")
        script = section >= len(FIXED)
        line.setToolTip("is true, not true, fired, >= 5, on at least 3" if script else "Part of the text, or > 5")
        line.textChanged.connect(lambda words: self._rows.set_filter(section, words))
        line.show()
        return line

    def place_lines(self) -> None:
        """Puts every filter line under its section."""
        for section, line in enumerate(self.lines):
            hidden = self.isSectionHidden(section)
            line.setVisible(not hidden)
            if not hidden:
                line.setGeometry(self.sectionViewportPosition(section) + 1, 40, self.sectionSize(section) - 2, 20)

    def _extent(self, visual: int, group: str) -> tuple[int, int]:
        """How far left of a section its group begins, and how wide it is in all."""
        left, width, at = 0, 0, visual
        while at > 0 and self._model.group_of(self.logicalIndex(at - 1)) == group:
            at -= 1
            left += self.sectionSize(self.logicalIndex(at))
        while at < self.count() and self._model.group_of(self.logicalIndex(at)) == group:
            width += self.sectionSize(self.logicalIndex(at))
            at += 1
        return left, width

    def paintSection(self, painter: QPainter | None, rect: QRect, section: int) -> None:
        if painter is None:
            return
        painter.save()
        painter.fillRect(rect, self.theme.color("ground"))
        group = self._model.group_of(section)
        visual = self.visualIndex(section)
        before = self._model.group_of(self.logicalIndex(visual - 1)) if visual > 0 else ""
        painter.setPen(self.theme.color("line"))
        if group != before:
            painter.drawLine(rect.left(), 2, rect.left(), rect.bottom())
        if group:
            left, width = self._extent(visual, group)
            painter.setPen(self.theme.color("ink"))
            painter.setFont(ui_font(SMALL, strong=True))
            words = painter.fontMetrics().elidedText(group, Qt.TextElideMode.ElideRight, width - 8)
            # Every section paints its part of the shared head: a neighbour would paint over the rest.
            painter.setClipRect(rect)
            painter.drawText(QRect(rect.left() - left + 4, 2, width - 6, 18), Qt.AlignmentFlag.AlignVCenter, words)
        painter.setFont(ui_font(SMALL))
        painter.setPen(self.theme.color("faint"))
        side = Qt.AlignmentFlag.AlignLeft if section in LEFT else Qt.AlignmentFlag.AlignRight
        words = str(self._model.headerData(section, Qt.Orientation.Horizontal) or "")
        if self.sortIndicatorSection() == section:
            words += " ↑" if self.sortIndicatorOrder() == Qt.SortOrder.AscendingOrder else " ↓"
        painter.drawText(rect.adjusted(4, 20, -4, -24), side | Qt.AlignmentFlag.AlignVCenter, words)
        painter.restore()
