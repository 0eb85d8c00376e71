"""Cells of script columns: what a `column`, a signal or a number of a script says of each symbol."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import partial

from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.positions import IN_SINCE, holding_ops, holdings
from oakladder.engine.run.execute import Result, roots_of
from oakladder.engine.scan.conditions import named_values
from oakladder.engine.sealed import OPEN, SEALED, SealedDays, tells_result
from oakladder.engine.signal_ages import TONE_COLOURS, last_true
from oakladder.engine.universe.bars import UniverseView
from oakladder.rung.kinds import Unit
from oakladder.rung.plan.ops import Op, Output
from oakladder.rung.problems import UnknownName, did_you_mean
from oakladder.rung.program import Program
from oakladder.rung.texts import CLOCK, NONE_TEXT, count_words, write_value
from oakladder.rung.words import Shown
from oakladder.tuning import TUNING

#: The fill of a signal fades over so many bars.
FADES = 20
#: The text of a cell without a value.
NOTHING = "·"


@dataclass(frozen=True, slots=True)
class Cell:
    """A cell: its text, the colour word of its fill (if any), the number it is ordered by.

    ``strength`` is how strong the fill is, from 1 for what is so now down to 0.

    ``holds`` is whether the signal is true now (for a column, whether its number is above 0 or its fill shown);
    ``age`` how many bars ago a signal was last true, -1 for never or without a signal. A symbol that could
    not be looked at has a ``reason``.
    """

    text: str
    fill: str | None = None
    order: float = float("nan")
    holds: bool | None = None
    age: int = -1
    reason: str = ""
    strength: float = 1.0

    @property
    def words(self) -> str:
        """The text as people read it: a dot where there is nothing."""
        return self.text if self.text not in ("", NONE_TEXT) else NOTHING


def available_outputs(program: Program) -> list[str]:
    """What of a script can be a column: its `column`s first, then its signals, then its numbers."""
    columns = [column_name(o) for o in program.outputs if o.what is Shown.COLUMN]
    held = [IN_SINCE] if program.plan.trading is not None else []
    return list(dict.fromkeys([*columns, *(o.name for o in program.signals), *held, *named_values(program)]))


def column_name(output: Output) -> str:
    """What a `column` is called."""
    return output.name or "column"


#: Makes the cell of every symbol of a view, on a timeframe with some settings.
MakeCells = Callable[[UniverseView, BarSelection, Mapping[str, object]], dict[str, Cell]]


def resolve_output(program: Program, name: str | None) -> Output | Op | None:
    """What a name stands for: a `column` before a signal before a number; None is the newest of the signals.

    Raises `UnknownName`.
    """
    columns = [o for o in program.outputs if o.what is Shown.COLUMN]
    if name is None:
        return columns[0] if columns else None
    outputs = [*(o for o in columns if column_name(o) == name), *(o for o in program.signals if o.name == name)]
    if outputs:
        return outputs[0]
    op = named_values(program).get(name)
    if op is None:
        raise UnknownName(
            f"The script has nothing called `{name}`. {did_you_mean(name, available_outputs(program)) or 'Choose another.'}"
        )
    return op


def cell_maker(program: Program, name: str | None, sealed: SealedDays = OPEN) -> tuple[MakeCells, list[Op], bool]:
    """What makes the cells of a name, from which values, and whether they say how long ago something was true. What a
    position brought on ``sealed`` days is not told.

    A `column` goes before a signal before a number.
    """
    if name == IN_SINCE and program.plan.trading is not None:
        return partial(_of_position, program, sealed), holding_ops(program), False
    what = resolve_output(program, name)
    if what is None:
        return partial(_newest, program), roots_of(program.signals), True
    if isinstance(what, Output) and what.what is Shown.SIGNAL:
        return partial(_of_signal, program, what), [what.roles["value"]], True
    if isinstance(what, Output):
        return _without_results(program, roots_of([what]), sealed, partial(_of_column, program, what))
    op = what

    def numbers(view: UniverseView, frame: BarSelection, settings: Mapping[str, object]) -> dict[str, Cell]:
        result = view.run(program, frame, settings, [op])
        panel = result.panel
        made = {}
        for symbol, value in zip(panel.symbols, result.number(op)[panel.ends - 1].tolist(), strict=True):
            made[symbol] = Cell(
                write_value(value if value == value else None), None, value, value > 0 if value == value else None
            )
        return made

    return _without_results(program, [op], sealed, numbers)


def _without_results(
    program: Program, roots: list[Op], sealed: SealedDays, make: MakeCells
) -> tuple[MakeCells, list[Op], bool]:
    """Cells with results of a position say `SEALED` where the last bar is."""
    if not sealed.days or not any(tells_result(program, op) for op in roots):
        return make, roots, False

    def made(view: UniverseView, frame: BarSelection, settings: Mapping[str, object]) -> dict[str, Cell]:
        panel = view.panel(frame)
        hidden = dict(zip(panel.symbols, sealed.hides_now(panel).tolist(), strict=True))
        cells = make(view, frame, settings)
        # Where there is nothing, as without a position, nothing is hidden.
        return {
            symbol: Cell(SEALED) if hidden.get(symbol) and cell.words != NOTHING else cell
            for symbol, cell in cells.items()
        }

    return made, roots, False


def _of_position(
    program: Program, sealed: SealedDays, view: UniverseView, frame: BarSelection, settings: Mapping[str, object]
) -> dict[str, Cell]:
    made = {}
    for symbol, held in holdings(view.run(program, frame, settings, holding_ops(program)), sealed).items():
        if held is None:
            made[symbol] = Cell(NOTHING, holds=False)
        else:
            fill = "calm" if held.gain is None else "good" if held.gain > 0 else "bad"
            made[symbol] = Cell(held.words(), fill, held.bars, True)
    return made


def _of_column(
    program: Program, column: Output, view: UniverseView, frame: BarSelection, settings: Mapping[str, object]
) -> dict[str, Cell]:
    result = view.run(program, frame, settings, roots_of([column]))
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
    return Cell(write_value(value, CLOCK if column.unit == Unit.CLOCK.value else ""), fill, number, holds)


def _of_signal(
    program: Program, signal: Output, view: UniverseView, frame: BarSelection, settings: Mapping[str, object]
) -> dict[str, Cell]:
    op = signal.roles["value"]
    result = view.run(program, frame, settings, [op])
    panel = result.panel
    ages, now = last_true(panel, result.flag(op)), result.flag(op)[panel.ends - 1]
    if panel.skipped is not None:  # before these bars the script had not seen all that it looks at
        ages[(panel.skipped > 0) & (ages >= TUNING.column_bars)] = -1
    tone = TONE_COLOURS[signal.tone]
    return {
        symbol: signal_cell(int(age), {1: True, 0: False}.get(int(flag)), tone)
        for symbol, age, flag in zip(panel.symbols, ages.tolist(), now.tolist(), strict=True)
    }


def _newest(
    program: Program, view: UniverseView, frame: BarSelection, settings: Mapping[str, object]
) -> dict[str, Cell]:
    """The freshest of a script's signals, named where there are several."""
    made: dict[str, Cell] = {}
    for signal in program.signals:
        for symbol, cell in _of_signal(program, signal, view, frame, settings).items():
            old = made.get(symbol)
            if old is None or (cell.age >= 0 and (old.age < 0 or cell.age < old.age)):
                words = cell.text if len(program.signals) == 1 or cell.age < 0 else f"{signal.name} {cell.text}"
                made[symbol] = replace(cell, text=words)
    return made


def signal_cell(age: int, holds: bool | None, fill: str) -> Cell:
    """The cell of a signal: how many bars ago it was last true; the older, the weaker its fill."""
    if age < 0:
        return Cell(NOTHING, None, float("nan"), holds, -1)
    words = "now" if age == 0 else count_words(age, "bar")
    return Cell(words, fill if age < FADES else None, float(age), holds, age, strength=1 - age / FADES)
