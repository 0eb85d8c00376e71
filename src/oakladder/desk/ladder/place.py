"""The Ladder: a watchlist with script columns over many timeframes, a small chart of each, filters, and lists."""

from __future__ import annotations

import contextlib

from PyQt6.QtCore import QEvent, QModelIndex, QObject, QPoint, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.actions import hinted
from oakladder.app.basis import Freshness, Part
from oakladder.app.columns import ColumnPlace, ScriptColumn, places_of, read_columns, troubles_of
from oakladder.app.picked_symbol import PickedSymbol
from oakladder.app.script_stamps import ScriptStamps
from oakladder.app.session import Session
from oakladder.bars.errors import DataProblem
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.ladder.lists import ListCommands
from oakladder.desk.ladder.sections import read_sections
from oakladder.desk.ladder.table import LadderTable
from oakladder.desk.ladder.why_cell import CellExplanation
from oakladder.desk.look.spacing import GAP, WIDE
from oakladder.desk.look.theme import theme_of
from oakladder.desk.widgets.column_chooser import ask_column
from oakladder.desk.widgets.legend import FillLegend
from oakladder.desk.widgets.questions import words_for
from oakladder.desk.widgets.self_drawn import Splitter
from oakladder.desk.widgets.small_charts import Minis
from oakladder.desk.widgets.transient import passing_menu
from oakladder.desk.widgets.veil import Veil
from oakladder.engine.columns.fill import FilledColumns
from oakladder.rung.texts import count_words
from oakladder.user.lists import ALL, ListProblem

_MINI_BARS = 70
_FIRST = (("tide_turn.rung", "flow"), ("quiet_water.rung", "Calm bars"))


