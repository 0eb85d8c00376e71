"""What the table of the Ladder shows: cells by symbol and section, sorted and filtered."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import (
    QModelIndex,
    QSortFilterProxyModel,
)

from oakladder.app.columns import ColumnPlace, ScriptColumn, places_of
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.cells import look_of, words_of
from oakladder.desk.widgets.rows_model import SORT_ROLE, Look, RowsModel
from oakladder.engine.columns.cell_filter import at_least, filter_of
from oakladder.engine.columns.cells import Cell

FIXED = ("Symbol", "Name", "Sector", "Last", "Change", "Note")


LEFT = {0, 1, 2, 5}


class LadderModel(RowsModel):
    """What the cells say. Holds what it was given and works nothing out."""

    left = frozenset(LEFT)

    def __init__(self, theme: Theme):
        super().__init__(theme)
        self.infos: list[SymbolInfo] = []
        self.columns: list[ScriptColumn] = []
        self.places: list[ColumnPlace] = []
        self.quotes: dict[str, tuple[float, float]] = {}
        self.notes: dict[str, str] = {}
        self.cells: dict[ColumnPlace, Mapping[str, Cell]] = {}

    def show_columns(self, infos: list[SymbolInfo], columns: list[ScriptColumn], notes: dict[str, str]) -> None:
        """Shows other symbols or columns; cells come later."""
        self.beginResetModel()
        self.infos, self.columns, self.notes = infos, list(columns), notes
        self.places = [ColumnPlace()] * len(FIXED) + places_of(columns)
        self.cells = {}
        self.endResetModel()

    def fill(self, cells: Mapping[ColumnPlace, Mapping[str, Cell]]) -> None:
        """Puts the cells of some sections in."""
        self.cells.update(cells)
        self.refresh()

    def count(self) -> int:
        return len(self.infos)

    def sections(self) -> int:
        return len(self.places)

    def head(self, section: int) -> str:
        place = self.places[section]
        return FIXED[section] if place.column < 0 else place.timeframe

    def head_hint(self, section: int) -> str:
        place = self.places[section]
        if place.column < 0:
            return ""
        column = self.columns[place.column]
        return f"{column.caption} on {place.timeframe}, from {column.script}"

    def look(self, row: int, section: int) -> Look:
        if section < len(FIXED):
            moved = self.quotes.get(self.infos[row].symbol, (0.0, 0.0))[1]
            return None, "ink" if section != 4 else "loss" if moved < 0 else "gain"
        cell = self.cell(row, section)
        return look_of(cell)

    def shared_heads(self, section: int) -> tuple[str, str]:
        place = self.places[section] if section < len(self.places) else ColumnPlace()
        column = self.columns[place.column] if place.column >= 0 else None
        return (column.title, column.caption) if column is not None else ("", "")

    def cell(self, row: int, section: int) -> Cell | None:
        """The cell of a script column; None in fixed sections and before it has come."""
        place = self.places[section]
        return self.cells.get(place, {}).get(self.infos[row].symbol)

    def group_cells(self, row: int, section: int) -> list[Cell | None]:
        """The cells of all timeframes of the column that a section belongs to."""
        k = self.places[section].column
        symbol = self.infos[row].symbol
        return [self.cells.get(ColumnPlace(k, t), {}).get(symbol) for t in self.columns[k].timeframes]

    def text(self, row: int, section: int) -> str:
        """What a cell says."""
        info = self.infos[row]
        last, moved = self.quotes.get(info.symbol, (float("nan"), float("nan")))
        if section < len(FIXED):
            return (
                info.symbol,
                info.name,
                info.sector,
                "" if last != last else f"{last:,.{info.decimals}f}",
                "" if moved != moved else f"{moved:+.1%}",
                self.notes.get(info.symbol, ""),
            )[section]
        return words_of(self.cell(row, section), waiting=self.places[section] not in self.cells)

    def hint(self, row: int, section: int) -> str:
        """What the hover says: the value, whether it holds, and since when it does."""
        info, cell = self.infos[row], self.cell(row, section) if section >= len(FIXED) else None
        if section < len(FIXED) or cell is None:
            return self.text(row, section)
        place = self.places[section]
        words = [f"{info.symbol}  {self.columns[place.column].caption} on {place.timeframe}: {cell.words}"]
        if cell.reason:
            return f"{words[0]}\n{cell.reason}"
        if cell.holds is not None:
            words.append("It is true now." if cell.holds else "It is not true now.")
        if cell.age >= 0:
            words.append("Last true on the last bar." if cell.age == 0 else f"Last true {cell.text} ago.")
        words.append("Enter opens it on the Bench.")
        return "\n".join(words)

    def order(self, row: int, section: int) -> float | str:
        """What a cell is sorted by; what is not there comes last."""
        info = self.infos[row]
        if section in (0, 1, 2, 5):
            return self.text(row, section)
        if section in (3, 4):
            value = self.quotes.get(info.symbol, (float("nan"),) * 2)[section - 3]
        else:
            cell = self.cell(row, section)
            value = cell.order if cell is not None else float("nan")
        return 1e300 if value != value else value


class LadderRows(QSortFilterProxyModel):
    """Sorts by number, keeps the list's own order until asked, and filters by the words of each section."""

    def __init__(self, source: LadderModel):
        super().__init__()
        self.source = source
        self.filters: dict[int, str] = {}
        self.setSourceModel(source)
        self.setSortRole(SORT_ROLE)

    def set_filter(self, section: int, words: str) -> None:
        """Shows only rows whose cell fits the words."""
        self.filters[section] = words
        self.filters = {k: v for k, v in self.filters.items() if v.strip()}
        self.invalidateFilter()

    def filterAcceptsRow(self, row: int, parent: QModelIndex) -> bool:
        return all(
            self._fits(row, section, words)
            for section, words in self.filters.items()
            if section < len(self.source.places)
        )

    def _fits(self, row: int, section: int, words: str) -> bool:
        if section in (3, 4):
            value = self.source.order(row, section)
            number = float(value) if isinstance(value, float) and value < 1e300 else float("nan")
            return filter_of(words)(Cell(self.source.text(row, section), None, number, None, -1))
        if section < len(FIXED):
            return words.strip().lower() in self.source.text(row, section).lower()
        count = at_least(words)
        if count is not None:
            return sum(c is not None and c.holds is True for c in self.source.group_cells(row, section)) >= count
        return filter_of(words)(self.source.cell(row, section))
