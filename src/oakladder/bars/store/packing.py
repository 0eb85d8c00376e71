"""Creates and updates packs: appends what is missing, or rewrites the whole."""

from __future__ import annotations

import contextlib
import logging
import os
import shutil
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import BinaryIO

import numpy as np
import pyarrow as pa

from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.access import PACKING_LOCK, note_in
from oakladder.bars.store.files import NAMES, kind_of
from oakladder.bars.store.offsets import ColumnOffsets, FileOffsets, state_of
from oakladder.bars.store.pack import Pack, calendar_name, settled
from oakladder.bars.store.pack_index import (
    CALENDAR,
    CHANGED,
    CLEAN,
    CLOCK,
    COUNT,
    MODIFIED,
    MONTHS,
    OFFSETS,
    SIZE,
    WEEKS,
    WIDTH,
    PackIndex,
    index_bytes,
)
from oakladder.bars.timeframes import ONE_MONTH, ONE_WEEK
from oakladder.disk import replacing, write_atomic
from oakladder.locks import locked
from oakladder.tuning import TUNING

_log = logging.getLogger(__name__)
#: A pack is made only where this many times its bytes are free on the disk, and these bytes besides.
_FREE_TIMES, _FREE_BYTES = 3, 500_000_000
_SCHEMA = pa.schema([("time", pa.timestamp("s", "UTC"))] + [(name, pa.float64()) for name in NAMES if name != "time"])
_BAR_BYTES = 8 * len(NAMES)


def bring_up(
    pack: Pack, files: FileOffsets, calendars: Mapping[str, Calendar], cancelled: Callable[[], bool] | None = None
) -> int:
    """Puts into a pack what it lacks of the files whose names begin so, each with its calendar; gives how many symbols
    were written.

    Whatever goes wrong, nothing is lost but time: a pack that is not as its index says does not count. Nothing is
    done where another copy of the program is at it, or the disk is nearly full.
    """
    try:
        with locked(pack.folder / PACKING_LOCK, patience=0, make_folder=False):
            if note_in(pack.folder) is not None:
                return 0  # the library is elsewhere now
            return _Packing(pack, files, calendars, cancelled).done()
    except BlockingIOError:
        return 0
    except OSError as error:
        _log.info("no pack is made of %s: %s", pack.folder, error)
        return 0


