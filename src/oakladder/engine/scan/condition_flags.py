"""Conditions on bars: whether they hold on every visited bar, with their trigger mode.

A condition gives a flag on every bar of the scan's own timeframe. A condition on a longer timeframe counts as
of its last bar that was complete; so the same evaluation serves today, yesterday and every day before.
"""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from oakladder.bars.concatenation import without
from oakladder.bars.panel import Panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.tail_view import tail_view
from oakladder.engine.bar_selection import DAYS, BarSelection
from oakladder.engine.scan.conditions import (
    VOLUME_DAYS,
    Condition,
    Field,
    FieldFilter,
    Group,
    Join,
    Relation,
    Rule,
    TriggerMode,
    rules_of,
    uses_volume,
)
from oakladder.engine.universe.bars import UniverseView, aligned
from oakladder.rung.plan.ops import Op

#: What of a script on a timeframe (see `source`) → the values that are wanted of it.
Asked = Mapping[Hashable, list[Op]]
_NEVER = 10**9
#: Added to times to keep them positive.
_EARLIEST = 1 << 38


@dataclass(slots=True)
class ConditionBars:
    """The bars on which conditions are looked at: all of a view, or on each timeframe the last so many of each symbol.

    ``asked`` are the values that are wanted of each script, so that it is run once.
    """

    view: UniverseView
    library: BarSource
    asked: Asked
    recent: Mapping[BarSelection, np.ndarray] | None = None
    _panels: dict[BarSelection, Panel] = field(default_factory=dict)

    def panel(self, frame: BarSelection) -> Panel:
        """The bars on a timeframe."""
        if frame not in self._panels:
            panel = self.view.panel(frame)
            self._panels[frame] = panel if self.recent is None else tail_view(panel, self._skips(frame, panel))
        return self._panels[frame]

    def _skips(self, frame: BarSelection, panel: Panel) -> np.ndarray:
        assert self.recent is not None
        return np.maximum(panel.timeline.sizes - self.recent[frame], 0)

    def all_of(self, rule: Rule) -> tuple[Panel, np.ndarray]:
        """Where a rule is true on all of its bars, if all were run; else on the last ones. Before them a rule that was
        begun late had not seen all that it looks at. Shape (bars of the panel,), bool."""
        panel = self.view.panel(rule.frame)
        if panel.skipped is None:
            return panel, self._raw(rule)
        return self.panel(rule.frame), self.flags(rule)

    def flags(self, rule: Rule) -> np.ndarray:
        """Where a rule is true on its own bars, bool. Shape (bars,)."""
        panel, raw = self.view.panel(rule.frame), self._raw(rule)
        return raw if self.recent is None else without(raw, panel.offsets, self._skips(rule.frame, panel))

    def _raw(self, rule: Rule) -> np.ndarray:
        """Where a rule is true on all of its bars in the view, bool."""
        op = rule.op()
        result = self.view.run(rule.program, rule.frame, rule.settings, self.asked[source(rule)])
        if rule.relation is None:
            return result.flag(op) == 1
        with np.errstate(invalid="ignore"):
            return compared(result.number(op), rule.relation, rule.number)


def evaluate(condition: Condition, bars: ConditionBars, frame: BarSelection) -> np.ndarray:
    """Whether a condition holds, on every bar of a timeframe; bool. Shape (bars,)."""
    panel = bars.panel(frame)
    match condition:
        case Rule():
            return _as_of(_rule_flags(condition, bars), bars.panel(condition.frame), panel)
        case FieldFilter():
            return _plain(condition, bars, panel)
        case Group():
            return joined(condition.how, [evaluate(p, bars, frame) for p in condition.parts])
    raise AssertionError(condition)


def joined(how: Join, held: Sequence[np.ndarray]) -> np.ndarray:
    """The flags of several conditions as those of one. Each: shape (bars,), bool; so is the result."""
    if how is Join.ALL:
        return np.logical_and.reduce(held)
    anything = np.logical_or.reduce(held)
    return anything if how is Join.ANY else ~anything


def source(rule: Rule) -> Hashable:
    """What rules must share to be worked out in one pass."""
    return id(rule.program), rule.frame, tuple(sorted(rule.settings.items()))


def frames_of(condition: Condition, frame: BarSelection) -> list[BarSelection]:
    """The frames whose bars a condition on the bars of a frame looks at, its own first."""
    days = [DAYS] if uses_volume(condition) else []
    return list(dict.fromkeys([frame, *(r.frame for r in rules_of(condition)), *days]))


def asked_of(rules: Iterable[Rule]) -> Asked:
    """The values that some rules ask of each script on each timeframe."""
    made: dict[Hashable, list[Op]] = {}
    for rule in rules:
        ops = made.setdefault(source(rule), [])
        if rule.op() not in ops:
            ops.append(rule.op())
    return made


def compared(numbers: np.ndarray, relation: Relation, number: float) -> np.ndarray:
    """Numbers against one; none never holds. Any shape, float64; bool of that shape."""
    match relation:
        case Relation.ABOVE:
            return numbers > number
        case Relation.AT_LEAST:
            return numbers >= number
        case Relation.BELOW:
            return numbers < number
        case Relation.AT_MOST:
            return numbers <= number


