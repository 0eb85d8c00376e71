"""Scans put together from conditions: signals and comparisons of any scripts, each on its own timeframe, and plain filters.

A condition gives a flag on every bar of the scan's own timeframe. A condition on a longer timeframe counts as
of its last bar that was complete; so the same evaluation serves today, yesterday and every day before.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Hashable, Iterable, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np

from oakladder.bars.as_of import BarSource
from oakladder.bars.series import Panel, without
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.rung.plan import Op
from oakladder.rung.problems import RunProblem, did_you_mean
from oakladder.rung.program import Program

from .pips import last_true
from .reach import reach
from .survey import Frame, Part, Progress, Skipped, aligned, parts, survey

RELATIONS = (">", ">=", "<", "<=")
_NEVER = 10**9
#: Added to times, so that none of them is negative.
_EARLIEST = 1 << 38
#: Days over which the average volume is taken.
VOLUME_DAYS = 20
#: So many of the last bars are looked at first; most of what is found came true within them.
SINCE_BARS = 32


class Fresh(StrEnum):
    """How a rule must stand on its own timeframe. ``bars`` goes with the two that count."""

    FIRES = "fires"
    WITHIN = "within"
    TRUE = "is true"
    LASTING = "true for"


@dataclass(frozen=True, slots=True)
class Rule:
    """A signal of a script, or (with a relation) one of its named values against a number."""

    program: Program
    name: str
    timeframe: Timeframe = ONE_DAY
    settings: Mapping[str, object] = field(default_factory=dict)
    relation: str = ""
    number: float = 0.0
    fresh: Fresh = Fresh.TRUE
    bars: int = 1
    extended: bool = False

    def op(self) -> Op:
        """The value that is asked for. Raises `KeyError` with a sentence."""
        found = named_values(self.program)
        if self.name not in found:
            hint = did_you_mean(self.name, found) or (f"It has {', '.join(found)}." if found else "It has none.")
            raise KeyError(f"The script has nothing called `{self.name}`. {hint}")
        op = found[self.name]
        if not op.is_flag and not self.relation:
            raise KeyError(f"`{self.name}` is a number. Compare it with something, as in > 0.")
        return op


class Field(StrEnum):
    """What a plain filter looks at."""

    PRICE = "price"
    CHANGE = "change"
    VOLUME = "average volume"
    SECTOR = "sector"
    SYMBOLS = "list"


@dataclass(frozen=True, slots=True)
class Plain:
    """A filter without a script: last price, change (a ratio), average volume of 20 days, sector, or a list."""

    field: Field
    relation: str = ">="
    number: float = 0.0
    words: frozenset[str] = frozenset()


class Join(StrEnum):
    """How the parts of a group go together."""

    ALL = "all"
    ANY = "any"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class Group:
    """Several conditions of which all, any or none must hold."""

    how: Join
    parts: tuple[Condition, ...]


Condition = Rule | Plain | Group


def named_values(program: Program) -> dict[str, Op]:
    """What of a script can stand in a condition: signals, columns and lines by name, values at its margin."""
    made: dict[str, Op] = {o.name: o.roles["value"] for o in program.signals}
    for output in program.outputs:
        if output.what in ("column", "line", "histogram") and output.name:
            op = output.roles["value"]
            if not op.is_shell:
                made.setdefault(output.name, op)
    for name, op in program.plan.values.items():
        if not op.is_shell:
            made.setdefault(name, op)
    return made


def rules_of(condition: Condition) -> list[Rule]:
    """Every rule of a condition, in order."""
    match condition:
        case Rule():
            return [condition]
        case Group():
            return [rule for part in condition.parts for rule in rules_of(part)]
    return []


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

    def work(part: Part) -> tuple[list[Found], list[str]]:
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

    def work(part: Part) -> list[Occurrence]:
        _prepare(condition, part, timeframe)
        if not part.symbols:
            return []
        panel = part.panel(timeframe)
        flags = evaluate(condition, Sight(part), timeframe)
        began = _begins(flags, panel)
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


def check(condition: Condition) -> None:
    """Raises `KeyError` or `RunProblem` for what can be known to be wrong before anything is read."""
    for rule in rules_of(condition):
        rule.op()
        rule.program.values_of(rule.settings)
        if rule.bars < 1:
            raise RunProblem("A number of bars is 1 or more.")
    _check_groups(condition)


def _check_groups(condition: Condition) -> None:
    if isinstance(condition, Group):
        if not condition.parts:
            raise RunProblem("The scan, or a group in it, has no condition yet. Add one.")
        for part in condition.parts:
            _check_groups(part)


def _frames(condition: Condition, timeframe: Timeframe) -> list[tuple[Timeframe, bool]]:
    frames = [(timeframe, False), *((r.timeframe, r.extended) for r in rules_of(condition))]
    if _asks_volume(condition):
        frames.append((ONE_DAY, False))
    return list(dict.fromkeys(frames))


def _asks_volume(condition: Condition) -> bool:
    match condition:
        case Plain():
            return condition.field is Field.VOLUME
        case Group():
            return any(_asks_volume(p) for p in condition.parts)
    return False


def _pieces(condition: Condition, library: BarSource, symbols: Iterable[str], timeframe: Timeframe) -> list[Part]:
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


def _found(condition: Condition, part: Part, timeframe: Timeframe) -> tuple[list[Found], list[str]]:
    """Looks at the last bars of each symbol first; at all of them only where those do not tell since when."""
    _prepare(condition, part, timeframe)
    if not part.symbols:
        return [], []
    recent = _recent(condition, part, timeframe)
    stored: dict[Frame, np.ndarray | None] = {}
    for frame, bars in recent.items():
        back = _reach(condition, part, frame)
        # The first longer bar may lose a part of its bars, so there is one more of them.
        stored[frame] = None if back is None else part.at_most(frame) * (bars + back + 1)
    part.shorten(stored)
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
    since = _last_change(flags, panel)
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


@dataclass(slots=True)
class Sight:
    """The bars of a part on which conditions are looked at: all, or on each timeframe the last so many of each symbol."""

    part: Part
    recent: Mapping[Frame, np.ndarray] | None = None
    _panels: dict[Frame, Panel] = field(default_factory=dict)

    def panel(self, timeframe: Timeframe, extended: bool = False) -> Panel:
        """The bars in sight on a timeframe."""
        frame = (timeframe, extended and timeframe.intraday)
        if frame not in self._panels:
            panel = self.part.panel(*frame)
            self._panels[frame] = panel if self.recent is None else panel.after(self._skips(frame, panel))
        return self._panels[frame]

    def _skips(self, frame: Frame, panel: Panel) -> np.ndarray:
        assert self.recent is not None
        return np.maximum(np.diff(panel.offsets) - self.recent[frame], 0)

    def all_of(self, rule: Rule) -> tuple[Panel, np.ndarray]:
        """Where a rule is true on all of its bars, if all were run; else on those in sight. Before them a rule that
        was begun late had not seen all that it looks at."""
        panel = self.part.panel(rule.timeframe, rule.extended)
        if panel.skipped is None:
            return panel, _raw(rule, self.part)
        return self.panel(rule.timeframe, rule.extended), self.flags(rule)

    def flags(self, rule: Rule) -> np.ndarray:
        """Where a rule is true on its own bars in sight, bool."""
        frame = (rule.timeframe, rule.extended and rule.timeframe.intraday)
        panel, raw = self.part.panel(*frame), _raw(rule, self.part)
        return raw if self.recent is None else without(raw, panel.offsets, self._skips(frame, panel))


def _recent(condition: Condition, part: Part, timeframe: Timeframe) -> dict[Frame, np.ndarray]:
    """How many of the last bars of each symbol tell whether a condition holds on the last `SINCE_BARS` bars.

    On another timeframe those are its bars from the last that was complete when the first of these was, and what
    the freshness of its rules looks back over.
    """
    base = (timeframe, False)
    asked: dict[Frame, int] = {base: 2}
    for rule in rules_of(condition):
        frame = (rule.timeframe, rule.extended and rule.timeframe.intraday)
        asked[frame] = max(asked.get(frame, 0), rule.bars + 2)
    if _asks_volume(condition):
        asked[ONE_DAY, False] = max(asked.get((ONE_DAY, False), 0), VOLUME_DAYS + 2)
    window = SINCE_BARS + 3
    made = {}
    for frame, bars in asked.items():
        if frame == base:
            made[frame] = np.full(len(part.symbols), window + bars)
        else:  # each of these bars is made of one stored bar at least
            made[frame] = part.since(frame, base, part.at_most(base) * window) + bars + 2
    return made


def _reach(condition: Condition, part: Part, frame: Frame) -> int | None:
    """How far back the rules on a timeframe look; None where that has no end."""
    longest = 0
    for rule in rules_of(condition):
        if (rule.timeframe, rule.extended and rule.timeframe.intraday) == frame:
            back = reach(rule.program, rule.settings, part.wanted[_source(rule)], rule.timeframe)
            if back is None:
                return None
            longest = max(longest, back)
    return longest


def evaluate(condition: Condition, sight: Sight, timeframe: Timeframe) -> np.ndarray:
    """Whether a condition holds, on every bar in sight of a timeframe; bool."""
    panel = sight.panel(timeframe)
    match condition:
        case Rule():
            return _as_of(_rule_flags(condition, sight), sight.panel(condition.timeframe, condition.extended), panel)
        case Plain():
            return _plain(condition, sight, panel)
        case Group():
            held = [evaluate(p, sight, timeframe) for p in condition.parts]
            if condition.how is Join.ALL:
                return np.logical_and.reduce(held)
            anything = np.logical_or.reduce(held)
            return anything if condition.how is Join.ANY else ~anything
    raise AssertionError(condition)


def _source(rule: Rule) -> Hashable:
    """What rules must share to be worked out in one pass."""
    return id(rule.program), rule.timeframe, rule.extended, tuple(sorted(rule.settings.items()))


def _prepare(condition: Condition, part: Part, timeframe: Timeframe) -> None:
    """Leaves out what cannot be read, and gathers what is asked of each script, so that it is run once."""
    part.need(_frames(condition, timeframe))
    for rule in rules_of(condition):
        ops = part.wanted.setdefault(_source(rule), [])
        if rule.op() not in ops:
            ops.append(rule.op())


def _raw(rule: Rule, part: Part) -> np.ndarray:
    """Where a rule is true on its own bars, bool."""
    op = rule.op()
    ops = part.wanted.get(_source(rule), [op])
    result = part.run(rule.program, rule.timeframe, rule.extended, rule.settings, ops)
    if not rule.relation:
        return result.flag(op) == 1
    numbers = result.number(op)
    with np.errstate(invalid="ignore"):
        return compared(numbers, rule.relation, rule.number)


def compared(numbers: np.ndarray, relation: str, number: float) -> np.ndarray:
    """Numbers against one; none never holds."""
    match relation:
        case ">":
            return numbers > number
        case ">=":
            return numbers >= number
        case "<":
            return numbers < number
        case "<=":
            return numbers <= number
    raise AssertionError(relation)


def _rule_flags(rule: Rule, sight: Sight) -> np.ndarray:
    """Where a rule holds with the freshness that it asks for."""
    raw, panel = sight.flags(rule), sight.panel(rule.timeframe, rule.extended)
    match rule.fresh:
        case Fresh.FIRES:
            return _begins(raw, panel)
        case Fresh.WITHIN:
            return _ages_of(raw, panel) < rule.bars
        case Fresh.LASTING:
            return raw & (_ages_of(~raw, panel, from_start=True) >= rule.bars)
    return raw


def _begins(flags: np.ndarray, panel: Panel) -> np.ndarray:
    """Where flags are true and were not on the bar before; a symbol's first bar begins nothing."""
    made = flags.copy()
    made[1:] &= ~flags[:-1]
    made[panel.starts[panel.starts < len(made)]] = False
    return made


