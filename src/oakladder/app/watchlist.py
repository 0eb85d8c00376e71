"""The narrow watchlist: its list, the columns of scripts in it with their cells, and the last prices."""

from __future__ import annotations

from collections.abc import Collection

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.columns import OPEN_SCRIPT, ColumnJobs, ColumnPlace, ScriptColumn, open_columns, places_of
from oakladder.app.jobs import Jobs, sentence_of
from oakladder.app.replay import ReplayController
from oakladder.app.rule import OpenRule
from oakladder.app.script_stamps import ScriptStamps
from oakladder.app.seals import SealKeeper
from oakladder.app.symbols import Symbols
from oakladder.engine.columns.cells import Cell
from oakladder.engine.columns.fill import FilledColumns
from oakladder.engine.columns.quotes import quotes
from oakladder.rung.words import Shown
from oakladder.user.lists import ALL, ListProblem, Watchlists
from oakladder.user.workspace import Workspace

#: Max number of column sections.
MOST_WATCHED = 3


class WatchlistController(QObject):
    """Asks for cells and prices. ``list_lost`` tells that the list is there no more; all symbols take its place."""

    columns_changed = pyqtSignal()
    cells_changed = pyqtSignal(object)
    quotes_changed = pyqtSignal(object)
    list_lost = pyqtSignal()
    to_remember = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(
        self,
        workspace: Workspace,
        symbols: Symbols,
        lists: Watchlists,
        jobs: Jobs,
        rule: OpenRule,
        replay: ReplayController,
        seals: SealKeeper,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._symbols, self._lists, self._jobs, self._rule, self._replay = symbols, lists, jobs, rule, replay
        self.list_name = ALL
        self.columns: list[ScriptColumn] = open_columns()
        self.cells: dict[ColumnPlace, dict[str, Cell]] = {}
        #: The title of the script that cells are of, and what it shows in them.
        self.heads: dict[ColumnPlace, tuple[str, str]] = {}
        self.quotes: dict[str, tuple[float, float]] = {}
        self._listed: list[str] = []
        self._others_due = True
        self._stamps = ScriptStamps(workspace)
        self._stamped: object = ()
        self._open_jobs = ColumnJobs(jobs, workspace, rule, replay, seals, "watch open")
        self._other_jobs = ColumnJobs(jobs, workspace, rule, replay, seals, "watch")
        replay.changed.connect(self._replayed)

    def restore(self, columns: list[ScriptColumn], list_name: str) -> None:
        """Shows what was there the last time, as far as it fits."""
        self.list_name = list_name or ALL
        self.columns = columns if columns and len(places_of(columns)) <= MOST_WATCHED else open_columns()
        self.columns_changed.emit()

    def show_columns(self, columns: list[ScriptColumn]) -> None:
        """Shows other columns; none stands for the open script's."""
        self.columns = columns or open_columns()
        self.cells, self.heads = {}, {}
        self.columns_changed.emit()
        self.to_remember.emit()
        self._ask(others=True)

    def ask_due(self) -> None:
        """Requests the cells of the open script, and of the others if bars have changed."""
        others, self._others_due = self._others_due, False
        self._ask(others=others)

    def scripts_written(self) -> None:
        """Requests the columns of scripts that were rewritten."""
        if self._stamps.of(c.script for c in self.columns) != self._stamped:
            self._ask(others=True)

    def bars_changed(self) -> None:
        """Bars or symbols are otherwise now."""
        self._others_due = True
        self.ask_quotes()

    def _replayed(self) -> None:
        self._others_due = True
        self.ask_quotes()

    def _ask(self, *, others: bool) -> None:
        """Asks for the cells of the open script, and of the other scripts too if they are due or the list is another."""
        symbols = self.listed()
        others = others or symbols != self._listed
        self._listed = symbols
        places = places_of(self.columns)
        follows = [p for p in places if self.columns[p.column].script == OPEN_SCRIPT]
        head = self._open_head()
        if self._rule.program is not None or self._rule.is_judged:  # else they are asked for when it is
            self._open_jobs.ask(self.columns, follows, symbols, lambda made: self._celled(made, head))
        if others:
            self._stamped = self._stamps.of(c.script for c in self.columns)
            rest = [p for p in places if p not in follows]
            self._other_jobs.ask(self.columns, rest, symbols, self._celled)

    def _open_head(self) -> tuple[str, str]:
        """What the open script is called, and what it shows in a column without a name."""
        program = self._rule.program
        column = next((o for o in program.outputs if o.what is Shown.COLUMN), None) if program is not None else None
        return self._rule.title, column.name if column is not None else "newest signal"

    def _celled(self, made: dict[ColumnPlace, FilledColumns], head: tuple[str, str] | None = None) -> None:
        self.cells |= {place: column.cells for place, column in made.items()}
        for place in made:
            asked = self.columns[place.column]
            own = (asked.title, asked.caption)
            self.heads[place] = own if head is None else (head[0], asked.name or head[1])
        self.cells_changed.emit(self.cells)
        for place, column in made.items():  # errors of the open script are shown beside its text
            if column.error is not None and self.columns[place.column].script != OPEN_SCRIPT:
                self.told.emit(f"A column of the watchlist: {sentence_of(column.error)}")

    def listed(self) -> list[str]:
        """The symbols of the list. Where it is there no more, all symbols take its place."""
        try:
            return self._lists.symbols(self.list_name, self._symbols.infos)
        except ListProblem:
            self.told.emit(f"The list {self.list_name} no longer exists. All symbols are shown.")
            self.list_name = ALL
            self.list_lost.emit()
            return self._lists.symbols(ALL, self._symbols.infos)

    def symbols(self) -> tuple[str, ...]:
        """The symbols of the list, as `listed` without a word where it is there no more."""
        try:
            return tuple(self._lists.symbols(self.list_name, self._symbols.infos))
        except ListProblem:
            return ()

    def show_list(self, name: str) -> None:
        """Shows a list; its cells are asked for where it has other symbols than before."""
        self.list_name = name
        self.to_remember.emit()
        if self.listed() != self._listed:
            self._ask(others=True)

    def ask_quotes(self, some: Collection[str] = ()) -> None:
        """Asks for the last price and the day's change of every symbol, or only of some."""
        symbols = [s for s in self._symbols.infos if not some or s in some]
        source, before = self._replay.source, self.quotes if some else {}
        self._jobs.start(
            "quotes",
            lambda ticket: quotes(source, symbols, context=ticket.context()),
            lambda made: self._quoted(before | made),
        )

    def _quoted(self, made: dict[str, tuple[float, float]]) -> None:
        self.quotes = made
        self.quotes_changed.emit(made)