def _rule_flags(rule: Rule, bars: ConditionBars) -> np.ndarray:
    """Where a rule holds with the freshness that it asks for."""
    raw, panel = bars.flags(rule), bars.panel(rule.frame)
    match rule.fresh:
        case TriggerMode.FIRES:
            return begins(raw, panel)
        case TriggerMode.WITHIN:
            return _ages_of(raw, panel) < rule.bars
        case TriggerMode.LASTING:
            return raw & (_ages_of(~raw, panel, from_start=True) >= rule.bars)
    return raw


def begins(flags: np.ndarray, panel: Panel) -> np.ndarray:
    """Where flags are true and were not on the bar before; a symbol's first bar begins nothing. Shape (bars,), bool; so
    is the result."""
    made = flags.copy()
    made[1:] &= ~flags[:-1]
    made[panel.timeline.firsts] = False
    return made


def _ages_of(flags: np.ndarray, panel: Panel, *, from_start: bool = False) -> np.ndarray:
    """How old the last yes of a flag is, in bars within the symbol, int32; a huge number for never.

    With ``from_start`` the bar before a symbol's first counts as true.
    """
    at = np.arange(len(flags), dtype=np.int32)
    last = np.where(flags, at, np.int32(-1))
    # Before its first bar a symbol has nothing to look back to: what the one before it had must not be seen.
    firsts = panel.timeline.firsts
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
    """For each symbol, the bar since which the flag is as it is at the end. Flags: shape (bars,), bool; gives shape
    (symbols,), int64 bars of the panel."""
    changes = np.flatnonzero(flags[1:] != flags[:-1]) + 1
    at = np.searchsorted(changes, panel.ends, "left") - 1
    found = changes[np.maximum(at, 0)] if len(changes) else np.zeros(len(panel), dtype=np.int64)
    return np.maximum(np.where(at >= 0, found, 0), panel.starts)


def _as_of(flags: np.ndarray, panel: Panel, base: Panel) -> np.ndarray:
    """Flags of one timeframe on the bars of another: as of the last bar that was complete at each bar's close."""
    if panel is base:
        return flags
    if panel.timeline.is_ragged or base.timeline.is_ragged:
        return _as_of_each(flags, panel, base)
    made = np.empty(base.size, dtype=bool)
    for a, b in aligned(panel, base):
        at = np.searchsorted(panel.timeline.closes(a), base.timeline.closes(a), "right") - 1
        there = flags[panel.offsets[a] : panel.offsets[b]].reshape(b - a, -1)[:, np.maximum(at, 0)]
        there[:, at < 0] = False
        made[base.offsets[a] : base.offsets[b]] = there.ravel()
    return made


def _as_of_each(flags: np.ndarray, panel: Panel, base: Panel) -> np.ndarray:
    """The same where hardly any symbols share their times: one search over all, with the symbol before the time."""
    if not len(flags):
        return np.zeros(base.size, dtype=bool)

    def keys(of: Panel) -> np.ndarray:
        return (np.repeat(np.arange(len(of)), of.timeline.sizes) << 40) + of.timeline.all_closes() + _EARLIEST

    at = np.searchsorted(keys(panel), keys(base), "right") - 1
    begins = np.repeat(panel.starts, base.timeline.sizes)
    return flags[np.maximum(at, 0)] & (at >= begins)


def _plain(condition: FieldFilter, bars: ConditionBars, panel: Panel) -> np.ndarray:
    infos = bars.library.infos
    match condition.field:
        case Field.SECTOR:
            held = [infos[s].sector in condition.words for s in panel.symbols]
            return panel.per_symbol(float(h) for h in held) > 0
        case Field.SYMBOLS:
            return panel.per_symbol(float(s in condition.words) for s in panel.symbols) > 0
        case Field.PRICE:
            numbers = panel.column("close")
        case Field.CHANGE:
            closes = panel.column("close")
            numbers = np.full(len(closes), np.nan)
            with np.errstate(invalid="ignore", divide="ignore"):
                numbers[1:] = closes[1:] / closes[:-1] - 1
            numbers[panel.timeline.firsts] = np.nan
        case Field.VOLUME:
            days = bars.panel(DAYS)
            with np.errstate(invalid="ignore"):
                return _as_of(compared(average_volume(days), condition.relation, condition.number), days, panel)
    with np.errstate(invalid="ignore"):
        return compared(numbers, condition.relation, condition.number)


def average_volume(days: Panel) -> np.ndarray:
    """The mean volume of the last twenty days of each symbol; none before there are as many. Shape (symbols,), float64."""
    made = np.full(len(days.times), np.nan)
    volume = np.nan_to_num(days.column("volume"))
    for a, b in zip(days.starts.tolist(), days.ends.tolist(), strict=True):
        if b - a >= VOLUME_DAYS:
            sums = np.concatenate([[0.0], np.cumsum(volume[a:b])])
            made[a + VOLUME_DAYS - 1 : b] = (sums[VOLUME_DAYS:] - sums[:-VOLUME_DAYS]) / VOLUME_DAYS
    return made
