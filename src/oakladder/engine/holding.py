"""Conditions on bars: whether they hold on every bar that is in sight, with the freshness that they ask for.

A condition gives a flag on every bar of the scan's own timeframe. A condition on a longer timeframe counts as
of its last bar that was complete; so the same evaluation serves today, yesterday and every day before.
"""

from __future__ import annotations

from collections.abc import Hashable, Mapping
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.end_to_end import without
from oakladder.bars.panel import Panel
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.market import Frame, MarketPart, aligned
from oakladder.engine.rules import VOLUME_DAYS, Condition, Field, Fresh, Group, Join, Plain, Rule

_NEVER = 10**9
#: Added to times, so that none of them is negative.
_EARLIEST = 1 << 38


@dataclass(slots=True)
class Sight:
    """The bars of a part on which conditions are looked at: all, or on each timeframe the last so many of each symbol."""

    part: MarketPart
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
            return panel, raw_flags(rule, self.part)
        return self.panel(rule.timeframe, rule.extended), self.flags(rule)

    def flags(self, rule: Rule) -> np.ndarray:
        """Where a rule is true on its own bars in sight, bool."""
        frame = (rule.timeframe, rule.extended and rule.timeframe.intraday)
        panel, raw = self.part.panel(*frame), raw_flags(rule, self.part)
        return raw if self.recent is None else without(raw, panel.offsets, self._skips(frame, panel))


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


def source(rule: Rule) -> Hashable:
    """What rules must share to be worked out in one pass."""
    return id(rule.program), rule.timeframe, rule.extended, tuple(sorted(rule.settings.items()))


def raw_flags(rule: Rule, part: MarketPart) -> np.ndarray:
    """Where a rule is true on its own bars, bool."""
    op = rule.op()
    ops = part.wanted.get(source(rule), [op])
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
            return begins(raw, panel)
        case Fresh.WITHIN:
            return _ages_of(raw, panel) < rule.bars
        case Fresh.LASTING:
            return raw & (_ages_of(~raw, panel, from_start=True) >= rule.bars)
    return raw


def begins(flags: np.ndarray, panel: Panel) -> np.ndarray:
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


def last_change(flags: np.ndarray, panel: Panel) -> np.ndarray:
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