class _Packing:
    """One time that a pack is brought up."""

    def __init__(
        self,
        pack: Pack,
        files: FileOffsets,
        calendars: Mapping[str, Calendar],
        cancelled: Callable[[], bool] | None,
    ):
        self._pack, self._files, self._calendars = pack, files, calendars
        self._stems = list(calendars)
        self._cancelled = cancelled or (lambda: False)
        self._names: list[str] = []
        self._rows: list[np.ndarray] = []
        self._clocks: dict[str, int] = {}
        self._calendar_names: dict[str, int] = {}
        self._counted: dict[tuple[str, Calendar], tuple[int, int]] = {}

    def done(self) -> int:
        if len(self._stems) < TUNING.packed_symbols:
            return 0
        copies = self._pack.copies(self._stems)
        there = copies.there
        missing = list(self._wanted(stem for stem, t in zip(self._stems, there.tolist(), strict=True) if not t))
        if not missing or self._cancelled():
            return 0
        good, new = int(copies.counts.sum()), sum(layout.count for _, layout in missing)
        opened = copies.pack
        anew = opened is None or new >= good or opened.index.state[2] > 3 * _BAR_BYTES * (good + new)
        if anew:
            missing = list(self._wanted(self._stems))
            new = sum(layout.count for _, layout in missing)
            if self._cancelled():
                return 0  # not all was looked at: what is there is worth more than a part of it
        if shutil.disk_usage(self._pack.folder).free < _FREE_TIMES * _BAR_BYTES * new + _FREE_BYTES:
            _log.info("no pack is made of %s: the disk is nearly full", self._pack.folder)
            return 0
        if anew or opened is None:
            with replacing(self._pack.path, make_folder=False) as partial, open(partial, "wb") as file:
                file.write(_SCHEMA.serialize())
                written = self._write(file, missing)
        else:
            for k in np.flatnonzero(there).tolist():
                row = opened.index.table[copies.slots[k]].copy()
                row[CLOCK] = _number(self._clocks, opened.index.clocks[row[CLOCK]])
                row[CALENDAR] = _number(self._calendar_names, opened.index.calendars[row[CALENDAR]])
                self._names.append(self._stems[k])
                self._rows.append(row)
            with open(self._pack.path, "r+b") as file:
                file.seek(opened.index.state[2])
                file.truncate()
                written = self._write(file, missing)
                os.fsync(file.fileno())
        state = state_of(os.stat(self._pack.path))
        table = np.array(self._rows, dtype=np.int64).reshape(-1, WIDTH)
        index = PackIndex(state, self._names, list(self._clocks), list(self._calendar_names), table)
        write_atomic(self._pack.index_path, index_bytes(index), durable=False, make_folder=False)
        return written

    def _wanted(self, stems: Iterable[str]) -> Iterator[tuple[str, ColumnOffsets]]:
        """The files that belong into the pack, and where their columns lie."""
        for stem in stems:
            if self._cancelled():
                return
            with contextlib.suppress(OSError, pa.ArrowException, KeyError, ValueError):
                layout = self._files.of(self._pack.file(stem))
                if 0 < layout.count <= TUNING.packed_bars and settled(np.array([layout.state]))[0]:
                    yield stem, layout

    def _longer(self, times: np.ndarray, clock: str, calendar: Calendar) -> tuple[int, int]:
        """How many weeks and months some days make."""
        if self._pack.base.intraday:
            return 0, 0
        if (clock, calendar) not in self._counted:
            periods = [calendar.periods(times, frame) for frame in (ONE_WEEK, ONE_MONTH)]
            weeks, months = (1 + int(np.count_nonzero(p[1:] != p[:-1])) for p in periods)
            self._counted[clock, calendar] = weeks, months
        return self._counted[clock, calendar]

    def _write(self, file: BinaryIO, wanted: Sequence[tuple[str, ColumnOffsets]]) -> int:
        """Writes copies one after the other; a file that has changed meanwhile is left for the next time."""
        written = 0
        for stem, layout in wanted:
            if self._cancelled():
                break
            arrays = {n: np.empty(layout.count, dtype=kind_of(n)) for n in NAMES}
            try:
                self._files.read(self._pack.file(stem), layout, list(arrays), list(arrays.values()))
            except (DataProblem, OSError):
                continue
            batch = pa.record_batch([pa.array(arrays[f.name]).cast(f.type) for f in _SCHEMA], schema=_SCHEMA)
            message = batch.serialize()
            row = np.zeros(WIDTH, dtype=np.int64)
            row[[MODIFIED, CHANGED, SIZE, COUNT]] = *layout.state, layout.count
            row[CLOCK], row[CLEAN] = _number(self._clocks, layout.clock), layout.clean
            calendar = self._calendars[stem]
            row[CALENDAR] = _number(self._calendar_names, calendar_name(calendar))
            row[[WEEKS, MONTHS]] = self._longer(arrays["time"], layout.clock, calendar)
            row[OFFSETS:] = file.tell() + _columns_in(message)
            file.write(message)
            self._names.append(stem)
            self._rows.append(row)
            written += 1
        file.flush()
        return written


def _number(known: dict[str, int], name: str) -> int:
    """The number of a name among the known ones; new names are appended."""
    return known.setdefault(name, len(known))


def _columns_in(message: pa.Buffer) -> np.ndarray:
    """Where each column begins in a batch as it is written."""
    batch = pa.ipc.read_record_batch(message, _SCHEMA)
    return np.array([column.buffers()[1].address - message.address for column in batch.columns], dtype=np.int64)
