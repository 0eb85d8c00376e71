"""Scans: the symbols for which a condition holds on the last bar, and every bar on which it came true before."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np

from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.holding import Sight, begins, evaluate, last_change, source
from oakladder.engine.lookback import reach
from oakladder.engine.market import Frame, MarketPart, Progress, Skipped, parts, survey
from oakladder.engine.rules import VOLUME_DAYS, Condition, asks_volume, check, rules_of
from oakladder.engine.signal_ages import last_true

#: So many of the last bars are looked at first; most of what is found came true within them.
SINCE_BARS = 32


@dataclass(frozen=True, slots=True)
class Found:
    """A symbol that a scan found: when it came true, prices now, and how long ago each rule last held (-1 never).

    ``seen`` are the times of those bars, 0 for never.
    """

    symbol: str
    last: float
    change: float
    since: int
    bars_ago: int
    ages: tuple[int, ...]
    seen: tuple[int, ...]
    is_new: bool


@dataclass(frozen=True, slots=True)
class Screen:
    """The result of a scan: what was found, what was found a bar before and is no more, what was left out."""

    found: tuple[Found, ...]
    gone: tuple[str, ...]
    skipped: tuple[Skipped, ...]
    looked_at: int
    seconds: float


@dataclass(frozen=True, slots=True)
class Occurrence:
    """A bar on which a scan came true for a symbol."""

    symbol: str
    time: int
    day: int


def screen(
    condition: Condition,
    library: BarSource,
    symbols: Iterable[str],
    timeframe: Timeframe = ONE_DAY,
    *,
    executor: Executor | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> Screen:
    """Every symbol for which a condition holds on the last bar of the timeframe.

    Raises `KeyError` for a name that a script has not, `RunProblem` where a script cannot run, `Cancelled`.
    """
    begin = time.perf_counter()
    check(condition)
    pieces = _pieces(condition, library, symbols, timeframe)

    def work(part: MarketPart) -> tuple[list[Found], list[str]]:
        return _found(condition, part, timeframe)

    done = survey(pieces, work, executor=executor, progress=progress, cancelled=cancelled)
    found = sorted((f for some, _ in done for f in some), key=lambda f: (f.bars_ago, f.symbol))
    return Screen(
        tuple(found),
        tuple(name for _, gone in done for name in gone),
        tuple(s for p in pieces for s in p.skipped),
        sum(len(p.symbols) for p in pieces),
        time.perf_counter() - begin,
    )


def occurrences(
    condition: Condition,
    library: BarSource,
    symbols: Iterable[str],
    timeframe: Timeframe = ONE_DAY,
    last_bars: int = 250,
    *,
    executor: Executor | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> tuple[list[Occurrence], tuple[Skipped, ...]]:
    """Every bar of the last so many on which the condition came true, newest first, with what was left out."""
    check(condition)
    pieces = _pieces(condition, library, symbols, timeframe)

    def work(part: MarketPart) -> list[Occurrence]:
        _prepare(condition, part, timeframe)
        if not part.symbols:
            return []
        panel = part.panel(timeframe)
        flags = evaluate(condition, Sight(part), timeframe)
        began = begins(flags, panel)
        made = []
        for k, symbol in enumerate(panel.symbols):
            start, end = int(panel.offsets[k]), int(panel.offsets[k + 1])
            first = max(start, end - last_bars)
            hits = first + np.flatnonzero(began[first:end])
            days = panel.calendars[k].days(panel.times[hits])
            made += [Occurrence(symbol, t, d) for t, d in zip(panel.times[hits].tolist(), days.tolist(), strict=True)]
        return made

    done = survey(pieces, work, executor=executor, progress=progress, cancelled=cancelled)
    made = sorted((o for some in done for o in some), key=lambda o: (-o.time, o.symbol))
    return made, tuple(s for p in pieces for s in p.skipped)


def _frames(condition: Condition, timeframe: Timeframe) -> list[tuple[Timeframe, bool]]:
    frames = [(timeframe, False), *((r.timeframe, r.extended) for r in rules_of(condition))]
    if asks_volume(condition):
        frames.append((ONE_DAY, False))
    return list(dict.fromkeys(frames))


def _pieces(condition: Condition, library: BarSource, symbols: Iterable[str], timeframe: Timeframe) -> list[MarketPart]:
    """Parts sized by the finest timeframe that is asked for."""
    names = list(symbols)
    finest = min((f for f, _ in _frames(condition, timeframe)), key=lambda f: f.order)
    bars = 2500
    for symbol in names[:3]:
        try:
            bars = max(bars, library.stored(symbol, finest))
        except Exception:  # whatever is wrong with it is told with its part
            continue
    return parts(library, names, bars)


def _found(condition: Condition, part: MarketPart, timeframe: Timeframe) -> tuple[list[Found], list[str]]:
    """Looks at the last bars of each symbol first; at all of them only where those do not tell since when."""
    _prepare(condition, part, timeframe)
    if not part.symbols:
        return [], []
    recent = _recent(condition, part, timeframe)
    wanted: dict[Frame, np.ndarray | None] = {}
    for frame, bars in recent.items():
        back = _reach(condition, part, frame)
        wanted[frame] = None if back is None else bars + back
    part.shorten(wanted)
    sight = Sight(part, recent)
    found, gone = _told(condition, sight, timeframe)
    unsure = [f.symbol for f in found if f.bars_ago >= SINCE_BARS - 1 or (-1 in f.ages and part.is_shortened)]
    if unsure:
        whole = part.again(unsure)
        _prepare(condition, whole, timeframe)
        told = {f.symbol: f for f in _told(condition, Sight(whole), timeframe)[0]}
        found = [told.get(f.symbol, f) for f in found]
    return found, gone


def _told(condition: Condition, sight: Sight, timeframe: Timeframe) -> tuple[list[Found], list[str]]:
    """The symbols found, and those that were found a bar before, as far as the bars in sight tell."""
    panel = sight.panel(timeframe)
    flags = evaluate(condition, sight, timeframe)
    ends = panel.ends - 1
    now = flags[ends]
    before = np.where(np.diff(panel.offsets) > 1, flags[ends - 1], False)
    gone = [panel.symbols[k] for k in np.flatnonzero(~now & before).tolist()]
    if not now.any():
        return [], gone
    since = last_change(flags, panel)
    panels, ages = [], []
    for rule in rules_of(condition):
        held, flags_held = sight.all_of(rule)
        panels.append(held)
        ages.append(last_true(held, flags_held))
    closes = panel.column("close")
    made = []
    for k in np.flatnonzero(now).tolist():
        end = int(ends[k])
        last, previous = float(closes[end]), float(closes[end - 1]) if end > panel.offsets[k] else float("nan")
        change = last / previous - 1 if previous else float("nan")
        came = int(since[k])
        made.append(
            Found(
                panel.symbols[k],
                last,
                change,
                panel.time(k, came),
                end - came,
                tuple(int(a[k]) for a in ages),
                tuple(
                    p.time(k, int(p.ends[k] - 1 - a[k])) if a[k] >= 0 else 0 for p, a in zip(panels, ages, strict=True)
                ),
                not before[k],
            )
        )
    return made, gone


def _recent(condition: Condition, part: MarketPart, timeframe: Timeframe) -> dict[Frame, np.ndarray]:
    """How many of the last bars of each symbol tell whether a condition holds on the last `SINCE_BARS` bars.

    On another timeframe those are its bars from the last that was complete when the first of these was, and what
    the freshness of its rules looks back over.
    """
    base = (timeframe, False)
    asked: dict[Frame, int] = {base: 2}
    for rule in rules_of(condition):
        frame = (rule.timeframe, rule.extended and rule.timeframe.intraday)
        asked[frame] = max(asked.get(frame, 0), rule.bars + 2)
    if asks_volume(condition):
        asked[ONE_DAY, False] = max(asked.get((ONE_DAY, False), 0), VOLUME_DAYS + 2)
    window = SINCE_BARS + 3
    made = {}
    for frame, bars in asked.items():
        if frame == base:
            made[frame] = np.full(len(part.symbols), window + bars)
        else:  # each of these bars is made of one stored bar at least
            made[frame] = part.since(frame, base, part.at_most(base) * window) + bars + 2
    return made


def _reach(condition: Condition, part: MarketPart, frame: Frame) -> int | None:
    """How far back the rules on a timeframe look; None where that has no end."""
    longest = 0
    for rule in rules_of(condition):
        if (rule.timeframe, rule.extended and rule.timeframe.intraday) == frame:
            back = reach(rule.program, rule.settings, part.wanted[source(rule)], rule.timeframe)
            if back is None:
                return None
            longest = max(longest, back)
    return longest


def _prepare(condition: Condition, part: MarketPart, timeframe: Timeframe) -> None:
    """Leaves out what cannot be read, and gathers what is asked of each script, so that it is run once."""
    part.need(_frames(condition, timeframe))
    for rule in rules_of(condition):
        ops = part.wanted.setdefault(source(rule), [])
        if rule.op() not in ops:
            ops.append(rule.op())
