"""The script once more on history that ends earlier: whatever it shows there must be what it showed with all of history."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.execute import Result, run
from oakladder.rung.plan.ops import Op, leaves
from oakladder.rung.program import Program
from oakladder.trial.judge.look_ahead.finding import Finding, FindingKind, finding
from oakladder.trial.spans import before

#: History is cut at so many moments.
CUTS = 40


def changed(
    program: Program,
    panel: Panel,
    settings: Mapping[str, object] | None,
    *,
    cut: Callable[[Panel, int], Panel] = before,
    cuts: int = CUTS,
    first: int | None = None,
    context: RunContext = PLAIN,
) -> list[Finding]:
    """Outputs whose values on bars from ``first`` on (UTC seconds) were different when those bars were new; ``cut`` gives
    the bars as they were before a moment. Raises `Cancelled` and `RunProblem`."""
    named = _named(program)
    if not named or not panel.size:
        return []
    alone = RunContext(cancelled=context.cancelled)
    whole = _run(program, panel, settings, named, alone)
    seen: dict[str, tuple[int, int, int]] = {}
    moments = moments_of(panel, cuts, first)
    for k, moment in enumerate(moments):
        context.check()
        there = cut(panel, moment)
        if there.size:
            part = _run(program, there, settings, named, alone)
            for (name, line), op in named.items():
                places = _differing(whole, part, op)
                if first is not None:
                    places = places[panel.times[places] >= first]
                if len(places):
                    count, place, _ = seen.get(name, (0, 0, line))
                    seen[name] = (count + len(places), max(place, int(places.max())), line)
        context.report((k + 1) / len(moments))
    return [
        finding(FindingKind.CHANGED, f"{name} was otherwise when it was new", count, panel, place, line)
        for name, (count, place, line) in seen.items()
    ]


def _named(program: Program) -> dict[tuple[str, int], list[Op]]:
    """What each output and each value of the position is made of, by what it is called and its line."""
    made: dict[tuple[str, int], list[Op]] = {}
    for output in program.outputs:
        name = f"`{output.what.value} {output.name}`" if output.name else f"`{output.what.value}` in line {output.line}"
        made[name, output.line] = [leaf for op in output.roles.values() for leaf in leaves(op)]
    if program.plan.trading is not None:
        for name, op in program.plan.trading.position.items():
            made[f"`position.{name}`", 0] = list(leaves(op))
    return made


def _run(
    program: Program,
    panel: Panel,
    settings: Mapping[str, object] | None,
    named: Mapping[tuple[str, int], Sequence[Op]],
    context: RunContext,
) -> Result:
    extra = list(dict.fromkeys(op for ops in named.values() for op in ops))
    return run(program, panel, settings, outputs=[], extra=extra, context=context)


def moments_of(panel: Panel, cuts: int = CUTS, first: int | None = None) -> list[int]:
    """Moments (UTC seconds, at most ``cuts``) at which history is cut: spread over its bars from ``first`` on, the last
    one before its end."""
    times = np.unique(panel.times)
    if first is not None:
        begin = int(np.searchsorted(times, first))
        if begin + 1 >= len(times):
            return []
        return times[np.unique(np.linspace(begin + 1, len(times) - 1, cuts).astype(np.int64))].tolist()
    at = np.unique(np.linspace(len(times) // 10, len(times) - 1, cuts).astype(np.int64))
    return [int(t) for t in times[at[at > 0]]]


def _differing(whole: Result, part: Result, ops: Sequence[Op]) -> np.ndarray:
    """The places in the whole panel of bars on which a value is another one in the part."""
    panel, there = whole.panel, part.panel
    sizes = there.timeline.sizes
    places = np.concatenate([np.arange(a, a + n) for a, n in zip(panel.starts.tolist(), sizes.tolist(), strict=True)])
    made = np.zeros(len(places), dtype=bool)
    for op in ops:
        if op not in whole.arrays:
            continue
        a, b = whole.arrays[op][places], part.arrays[op]
        made |= (a != b) & ~((a != a) & (b != b))
    return places[made]
