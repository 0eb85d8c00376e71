"""The last bars of a symbol with the marks of a rule on them: what a small chart shows."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.time_words import bar_time
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.execute import run
from oakladder.rung.program import Program
from oakladder.rung.texts import count_words
from oakladder.rung.words import Tone


@dataclass(frozen=True, slots=True)
class Marking:
    """Signals of a script that are to be marked, with its settings."""

    program: Program
    signals: tuple[str, ...]
    settings: Mapping[str, object] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Thumbnail:
    """Some bars of a symbol: prices (float64, one for each bar), the marks as (bar, tone), and what span they are.

    ``here`` is the bar that the thumbnail is about, if any.
    """

    symbol: str
    timeframe: str
    open: np.ndarray
    high: np.ndarray
    low: np.ndarray
    close: np.ndarray
    marks: tuple[tuple[int, Tone], ...]
    span: str
    here: int | None = None


def thumbnail(
    library: BarSource,
    symbol: str,
    timeframe: Timeframe,
    marking: Marking | None = None,
    *,
    bars: int = 60,
    extended: bool = False,
    at: int | None = None,
    after: int = 20,
) -> Thumbnail:
    """The last ``bars`` bars; with ``at`` (the time of a bar) those up to it and ``after`` more. Without such a bar,
    since it has not come yet or is there no more, the bars stand for themselves.

    Raises `DataProblem`, `RunProblem`, `KeyError`.
    """
    panel = library.panel([symbol], timeframe, extended)
    end = count = panel.size
    first, here = max(count - bars, 0), None
    if at is not None:
        place = int(np.searchsorted(panel.times, at))
        end = min(place + after + 1, count)
        first = max(end - bars - after, 0)
        here = place - first if place < count and panel.times[place] == at else None
    marks = [] if marking is None else _marks(marking, panel, slice(first, end))
    return piece(panel, 0, first, end, tuple(marks), here)


def piece(
    panel: Panel, which: int, first: int, end: int, marks: tuple[tuple[int, Tone], ...] = (), here: int | None = None
) -> Thumbnail:
    """The bars of a panel's symbol from ``first`` up to ``end``, counted from its own first one."""
    made, part = panel.bars(which), slice(first, end)
    span = (
        f"{count_words(end - first, 'bar')}, {_day(bar_time(made, first))} to {_day(bar_time(made, end - 1))}"
        if end > first
        else ""
    )
    opens, highs, lows, closes = (np.array(made[name][part]) for name in ("open", "high", "low", "close"))
    return Thumbnail(panel.symbols[which], str(panel.timeframe), opens, highs, lows, closes, marks, span, here)


def _marks(marking: Marking, panel: Panel, part: slice) -> Sequence[tuple[int, Tone]]:
    """Where the signals are true in a part of the bars."""
    signals = [marking.program.signal(name) for name in marking.signals]
    ops = [s.roles["value"] for s in signals]
    result = run(marking.program, panel, marking.settings, outputs=[], extra=ops)
    made = []
    for signal, op in zip(signals, ops, strict=True):
        flags = result.flag(op) == 1
        came = flags.copy()
        came[1:] &= ~flags[:-1]
        made += [(int(k), signal.tone) for k in np.flatnonzero(came[part])]
    return sorted(made, key=lambda mark: mark[0])


def _day(words: str) -> str:
    """The time of a bar without its weekday."""
    return words.split(" ", 1)[1] if words[:3].isalpha() else words
