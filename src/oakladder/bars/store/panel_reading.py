"""Many symbols read straight from where they are stored into the columns of a panel."""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial

import numpy as np

from oakladder.bars.adjustments import Adjustments
from oakladder.bars.bars import PRICES, regular_times, tidy
from oakladder.bars.concatenation import ends_of
from oakladder.bars.panel import Panel
from oakladder.bars.sessions import Calendar
from oakladder.bars.shared_times import shared
from oakladder.bars.store.append_log import Tail
from oakladder.bars.store.files import EARLIEST, kind_of
from oakladder.bars.store.offsets import ColumnOffsets, FileChanged, FileOffsets
from oakladder.bars.store.pack import Copies, calendar_name
from oakladder.bars.timeframes import Timeframe
from oakladder.bars.timeline import Timeline

#: Times are shared by so many symbols at least, or read like prices.
_SHARING = 6


@dataclass(frozen=True, slots=True)
class BarFile:
    """The file of a symbol's stored bars, and where its columns lie in it."""

    symbol: str
    path: str
    layout: ColumnOffsets


#: Finds the file of symbol ``k``.
Finder = Callable[[int], BarFile]


@dataclass(frozen=True, slots=True)
class Stored:
    """Where the bars of some symbols are: in a pack or in their files."""

    symbols: tuple[str, ...]
    calendars: tuple[Calendar, ...]
    copies: Copies
    #: The files of the symbols without a copy, by their numbers.
    files: dict[int, BarFile]
    #: Finds the file of any of them, should the pack be lost meanwhile.
    find: Finder
    offsets: FileOffsets
    #: Held while files are read.
    turn: threading.Lock
    #: What the prices of each symbol are to be adjusted by; None where none are.
    adjustments: tuple[Adjustments | None, ...] | None = None
    #: Bars that came live and follow those of the files, by the numbers of their symbols.
    tails: Mapping[int, Tail] = field(default_factory=dict)

    def counts(self) -> np.ndarray:
        """How many stored bars each symbol has, int64. Shape (symbols,)."""
        made = self.copies.counts
        for k, file in self.files.items():
            made[k] = file.layout.count
        for k, tail in self.tails.items():
            made[k] += len(tail)
        return made

    def count(self, k: int) -> int:
        """How many stored bars symbol ``k`` has."""
        return self.count_in_file(k) + (len(self.tails[k]) if k in self.tails else 0)

    def count_in_file(self, k: int) -> int:
        """How many of them its file has."""
        return self.files[k].layout.count if k in self.files else int(self.copies.counts[k])

    def last_in_file(self, k: int) -> int:
        """The time of the last bar in a symbol's file, UTC seconds. Raises `FileChanged` or `Unreadable`."""
        count, made = self.count_in_file(k), np.full(1, EARLIEST, dtype=np.int64)
        if count:
            self.read(np.array([k]), ["time"], np.array([count - 1]), [made], np.array([0, 1]))
        return int(made[0])

    def clocks_of_files(self) -> list[str]:
        """The name of the times in the file of each symbol: files with the same times have the same."""
        made = self.copies.clocks()
        for k, file in self.files.items():
            made[k] = file.layout.clock
        return made

    def clocks(self) -> list[str]:
        """The same of all times of each symbol."""
        made = self.clocks_of_files()
        for k, tail in self.tails.items():
            made[k] += tail.clock
        return made

    def versions(self) -> np.ndarray:
        """What tells that the bars of each symbol are as they were: when its file was modified and changed, its size, and
        its calendar with what its prices are adjusted by; int64, shape (symbols, 4)."""
        made = np.empty((len(self.symbols), 4), dtype=np.int64)
        made[:, :3] = self.copies.states()
        for k, file in self.files.items():
            made[k, :3] = file.layout.state
        numbers = {c: int(calendar_name(c)[:15], 16) for c in set(self.calendars)}
        made[:, 3] = [numbers[c] for c in self.calendars]
        for k, adjustments in enumerate(self.adjustments or ()):
            if adjustments is not None:
                made[k, 3] ^= adjustments.number
        for k, tail in self.tails.items():
            made[k, 3] ^= int.from_bytes(tail.digest[:7])
        return made

    def is_clean(self) -> bool:
        """Whether no number of them is absurd."""
        return bool(self.copies.clean[self.copies.there].all()) and all(f.layout.clean for f in self.files.values())

    def read(
        self,
        which: np.ndarray,
        names: Sequence[str],
        firsts: np.ndarray,
        into: Sequence[np.ndarray],
        places: np.ndarray,
    ) -> None:
        """Reads the bars of symbols ``which`` from ``firsts`` on to ``into[…][places[j]:places[j + 1]]``, for each name.

        Raises `FileChanged` or `Unreadable`.

        Which and firsts: shape (symbols read,), places: one more, all int64; each of ``into``: shape (bars,), float64,
        for ``time`` int64.
        """
        counts = np.diff(places)
        if self.tails:
            counts = self._from_tails(which, names, firsts, counts, into, places)
        packed = self.copies.there[which]
        starts, sizes = places[:-1][packed], counts[packed]
        if packed.any() and not self._unpack(which[packed], names, firsts[packed], into, starts, sizes):
            packed = np.zeros(len(which), dtype=bool)
        rest = np.flatnonzero(~packed).tolist()
        if not rest:
            return
        # Two threads that both read hand the interpreter to and fro with every call, and take longer than one;
        # while one reads, the other can run what it has read.
        with self.turn:
            for j in rest:
                k = int(which[j])
                file = self.files[k] if k in self.files else self._found_again(k)
                parts = [m[places[j] : places[j] + counts[j]] for m in into]
                self.offsets.read_of(file.symbol, file.path, file.layout, names, parts, int(firsts[j]))

    def _from_tails(
        self,
        which: np.ndarray,
        names: Sequence[str],
        firsts: np.ndarray,
        counts: np.ndarray,
        into: Sequence[np.ndarray],
        places: np.ndarray,
    ) -> np.ndarray:
        """Copies what follows the files; gives how many bars of each symbol are left to be read. Arrays as in `read`."""
        left = counts.copy()
        for j, k in enumerate(which.tolist()):
            if k not in self.tails:
                continue
            first, count = int(firsts[j]), int(counts[j])
            own = self.count_in_file(k)
            left[j] = min(max(own - first, 0), count)
            skip = max(first - own, 0)
            for name, array in zip(names, into, strict=True):
                array[places[j] + left[j] : places[j] + count] = self.tails[k][name][skip : skip + count - left[j]]
        return left

    def _found_again(self, k: int) -> BarFile:
        """The file of which there was a copy. Raises `FileChanged` where it is another by now."""
        file = self.find(k)
        if file.layout.state != self.copies.state(k):
            raise FileChanged(f"The bars of {file.symbol} were changed while they were read. Try again.")
        return file

    def _unpack(
        self,
        which: np.ndarray,
        names: Sequence[str],
        firsts: np.ndarray,
        into: Sequence[np.ndarray],
        starts: np.ndarray,
        counts: np.ndarray,
    ) -> bool:
        """Reads from the pack; returns whether the pack was unchanged."""
        pack = self.copies.pack
        assert pack is not None
        slots = self.copies.slots[which]
        whole = all(pack.read(slots, n, firsts, counts, starts, m) for n, m in zip(names, into, strict=True))
        return whole and pack.is_as_it_was


