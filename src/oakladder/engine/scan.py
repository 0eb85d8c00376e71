"""Finds the symbols on which a signal fired lately, and reads columns and ladders: one run for a whole list."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from oakladder.bars.as_of import BarSource
from oakladder.bars.errors import DataProblem
from oakladder.bars.series import Panel
from oakladder.bars.timeframes import Timeframe
from oakladder.rung.program import Program

from .run import Cancelled, run
from .survey import Progress, Skipped


@dataclass(frozen=True, slots=True)
class Hit:
    """A symbol on which the signal fired: how many bars ago (0 is the last bar), when, and its prices now."""

    symbol: str
    bars_ago: int
    time: int
    last: float
    change: float


@dataclass(frozen=True, slots=True)
class Scan:
    """The result of a scan: hits, newest first; symbols that could not be looked at; how many were."""

    hits: tuple[Hit, ...]
    skipped: tuple[Skipped, ...]
    looked_at: int


def gather(
    library: BarSource,
    symbols: Iterable[str],
    timeframe: Timeframe,
    *,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> tuple[Panel, tuple[Skipped, ...]]:
    """The bars of many symbols; those that cannot be read are left out with the reason."""
    good: list[str] = []
    skipped: list[Skipped] = []
    names = list(symbols)
    for k, symbol in enumerate(names):
        if cancelled is not None and cancelled():
            raise Cancelled
        try:
            bars = library.bars(symbol, timeframe)
            if len(bars):
                good.append(symbol)
            else:
                skipped.append(Skipped(symbol, "It has no bars."))
        except KeyError:
            skipped.append(Skipped(symbol, "There is no such symbol."))
        except DataProblem as error:
            skipped.append(Skipped(symbol, str(error)))
        if progress is not None:
            progress((k + 1) / len(names))
    return library.panel(good, timeframe), tuple(skipped)


def last_true(panel: Panel, flags: np.ndarray) -> np.ndarray:
    """For each symbol, how many bars before its last the flag was last true; -1 for never. int64."""
    made = np.full(len(panel), -1, dtype=np.int64)
    hits = np.flatnonzero(flags == 1)
    if len(hits) == 0:
        return made
    at = np.searchsorted(hits, panel.ends, "left") - 1
    there = (at >= 0) & (hits[at] >= panel.starts)
    made[there] = panel.ends[there] - 1 - hits[at[there]]
    return made


def change(closes: np.ndarray) -> float:
    """The last close against the one before, as a ratio; none where there is no bar before."""
    if len(closes) < 2 or not closes[-2]:
        return float("nan")
    return float(closes[-1] / closes[-2] - 1)


def scan(
    program: Program,
    signal: str,
    library: BarSource,
    symbols: Iterable[str],
    timeframe: Timeframe,
    within: int = 1,
    settings: Mapping[str, object] | None = None,
    *,
    executor: Executor | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> Scan:
    """Symbols whose signal fired within the last ``within`` bars (1 is the last bar only).

    Raises `KeyError` for an unknown signal, `RunProblem` where the script cannot run, `Cancelled`.
    """
    output = program.signal(signal)
    share = 0.8
    panel, skipped = gather(
        library,
        symbols,
        timeframe,
        cancelled=cancelled,
        progress=None if progress is None else lambda x: progress(x * share),
    )
    result = run(
        program,
        panel,
        settings,
        outputs=[output],
        executor=executor,
        cancelled=cancelled,
        progress=None if progress is None else lambda x: progress(share + x * (1 - share)),
    )
    ages = last_true(panel, result.flag(output.roles["value"]))
    hits = []
    for k in np.flatnonzero((ages >= 0) & (ages < within)).tolist():
        closes = panel.bars(k)["close"]
        bar = int(panel.ends[k]) - 1 - int(ages[k])
        hits.append(Hit(panel.symbols[k], int(ages[k]), int(panel.times[bar]), float(closes[-1]), change(closes)))
    hits.sort(key=lambda h: (h.bars_ago, h.symbol))
    return Scan(tuple(hits), skipped, len(panel))


@dataclass(frozen=True, slots=True)
class Pip:
    """The latest occurrence of a signal: its tone and how many bars ago it was."""

    signal: str
    tone: str
    age: int


#: Tone of a signal → colour word.
TONE_COLOURS = {"bullish": "good", "bearish": "bad", "neutral": "calm"}


def pips(
    program: Program,
    library: BarSource,
    symbol: str,
    timeframe: Timeframe,
    settings: Mapping[str, object] | None = None,
) -> list[Pip]:
    """The latest occurrence of each signal of a script on one timeframe. Raises `RunProblem` or `DataProblem`."""
    if not program.signals:
        return []
    panel = library.panel([symbol], timeframe)
    result = run(program, panel, settings, outputs=program.signals)
    made = []
    for output in program.signals:
        age = int(last_true(panel, result.flag(output.roles["value"]))[0])
        if age >= 0:
            made.append(Pip(output.name, output.attributes["tone"], age))
    return made
