"""Longer bars over a timeline: which of its bars make each, where they begin and end."""

from __future__ import annotations

import numpy as np

from oakladder.bars.concatenation import end_to_end, ends_of
from oakladder.bars.resample import fits, shared_groups
from oakladder.bars.sessions import BEGINS, COMPLETES
from oakladder.bars.timeframes import Timeframe
from oakladder.bars.timeline import Timeline


def groups(timeline: Timeline, timeframe: Timeframe) -> tuple[np.ndarray, np.ndarray, Timeline]:
    """First and last bar of each longer bar of every symbol, and the timeline of the longer bars. Shape (longer bars,)
    of all symbols end to end, int64."""
    extended = timeline.extended and timeframe.intraday
    if timeline.parts is not None:
        firsts, lasts, parts = _shared_groups(timeline, timeframe)
        made = Timeline(timeframe, timeline.calendars, ends_of([len(p) for p in parts]), parts, extended)
        return firsts, lasts, made
    periods = timeline.by_symbol(lambda c, times: c.periods(times, timeframe))
    opens = np.ones(len(periods), dtype=bool)
    opens[1:] = periods[1:] != periods[:-1]
    opens[timeline.firsts] = True
    first = np.flatnonzero(opens)
    last = np.append(first[1:], len(periods)) - 1
    offsets = np.searchsorted(first, timeline.offsets).astype(np.int64)
    made = Timeline(timeframe, timeline.calendars, offsets, None, extended)
    made.take(timeline.by_calendar(timeline.times[first], offsets, lambda c, t: c.opens(t, timeframe)))
    return first, last, made


def _shared_groups(timeline: Timeline, timeframe: Timeframe) -> tuple[np.ndarray, np.ndarray, tuple[np.ndarray, ...]]:
    """The same, worked out once for symbols that are alike, with the longer bars' times of each symbol."""
    firsts, lasts, parts = [], [], []
    for a, b in timeline.alike():
        first, last, part = shared_groups(timeline.each[a], timeline.calendars[a], timeframe)
        firsts.append((timeline.offsets[a:b, None] + first).ravel())
        lasts.append((timeline.offsets[a:b, None] + last).ravel())
        parts += [part] * (b - a)
    return end_to_end(firsts), end_to_end(lasts), tuple(parts)


def count_longer(timeline: Timeline, timeframe: Timeframe) -> np.ndarray:
    """How many longer bars each symbol's bars make, int64. Shape (symbols,)."""
    if timeline.parts is not None:
        made = np.zeros(len(timeline), dtype=np.int64)
        for a, b in timeline.alike():
            made[a:b] = len(shared_groups(timeline.parts[a], timeline.calendars[a], timeframe)[0])
        return made
    known = timeline.known_counts.get(timeframe)
    if known is not None:
        return known
    return timeline.by_name(("longer", timeframe), [1] * len(timeline), lambda: groups(timeline, timeframe)[2].sizes)


def begins(timeline: Timeline, timeframe: Timeframe) -> np.ndarray:
    """1 on bars with which a bar of the timeframe begins, else 0; float64. All do if it is no longer than theirs. Shape
    (bars,)."""
    if timeframe.order <= timeline.timeframe.order:
        return np.ones(timeline.size)
    periods = timeline.by_symbol(lambda c, times: c.periods(times, timeframe))
    made = np.ones(len(periods))
    made[1:] = periods[1:] != periods[:-1]
    made[timeline.firsts] = 1.0
    for k, before in enumerate(timeline.previous or ()):  # where this timeline goes on from another
        start, end = timeline.offsets[k], timeline.offsets[k + 1]
        if before is not None and end > start:
            period = timeline.calendars[k].periods(np.array([before]), timeframe)[0]
            made[start] = float(periods[start] != period)
    return made


def marks(timeline: Timeline, timeframe: Timeframe) -> np.ndarray:
    """`Calendar.marks` for every bar, uint8; worked out once. Raises `ValueError` if the timeframe does not fit. Shape
    (bars,)."""
    if timeframe not in timeline.known_marks:
        timeline.known_marks[timeframe] = _made_marks(timeline, timeframe)
    return timeline.known_marks[timeframe]


def _made_marks(timeline: Timeline, timeframe: Timeframe) -> np.ndarray:
    if timeframe.order < timeline.timeframe.order:
        raise ValueError(
            f"The script asks for {timeframe}, which is shorter than the {timeline.timeframe} it runs on. "
            f"Run it on {timeframe} or less."
        )
    if not fits(timeline.timeframe, timeframe):
        raise ValueError(
            f"The script asks for {timeframe}, and {timeframe} bars cannot be made of {timeline.timeframe} bars."
        )
    if timeline.is_ragged and timeline.previous is None:
        return _ragged_marks(timeline, timeframe)
    previous = timeline.previous or (None,) * len(timeline)
    parts = [
        c.marks(times, timeline.timeframe, timeframe, timeline.extended, before)
        for c, times, before in zip(timeline.calendars, timeline.each, previous, strict=True)
    ]
    return end_to_end(parts) if parts else np.zeros(0, dtype=np.uint8)


def _ragged_marks(timeline: Timeline, timeframe: Timeframe) -> np.ndarray:
    """The marks of all symbols in one go: what the bar before left open does not reach into the next symbol."""

    def work() -> np.ndarray:
        made = timeline.by_symbol(lambda c, times: c.marks(times, timeline.timeframe, timeframe, timeline.extended))
        firsts = timeline.firsts
        made[firsts] = (made[firsts] & COMPLETES) | BEGINS
        return made

    return timeline.by_name(("marks", timeline.timeframe, timeframe, timeline.extended), timeline.sizes.tolist(), work)