@dataclass(frozen=True, slots=True)
class _StoredColumns:
    """Columns that are read when they are asked for."""

    stored: Stored
    #: How many bars of each symbol belong to the panel, and which ones of those stored; None where all do.
    counts: np.ndarray
    kept: list[np.ndarray | None]

    def read(self, names: Sequence[str], skips: np.ndarray | None = None) -> list[np.ndarray]:
        if self.stored.adjustments is not None and "time" not in names and set(PRICES) & set(names):
            return self.read([*names, "time"], skips)[:-1]
        firsts = np.zeros(len(self.counts), dtype=np.int64) if skips is None else skips
        places = ends_of(self.counts - firsts)
        made = [np.empty(places[-1], dtype=kind_of(n)) for n in names]
        whole = np.array([k is None for k in self.kept], dtype=bool)
        if whole.all():
            self.stored.read(np.arange(len(whole)), names, firsts, made, places)
        else:
            for k, (keep, first) in enumerate(zip(self.kept, firsts.tolist(), strict=True)):
                parts = [m[places[k] : places[k + 1]] for m in made]
                if len(parts[0]):
                    self._some(k, keep, names, first, parts)
        self._adjust(names, made, places)
        if self.stored.is_clean():
            return made
        return [m if n == "time" else tidy(m) for n, m in zip(names, made, strict=True)]

    def _adjust(self, names: Sequence[str], made: Sequence[np.ndarray], places: np.ndarray) -> None:
        """Makes the stored prices, which are real ones, adjusted ones."""
        prices = [k for k, name in enumerate(names) if name in PRICES]
        if self.stored.adjustments is None or not prices:
            return
        times, calendar, days = np.zeros(0, dtype=np.int64), None, np.zeros(0, dtype=np.int64)
        for k, adjustments in enumerate(self.stored.adjustments):
            if adjustments is None:
                continue
            part = slice(places[k], places[k + 1])
            own, its = made[names.index("time")][part], self.stored.calendars[k]
            if its != calendar or not np.array_equal(own, times):  # most symbols of a market have the same
                times, calendar, days = own, its, its.days(own)
            factor = adjustments.on_days(days)
            for j in prices:
                made[j][part] *= factor

    def _some(self, k: int, keep: np.ndarray | None, names: Sequence[str], first: int, parts: list[np.ndarray]) -> None:
        """Reads one symbol, of whose stored bars perhaps only some belong to the panel."""
        begin = first if keep is None else int(keep[first])
        end = begin + len(parts[0]) if keep is None else int(keep[-1]) + 1
        raw = parts if keep is None else [np.empty(end - begin, dtype=p.dtype) for p in parts]
        self.stored.read(np.array([k]), names, np.array([begin]), raw, np.array([0, end - begin]))
        if keep is not None:
            for whole, part in zip(raw, parts, strict=True):
                np.take(whole, keep[first:] - begin, out=part, mode="clip")

    def times(self) -> np.ndarray:
        return self.read(["time"])[0]