def _ages_of(flags: np.ndarray, panel: Panel, *, from_start: bool = False) -> np.ndarray:
    """How old the last yes of a flag is, in bars within the symbol, int32; a huge number for never.

    With ``from_start`` the bar before a symbol's first counts as true.
    """
    at = np.arange(len(flags), dtype=np.int32)
    last = np.where(flags, at, np.int32(-1))
    # Before its first bar a symbol has nothing to look back to: what the one before it had must not be seen.
    firsts = panel.starts[panel.starts < len(flags)]
    fresh = firsts[~flags[firsts]]
    last[fresh] = fresh - 1 if from_start else fresh - _NEVER
    carried = _carried(last, panel.starts)
    return at - carried


def _carried(last: np.ndarray, starts: np.ndarray) -> np.ndarray:
    """The last mark at or before each bar, within each symbol; bars without a mark have -1."""
    marked = last != -1
    marked[starts[starts < len(last)]] = True
    firsts = np.flatnonzero(marked)
    return np.repeat(last[firsts], np.diff(np.append(firsts, len(last))))


def _last_change(flags: np.ndarray, panel: Panel) -> np.ndarray:
    """For each symbol, the bar since which the flag is as it is at the end."""
    changes = np.flatnonzero(flags[1:] != flags[:-1]) + 1
    at = np.searchsorted(changes, panel.ends, "left") - 1
    found = changes[np.maximum(at, 0)] if len(changes) else np.zeros(len(panel), dtype=np.int64)
    return np.maximum(np.where(at >= 0, found, 0), panel.starts)


