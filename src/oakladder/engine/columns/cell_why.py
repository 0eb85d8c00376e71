"""Explains a cell of a column: what it says, whether it holds and since when, and why."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.time_words import bar_time
from oakladder.engine.columns.cells import resolve_output
from oakladder.engine.columns.fill import ColumnRequest
from oakladder.engine.explain.why import Verdict, Why
from oakladder.engine.run.execute import Result, roots_of, run
from oakladder.engine.sealed import SEALED, tells_result
from oakladder.rung.plan.ops import Op, Output
from oakladder.rung.program import Program
from oakladder.rung.texts import count_words, write_value
from oakladder.rung.words import Shown

#: Max number of named values that are shown with a number.
_MOST_VALUES = 5


@dataclass(frozen=True, slots=True)
class Explained:
    """Why a cell says what it says, as lines to read, and the time of the bar that it speaks of."""

    lines: tuple[str, ...]
    time: int


def explain(ask: ColumnRequest, library: BarSource, symbol: str) -> Explained:
    """Explains the cell of a symbol. Raises `KeyError`, `RunProblem` or `DataProblem`."""
    panel = library.panel([symbol], ask.timeframe, ask.extended)
    bars, what = panel.bars(0), resolve_output(ask.program, ask.name)
    if not len(bars):
        return Explained((f"There are no {ask.timeframe} bars of {symbol}.",), 0)
    if isinstance(what, Output) and what.what is Shown.SIGNAL:
        return _signal(Why(ask.program, panel, what.name, ask.settings, misses=False, sealed=ask.sealed), bars)
    if what is None:  # the newest of several signals
        told = [
            _signal(Why(ask.program, panel, s.name, ask.settings, misses=False, sealed=ask.sealed), bars)
            for s in ask.program.signals
        ]
        return max(told, key=lambda t: t.time, default=Explained(("The script has nothing to show.",), 0))
    roots = roots_of([what]) if isinstance(what, Output) else [what]
    named = _named_values(ask.program, roots)
    result = run(ask.program, panel, ask.settings, outputs=[], extra=[*roots, *named.values()])
    value = what.roles["value"] if isinstance(what, Output) else what
    opened = int(ask.sealed.opened(panel)[0])
    lines = [_now_and_before(result, value, len(bars), opened)]
    if opened < len(bars) and tells_result(ask.program, value):
        lines.append(f"Results are sealed from {bar_time(bars, opened)} on, until its rule breaks the seal.")
    if isinstance(what, Output) and "when" in what.roles:
        flags = result.is_true(what.roles["when"])
        lines.append(f"Its colour: {_since(flags, bars)}.")
    lines += [
        f"{name}: {_now_and_before(result, op, len(bars), opened)}" for name, op in named.items() if op is not value
    ]
    return Explained(tuple(lines), int(bars.times[-1]))


def _signal(why: Why, bars: Bars) -> Explained:
    flags = why.result.is_true(why.part.op)
    fired = np.flatnonzero(flags)
    lines = [f"{why.signal}: {_since(flags, bars)}.", *_reasons(why.at(len(bars) - 1), 0)]
    return Explained(tuple(lines), int(bars.times[fired[-1]]) if len(fired) else 0)


def _since(flags: np.ndarray, bars: Bars) -> str:
    """Whether a flag holds now, and since when or when it last did."""
    last = len(flags) - 1
    fired = np.flatnonzero(flags)
    if not len(fired):
        return "never true on these bars"
    if not flags[last]:
        ago = last - int(fired[-1])
        return f"not true now, last on {bar_time(bars, int(fired[-1]))}, {count_words(ago, 'bar')} ago"
    quiet = np.flatnonzero(~flags)
    first = int(quiet[-1]) + 1 if len(quiet) else 0
    return f"true since {bar_time(bars, first)}, bar {last - first + 1} of it"


def _reasons(verdict: Verdict, depth: int) -> list[str]:
    """A verdict and what it is made of, a line each; the part that decides is pointed at."""
    values = ", ".join(verdict.value_words())
    mark = "→ " if verdict.decisive else ""
    line = f"{'   ' * depth}{mark}{verdict.text}: {f'{values}: ' if values else ''}{verdict.words()}"
    return [line, *(inner for part in verdict.parts for inner in _reasons(part, depth + 1))]


def _named_values(program: Program, roots: list[Op]) -> dict[str, Op]:
    """The named numbers of a script that a value is made of on its own bar, the nearest first."""
    names = {id(op): name for name, op in program.plan.values.items() if not op.is_shell and not op.fixed}
    found: dict[str, Op] = {}
    todo, seen = list(roots), set()
    while todo and len(found) < _MOST_VALUES:
        op = todo.pop(0)
        if id(op) in seen:
            continue
        seen.add(id(op))
        if id(op) in names:
            found[names[id(op)]] = op
        todo += op.args
    return found


def _now_and_before(result: Result, op: Op, count: int, opened: int) -> str:
    """A value on the last bar and the one before, of which the first bars are ``opened``."""

    def words(bar: int) -> str:
        return SEALED if bar >= opened and tells_result(result.program, op) else write_value(result.at(op, bar))

    return f"{words(count - 1)}, the bar before {words(count - 2)}" if count > 1 else words(count - 1)