def _regular_with_tail(
    times: np.ndarray, regular: tuple[np.ndarray, np.ndarray] | None, tail: np.ndarray, calendar: Calendar
) -> tuple[np.ndarray, np.ndarray | None]:
    """The regular times of a file with those that follow it, and where they are; None where all are. Only the latter are
    looked at anew: the ``regular`` ones of the file are known. Shapes (bars,), int64."""
    inside = calendar.is_regular(tail)
    if regular is None and inside.all():
        return shared(np.concatenate([times, tail])), None
    own, places = regular if regular is not None else (times, np.arange(len(times)))
    kept = np.concatenate([places, len(times) + np.flatnonzero(inside)])
    return shared(np.concatenate([own, tail[inside]])), kept


def read_panel(stored: Stored, base: Timeframe, extended: bool, times_of: Callable[[int, str], np.ndarray]) -> Panel:
    """A panel whose columns are read when they are asked for.

    ``times_of`` gives the times in the file of symbol ``k``, whose name is known, as the array that it shares with others.

    Shape (bars,), int64.
    """
    symbols, clocks = stored.symbols, stored.clocks()
    kept: list[np.ndarray | None] = [None] * len(symbols)
    counts = stored.counts()
    parts: list[np.ndarray] | None = None
    # Times that hardly any symbols share are read like prices; regular hours are found by the times.
    by_hours = base.intraday and not extended
    if by_hours or len(set(clocks)) <= max(len(symbols) // _SHARING, 1):
        parts = [times_of(k, clock) for k, clock in enumerate(stored.clocks_of_files())]
    if parts is not None and by_hours:
        for k, calendar in enumerate(stored.calendars):
            regular = regular_times(parts[k], calendar)
            if k in stored.tails:
                parts[k], kept[k] = _regular_with_tail(parts[k], regular, stored.tails[k].times, calendar)
            elif regular is not None:
                parts[k], kept[k] = regular
        counts = np.array([len(p) for p in parts], dtype=np.int64)
    elif parts is not None:
        for k, tail in stored.tails.items():
            parts[k] = shared(np.concatenate([parts[k], tail.times]))
    source = _StoredColumns(stored, counts, kept)
    timeline = Timeline(
        base,
        stored.calendars,
        ends_of(counts),
        None if parts is None else tuple(parts),
        extended,
        names=() if parts is not None else tuple(clocks),
        known_counts={} if base.intraday or stored.tails else stored.copies.longer_counts(stored.calendars),
    )
    if parts is None:
        timeline.read = partial(_StoredColumns.times, source)
    return Panel(symbols, timeline, source=source, versions=stored.versions(), adjustments=stored.adjustments)
