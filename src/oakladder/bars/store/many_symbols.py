"""Many symbols of a library at once: which have bars, and panels of them, from packs and from their own files."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np

from oakladder.bars.adjustments import any_of
from oakladder.bars.bars import regular_times
from oakladder.bars.panel import Panel
from oakladder.bars.shared_times import shared
from oakladder.bars.store.append_log import AppendLog
from oakladder.bars.store.files import stem_of
from oakladder.bars.store.offsets import FileOffsets
from oakladder.bars.store.pack import Copies, Pack
from oakladder.bars.store.packing import bring_up
from oakladder.bars.store.panel_reading import BarFile, Stored, read_panel
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe

#: The most bytes of times that are remembered for panels; what follows from them is about as much again.
MOST_CLOCKS = 100_000_000


class ManySymbols:
    """Reads many symbols of one library. ``infos`` gives what is known of symbols, ``file_of`` the file of one as it is
    now; that raises `DataProblem`. ``log`` has the bars that follow those of the files."""

    def __init__(
        self,
        folder: Path,
        offsets: FileOffsets,
        infos: Callable[[], Mapping[str, SymbolInfo]],
        file_of: Callable[[str, Timeframe], BarFile],
        log: AppendLog,
    ):
        self._offsets, self._infos, self._file_of, self._log = offsets, infos, file_of, log
        self._packs = {base: Pack(folder, base) for base in (ONE_DAY, ONE_MINUTE)}
        self._reading, self._lock = threading.Lock(), threading.Lock()
        self._clocks: OrderedDict[str, np.ndarray] = OrderedDict()
        self._clock_bytes = 0

    def _stored(self, names: Sequence[str], base: Timeframe) -> Stored:
        """Where the bars of symbols are. Raises `KeyError` for an unknown symbol, `DataProblem`."""
        # What follows the files is looked up first: a fold puts it into the file before it drops it.
        known = self._log.names
        live = {k: self._log.tail(s, base) for k, s in enumerate(names) if s in known} if known else {}
        copies = self._packs[base].copies([stem_of(s) for s in names])
        made = self._in_files(names, copies, lambda k: self._file_of(names[k], base))
        tails = {k: tail.after(made.last_in_file(k)) for k, tail in live.items() if len(tail)}
        tails = {k: tail for k, tail in tails.items() if len(tail)}
        return replace(made, tails=tails) if tails else made

    def _in_files(self, names: Sequence[str], copies: Copies, find: Callable[[int], BarFile]) -> Stored:
        infos = self._infos()
        calendars = tuple(infos[s].calendar for s in names)
        found = {k: find(k) for k in np.flatnonzero(~copies.there).tolist()}
        adjustments = any_of([infos[s].adjustments for s in names])
        return Stored(tuple(names), calendars, copies, found, find, self._offsets, self._reading, adjustments)

    def panel(self, names: Sequence[str], base: Timeframe, extended: bool) -> Panel:
        """Stored bars of several symbols; no column is read yet. Raises `KeyError` for an unknown symbol, `DataProblem`."""
        stored = self._stored(names, base)
        return read_panel(stored, base, extended, partial(self._clock, stored))

    def at_hand(self, names: Sequence[str], base: Timeframe, whole: bool) -> dict[str, int]:
        """How many bars there are of the symbols that are packed and have any; of minutes those inside regular hours,
        or the ``whole`` of them."""
        copies = self._packs[base].copies([stem_of(s) for s in names])
        there, known = copies.there, self._log.names
        if known:  # what follows the files counts too: those are asked one by one
            there = there & np.array([s not in known for s in names], dtype=bool)
        names = [name for name, is_there in zip(names, there.tolist(), strict=True) if is_there]
        copies = Copies(copies.pack, copies.slots[there])
        counts = copies.counts.tolist()
        if not whole:
            stored, clocks = self._in_files(names, copies, lambda k: self._file_of(names[k], base)), copies.clocks()
            counts = [self._regular(stored, k, clocks[k], count) for k, count in enumerate(counts)]
        return {name: count for name, count in zip(names, counts, strict=True) if count}

    def count(self, symbol: str, base: Timeframe, whole: bool) -> int:
        """How many stored bars a symbol has; of minutes those inside regular hours, or the ``whole`` of them. Raises
        `DataProblem`."""
        stored = self._stored([symbol], base)
        count, tail = stored.count_in_file(0), stored.tails.get(0)
        if whole:
            return stored.count(0)
        inside = self._regular(stored, 0, stored.clocks_of_files()[0], count) if count else 0
        return inside + (int(np.count_nonzero(stored.calendars[0].is_regular(tail.times))) if tail is not None else 0)

    def last(self, symbol: str, base: Timeframe) -> int | None:
        """The time of the last bar in a symbol's file, UTC seconds; None for an empty one. Raises `DataProblem`."""
        file = self._file_of(symbol, base)
        stored = self._in_files([symbol], Copies(None, np.full(1, -1)), lambda _: file)
        return stored.last_in_file(0) if file.layout.count else None

    def _regular(self, stored: Stored, k: int, clock: str, count: int) -> int:
        kept = regular_times(self._clock(stored, k, clock), stored.calendars[k])
        return count if kept is None else len(kept[0])

    def _clock(self, stored: Stored, k: int, name: str) -> np.ndarray:
        """The times in the file of a symbol, as the array that it shares with others; read for the first of them only."""
        with self._lock:
            known = self._clocks.get(name)
        if known is not None:
            return known
        times = np.empty(stored.count_in_file(k), dtype=np.int64)
        if len(times):
            stored.read(np.array([k]), ["time"], np.zeros(1, dtype=np.int64), [times], np.array([0, len(times)]))
        times = shared(times)
        with self._lock:
            if name not in self._clocks:
                self._clocks[name] = times
                self._clock_bytes += times.nbytes
            while self._clock_bytes > MOST_CLOCKS and len(self._clocks) > 1:
                self._clock_bytes -= self._clocks.popitem(last=False)[1].nbytes
        return times

    def pack(self, cancelled: Callable[[], bool] | None) -> int:
        """Puts into the packs what they lack; gives how many copies were made."""
        calendars = {stem_of(s): info.calendar for s, info in self._infos().items()}
        return sum(bring_up(pack, self._offsets, calendars, cancelled) for pack in self._packs.values())
