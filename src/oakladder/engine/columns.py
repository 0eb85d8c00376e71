"""Script columns of a watchlist: the cell of each symbol for a `column`, signal or number of a script, and filters on them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from functools import partial

import numpy as np

from oakladder.bars.as_of import BarSource
from oakladder.bars.timeframes import Timeframe
from oakladder.rung.plan import Op, Output
from oakladder.rung.problems import did_you_mean
from oakladder.rung.program import Program
from oakladder.rung.shells import write_value

from .pips import TONE_COLOURS, last_true
from .reach import reach
from .run import Result, roots_of
from .screen import named_values
from .survey import Part, Skipped, parts, survey

#: A signal is fresh for so many bars.
FRESH_BARS = 3
#: So many of the last bars are looked at first; a signal that was last true before them is looked for in all.
RECENT_BARS = 128
_COMPARISON = re.compile(r"(>=|<=|>|<|=)\s*(-?[0-9]*\.?[0-9]+)\s*(%?)")


@dataclass(frozen=True, slots=True)
class Cell:
    """A cell: its text, the colour word of its fill (if any), the number it is ordered by.

    ``holds`` is whether the signal is true now (for a column, whether its number is above 0 or its fill shown);
    ``age`` how many bars ago a signal was last true, -1 for never or where there is no signal.
    """

    text: str
    fill: str | None = None
    order: float = float("nan")
    holds: bool | None = None
    age: int = -1


def offered(program: Program) -> list[str]:
    """What of a script can be a column: its `column`s first, then its signals, then its numbers."""
    columns = [_name(o) for o in program.outputs if o.what == "column"]
    return list(dict.fromkeys([*columns, *(o.name for o in program.signals), *named_values(program)]))


def _name(output: Output) -> str:
    return output.name or "column"


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
    progress: Callable[[float], None] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> tuple[dict[str, Cell], tuple[Skipped, ...]]:
    """The cell of each symbol, and the symbols that have none with the reason.

    Without a name it is the script's first `column`, or without any the newest of its signals.
    Raises `KeyError` for a name that the script has not, `RunProblem`, `Cancelled`.
    """
    make, roots, tells_age = _maker(program, name)
    asked = dict(settings or {})
    pieces = parts(library, symbols, 2500)
    back = reach(program, asked, roots, timeframe)

    def work(part: Part) -> dict[str, Cell]:
        part.need([(timeframe, extended)])
        if not part.symbols:
            return {}
        if back is not None:
            part.shorten({(timeframe, extended): np.full(len(part.symbols), back + RECENT_BARS)})
        made = make(part, timeframe, extended, asked)
        unseen = [s for s, c in made.items() if c.age < 0] if tells_age and part.is_shortened else []
        return made | (make(part.again(unseen), timeframe, extended, asked) if unseen else {})

    done = survey(pieces, work, executor=executor, progress=progress, cancelled=cancelled)
    return {s: c for some in done for s, c in some.items()}, tuple(s for p in pieces for s in p.skipped)


_Maker = Callable[[Part, Timeframe, bool, dict[str, object]], dict[str, Cell]]


def _maker(program: Program, name: str | None) -> tuple[_Maker, list[Op], bool]:
    """What makes the cells of a name, from which values, and whether they say how long ago something was true.

    A `column` goes before a signal before a number.
    """
    if name is None:
        first = next((o for o in program.outputs if o.what == "column"), None)
        if first is None:
            return partial(_newest, program), roots_of(program.signals), True
        name = _name(first)
    column = next((o for o in program.outputs if o.what == "column" and _name(o) == name), None)
    if column is not None:
        return partial(_of_column, program, column), roots_of([column]), False
    signal = next((o for o in program.signals if o.name == name), None)
    if signal is not None:
        return partial(_of_signal, program, signal), [signal.roles["value"]], True
    op = named_values(program).get(name)
    if op is None:
        raise KeyError(
            f"The script has nothing called `{name}`. {did_you_mean(name, offered(program)) or 'Choose another.'}"
        )

    def numbers(part: Part, frame: Timeframe, extended: bool, settings: dict[str, object]) -> dict[str, Cell]:
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
    program: Program, column: Output, part: Part, frame: Timeframe, extended: bool, settings: dict[str, object]
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
    program: Program, signal: Output, part: Part, frame: Timeframe, extended: bool, settings: dict[str, object]
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
    program: Program, part: Part, frame: Timeframe, extended: bool, settings: dict[str, object]
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
