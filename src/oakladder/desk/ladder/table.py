"""The table of the Ladder: symbols down, script columns over timeframes across, with heads that are shared and a filter row."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from PyQt6.QtCore import (
    QAbstractTableModel,
    QEvent,
    QModelIndex,
    QPoint,
    QRect,
    QSize,
    QSortFilterProxyModel,
    Qt,
    pyqtSignal,
)
from PyQt6.QtGui import QHelpEvent, QPainter
from PyQt6.QtWidgets import QHeaderView, QLineEdit, QTableView, QWidget

from oakladder.bars.store.info import SymbolInfo
from oakladder.desk.columns import ColumnPlace, ScriptColumn, places_of
from oakladder.desk.look.theme import Theme, ui_font
from oakladder.desk.widgets.rows import PaintedTable, RowPainter
from oakladder.engine.columns import Cell, at_least, filter_of

FIXED = ("Symbol", "Name", "Sector", "Last", "Change", "Note")
_LEFT = {0, 1, 2, 5}
_WIDTHS, _SCRIPT_WIDTH = (60, 138, 78, 66, 60, 90), 60
SORT_ROLE = Qt.ItemDataRole.UserRole
#: No section is remembered at a place as far to the right as this.
_MOST_SECTIONS = 2000


@dataclass(frozen=True, slots=True)
class Section:
    """How a section is shown: its width, whether it is hidden, and which place from the left it was dragged to, if any."""

    width: int
    hidden: bool = False
    at: int | None = None


def read_sections(state: object) -> dict[str, Section]:
    """Sections from what was written down; what makes no sense is left out."""
    made = {}
    for key, entry in state.items() if isinstance(state, dict) else ():
        if isinstance(entry, list) and len(entry) == 3 and isinstance(entry[0], int):
            at = entry[2] if isinstance(entry[2], int) and 0 <= entry[2] < _MOST_SECTIONS else None
            made[str(key)] = Section(min(max(entry[0], 24), 600), bool(entry[1]), at)
    return made


class LadderModel(QAbstractTableModel):
    """What the cells say. Holds what it was given and works nothing out."""

    def __init__(self, theme: Theme):
        super().__init__()
        self.theme = theme
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

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.infos)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.places)

    def group_of(self, section: int) -> str:
        """The shared head above a section."""
        place = self.places[section] if section < len(self.places) else ColumnPlace()
        return self.columns[place.column].caption if place.column >= 0 else ""

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation is not Qt.Orientation.Horizontal or section >= len(self.places):
            return None
        place = self.places[section]
        if role == Qt.ItemDataRole.DisplayRole:
            return FIXED[section] if place.column < 0 else place.timeframe
        if role == Qt.ItemDataRole.ToolTipRole and place.column >= 0:
            column = self.columns[place.column]
            return f"{column.caption} on {place.timeframe}, from {column.script}"
        return None

    def cell(self, row: int, section: int) -> Cell | None:
        """The cell of a script column; None in fixed sections and before it has come."""
        place = self.places[section]
        return self.cells.get(place, {}).get(self.infos[row].symbol)

    def group_cells(self, row: int, section: int) -> list[Cell | None]:
        """The cells of all timeframes of the column that a section belongs to."""
        k = self.places[section].column
        symbol = self.infos[row].symbol
        return [self.cells.get(ColumnPlace(k, t), {}).get(symbol) for t in self.columns[k].timeframes]

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row, section = index.row(), index.column()
        match role:
            case Qt.ItemDataRole.DisplayRole:
                return self.text(row, section)
            case Qt.ItemDataRole.ToolTipRole:
                return self.hint(row, section)
            case _ if role == SORT_ROLE:
                return self.order(row, section)
        return None

    def painted(self, row: int, section: int) -> tuple[str, str | None, str, bool]:
        """What the painter needs of a cell: its text, the colour words of its fill and its ink, whether it stands left."""
        if section < len(FIXED):
            moved = self.quotes.get(self.infos[row].symbol, (0.0, 0.0))[1]
            ink = "ink" if section != 4 else "falling" if moved < 0 else "rising"
            return self.text(row, section), None, ink, section in _LEFT
        place = self.places[section]
        column = self.cells.get(place)
        if column is None:
            return "…", None, "ink", False
        cell = column.get(self.infos[row].symbol)
        if cell is None:
            return "", None, "ink", False
        return cell.text, cell.fill, "faint" if cell.reason else "ink", False

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
        place = self.places[section]
        cell = self.cell(row, section)
        waiting = place not in self.cells
        return cell.text if cell is not None else "…" if waiting else ""

    def hint(self, row: int, section: int) -> str:
        """What the hover says: the value, whether it holds, and since when it does."""
        info, cell = self.infos[row], self.cell(row, section) if section >= len(FIXED) else None
        if section < len(FIXED) or cell is None:
            return self.text(row, section)
        place = self.places[section]
        words = [f"{info.symbol}  {self.columns[place.column].caption} on {place.timeframe}: {cell.text}"]
        if cell.reason:
            return f"{words[0]}\n{cell.reason}"
        if cell.holds is not None:
            words.append("It is true now." if cell.holds else "It is not true now.")
        if cell.age >= 0:
            words.append("Last true on the last bar." if cell.age == 0 else f"Last true {cell.age} bars ago.")
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

    def refresh(self) -> None:
        """Everything may have changed."""
        if self.rowCount():
            self.dataChanged.emit(self.index(0, 0), self.index(self.rowCount() - 1, self.columnCount() - 1))


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


class LadderHead(QHeaderView):
    """Two lines of heads, the upper one shared by the timeframes of a column, and a line to filter by below each."""

    def __init__(self, theme: Theme, model: LadderModel, rows: LadderRows, parent: QWidget | None = None):
        super().__init__(Qt.Orientation.Horizontal, parent)
        self.theme, self._model, self._rows = theme, model, rows
        self.setSectionsClickable(True)
        self.setSectionsMovable(True)
        self.setSortIndicatorShown(True)
        self.setSortIndicatorClearable(True)
        self.setFont(ui_font(8))
        self.lines: list[QLineEdit] = []
        self.sectionResized.connect(lambda *_: self.place_lines())
        self.sectionMoved.connect(lambda *_: self.place_lines())
        self.geometriesChanged.connect(self.place_lines)

    def sizeHint(self) -> QSize:
        return QSize(super().sizeHint().width(), 62)

    def make_lines(self) -> None:
        """A filter line for each section of the table."""
        for line in self.lines:
            line.deleteLater()
        self.lines = []
        for section in range(self._model.columnCount()):
            line = QLineEdit(self)
            line.setFont(ui_font(7.5))
            line.setPlaceholderText("filter" if section == 0 else "")
            script = section >= len(FIXED)
            line.setToolTip("is true, not true, fired, >= 5, on at least 3" if script else "Part of the text, or > 5")
            line.setText(self._rows.filters.get(section, ""))
            line.textChanged.connect(lambda words, k=section: self._rows.set_filter(k, words))
            line.show()
            self.lines.append(line)
        self.place_lines()

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
            painter.setFont(ui_font(8, bold=True))
            words = painter.fontMetrics().elidedText(group, Qt.TextElideMode.ElideRight, width - 8)
            # Every section paints its part of the shared head: a neighbour would paint over the rest.
            painter.setClipRect(rect)
            painter.drawText(QRect(rect.left() - left + 4, 2, width - 6, 18), Qt.AlignmentFlag.AlignVCenter, words)
        painter.setFont(ui_font(8))
        painter.setPen(self.theme.color("faint"))
        side = Qt.AlignmentFlag.AlignLeft if section in _LEFT else Qt.AlignmentFlag.AlignRight
        words = str(self._model.headerData(section, Qt.Orientation.Horizontal) or "")
        if self.sortIndicatorSection() == section:
            words += " ↑" if self.sortIndicatorOrder() == Qt.SortOrder.AscendingOrder else " ↓"
        painter.drawText(rect.adjusted(4, 20, -4, -24), side | Qt.AlignmentFlag.AlignVCenter, words)
        painter.restore()


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
        self.painter = RowPainter(self, self.rows, self.source, ui_font(8.5), len(FIXED))
        #: What the user has done to sections, by their keys; of those that are gone too, for they may come back.
        self.sections: dict[str, Section] = {}
        self._settling = False
        self.head.sectionResized.connect(lambda *_: self._arrange())
        self.head.sectionMoved.connect(lambda *_: self._arrange())
        self.setFont(ui_font(8.5))
        self.setShowGrid(False)
        self.setSortingEnabled(True)
        self.head.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        self.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.setSelectionMode(QTableView.SelectionMode.ExtendedSelection)
        self.setHorizontalScrollMode(QTableView.ScrollMode.ScrollPerPixel)
        vertical = self.verticalHeader()
        assert vertical is not None
        vertical.hide()
        vertical.setDefaultSectionSize(22)
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

    def place_of(self, index: QModelIndex) -> ColumnPlace:
        """Which column and timeframe a cell belongs to."""
        return self.source.places[index.column()]

    def set_theme(self, theme: Theme) -> None:
        self.source.theme = self.head.theme = theme
        self.source.refresh()