def _as_of(flags: np.ndarray, panel: Panel, base: Panel) -> np.ndarray:
    """Flags of one timeframe on the bars of another: as of the last bar that was complete at each bar's close."""
    if panel is base:
        return flags
    if panel.is_ragged or base.is_ragged:
        return _as_of_each(flags, panel, base)
    made = np.empty(base.size, dtype=bool)
    for a, b in aligned(panel, base):
        at = np.searchsorted(panel.closes(a), base.closes(a), "right") - 1
        there = flags[panel.offsets[a] : panel.offsets[b]].reshape(b - a, -1)[:, np.maximum(at, 0)]
        there[:, at < 0] = False
        made[base.offsets[a] : base.offsets[b]] = there.ravel()
    return made


def _as_of_each(flags: np.ndarray, panel: Panel, base: Panel) -> np.ndarray:
    """The same where hardly any symbols share their times: one search over all, with the symbol before the time."""
    if not len(flags):
        return np.zeros(base.size, dtype=bool)

    def keys(of: Panel) -> np.ndarray:
        return (np.repeat(np.arange(len(of)), np.diff(of.offsets)) << 40) + of.all_closes() + _EARLIEST

    at = np.searchsorted(keys(panel), keys(base), "right") - 1
    begins = np.repeat(panel.starts, np.diff(base.offsets))
    return flags[np.maximum(at, 0)] & (at >= begins)


