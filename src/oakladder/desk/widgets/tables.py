"""What all tables of the desk have in common."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView

from oakladder.desk.look.fonts import SMALL, TEXT, ui_font
from oakladder.desk.look.spacing import GAP


def set_up(table: QTableView, size: float = TEXT, *, sortable: bool = False) -> QHeaderView:
    """Whole rows as high as their letters need, no grid, no numbers beside them, a quiet head; gives the head.

    A ``sortable`` table keeps the order of its rows until a head is clicked.
    """
    table.setFont(ui_font(size))
    table.setShowGrid(False)
    table.setWordWrap(False)
    table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    upright, across = table.verticalHeader(), table.horizontalHeader()
    assert upright is not None and across is not None
    upright.hide()
    upright.setMinimumSectionSize(12)
    upright.setDefaultSectionSize(table.fontMetrics().height() + GAP - 2)
    across.setFont(ui_font(SMALL))
    across.setHighlightSections(False)
    if sortable:
        table.setSortingEnabled(True)
        across.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        across.setSortIndicatorClearable(True)
    return across
