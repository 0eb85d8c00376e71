"""The narrow watchlist: symbol, last, change, and two or three columns of scripts (the open one's at first)."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from PyQt6.QtCore import QModelIndex, QPoint, QSortFilterProxyModel, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.actions import hinted
from oakladder.app.basis import RULE_ON_LIST, BasisTracker, Freshness, Part
from oakladder.app.columns import OPEN_SCRIPT, ColumnPlace, ScriptColumn, places_of
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.cells import look_of, words_of
from oakladder.desk.widgets.column_head import ColumnHead
from oakladder.desk.widgets.legend import FillLegend
from oakladder.desk.widgets.rows import PaintedTable, RowPainter
from oakladder.desk.widgets.rows_model import SORT_ROLE, Look, RowsModel
from oakladder.engine.columns.cells import Cell
from oakladder.rung.texts import count_words

_FIXED = ("Symbol", "Last", "Change")


class WatchModel(RowsModel):
    """Rows are symbols; values arrive as they are known."""

    def __init__(self, infos: list[SymbolInfo], theme: Theme):
        super().__init__(theme)
        self.infos = infos
        self.quotes: dict[str, tuple[float, float]] = {}
        self.columns: list[ScriptColumn] = []
        self.places: list[ColumnPlace] = []
        self.cells: Mapping[ColumnPlace, Mapping[str, Cell]] = {}
        #: The title of the script that the cells of a place are of, and what they show.
        self.heads: Mapping[ColumnPlace, tuple[str, str]] = {}
        #: The places whose cells are out of date; whether the prices are.
        self.outdated: set[ColumnPlace] = set()
        self.are_quotes_outdated = False

    def show_columns(self, columns: list[ScriptColumn]) -> None:
        """Shows other columns; cells come later."""
        self.beginResetModel()
        self.columns, self.places, self.cells, self.heads = columns, places_of(columns), {}, {}
        self.outdated = set()
        self.endResetModel()

    def caption(self, section: int) -> str:
        """What a column is called, and on which timeframe it is."""
        place = self.places[section - len(_FIXED)]
        title, name = self.heads.get(place, ("", ""))
        return f"{title}: {name} on {place.timeframe}" if title else place.timeframe

    def shared_heads(self, section: int) -> tuple[str, str]:
        place = self._place(section)
        return self.heads.get(place, ("", "")) if place is not None else ("", "")

    def _place(self, section: int) -> ColumnPlace | None:
        return self.places[section - len(_FIXED)] if section >= len(_FIXED) else None

    def is_outdated(self, section: int) -> bool:
        place = self._place(section)
        return place in self.outdated if place is not None else section > 0 and self.are_quotes_outdated

    def count(self) -> int:
        return len(self.infos)

    def sections(self) -> int:
        return len(_FIXED) + len(self.places)

    def head(self, section: int) -> str:
        return _FIXED[section] if section < len(_FIXED) else self.places[section - len(_FIXED)].timeframe

    def head_hint(self, section: int) -> str:
        return self.caption(section) if section >= len(_FIXED) else self.head(section)

    def look(self, row: int, section: int) -> Look:
        info = self.infos[row]
        if self.is_outdated(section):
            return None, "faint"
        if section == 2 and info.symbol in self.quotes:
            return None, "loss" if self.quotes[info.symbol][1] < 0 else "gain"
        return look_of(self._cell(info, section))

    def _cell(self, info: SymbolInfo, column: int) -> Cell | None:
        if column < len(_FIXED):
            return None
        return self.cells.get(self.places[column - len(_FIXED)], {}).get(info.symbol)

    def text(self, row: int, section: int) -> str:
        info = self.infos[row]
        if section == 0:
            return info.symbol
        if section in (1, 2):
            last, moved = self.quotes.get(info.symbol, (float("nan"), float("nan")))
            if section == 1:
                return "" if last != last else f"{last:,.{info.decimals}f}"
            return "" if moved != moved else f"{moved:+.1%}" if abs(moved) < 0.0995 else f"{moved:+.0%}"
        return words_of(self._cell(info, section), waiting=self.places[section - len(_FIXED)] not in self.cells)

    def hint(self, row: int, section: int) -> str:
        info = self.infos[row]
        if section == 0:
            return f"{info.name}, {info.sector}"
        cell = self._cell(info, section)
        if cell is None:
            return self.text(row, section)
        old = "Out of date. " if self.is_outdated(section) else ""
        return f"{old}{info.symbol} {self.caption(section)}: {cell.reason or cell.words}"

    def order(self, row: int, section: int) -> float | str:
        info = self.infos[row]
        if section == 0:
            return info.symbol
        if section in (1, 2):
            value = self.quotes.get(info.symbol, (float("nan"),) * 2)[section - 1]
        else:
            cell = self._cell(info, section)
            value = cell.order if cell is not None else float("nan")
        return 1e300 if value != value else value

    def changed(self) -> None:
        self.dataChanged.emit(self.index(0, 1), self.index(self.rowCount() - 1, self.columnCount() - 1))
        self.headerDataChanged.emit(Qt.Orientation.Horizontal, 0, self.columnCount() - 1)


class _Sorted(QSortFilterProxyModel):
    """Sorts by number, keeps the list's own order until asked, filters by symbol, name or sector."""

    def __init__(self, source: WatchModel):
        super().__init__()
        self._words = ""
        self.setSourceModel(source)
        self.setSortRole(SORT_ROLE)

    def look_for(self, words: str) -> None:
        self._words = words.lower()
        self.invalidateFilter()

    def filterAcceptsRow(self, row: int, parent: QModelIndex) -> bool:
        source = self.sourceModel()
        assert isinstance(source, WatchModel)
        info = source.infos[row]
        return self._words in f"{info.symbol} {info.name} {info.sector}".lower()