def _plain(condition: Plain, sight: Sight, panel: Panel) -> np.ndarray:
    infos = sight.part.library.infos
    match condition.field:
        case Field.SECTOR:
            held = [infos[s].sector in condition.words for s in panel.symbols]
            return panel.per_symbol([float(h) for h in held]) > 0
        case Field.SYMBOLS:
            return panel.per_symbol([float(s in condition.words) for s in panel.symbols]) > 0
        case Field.PRICE:
            numbers = panel.column("close")
        case Field.CHANGE:
            closes = panel.column("close")
            numbers = np.full(len(closes), np.nan)
            with np.errstate(invalid="ignore", divide="ignore"):
                numbers[1:] = closes[1:] / closes[:-1] - 1
            numbers[panel.starts[panel.starts < len(numbers)]] = np.nan
        case Field.VOLUME:
            days = sight.panel(ONE_DAY)
            with np.errstate(invalid="ignore"):
                return _as_of(compared(_average_volume(days), condition.relation, condition.number), days, panel)
    with np.errstate(invalid="ignore"):
        return compared(numbers, condition.relation, condition.number)


def _average_volume(days: Panel) -> np.ndarray:
    """The mean volume of the last twenty days of each symbol; none before there are as many."""
    made = np.full(len(days.times), np.nan)
    volume = np.nan_to_num(days.column("volume"))
    for a, b in zip(days.starts.tolist(), days.ends.tolist(), strict=True):
        if b - a >= VOLUME_DAYS:
            sums = np.concatenate([[0.0], np.cumsum(volume[a:b])])
            made[a + VOLUME_DAYS - 1 : b] = (sums[VOLUME_DAYS:] - sums[:-VOLUME_DAYS]) / VOLUME_DAYS
    return made
