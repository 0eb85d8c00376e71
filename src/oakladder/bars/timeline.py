"""The times of the bars of many symbols, laid end to end, and what follows from them and the calendars alone."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Mapping
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np

from oakladder.bars.concatenation import end_to_end, ends_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.shared_times import remembered, remembered_by_name, shared
from oakladder.bars.timeframes import Timeframe


@dataclass(slots=True)
class Timeline:
    """When the bars of each symbol begin.

    Symbol ``k`` has the bars ``offsets[k]`` up to ``offsets[k + 1]``. Symbols that trade at the same times share one
    array of them, and what follows is worked out once for all of those. Where hardly any do (a *ragged* timeline)
    the times are one column, read when they are asked for, and everything is worked out for all symbols in one go.
    """

    timeframe: Timeframe
    calendars: tuple[Calendar, ...]
    offsets: np.ndarray
    #: The times of each symbol, as arrays that symbols share; None for a ragged timeline.
    parts: tuple[np.ndarray, ...] | None
    extended: bool = False
    #: Names of the symbols' times where they are ragged and whole: equal names, equal times.
    names: tuple[str, ...] = ()
    #: How many longer bars each symbol's bars make, where that is known without a look at the times.
    known_counts: Mapping[Timeframe, np.ndarray] = field(default_factory=dict)
    #: The time of the bar before each symbol's first, where this timeline goes on from another.
    previous: tuple[int | None, ...] | None = None
    #: Reads the times of a ragged timeline when they are first asked for.
    read: Callable[[], np.ndarray] | None = None
    _times: np.ndarray | None = None
    #: `longer.marks` of each timeframe that they were asked for.
    known_marks: dict[Timeframe, np.ndarray] = field(default_factory=dict)
    #: What others have worked out of it alone, to find again.
    facts: dict[Hashable, object] = field(default_factory=dict, compare=False, repr=False)

    def __len__(self) -> int:
        return len(self.calendars)

    @property
    def times(self) -> np.ndarray:
        """The time of every bar, end to end, int64 UTC seconds; laid out when it is first asked for. Shape (bars,)."""
        if self._times is None and self.parts is not None:
            self._times = end_to_end(list(self.parts)) if self.parts else np.zeros(0, dtype=np.int64)
        elif self._times is None:
            assert self.read is not None
            self._times = self.read()
        return self._times

    @property
    def is_unread(self) -> bool:
        """Whether the times have yet to be read."""
        return self._times is None and self.parts is None

    def take(self, times: np.ndarray) -> None:
        """Takes the times that were read together with something else. Shape (bars,), int64 UTC seconds."""
        self._times = times

    @property
    def is_ragged(self) -> bool:
        """Whether each symbol has separate times."""
        return self.parts is None

    @property
    def each(self) -> tuple[np.ndarray, ...]:
        """The times of each symbol. Each has shape (its bars,), int64 UTC seconds."""
        if self.parts is not None:
            return self.parts
        times = self.times
        return tuple(times[a:b] for a, b in pairwise(self.offsets.tolist()))

    def at(self, k: int, bar: int) -> int:
        """The time of a bar of symbol ``k``; ``bar`` counts through all symbols."""
        return int(self.times[bar] if self.parts is None else self.parts[k][bar - self.offsets[k]])

    @property
    def size(self) -> int:
        """How many bars all symbols have together."""
        return int(self.offsets[-1])

    @property
    def sizes(self) -> np.ndarray:
        """How many bars each symbol has, int64. Shape (symbols,)."""
        return np.diff(self.offsets)

    @property
    def firsts(self) -> np.ndarray:
        """The first bar of each symbol that has any. Shape (symbols with bars,), int64."""
        starts = self.offsets[:-1]
        return starts[starts < self.size]

    @property
    def began(self) -> np.ndarray:
        """When the first bar of each symbol began, int64; 0 without bars. Times are not laid out for it. Shape
        (symbols,)."""
        if self.parts is not None:
            return np.array([p[0] if len(p) else 0 for p in self.parts], dtype=np.int64)
        made = np.zeros(len(self), dtype=np.int64)
        there = self.sizes > 0
        made[there] = self.times[self.offsets[:-1][there]]
        return made

    def closes(self, k: int) -> np.ndarray:
        """When each bar of a symbol is complete. Shape (its bars,), int64 UTC seconds."""
        return self.calendars[k].closes(self.each[k], self.timeframe, self.extended)

    def all_closes(self) -> np.ndarray:
        """When each bar of every symbol is complete, end to end. Shape (bars,), int64 UTC seconds."""
        return self.by_symbol(lambda c, times: c.closes(times, self.timeframe, self.extended))

    def alike(self) -> list[tuple[int, int]]:
        """Runs of symbols, first up to last, that share their times and calendar: worked out once for all of them."""
        pairs = [(id(a), id(b)) for a, b in zip(self.each, self.calendars, strict=True)]
        cuts = [k for k in range(1, len(pairs)) if pairs[k] != pairs[k - 1]]
        return list(pairwise([0, *cuts, len(pairs)])) if pairs else []

    def among(self, first: int, last: int) -> Timeline:
        """The timeline of some of the symbols alone."""
        offsets = self.offsets[first : last + 1] - self.offsets[first]
        made = Timeline(
            self.timeframe,
            self.calendars[first:last],
            offsets,
            None if self.parts is None else self.parts[first:last],
            self.extended,
        )
        if self.parts is None:
            made.take(self.times[int(self.offsets[first]) : int(self.offsets[last])])
        return made

    def after(self, skips: np.ndarray) -> Timeline:
        """The timeline without the first ``skips[k]`` bars of each symbol. Shape (symbols,), int64."""
        parts = None if self.parts is None else _parts_after(self.parts, skips)
        return Timeline(self.timeframe, self.calendars, ends_of((self.sizes - skips).tolist()), parts, self.extended)

    def by_symbol(self, how: Callable[[Calendar, np.ndarray], np.ndarray]) -> np.ndarray:
        """Applies something to the times of each symbol by its calendar; once for all that share both. ``how`` keeps
        the shape (bars,) and chooses the dtype."""
        if self.parts is None:
            return self.by_calendar(self.times, self.offsets, how)
        done: dict[tuple[int, int], np.ndarray] = {}
        made = []
        for calendar, times in zip(self.calendars, self.parts, strict=True):
            key = (id(calendar), id(times))
            if key not in done:
                done[key] = how(calendar, times)
            made.append(done[key])
        return end_to_end(made) if made else np.zeros(0, dtype=np.int64)

    def by_calendar(
        self, times: np.ndarray, offsets: np.ndarray, how: Callable[[Calendar, np.ndarray], np.ndarray]
    ) -> np.ndarray:
        """Applies something to times of all symbols, laid end to end as ``offsets`` say, calendar by calendar. Times:
        shape (bars,), offsets: shape (symbols + 1,), both int64; ``how`` keeps the shape and chooses the dtype."""
        cuts = [k for k in range(1, len(self)) if self.calendars[k] is not self.calendars[k - 1]]
        runs = pairwise([0, *cuts, len(self)])
        return end_to_end([how(self.calendars[a], times[offsets[a] : offsets[b]]) for a, b in runs])

    def by_name(self, what: Hashable, sizes: list[int], work: Callable[[], np.ndarray]) -> np.ndarray:
        """A fact about a ragged timeline, remembered where its times have names. Shape (sum of ``sizes``,), dtype as
        ``work`` gives it."""
        if not self.names:
            return work()
        keys = [(name, calendar, what) for name, calendar in zip(self.names, self.calendars, strict=True)]
        return remembered_by_name(keys, sizes, work)


def _parts_after(parts: tuple[np.ndarray, ...], skips: np.ndarray) -> tuple[np.ndarray, ...]:
    """Shared times without their first bars, shared again."""
    made: list[np.ndarray] = []
    before, left_out = None, -1
    for times, skip in zip(parts, skips.tolist(), strict=True):
        if times is before and skip == left_out:
            made.append(made[-1])
        else:
            made.append(remembered(times, ("after", skip), lambda t=times, s=skip: shared(t[s:].copy())))  # type: ignore[misc]
        before, left_out = times, skip
    return tuple(made)
