"""A table's head for columns of scripts: the script's title over what it shows, over each timeframe."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QRect, QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QHeaderView, QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.theme import Theme

if TYPE_CHECKING:
    from oakladder.desk.widgets.rows_model import RowsModel

_MARGIN = 4


class ColumnHead(QHeaderView):
    """Three lines: two of them shared by neighbours with the same words, the last one of each section alone.

    ``below`` is the space left under them, in pixels.
    """

    def __init__(self, theme: Theme, source: RowsModel, parent: QWidget | None = None, below: int = 0):
        super().__init__(Qt.Orientation.Horizontal, parent)
        self.theme, self._source, self._below = theme, source, below
        self.setSectionsClickable(True)
        self.setSortIndicatorShown(True)
        self.setSortIndicatorClearable(True)
        self.setFont(ui_font(SMALL))
        self._line = self.fontMetrics().height() + 1

    def sizeHint(self) -> QSize:
        return QSize(super().sizeHint().width(), self.lines_height() + self._below)

    def lines_height(self) -> int:
        """How high the lines are."""
        return 3 * self._line + 2

    def _shared(self, visual: int) -> tuple[str, str]:
        logical = self.logicalIndex(visual)
        return self._source.shared_heads(logical) if logical >= 0 else ("", "")

    def _extent(self, visual: int, depth: int) -> tuple[int, int]:
        """How far left of a section the neighbours with the same words begin, and how wide they are in all."""
        words = self._shared(visual)[:depth]
        left, width, at = 0, 0, visual
        while at > 0 and self._shared(at - 1)[:depth] == words:
            at -= 1
            left += self.sectionSize(self.logicalIndex(at))
        while at < self.count() and self._shared(at)[:depth] == words:
            width += self.sectionSize(self.logicalIndex(at))
            at += 1
        return left, width

    def paintSection(self, painter: QPainter | None, rect: QRect, section: int) -> None:
        if painter is None:
            return
        painter.save()
        painter.fillRect(rect, self.theme.color("ground"))
        visual = self.visualIndex(section)
        shared = self._shared(visual)
        painter.setPen(self.theme.color("line"))
        if shared[0] and (visual == 0 or self._shared(visual - 1) != shared):
            first = visual == 0 or self._shared(visual - 1)[0] != shared[0]
            painter.drawLine(rect.left(), rect.top() + (2 if first else self._line), rect.left(), rect.bottom())
        # Every section paints its part of a shared head: a neighbour would paint over the rest.
        painter.setClipRect(rect)
        name_role = "faint" if self._source.is_outdated(section) else "ink"
        for depth, (words, role) in enumerate(zip(shared, ("faint", name_role), strict=True), 1):
            if words:
                left, width = self._extent(visual, depth)
                painter.setFont(ui_font(SMALL, strong=depth == 2))
                painter.setPen(self.theme.color(role))
                cut = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, width - 2 * _MARGIN)
                place = QRect(rect.left() - left + _MARGIN, 1 + (depth - 1) * self._line, width - _MARGIN, self._line)
                painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, cut)
        painter.setFont(ui_font(SMALL))
        painter.setPen(self.theme.color("faint"))
        words = self._source.head(section)
        if self.sortIndicatorSection() == section:
            words += " ↑" if self.sortIndicatorOrder() == Qt.SortOrder.AscendingOrder else " ↓"
        side = Qt.AlignmentFlag.AlignLeft if section in self._source.left else Qt.AlignmentFlag.AlignRight
        own = QRect(rect.left() + _MARGIN, 1 + 2 * self._line, rect.width() - 2 * _MARGIN, self._line)
        painter.drawText(own, side | Qt.AlignmentFlag.AlignVCenter, words)
        painter.restore()
