"""How old the latest occurrence of a signal is: what a rung of the timeframe ladder and a column show."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.positions import Holding, holding_ops, holdings
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.execute import run
from oakladder.engine.sealed import OPEN, SealedDays
from oakladder.rung.program import Program
from oakladder.rung.words import Tone

#: Number of last bars that are searched for all symbols at once, before each symbol without an occurrence.
_NEAR = (8, 64, 512)


def last_true(panel: Panel, flags: np.ndarray) -> np.ndarray:
    """For each symbol, how many bars before its last the flag was last true; -1 for never. int64. Flags: shape (bars,),
    bool; gives shape (symbols,)."""
    made = np.full(len(panel), -1, dtype=np.int64)
    todo = np.flatnonzero(panel.timeline.sizes)
    begin = 0
    for end in _NEAR:
        at = panel.ends[todo, None] - 1 - np.arange(begin, end)
        held = (at >= panel.starts[todo, None]) & (flags[np.maximum(at, 0)] == 1)
        found = held.any(axis=1)
        made[todo[found]] = begin + held[found].argmax(axis=1)
        todo, begin = todo[~found], end
    for k in todo.tolist():
        hits = np.flatnonzero(flags[panel.starts[k] : max(panel.ends[k] - begin, panel.starts[k])] == 1)
        if len(hits):
            made[k] = panel.ends[k] - panel.starts[k] - 1 - hits[-1]
    return made


@dataclass(frozen=True, slots=True)
class RecentSignal:
    """The latest occurrence of a signal: its tone and how many bars ago it was."""

    signal: str
    tone: Tone
    age: int
    #: The position that the script holds, where the pip stands for that.
    held: Holding | None = None


#: Tone of a signal → colour word.
TONE_COLOURS = {Tone.BULLISH: "good", Tone.BEARISH: "bad", Tone.NEUTRAL: "calm"}


def recent_signals(
    program: Program,
    library: BarSource,
    symbol: str,
    timeframe: Timeframe,
    settings: Mapping[str, object] | None = None,
    context: RunContext = PLAIN,
    sealed: SealedDays = OPEN,
) -> list[RecentSignal]:
    """The latest occurrence of each signal of a script on one timeframe, and first the position that it holds there,
    without what that gained on ``sealed`` days. Raises `RunProblem`, `DataProblem`, `Cancelled`."""
    extra = holding_ops(program)
    if not program.signals and not extra:
        return []
    panel = library.panel([symbol], timeframe)
    result = run(program, panel, settings, outputs=program.signals, extra=extra, context=context)
    made = []
    held = holdings(result, sealed)[symbol] if extra else None
    if held is not None:
        made.append(RecentSignal("in", Tone.BULLISH if held.side > 0 else Tone.BEARISH, held.bars, held))
    for output in program.signals:
        age = int(last_true(panel, result.flag(output.roles["value"]))[0])
        if age >= 0:
            made.append(RecentSignal(output.name, output.tone, age))
    return made