class WatchlistPanel(QWidget):
    """The table with a filter line above it."""

    chosen = pyqtSignal(str)
    list_chosen = pyqtSignal(str)
    columns_asked = pyqtSignal(QPoint)

    def __init__(self, infos: list[SymbolInfo], basis: BasisTracker, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self._basis = basis
        self._quoted = Freshness(basis, (Part.DATA, Part.REPLAY), parent=self)
        self._quoted.expired.connect(self._quotes_expired)
        #: Whether the cells of each place are up to date.
        self._filled: dict[ColumnPlace, Freshness] = {}
        self.model = WatchModel(infos, theme)
        self.rows = _Sorted(self.model)
        self.lists = QComboBox(accessibleName="The watchlist")
        self.lists.setToolTip("Choose a list")
        self.lists.activated.connect(lambda _: self.list_chosen.emit(self.lists.currentText()))
        self.columns_button = QToolButton(text="Columns")
        self.columns_button.setToolTip(hinted("Choose the script columns", "choose_columns"))
        self.columns_button.clicked.connect(
            lambda: self.columns_asked.emit(self.columns_button.mapToGlobal(self.columns_button.rect().bottomLeft()))
        )
        self.filter = QLineEdit(
            placeholderText="Filter by symbol, name or sector", accessibleName="Filter the watchlist"
        )
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(self._filtered)
        self.count = QLabel(objectName="quiet")
        self.table = PaintedTable(accessibleName="Watchlist")
        self.head = ColumnHead(theme, self.model, self.table)
        self.legend = FillLegend(theme)
        self._set_up_table()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, GAP, 0, TIGHT)
        layout.setSpacing(TIGHT)
        row = QHBoxLayout()
        row.setSpacing(TIGHT)
        row.addWidget(self.lists, 1)
        row.addWidget(self.columns_button)
        layout.addLayout(row)
        layout.addWidget(self.filter)
        layout.addWidget(self.table)
        foot = QHBoxLayout()
        foot.addWidget(self.count, 1)
        foot.addWidget(self.legend)
        layout.addLayout(foot)
        self._filtered("")

    def _set_up_table(self) -> None:
        self.table.setModel(self.rows)
        self.table.setHorizontalHeader(self.head)
        header = tables.set_up(self.table, SMALL, sortable=True)
        self.table.painter = RowPainter(self.table, self.rows, self.model, ui_font(SMALL), len(_FIXED), 3)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.table.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        header.setMinimumSectionSize(30)
        for column, width in enumerate((50, 54, 47)):
            self.table.setColumnWidth(column, width)
        header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        header.customContextMenuRequested.connect(self._head_asked)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(self._picked)

    def _filtered(self, words: str) -> None:
        self.rows.look_for(words)
        shown, all_ = self.rows.rowCount(), self.model.rowCount()
        self.count.setText(f"{shown} of {count_words(all_, 'symbol')}" if words else count_words(all_, "symbol"))

    def _head_asked(self, point: QPoint) -> None:
        header = self.table.horizontalHeader()
        assert header is not None
        self.columns_asked.emit(header.mapToGlobal(point))

    def _picked(self, now: QModelIndex, _: QModelIndex) -> None:
        if now.isValid():
            self.chosen.emit(self.model.infos[self.rows.mapToSource(now).row()].symbol)

    def show_columns(self, columns: list[ScriptColumn]) -> None:
        """Shows other columns of scripts."""
        self.model.show_columns(columns)
        for freshness in self._filled.values():
            freshness.deleteLater()
        self._filled = {place: self._freshness(place, columns[place.column]) for place in self.model.places}
        header = self.table.horizontalHeader()
        assert header is not None
        for section in range(len(_FIXED), self.model.columnCount()):
            header.setSectionResizeMode(section, QHeaderView.ResizeMode.Stretch)

    def _freshness(self, place: ColumnPlace, column: ScriptColumn) -> Freshness:
        parts = RULE_ON_LIST if column.script == OPEN_SCRIPT else (Part.LIST, Part.DATA, Part.REPLAY)
        made = Freshness(self._basis, parts, parent=self)
        made.expired.connect(partial(self._expired, place))
        return made

    def _expired(self, place: ColumnPlace, on: bool) -> None:
        (self.model.outdated.add if on else self.model.outdated.discard)(place)
        self.model.changed()

    def show_cells(
        self, cells: Mapping[ColumnPlace, Mapping[str, Cell]], heads: Mapping[ColumnPlace, tuple[str, str]]
    ) -> None:
        """Shows cells as they are known now, with what stands above them."""
        model, before = self.model, self.model.cells
        model.cells, model.heads = dict(cells), dict(heads)
        for place in model.places:
            if place in cells and cells[place] is not before.get(place):
                self._filled[place].took()
        model.changed()

    def show_quotes(self, quotes: dict[str, tuple[float, float]]) -> None:
        """Shows the last prices."""
        self.model.quotes = quotes
        self._quoted.took()
        self.model.changed()

    def _quotes_expired(self, on: bool) -> None:
        self.model.are_quotes_outdated = on
        self.model.changed()

    @property
    def is_outdated(self) -> bool:
        """Whether anything in the table is out of date, greyed already or not."""
        return any(freshness.is_stale for freshness in (self._quoted, *self._filled.values()))

    def show_lists(self, names: list[str], current: str) -> None:
        """Offers lists without telling anyone."""
        self.lists.clear()
        self.lists.addItems(names)
        self.lists.setCurrentText(current)

    def show_infos(self, infos: list[SymbolInfo]) -> None:
        """Shows other symbols."""
        self.model.beginResetModel()
        self.model.infos = infos
        self.model.endResetModel()
        self._filtered(self.filter.text())

    def show_symbol(self, symbol: str) -> None:
        """Selects a symbol's row without telling anyone."""
        row = next((k for k, i in enumerate(self.model.infos) if i.symbol == symbol), None)
        if row is None:
            return
        index = self.rows.mapFromSource(self.model.index(row, 0))
        if index.isValid() and index.row() != self.table.currentIndex().row():
            self.blockSignals(True)
            self.table.setCurrentIndex(index)
            self.table.scrollTo(index)
            self.blockSignals(False)

    def step(self, by: int) -> None:
        """Goes to the next or previous symbol."""
        row = min(max(self.table.currentIndex().row() + by, 0), self.rows.rowCount() - 1)
        self.table.setCurrentIndex(self.rows.index(row, 0))

    def set_theme(self, theme: Theme) -> None:
        self.model.theme = self.head.theme = self.legend.theme = theme
        self.model.changed()
        self.head.viewport().update()  # type: ignore[union-attr]
        self.legend.update()
