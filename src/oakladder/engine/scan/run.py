"""Scans: the symbols for which a condition holds on the last bar, and its past occurrences."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.bar_selection import DAYS, BarSelection
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.scan.condition_flags import (
    ConditionBars,
    asked_of,
    begins,
    evaluate,
    frames_of,
    joined,
    last_change,
    source,
)
from oakladder.engine.scan.conditions import VOLUME_DAYS, Condition, check, rules_of, uses_volume
from oakladder.engine.scan.funnel import Stage, parts_of, stages_of, summed
from oakladder.engine.sealed import OPEN, SealedDays
from oakladder.engine.signal_ages import last_true
from oakladder.engine.stream.checkpoint_store import CheckpointStore, SavedValues
from oakladder.engine.universe.bars import StoredBars, UniverseView, Wanted
from oakladder.engine.universe.map import SkippedSymbol, UniverseTask, map_universe
from oakladder.tuning import TUNING

#: Horizon in bars after an occurrence.
FOLLOWED_BARS = 20


@dataclass(frozen=True, slots=True)
class Match:
    """A matching symbol: since when, prices now, and how many bars ago each rule last held (-1 never).

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
class ScanResult:
    """The result of a scan: what was found, what was found a bar before and is no more, what was left out.

    ``stages`` say for each condition of the scan how many symbols match.
    """

    found: tuple[Match, ...]
    gone: tuple[str, ...]
    skipped: tuple[SkippedSymbol, ...]
    looked_at: int
    seconds: float
    stages: tuple[Stage, ...] = ()


@dataclass(frozen=True, slots=True)
class Occurrence:
    """A bar on which a symbol matched.

    ``after`` is the ratio by which the close had moved `FOLLOWED_BARS` bars later; NaN where they have not passed, or are
    ``sealed``.
    """

    symbol: str
    time: int
    day: int
    after: float = float("nan")
    sealed: bool = False


def run_scan(
    condition: Condition,
    library: BarSource,
    symbols: Iterable[str],
    timeframe: Timeframe = ONE_DAY,
    *,
    context: RunContext = PLAIN,
) -> ScanResult:
    """Every symbol for which a condition holds on the last bar of the timeframe.

    Raises `RunProblem` where a script cannot run (`UnknownName` for a name that it does not have), `Cancelled`.
    """
    begin = time.perf_counter()
    check(condition)
    scan = _Scan(condition, BarSelection(timeframe), library)
    work = UniverseTask(scan.frames, scan.found, scan.wanted, CheckpointStore())
    done = map_universe(library, symbols, work, context=context)
    found = sorted((f for told in done.made for f in told.found), key=lambda f: (f.bars_ago, f.symbol))
    return ScanResult(
        tuple(found),
        tuple(name for told in done.made for name in told.gone),
        tuple(done.skipped),
        done.looked_at,
        time.perf_counter() - begin,
        summed([told.stages for told in done.made]),
    )


def occurrences(
    condition: Condition,
    library: BarSource,
    symbols: Iterable[str],
    timeframe: Timeframe = ONE_DAY,
    last_bars: int = 250,
    *,
    sealed: SealedDays = OPEN,
    context: RunContext = PLAIN,
) -> tuple[list[Occurrence], tuple[SkippedSymbol, ...]]:
    """Every match on the last so many bars, newest first, without what followed on ``sealed`` days; and the skipped
    symbols."""
    check(condition)
    scan = _Scan(condition, BarSelection(timeframe), library)

    def look(view: UniverseView) -> list[Occurrence]:
        return scan.occurrences(view, last_bars, sealed)

    work = UniverseTask(scan.frames, look)
    done = map_universe(library, symbols, work, context=context)
    made = sorted((o for some in done.made for o in some), key=lambda o: (-o.time, o.symbol))
    return made, tuple(done.skipped)


@dataclass(frozen=True, slots=True)
class HeldBars:
    """The last bars of a symbol and whether a condition held on each: when they begin and close (int64 UTC seconds), their
    closing prices (float64) and the flags (bool), all of shape (bars,)."""

    symbol: str
    times: np.ndarray
    closes: np.ndarray
    prices: np.ndarray
    held: np.ndarray


