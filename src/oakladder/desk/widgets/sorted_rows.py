"""Rows of a table in another order."""

from __future__ import annotations

from PyQt6.QtCore import QSortFilterProxyModel

from oakladder.desk.widgets.rows_model import SORT_ROLE, RowsModel


class SortedRows(QSortFilterProxyModel):
    """Sorts rows by what each cell is sorted by; keeps their own order until asked."""

    def __init__(self, source: RowsModel):
        super().__init__()
        self.setSourceModel(source)
        self.setSortRole(SORT_ROLE)
