"""Script columns of a watchlist: the cell of each symbol for a `column`, signal or number of a script, and filters on them."""

from __future__ import annotations

import contextlib
import logging
import re
from collections.abc import Callable, Hashable, Iterable, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.lookback import reach
from oakladder.engine.market import Frame, MarketPart, Progress, Skipped, parts, sentence_of, survey
from oakladder.engine.rules import named_values
from oakladder.engine.run import Result, roots_of
from oakladder.engine.signal_ages import TONE_COLOURS, last_true
from oakladder.rung.plan.ops import Op, Output
from oakladder.rung.problems import Cancelled, RunProblem, did_you_mean
from oakladder.rung.program import Program
from oakladder.rung.texts import write_value

_log = logging.getLogger(__name__)
#: A signal is fresh for so many bars.
FRESH_BARS = 3
#: So many of the last bars are looked at first; a signal that was last true before them is looked for in all.
RECENT_BARS = 128
_COMPARISON = re.compile(r"(>=|<=|>|<|=)\s*(-?[0-9]*\.?[0-9]+)\s*(%?)")


@dataclass(frozen=True, slots=True)
class Cell:
    """A cell: its text, the colour word of its fill (if any), the number it is ordered by.

    ``holds`` is whether the signal is true now (for a column, whether its number is above 0 or its fill shown);
    ``age`` how many bars ago a signal was last true, -1 for never or where there is no signal. A symbol that could
    not be looked at has a ``reason``.
    """

    text: str
    fill: str | None = None
    order: float = float("nan")
    holds: bool | None = None
    age: int = -1
    reason: str = ""


def offered(program: Program) -> list[str]:
    """What of a script can be a column: its `column`s first, then its signals, then its numbers."""
    columns = [_name(o) for o in program.outputs if o.what == "column"]
    return list(dict.fromkeys([*columns, *(o.name for o in program.signals), *named_values(program)]))


def _name(output: Output) -> str:
    return output.name or "column"


@dataclass(frozen=True, slots=True)
class Ask:
    """A column that is wanted: what of a script, on which bars, with which settings.

    Without a name it is the script's first `column`, or without any the newest of its signals.
    """

    program: Program
    name: str | None
    timeframe: Timeframe = ONE_DAY
    settings: Mapping[str, object] = field(default_factory=dict)
    extended: bool = False

    @property
    def frame(self) -> Frame:
        return self.timeframe, self.extended and self.timeframe.intraday


@dataclass(slots=True)
class Filled:
    """What came of a column: the cell of each symbol, the symbols that have none with the reason, and what failed."""

    cells: dict[str, Cell] = field(default_factory=dict)
    skipped: tuple[Skipped, ...] = ()
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
    executor: Executor | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> tuple[dict[str, Cell], tuple[Skipped, ...]]:
    """One column: the cell of each symbol, and the symbols that have none with the reason.

    Raises `KeyError` for a name that the script has not, `RunProblem`, `Cancelled`.
    """
    ask = Ask(program, name, timeframe, dict(settings or {}), extended)
    made = fill([ask], library, symbols, executor=executor, progress=progress, cancelled=cancelled)[0]
    if made.error is not None:
        raise made.error
    return {symbol: cell for symbol, cell in made.cells.items() if not cell.reason}, made.skipped