def held_lately(
    conditions: Sequence[Condition],
    library: BarSource,
    symbols: Iterable[str],
    frame: BarSelection,
    bars: int,
    *,
    context: RunContext = PLAIN,
) -> tuple[list[list[HeldBars]], tuple[SkippedSymbol, ...]]:
    """Whether conditions held on each of the last so many bars of symbols, a list for each; and the skipped symbols. The
    bars are read once for all of them. Raises as `run_scan`."""
    for condition in conditions:
        check(condition)
    scans = [_Scan(condition, frame, library, bars) for condition in conditions]
    frames = list(dict.fromkeys(one for scan in scans for one in scan.frames))

    def wanted(stored: StoredBars) -> Wanted:
        return _most_wanted([scan.wanted(stored) for scan in scans])

    def look(view: UniverseView) -> list[list[HeldBars]]:
        return [scan.held_lately(view) for scan in scans]

    done = map_universe(library, symbols, UniverseTask(frames, look, wanted, CheckpointStore()), context=context)
    return [[held for part in done.made for held in part[k]] for k in range(len(scans))], tuple(done.skipped)


def _most_wanted(each: Sequence[Wanted]) -> Wanted:
    """What all of several wants need."""
    made: dict[BarSelection, np.ndarray | None] = {}
    for one in each:
        for frame, bars in one.items():
            known = made.get(frame, bars)
            made[frame] = None if bars is None or known is None else np.maximum(known, bars)
    return made


@dataclass(slots=True)
class _Told:
    """What a scan says of some symbols."""

    found: list[Match]
    gone: list[str]
    stages: list[Stage]


