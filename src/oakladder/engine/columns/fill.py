"""Script columns of a watchlist: each is filled with the cell of every symbol; what several share is read once."""

from __future__ import annotations

import logging
from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.columns.cells import Cell, cell_maker
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.sealed import OPEN, SealedDays
from oakladder.engine.stream.lookback import lookback
from oakladder.engine.universe.bars import StoredBars, UniverseView, Wanted
from oakladder.engine.universe.map import Outcome, SkippedSymbol, UniverseTask, map_universe, sentence_of
from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.rung.program import Program
from oakladder.tuning import TUNING

_log = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class ColumnRequest:
    """A column that is wanted: what of a script, on which bars, with which settings.

    Without a name it is the script's first `column`, or without any the newest of its signals.
    """

    program: Program
    name: str | None
    timeframe: Timeframe = ONE_DAY
    settings: Mapping[str, object] = field(default_factory=dict)
    extended: bool = False
    #: The days on which results of positions are hidden.
    sealed: SealedDays = OPEN

    @property
    def frame(self) -> BarSelection:
        return BarSelection(self.timeframe, self.extended)


@dataclass(slots=True)
class FilledColumns:
    """The result of a column: the cell of each symbol, skipped symbols with the reason, and the errors."""

    cells: dict[str, Cell] = field(default_factory=dict)
    skipped: tuple[SkippedSymbol, ...] = ()
    error: Exception | None = None


def cells(
    program: Program,
    name: str | None,
    library: BarSource,
    symbols: Iterable[str],
    timeframe: Timeframe,
    settings: Mapping[str, object] | None = None,
    *,
    extended: bool = False,
    context: RunContext = PLAIN,
) -> tuple[dict[str, Cell], tuple[SkippedSymbol, ...]]:
    """One column: the cell of each symbol, and the symbols that have none with the reason.

    Raises `RunProblem` (`UnknownName` for a name that the script does not have), `Cancelled`.
    """
    ask = ColumnRequest(program, name, timeframe, dict(settings or {}), extended)
    made = fill([ask], library, symbols, context=context)[0]
    if made.error is not None:
        raise made.error
    return {symbol: cell for symbol, cell in made.cells.items() if not cell.reason}, made.skipped


def fill(
    asks: Sequence[ColumnRequest],
    library: BarSource,
    symbols: Iterable[str],
    *,
    context: RunContext = PLAIN,
) -> list[FilledColumns]:
    """Several columns at once; what they share is read once. One that cannot be made spoils no other. Raises `Cancelled`."""
    names = list(symbols)
    made = [FilledColumns() for _ in asks]
    # Minute bars make some timeframes and not others: each timeframe is visited separately.
    apart = any(library.infos[s].step > 1 for s in names if s in library.infos)

    def kind_of(ask: ColumnRequest) -> Hashable:
        return ask.frame.base, ask.timeframe if apart else None

    kinds = list(dict.fromkeys(map(kind_of, asks)))
    for k, kind in enumerate(kinds):
        places = [j for j, a in enumerate(asks) if kind_of(a) == kind]
        columns = [_Column(asks[j]) for j in places]
        sound = [c for c in columns if c.error is None]
        done: Outcome[list[dict[str, Cell]]] = Outcome()
        if sound:
            done = map_universe(library, names, _work(sound), context=context.of_part(k, len(kinds)))
        for j, column in zip(places, columns, strict=True):
            cells = [part[sound.index(column)] for part in done.made] if column in sound else []
            made[j] = column.filled({s: c for some in cells for s, c in some.items()}, done.skipped)
    return made


class _Column:
    """A column that is being made: how, how far back it looks, and what went wrong with it."""

    def __init__(self, ask: ColumnRequest):
        self.ask = ask
        self.error: Exception | None = None
        #: Unexpected errors, by symbol.
        self.failures: list[Exception] = []
        self.skipped: list[SkippedSymbol] = []
        self.lookback: int | None = None
        try:
            self.make, roots, self.tells_age = cell_maker(ask.program, ask.name, ask.sealed)
            self.lookback = lookback(ask.program, ask.settings, roots, ask.timeframe)
        except RunProblem as error:
            self.error = error

    def cells(self, view: UniverseView) -> dict[str, Cell]:
        """The cells of the symbols of a view; none once it is known that they cannot be made."""
        if self.error is not None:
            return {}
        make, ask = self.make, self.ask
        try:
            cells = make(view, ask.frame, ask.settings)
            unseen = [s for s, c in cells.items() if c.age < 0] if self.tells_age and view.is_shortened else []
            return cells | (make(view.all_of(unseen), ask.frame, ask.settings) if unseen else {})
        except RunProblem as error:
            self.error = error
        except (Cancelled, DataProblem):
            raise
        except Exception as error:
            if len(view.symbols) > 1:
                raise  # visited symbol by symbol, to find on which it fails
            _log.exception("a column failed on %s", view.symbols)
            self.failures.append(error)
            self.skipped.append(SkippedSymbol(view.symbols[0], sentence_of(error)))
        return {}

    def filled(self, cells: dict[str, Cell], skipped: list[SkippedSymbol]) -> FilledColumns:
        """The result, with the symbols that all columns had to skip."""
        error = self.error or (self.failures[0] if self.failures and not cells else None)
        left_out = (*skipped, *self.skipped)
        if error is not None:
            return FilledColumns({}, left_out, error)
        return FilledColumns(cells | {s.symbol: Cell(s.code, reason=s.reason) for s in left_out}, left_out)


def _work(columns: list[_Column]) -> UniverseTask[list[dict[str, Cell]]]:
    """How columns that are made of the same stored bars are made together."""

    def wanted(stored: StoredBars) -> Wanted:
        bars: dict[BarSelection, int | None] = {}
        for column in columns:
            frame, own = column.ask.frame, None if column.lookback is None else column.lookback + TUNING.column_bars
            old = bars.get(frame, 0)
            bars[frame] = None if old is None or own is None else max(old, own)
        return {f: None if n is None else np.full(len(stored.symbols), n + 1) for f, n in bars.items()}

    frames = list(dict.fromkeys(c.ask.frame for c in columns))
    return UniverseTask(frames, lambda view: [c.cells(view) for c in columns], wanted)