def fill(
    asks: Sequence[Ask],
    library: BarSource,
    symbols: Iterable[str],
    *,
    executor: Executor | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> list[Filled]:
    """Several columns at once; what they share is read once. One that cannot be made spoils no other. Raises `Cancelled`."""
    names = list(symbols)
    made = [Filled() for _ in asks]
    # Bars of several minutes make some timeframes and not others: then each timeframe is looked at by itself.
    apart = any(library.infos[s].step > 1 for s in names if s in library.infos)

    def kind_of(ask: Ask) -> Hashable:
        return ask.timeframe.intraday, ask.frame[1], ask.timeframe if apart else None

    kinds = list(dict.fromkeys(map(kind_of, asks)))
    for k, kind in enumerate(kinds):
        places = [j for j, a in enumerate(asks) if kind_of(a) == kind]

        def told(share: float, k: int = k) -> None:
            if progress is not None:
                progress((k + share) / len(kinds))

        columns = [_Column(asks[j]) for j in places]
        pieces = parts(library, names, _bars_each(asks[places[0]], library, names))
        done = survey(pieces, partial(_fill_part, columns), executor=executor, progress=told, cancelled=cancelled)
        skipped = tuple(s for p in pieces for s in p.skipped)
        for at, (j, column) in enumerate(zip(places, columns, strict=True)):
            filled = {s: c for part in done for s, c in part[at].items()}
            if column.error is None and column.failures and not filled:
                column.error = column.failures[0]
            left_out = (*skipped, *column.skipped)
            filled |= {s.symbol: Cell(s.short, reason=s.reason) for s in left_out}
            made[j] = Filled({} if column.error else filled, left_out, column.error)
    return made


class _Column:
    """A column that is being made: how, how far back it looks, and what went wrong with it."""

    def __init__(self, ask: Ask):
        self.ask = ask
        self.error: Exception | None = None
        #: What nobody foresaw, on single symbols.
        self.failures: list[Exception] = []
        self.skipped: list[Skipped] = []
        self.reach: int | None = None
        try:
            self.make, roots, self.tells_age = _maker(ask.program, ask.name)
            self.reach = reach(ask.program, ask.settings, roots, ask.timeframe)
        except (KeyError, RunProblem) as error:
            self.error = error

    def cells(self, part: MarketPart) -> dict[str, Cell]:
        ask = self.ask
        return self.make(part, ask.timeframe, ask.extended, dict(ask.settings))


def _bars_each(ask: Ask, library: BarSource, names: list[str]) -> int:
    for symbol in names[:3]:
        with contextlib.suppress(KeyError, DataProblem):
            return max(library.stored(symbol, ask.timeframe, ask.extended), 1)
    return 2500


def _fill_part(columns: list[_Column], part: MarketPart) -> list[dict[str, Cell]]:
    sound = [c for c in columns if c.error is None]
    part.need(dict.fromkeys(c.ask.frame for c in sound))
    if not part.symbols:
        return [{} for _ in columns]
    wanted: dict[Frame, int | None] = {}
    for column in sound:
        frame, bars = column.ask.frame, None if column.reach is None else column.reach + RECENT_BARS
        old = wanted.get(frame, 0)
        wanted[frame] = None if old is None or bars is None else max(old, bars)
    part.shorten({f: None if n is None else np.full(len(part.symbols), n + 1) for f, n in wanted.items()})
    made: list[dict[str, Cell]] = []
    for column in columns:
        cells: dict[str, Cell] = {}
        if column.error is None:
            try:
                cells = column.cells(part)
                unseen = [s for s, c in cells.items() if c.age < 0] if column.tells_age and part.is_shortened else []
                cells |= column.cells(part.again(unseen)) if unseen else {}
            except (RunProblem, KeyError) as error:
                column.error = error
            except (Cancelled, DataProblem):
                raise
            except Exception as error:
                if len(part.symbols) > 1:
                    raise  # it is looked at symbol by symbol, to see on which it fails
                _log.exception("a column failed on %s", part.symbols)
                column.failures.append(error)
                column.skipped.append(Skipped(part.symbols[0], sentence_of(error)))
        made.append(cells)
    return made


_Maker = Callable[[MarketPart, Timeframe, bool, dict[str, object]], dict[str, Cell]]


def meant(program: Program, name: str | None) -> Output | Op | None:
    """What a name stands for: a `column` before a signal before a number; None is the newest of the signals.

    Raises `KeyError` with a sentence.
    """
    columns = [o for o in program.outputs if o.what == "column"]
    if name is None:
        return columns[0] if columns else None
    outputs = [*(o for o in columns if _name(o) == name), *(o for o in program.signals if o.name == name)]
    if outputs:
        return outputs[0]
    op = named_values(program).get(name)
    if op is None:
        raise KeyError(
            f"The script has nothing called `{name}`. {did_you_mean(name, offered(program)) or 'Choose another.'}"
        )
    return op


def _maker(program: Program, name: str | None) -> tuple[_Maker, list[Op], bool]:
    """What makes the cells of a name, from which values, and whether they say how long ago something was true.

    A `column` goes before a signal before a number.
    """
    what = meant(program, name)
    if what is None:
        return partial(_newest, program), roots_of(program.signals), True
    if isinstance(what, Output) and what.what == "signal":
        return partial(_of_signal, program, what), [what.roles["value"]], True
    if isinstance(what, Output):
        return partial(_of_column, program, what), roots_of([what]), False
    op = what

    def numbers(part: MarketPart, frame: Timeframe, extended: bool, settings: dict[str, object]) -> dict[str, Cell]:
        result = part.run(program, frame, extended, settings, [op])
        panel = result.panel
        made = {}
        for symbol, value in zip(panel.symbols, result.number(op)[panel.ends - 1].tolist(), strict=True):
            made[symbol] = Cell(
                write_value(value if value == value else None), None, value, value > 0 if value == value else None
            )
        return made

    return numbers, [op], False


def _of_column(
    program: Program, column: Output, part: MarketPart, frame: Timeframe, extended: bool, settings: dict[str, object]
) -> dict[str, Cell]:
    result = part.run(program, frame, extended, settings, roots_of([column]))
    ends = result.panel.ends - 1
    return {s: column_cell(result, column, int(e)) for s, e in zip(result.panel.symbols, ends.tolist(), strict=True)}


def column_cell(result: Result, column: Output, bar: int) -> Cell:
    """The cell that a `column` statement gives on one bar."""
    value = result.at(column.roles["value"], bar)
    shown = "when" not in column.roles or result.at(column.roles["when"], bar) is True
    fill = str(result.at(column.roles["fill"], bar)) if "fill" in column.roles and shown else None
    order = result.at(column.roles["order"], bar) if "order" in column.roles else value
    number = float(order) if isinstance(order, int | float) else float("nan")
    holds = fill is not None if "fill" in column.roles else bool(number > 0) if number == number else None
    return Cell(write_value(value), fill, number, holds)


def _of_signal(
    program: Program, signal: Output, part: MarketPart, frame: Timeframe, extended: bool, settings: dict[str, object]
) -> dict[str, Cell]:
    op = signal.roles["value"]
    result = part.run(program, frame, extended, settings, [op])
    panel = result.panel
    ages, now = last_true(panel, result.flag(op)), result.flag(op)[panel.ends - 1]
    if panel.skipped is not None:  # before these bars the script had not seen all that it looks at
        ages[(panel.skipped > 0) & (ages >= RECENT_BARS)] = -1
    tone = TONE_COLOURS[signal.attributes["tone"]]
    return {
        symbol: signal_cell(int(age), {1: True, 0: False}.get(int(flag)), tone)
        for symbol, age, flag in zip(panel.symbols, ages.tolist(), now.tolist(), strict=True)
    }


def _newest(
    program: Program, part: MarketPart, frame: Timeframe, extended: bool, settings: dict[str, object]
) -> dict[str, Cell]:
    """The freshest of a script's signals, named where there are several."""
    made: dict[str, Cell] = {}
    for signal in program.signals:
        for symbol, cell in _of_signal(program, signal, part, frame, extended, settings).items():
            old = made.get(symbol)
            if old is None or (cell.age >= 0 and (old.age < 0 or cell.age < old.age)):
                words = cell.text if len(program.signals) == 1 or cell.age < 0 else f"{signal.name} {cell.text}"
                made[symbol] = replace(cell, text=words)
    return made


def signal_cell(age: int, holds: bool | None, fill: str) -> Cell:
    """The cell of a signal: how many bars ago it was last true, filled while it is fresh."""
    if age < 0:
        return Cell("–", None, float("nan"), holds, -1)
    return Cell(str(age), fill if age <= FRESH_BARS else None, float(age), holds, age)


Test = Callable[[Cell | None], bool]


def filter_of(text: str) -> Test:
    """What a line of the filter row asks of a cell.

    ``true``, ``not true``, ``fired`` (true on the last bar, not long before it), comparisons such as ``>= 5``;
    anything else is looked for in the text. An unreadable cell fits nothing.
    """
    words = text.strip().lower()
    if not words:
        return lambda cell: True
    if words in ("true", "is true", "yes"):
        return lambda cell: cell is not None and cell.holds is True
    if words in ("not true", "not", "no"):
        return lambda cell: cell is not None and cell.holds is False
    if words in ("fired", "fired today", "new"):
        return lambda cell: cell is not None and cell.age == 0
    found = _COMPARISON.fullmatch(words.replace("≥", ">=").replace("≤", "<="))
    if found is not None:
        relation, number = found[1], float(found[2]) / (100 if found[3] else 1)
        return lambda cell: cell is not None and _compares(cell.order, relation, number)
    return lambda cell: cell is not None and words in cell.text.lower()


def _compares(value: float, relation: str, number: float) -> bool:
    if value != value:
        return False
    return {
        ">=": value >= number,
        "<=": value <= number,
        ">": value > number,
        "<": value < number,
        "=": bool(np.isclose(value, number)),
    }[relation]


def at_least(text: str) -> int | None:
    """How many timeframes of a group must agree, for ``3 of`` or ``on at least 3``; None for any other text."""
    found = re.fullmatch(r"(?:on )?(?:at least )?(\d+)(?: of(?: these)?| timeframes)?", text.strip().lower())
    plain = found is not None and not text.strip().isdigit()
    return int(found[1]) if found is not None and plain else None