class _Scan:
    """A condition that is evaluated on the bars of a timeframe, at least on the last ``window`` of them."""

    def __init__(self, condition: Condition, frame: BarSelection, library: BarSource, window: int = 0):
        self.condition, self.frame, self.library = condition, frame, library
        self.window = window or TUNING.scan_bars
        self.how, self.parts = parts_of(condition)
        self.rules = rules_of(condition)
        self.asked = asked_of(self.rules)
        self.frames = frames_of(condition, frame)

    def _bars(self, view: UniverseView, recent: Mapping[BarSelection, np.ndarray] | None = None) -> ConditionBars:
        return ConditionBars(view, self.library, self.asked, recent)

    def occurrences(self, view: UniverseView, last_bars: int, sealed: SealedDays) -> list[Occurrence]:
        """Every match on the last so many bars."""
        panel = view.panel(self.frame)
        began = begins(evaluate(self.condition, self._bars(view), self.frame), panel)
        closes = panel.column("close")
        opened = (panel.starts + sealed.opened(panel)).tolist()
        made = []
        for k, symbol in enumerate(panel.symbols):
            start, end = int(panel.offsets[k]), int(panel.offsets[k + 1])
            first = max(start, end - last_bars)
            hits = first + np.flatnonzero(began[first:end])
            days = panel.calendars[k].days(panel.times[hits])
            later = hits + FOLLOWED_BARS
            hidden = (later >= opened[k]) & (later < end)
            known = (later < end) & ~hidden
            with np.errstate(invalid="ignore", divide="ignore"):
                after = np.where(known, closes[np.minimum(later, end - 1)] / closes[hits] - 1, np.nan)
            told = zip(panel.times[hits].tolist(), days.tolist(), after.tolist(), hidden.tolist(), strict=True)
            made += [Occurrence(symbol, *one) for one in told]
        return made

    def held_lately(self, view: UniverseView) -> list[HeldBars]:
        """Whether the condition holds on each of the last bars of each symbol."""
        bars = self._bars(view, self._recent(view.stored))
        panel = bars.panel(self.frame)
        flags, prices = evaluate(self.condition, bars, self.frame), panel.column("close")
        made = []
        for k, symbol in enumerate(panel.symbols):
            start, end = int(panel.offsets[k]), int(panel.offsets[k + 1])
            last = slice(max(start, end - self.window), end)
            own = slice(last.start - start, end - start)
            times, closes = panel.timeline.each[k][own], panel.timeline.closes(k)[own]
            made.append(HeldBars(symbol, times, closes, prices[last], flags[last]))
        return made

    def wanted(self, stored: StoredBars) -> Wanted:
        """The last bars of each symbol, and what the rules look back over before them."""
        made: dict[BarSelection, np.ndarray | None] = {}
        for frame, bars in self._recent(stored).items():
            made[frame] = self._needed(stored, frame, bars)
        return made

    def _needed(self, stored: StoredBars, frame: BarSelection, bars: np.ndarray) -> np.ndarray | None:
        """What the rules on a timeframe need for its last bars; None for all there are."""
        most = bars
        for rule in self.rules:
            if rule.frame == frame:
                values = SavedValues(rule.program, frame, rule.settings, self.asked[source(rule)])
                needed = stored.needed(values, bars)
                if needed is None:
                    return None
                most = np.maximum(most, needed)
        return most

    def found(self, view: UniverseView) -> _Told:
        """Looks at the last bars of each symbol first; at all of them only where those do not tell since when."""
        first = self._told(self._bars(view, self._recent(view.stored)))
        unsure = [
            f.symbol for f in first.found if f.bars_ago >= self.window - 1 or (-1 in f.ages and view.is_shortened)
        ]
        if unsure:
            told = {f.symbol: f for f in self._told(self._bars(view.all_of(unsure))).found}
            first.found = [told.get(f.symbol, f) for f in first.found]
        return first

    def _told(self, bars: ConditionBars) -> _Told:
        """The matching symbols, and the ones of the previous bar, as far as the bars go."""
        panel = bars.panel(self.frame)
        held = [evaluate(part, bars, self.frame) for part in self.parts]
        flags = joined(self.how, held)
        ends = panel.ends - 1
        stages = stages_of(self.how, [h[ends] for h in held])
        now = flags[ends]
        before = np.where(panel.timeline.sizes > 1, flags[ends - 1], False)
        gone = [panel.symbols[k] for k in np.flatnonzero(~now & before).tolist()]
        if not now.any():
            return _Told([], gone, stages)
        since = last_change(flags, panel)
        seen = [_LastSeen(*bars.all_of(rule)) for rule in self.rules]
        closes = panel.column("close")
        made = []
        for k in np.flatnonzero(now).tolist():
            end, came = int(ends[k]), int(since[k])
            last, previous = float(closes[end]), float(closes[end - 1]) if end > panel.offsets[k] else float("nan")
            made.append(
                Match(
                    panel.symbols[k],
                    last,
                    last / previous - 1 if previous else float("nan"),
                    panel.timeline.at(k, came),
                    end - came,
                    tuple(s.age(k) for s in seen),
                    tuple(s.time(k) for s in seen),
                    not before[k],
                )
            )
        return _Told(made, gone, stages)

    def _recent(self, stored: StoredBars) -> dict[BarSelection, np.ndarray]:
        """How many of the last bars of each symbol decide whether the condition holds on the last `window` bars.

        On another timeframe those are its bars from the last that was complete when the first of these was, and what
        the freshness of its rules looks back over.
        """
        asked = {self.frame: 2}
        for rule in self.rules:
            asked[rule.frame] = max(asked.get(rule.frame, 0), rule.bars + 2)
        if uses_volume(self.condition):
            asked[DAYS] = max(asked.get(DAYS, 0), VOLUME_DAYS + 2)
        window = self.window + 3
        made = {}
        for frame, bars in asked.items():
            if frame == self.frame:
                made[frame] = np.full(len(stored.symbols), window + bars)
            else:  # each of these bars is made of one stored bar at least
                made[frame] = stored.since(frame, self.frame, stored.at_most(self.frame) * window) + bars + 2
        return made


class _LastSeen:
    """When a rule last held for each symbol."""

    def __init__(self, panel: Panel, flags: np.ndarray):
        self._panel, self._ages = panel, last_true(panel, flags)

    def age(self, k: int) -> int:
        """How many bars ago; -1 for never."""
        return int(self._ages[k])

    def time(self, k: int) -> int:
        """The time of that bar; 0 for never."""
        age = self.age(k)
        return self._panel.timeline.at(k, int(self._panel.ends[k] - 1 - age)) if age >= 0 else 0
