"""The table of the Ladder: symbols down, script columns over timeframes across, with heads that are shared and a filter row."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from PyQt6.QtCore import (
    QEvent,
    QModelIndex,
    QPoint,
    pyqtSignal,
)
from PyQt6.QtGui import QHelpEvent
from PyQt6.QtWidgets import QTableView, QWidget

from oakladder.app.columns import ColumnPlace, ScriptColumn
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.desk.ladder.head import LadderHead
from oakladder.desk.ladder.model import FIXED, LadderModel, LadderRows
from oakladder.desk.ladder.sections import Section
from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.rows import PaintedTable, RowPainter
from oakladder.engine.columns.cells import Cell

_WIDTHS, _SCRIPT_WIDTH = (60, 138, 78, 66, 60, 90), 72
_MARGIN, _MOST_WIDTH = 6, 160


class LadderTable(PaintedTable):
    """The table view with its heads. ``hovered`` tells a script cell under the mouse, and where the mouse is."""

    hovered = pyqtSignal(QModelIndex, QPoint)
    #: Sections are wider, hidden or elsewhere than before.
    arranged = pyqtSignal()
    #: The first section that belongs to a script.
    first_script = len(FIXED)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.source = LadderModel(theme)
        self.rows = LadderRows(self.source)
        self.head = LadderHead(theme, self.source, self.rows, self)
        self.setHorizontalHeader(self.head)
        self.setModel(self.rows)
        self.painter = RowPainter(self, self.rows, self.source, ui_font(), len(FIXED))
        #: The user's changes to sections, by key; kept for removed sections too, as they may come back.
        self.sections: dict[str, Section] = {}
        self._settling = False
        self.head.sectionResized.connect(lambda *_: self._arrange())
        self.head.sectionMoved.connect(lambda *_: self._arrange())
        tables.set_up(self, sortable=True)
        self.setSelectionMode(QTableView.SelectionMode.ExtendedSelection)
        self.setHorizontalScrollMode(QTableView.ScrollMode.ScrollPerPixel)
        bar = self.horizontalScrollBar()
        assert bar is not None
        bar.valueChanged.connect(lambda _: self.head.place_lines())

    def show_columns(self, infos: list[SymbolInfo], columns: list[ScriptColumn], notes: dict[str, str]) -> None:
        """Shows other symbols or columns; what the user has done to sections that stay is kept."""
        self.keep_sections()
        filters = {self.key_of(k): words for k, words in self.rows.filters.items()}
        self._settling = True
        self.rows.filters = {}
        self.source.show_columns(infos, columns, notes)
        keys = [self.key_of(k) for k in range(self.source.columnCount())]
        for section, key in enumerate(keys):
            usual = _WIDTHS[section] if section < len(FIXED) else _SCRIPT_WIDTH
            known = self.sections.get(key, Section(usual))
            self.setColumnWidth(section, known.width)
            self.setColumnHidden(section, not notes if key == "Note" else known.hidden)
        dragged = [self.sections[key].at if key in self.sections else None for key in keys]
        wanted = [k if at is None else at for k, at in enumerate(dragged)]
        for at, section in enumerate(sorted(range(len(keys)), key=wanted.__getitem__)):
            self.head.moveSection(self.head.visualIndex(section), at)
        self.rows.filters = {k: filters[key] for k, key in enumerate(keys) if key in filters}
        self.rows.invalidateFilter()
        self.head.make_lines()
        self._settling = False

    def fill(self, cells: Mapping[ColumnPlace, Mapping[str, Cell]]) -> None:
        """Puts the cells of some sections in; a section that is as wide as all are at first grows with what it says."""
        self.source.fill(cells)
        self._settling = True
        for section, place in enumerate(self.source.places):
            if place in cells and self.columnWidth(section) == _SCRIPT_WIDTH:
                longest = max((c.words for c in cells[place].values() if not c.reason), key=len, default="")
                needed = self.fontMetrics().horizontalAdvance(longest) + 2 * _MARGIN
                self.setColumnWidth(section, min(max(needed, _SCRIPT_WIDTH), _MOST_WIDTH))
        self._settling = False

    def key_of(self, section: int) -> str:
        """What a section is known by when others come and go."""
        place = self.source.places[section]
        if place.column < 0:
            return FIXED[section]
        column = self.source.columns[place.column]
        return f"{column.script} {column.caption} {place.timeframe}"

    def keep_sections(self) -> None:
        """Keeps how wide the sections are, which are hidden, and where they stand."""
        for section in range(self.source.columnCount()):
            hidden = self.isColumnHidden(section)
            key = self.key_of(section)
            old = self.sections.get(key)
            width = self.columnWidth(section) or (old.width if old is not None else _SCRIPT_WIDTH)
            at = self.head.visualIndex(section)
            self.sections[key] = Section(width, hidden, at if at != section else None)

    def forget_order(self) -> None:
        """Sections stand as their columns do from now on."""
        self.keep_sections()
        self._settling = True
        for section in range(self.source.columnCount()):
            self.head.moveSection(self.head.visualIndex(section), section)
        self.sections = {key: replace(s, at=None) for key, s in self.sections.items()}
        self._settling = False

    def _arrange(self) -> None:
        if not self._settling:
            self.arranged.emit()

    def viewportEvent(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            index = self.indexAt(event.pos())
            if index.isValid() and index.column() >= len(FIXED):
                self.hovered.emit(index, event.globalPos())
                return True
        return super().viewportEvent(event)

    def cell_at(self, index: QModelIndex) -> Cell | None:
        """The cell of a script column; None elsewhere and before it has come."""
        there = index.isValid() and index.column() >= len(FIXED)
        return self.source.cell(self.source_row(index.row()), index.column()) if there else None

    def source_row(self, row: int) -> int:
        """Which of the list's symbols a row shows."""
        return self.rows.mapToSource(self.rows.index(row, 0)).row()

    def symbol_at(self, row: int) -> str:
        """The symbol of a row as it is shown."""
        return self.source.infos[self.source_row(row)].symbol

    def row_of(self, symbol: str) -> int:
        """The row of a symbol; the first where it is not shown."""
        rows = (row for row in range(self.rows.rowCount()) if self.symbol_at(row) == symbol)
        return next(rows, 0)

    def place_of(self, index: QModelIndex) -> ColumnPlace:
        """Which column and timeframe a cell belongs to."""
        return self.source.places[index.column()]

    def set_theme(self, theme: Theme) -> None:
        self.source.theme = self.head.theme = theme
        self.source.refresh()
