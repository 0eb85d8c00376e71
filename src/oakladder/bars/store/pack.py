"""Packs: copies of the bars of many symbols in one file, so that thousands of files need not be opened one by one.

A pack is derived and never the only copy. Each of its copies counts only while the file that it was made of is as it
was then, and the pack as a whole only while it is itself as it was when its index was written: the system tells both.
What does not count is read from the files.
"""

from __future__ import annotations

import contextlib
import logging
import os
import threading
import time
import weakref
from collections.abc import Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from hashlib import blake2b
from pathlib import Path

import numpy as np

from oakladder.bars.sessions import Calendar
from oakladder.bars.store.batched_io import gather, states
from oakladder.bars.store.files import NAMES, SUFFIX
from oakladder.bars.store.offsets import state_of
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
    PackIndex,
    read_index,
)
from oakladder.bars.store.symbol_info import calendar_text
from oakladder.bars.timeframes import ONE_MONTH, ONE_WEEK, Timeframe
from oakladder.tuning import TUNING

_log = logging.getLogger(__name__)
_ORDER = {name: k for k, name in enumerate(NAMES)}


class OpenPack:
    """A pack that is open for reading, and its index."""

    def __init__(self, handle: int, index: PackIndex):
        self._handle, self.index = handle, index
        self.slots = {name: k for k, name in enumerate(index.names)}
        weakref.finalize(self, os.close, handle)

    @property
    def is_as_it_was(self) -> bool:
        """Whether the pack has not been touched since its index was written."""
        return state_of(os.fstat(self._handle)) == self.index.state

    def read(
        self, slots: np.ndarray, name: str, firsts: np.ndarray, counts: np.ndarray, places: np.ndarray, into: np.ndarray
    ) -> bool:
        """Reads ``counts[k]`` bars of the copies ``slots[k]`` from bar ``firsts[k]`` on to ``into[places[k]:]``.

        Returns whether all of them were there; if not, the content of ``into`` is undefined.

        Slots, firsts, counts and places: shape (symbols,), int64; ``into``: shape (bars,), int64 for ``time``, else
        float64.
        """
        froms = self.index.table[slots, OFFSETS + _ORDER[name]] + 8 * firsts
        return gather(self._handle, froms, 8 * counts, 8 * places, into)


@dataclass(frozen=True, slots=True)
class Copies:
    """Where copies of the bars of some symbols lie in a pack: -1 for a symbol without one that counts."""

    pack: OpenPack | None
    slots: np.ndarray

    @property
    def there(self) -> np.ndarray:
        """Whether each symbol has a copy that counts. Shape (symbols,), bool."""
        return self.slots >= 0

    def numbers(self, column: int) -> np.ndarray:
        """A column of the index for each symbol, 0 without a copy. Shape (symbols,), int64."""
        if self.pack is None:
            return np.zeros(len(self.slots), dtype=np.int64)
        return np.where(self.there, self.pack.index.table[np.maximum(self.slots, 0), column], 0)

    def state(self, k: int) -> tuple[int, int, int]:
        """When the file that was copied was modified and changed, and its size."""
        assert self.pack is not None
        modified, changed, size = self.pack.index.table[self.slots[k], : SIZE + 1].tolist()
        return modified, changed, size

    def states(self) -> np.ndarray:
        """The same of every symbol, shape (symbols, 3), 0 without a copy. Int64."""
        return np.stack([self.numbers(column) for column in (MODIFIED, CHANGED, SIZE)], axis=1)

    @property
    def counts(self) -> np.ndarray:
        """How many bars each copy has. Shape (symbols,), int64."""
        return self.numbers(COUNT)

    @property
    def clean(self) -> np.ndarray:
        """Which copies hold no absurd number. Shape (symbols,), bool."""
        return self.numbers(CLEAN) != 0

    def longer_counts(self, calendars: Sequence[Calendar]) -> dict[Timeframe, np.ndarray]:
        """How many weeks and months each symbol's days make; nothing where that is not known of all by their calendars.
        Each has shape (symbols,), int64."""
        if self.pack is None or not self.there.all():
            return {}
        known = {name: k for k, name in enumerate(self.pack.index.calendars)}
        theirs = {c: known.get(calendar_name(c), -1) for c in set(calendars)}
        if (self.numbers(CALENDAR) != [theirs[c] for c in calendars]).any():
            return {}
        return {frame: self.numbers(column) for frame, column in ((ONE_WEEK, WEEKS), (ONE_MONTH, MONTHS))}

    def clocks(self) -> list[str]:
        """The name of the times of each symbol, empty without a copy."""
        if self.pack is None:
            return [""] * len(self.slots)
        names = self.pack.index.clocks
        return [names[c] if t else "" for c, t in zip(self.numbers(CLOCK).tolist(), self.there.tolist(), strict=True)]


@dataclass(slots=True)
class Pack:
    """The pack of a library's days or minutes."""

    folder: Path
    base: Timeframe
    _open: OpenPack | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)

    @property
    def path(self) -> Path:
        """An Arrow IPC stream; its name begins with a dot, so that it passes for no symbol's bars."""
        return self.folder / f".pack{SUFFIX[self.base.intraday]}"

    @property
    def index_path(self) -> Path:
        return self.folder / f".pack{SUFFIX[self.base.intraday]}.index"

    def file(self, stem: str) -> str:
        """The path of a symbol's own file, whose name begins so."""
        return f"{self.folder}/{stem}{SUFFIX[self.base.intraday]}"

    def opened(self) -> OpenPack | None:
        """The pack, if there is one that can be trusted."""
        with self._lock:
            if self._open is not None:
                try:
                    if state_of(os.stat(self.path)) == self._open.index.state:
                        return self._open
                except OSError:
                    pass
                self._open = None
            index = read_index(self.index_path)
            if index is not None:
                with contextlib.suppress(OSError):
                    made = OpenPack(os.open(self.path, os.O_RDONLY), index)
                    self._open = made if made.is_as_it_was else None
            return self._open

    def copies(self, stems: Sequence[str]) -> Copies:
        """The copies that count of the files whose names begin so; ends of names are left out."""
        pack = self.opened()
        slots = np.full(len(stems), -1, dtype=np.int64)
        if pack is None:
            return Copies(None, slots)
        slots[:] = [pack.slots.get(stem, -1) for stem in stems]
        asked = np.flatnonzero(slots >= 0)
        end = SUFFIX[self.base.intraday]
        try:
            now = states(str(self.folder), [stems[k] + end for k in asked.tolist()])
        except (OSError, RuntimeError) as error:
            _log.info("the pack %s is not used: %s", self.path, error)
            return Copies(None, np.full(len(stems), -1, dtype=np.int64))
        stale = (pack.index.table[slots[asked], : SIZE + 1] != now).any(axis=1)
        slots[asked[stale]] = -1
        return Copies(pack, slots)


@lru_cache(maxsize=256)
def calendar_name(calendar: Calendar) -> str:
    """What tells calendars apart in an index."""
    return blake2b(calendar_text(calendar).encode(), digest_size=12).hexdigest()


def settled(states: np.ndarray) -> np.ndarray:
    """Which files have stood still for some time; ``states`` begin with when each was modified and changed, ns. Shape
    (files, 2 or more), int64; gives shape (files,), bool."""
    return np.asarray(states[:, :2].max(axis=1, initial=0) <= time.time_ns() - int(TUNING.settled_seconds * 1e9))