class LadderPlace(QWidget):
    """Symbols down, columns across. ``picked`` tells a `PickedSymbol` to open on the Bench."""

    picked = pyqtSignal(object)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent, objectName="place")
        self.session = session
        self.columns: list[ScriptColumn] = []
        self._entered = False
        self._waiting: set[ColumnPlace] = set()
        self._jobs = session.column_jobs("ladder")
        self._stamps = ScriptStamps(session.workspace)
        self._troubles: list[str] = []
        self.lists = QComboBox(accessibleName="The list")
        self.commands = ListCommands(self, self)
        self.lists.setMinimumWidth(180)
        self.lists.activated.connect(lambda _: self.refresh())
        self.table = LadderTable(theme_of(session))
        self.table.setAccessibleName("Symbols, with the columns of scripts")
        self.minis = Minis(theme_of(session))
        self.word = QLabel(objectName="quiet")
        self.word.setMinimumWidth(20)
        self.legend = FillLegend(theme_of(session))
        self.explaining = CellExplanation(session, self.table, self.minis, self)
        self._lay_out()
        # The cells are of the list, the columns, the scripts and the bars as they were when they were asked for.
        self._filled = Freshness(session.basis, (Part.DATA, Part.REPLAY), self._asked_now, self)
        self._filled.turned.connect(self._turned)
        Veil(self.table, self._filled)
        self.table.installEventFilter(self)
        self.table.doubleClicked.connect(self._open)
        self.table.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.customContextMenuRequested.connect(self._row_menu)
        self.table.head.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        self.table.head.customContextMenuRequested.connect(self._head_menu)
        selection = self.table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(lambda now, _: self.explaining.show_charts(now))
        selection.currentChanged.connect(lambda now, _: self.explaining.explain(now))
        self.minis.chosen.connect(lambda t: self.picked.emit(PickedSymbol(self.minis.symbol, Timeframe.parse(t))))
        self.table.hovered.connect(self.explaining.hover)
        self.table.arranged.connect(self._arranged)
        session.watchlist.quotes_changed.connect(self._show_quotes)
        session.prices_moved.connect(self._follow)
        session.chart.theme_changed.connect(lambda _: self._show_theme())

    def _lay_out(self) -> None:
        row = QHBoxLayout()
        row.setContentsMargins(WIDE, GAP, WIDE, GAP)
        row.setSpacing(GAP)
        row.addWidget(QLabel("List", objectName="quiet"))
        row.addWidget(self.lists)
        self.list_button, add = QToolButton(text="List …"), QToolButton(text="Add a column")
        self.list_button.setToolTip("Create, edit, import or export lists")
        self.list_button.clicked.connect(self.commands.menu)
        add.setToolTip(hinted("A column or signal of any script, on timeframes side by side", "add_column"))
        add.clicked.connect(self.ask_column)
        row.addWidget(self.list_button)
        row.addWidget(add)
        row.addWidget(self.word, 1)
        row.addWidget(self.legend)
        split = Splitter(Qt.Orientation.Horizontal)
        split.addWidget(self.table)
        split.addWidget(self.minis)
        split.setSizes([1010, 250])
        split.setStretchFactor(0, 1)
        split.setStretchFactor(1, 0)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(split, 1)

    # --- coming here ------------------------------------------------------------------------------

    def enter(self) -> None:
        """Shows what was there last time, or the first columns."""
        if not self._entered:
            self._entered = True
            state = self.session.remembered.ladder
            self.columns = read_columns(state.get("columns")) or self._first_columns()
            self.table.sections = read_sections(state.get("sections"))
            self.fill_lists(str(state.get("list", ALL)))
            self.refresh()
        else:
            self.fill_lists(self.lists.currentText())
            self._filled.look()
            if self._filled.is_stale:
                self.refresh()
        self.table.setFocus()

    def _turned(self, stale: bool) -> None:
        if stale and self.isVisible():
            self.refresh()

    def _asked_now(self) -> object:
        """What the cells would follow from now, besides bars."""
        name, lists = self.lists.currentText(), self.session.lists
        own = lists.user_lists.get(name)
        columns = [c.as_plain() | {"timeframes": tuple(c.timeframes)} for c in self.columns]
        notes = dict(own.notes) if own is not None else {}
        return (
            name,
            tuple(self.session.trials.symbols(name)),
            columns,
            notes,
            self._stamps.of(c.script for c in self.columns),
        )

    def _first_columns(self) -> list[ScriptColumn]:
        files = {p.name for p in self.session.workspace.script_files()}
        return [ScriptColumn(script, name, ["1w", "1d", "4h", "1h"]) for script, name in _FIRST if script in files]

    def fill_lists(self, current: str) -> None:
        """Offers the lists that there are."""
        names = self.session.lists.names(self.session.symbols.infos)
        self.lists.clear()
        self.lists.addItems(names)
        self.lists.setCurrentText(current if current in names else ALL)

    def _remember(self) -> None:
        self.session.remembered.ladder = {
            "list": self.lists.currentText(),
            "columns": [c.as_plain() for c in self.columns],
            "sections": {key: [s.width, int(s.hidden), s.at] for key, s in self.table.sections.items()},
        }
        self.session.remembered.soon()

    def _arranged(self) -> None:
        """The user has made sections wider, moved or hidden them."""
        self.table.keep_sections()
        self._remember()

    def refresh(self) -> None:
        """Asks for every cell again."""
        infos, here = self.session.symbols.infos, self.table.currentIndex()
        before = self.table.symbol_at(here.row()) if here.isValid() else ""
        with contextlib.suppress(ListProblem):
            symbols = self.session.lists.symbols(self.lists.currentText(), infos)
            own = self.session.lists.user_lists.get(self.lists.currentText())
            self.table.source.quotes = self.session.watchlist.quotes
            self.table.show_columns([infos[s] for s in symbols], self.columns, own.notes if own else {})
            self._remember()
            self._filled.took()
            self._ask(symbols)
            if symbols:
                self.table.setCurrentIndex(self.table.rows.index(self.table.row_of(before), 0))
            else:
                self.explaining.clear()

    def _follow(self) -> None:
        """Live prices have moved: the cells in sight are asked for again."""
        if self._entered and self.isVisible() and not self.is_waiting:
            with contextlib.suppress(ListProblem):
                symbols = self.session.lists.symbols(self.lists.currentText(), self.session.symbols.infos)
                self._ask(symbols)

    def _ask(self, symbols: list[str]) -> None:
        self._troubles = []
        places = places_of(self.columns)
        self._waiting = set(places)
        self._jobs.ask(self.columns, places, symbols, self._arrived, self._show_share)
        self._show_progress()

    def _arrived(self, made: dict[ColumnPlace, FilledColumns]) -> None:
        self._waiting -= set(made)
        self._troubles += troubles_of(made)
        self.table.fill({place: column.cells for place, column in made.items()})
        self._show_progress()

    @property
    def is_waiting(self) -> bool:
        """Whether columns are still to come."""
        return bool(self._waiting)

    def _show_share(self, share: float) -> None:
        self.word.setText(f"{share:.0%} of the columns read …")

    def _show_progress(self) -> None:
        if self._waiting:
            self.word.setText(f"{count_words(len(self._waiting), 'column')} waiting …")
            return
        shown, count = self.table.rows.rowCount(), len(self.table.source.infos)
        words = count_words(count, "symbol") if shown == count else f"{shown} of {count_words(count, 'symbol')}"
        if self._troubles:
            words += f"; {count_words(len(self._troubles), 'column')} cannot be shown: {self._troubles[0]}"
        self.word.setText(words)
        self.word.setToolTip("\n".join(self._troubles[:30]))

    # --- columns ----------------------------------------------------------------------------------

    def ask_column(self) -> None:
        """Asks for a column and adds it."""
        ask_column(self.session.programs, self, None, self.add_column)

    def add_column(self, column: ScriptColumn) -> None:
        self.columns.append(column)
        self.refresh()

    def change_column(self, k: int) -> None:
        """Asks how a column shall be, and changes it."""

        def change(made: ScriptColumn) -> None:
            self.columns[k] = made
            self.refresh()

        ask_column(self.session.programs, self, self.columns[k], change)

    def remove_column(self, k: int) -> None:
        del self.columns[k]
        self.refresh()

    def move_column(self, k: int, by: int) -> None:
        """Moves a column with all its timeframes."""
        to = min(max(k + by, 0), len(self.columns) - 1)
        self.table.forget_order()
        self.columns.insert(to, self.columns.pop(k))
        self.refresh()

    def _head_menu(self, point: QPoint) -> None:
        section = self.table.head.logicalIndexAt(point)
        menu = passing_menu(self)
        k = self.table.source.places[section].column if 0 <= section < len(self.table.source.places) else -1
        if k >= 0:
            menu.addAction("Change this column …", lambda: self.change_column(k))
            menu.addAction("Move left", lambda: self.move_column(k, -1))
            menu.addAction("Move right", lambda: self.move_column(k, 1))
            menu.addAction("Remove this column", lambda: self.remove_column(k))
        if section > 0:
            menu.addAction("Hide", lambda: self.table.setColumnHidden(section, True))
        if any(self.table.isColumnHidden(j) for j in range(self.table.source.columnCount())):
            menu.addAction("Show all columns", self.show_hidden)
        menu.popup(self.table.head.mapToGlobal(point))

    def show_hidden(self) -> None:
        """Brings every hidden section back."""
        for section in range(self.table.source.columnCount()):
            self.table.setColumnHidden(section, False)
        self.table.head.place_lines()

    # --- rows -------------------------------------------------------------------------------------

    def selected(self) -> list[str]:
        """The symbols of the selected rows, from top to bottom."""
        selection = self.table.selectionModel()
        assert selection is not None
        return [self.table.symbol_at(i.row()) for i in sorted(selection.selectedRows(), key=lambda i: i.row())]

    def _row_menu(self, point: QPoint) -> None:
        index = self.table.indexAt(point)
        if not index.isValid():
            return
        symbol, name = self.table.symbol_at(index.row()), self.lists.currentText()
        menu = passing_menu(self)
        # An index does not outlive the table's next filling, and the table may be filled while the menu is open.
        pick, chosen, infos = self._pick_of(index), self.selected(), self.session.symbols.infos
        menu.addAction("Open on the Bench", lambda: self.picked.emit(pick))
        if name in self.session.lists.user_lists and symbol in self.session.lists.user_lists[name].symbols:
            lists, row = self.session.lists, self.session.lists.user_lists[name].symbols.index(symbol)
            menu.addAction("Note …", lambda: self._ask_note(name, symbol))
            menu.addAction("Move up", lambda: self.commands.change(lambda: lists.move(name, symbol, row - 1)))
            menu.addAction("Move down", lambda: self.commands.change(lambda: lists.move(name, symbol, row + 1)))
            menu.addAction("Remove from the list", lambda: self.commands.change(lambda: lists.remove(name, chosen)))
        for other in self.session.lists.user_lists:
            if other != name:
                menu.addAction(
                    f"Add to {other}",
                    lambda o=other: self.commands.change(lambda: self.session.lists.add(o, " ".join(chosen), infos)),
                )
        viewport = self.table.viewport()
        menu.popup(viewport.mapToGlobal(point) if viewport is not None else point)

    def _ask_note(self, name: str, symbol: str) -> None:
        known = self.session.lists.user_lists.get(name)
        old = known.notes.get(symbol, "") if known is not None else ""
        text = words_for(self, f"A note on {symbol}", "Save", old)
        if text is not None:
            self.commands.change(lambda: self.session.lists.note(name, symbol, text))

    def _open(self, index: QModelIndex) -> None:
        """Opens the symbol of a row."""
        self.picked.emit(self._pick_of(index))

    def _pick_of(self, index: QModelIndex) -> PickedSymbol:
        """The symbol of a row; in a script column also its timeframe, script and settings, and the bar it speaks of."""
        place, symbol = self.table.place_of(self.table.rows.mapToSource(index)), self.table.symbol_at(index.row())
        if place.column < 0:
            return PickedSymbol(symbol)
        column, frame = self.columns[place.column], Timeframe.parse(place.timeframe)
        cell, time = self.table.cell_at(index), None
        if cell is not None and cell.age >= 0:
            with contextlib.suppress(DataProblem, KeyError):
                times = self.session.replay.source.bars(symbol, frame, column.extended).times
                time = int(times[-1 - cell.age]) if cell.age < len(times) else None
        script = self.session.workspace.scripts / column.script
        extended = column.extended if frame.intraday else None
        return PickedSymbol(symbol, frame, time, script, column.settings, extended)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            opens = event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            if opens and self.table.currentIndex().isValid():
                self._open(self.table.currentIndex())
                return True
        return bool(super().eventFilter(watched, event))

    def _show_quotes(self, quotes: dict[str, tuple[float, float]]) -> None:
        self.table.source.quotes = quotes
        self.table.source.refresh()

    def _show_theme(self) -> None:
        self.table.set_theme(theme_of(self.session))
        for part in (self.minis, self.legend):
            part.theme = theme_of(self.session)
            part.update()
