"""What lies where in a pack: kept beside it, with the state of the pack and of each file that it holds a copy of."""

from __future__ import annotations

from dataclasses import dataclass
from hashlib import blake2b
from pathlib import Path

import msgspec
import numpy as np

from oakladder.bars.store.files import NAMES
from oakladder.disk import read_regular

_VERSION = 1
#: The columns of an index: the state of the file that was copied (modified, changed, size), its bars, which times it
#: has, whether no number is absurd; how many weeks and months its days make by which calendar (for minutes nothing);
#: and where each column begins in the pack.
MODIFIED, CHANGED, SIZE, COUNT, CLOCK, CLEAN, WEEKS, MONTHS, CALENDAR, OFFSETS = range(10)
WIDTH = OFFSETS + len(NAMES)


@dataclass(frozen=True, slots=True)
class PackIndex:
    """The copies in a pack: names of their files, of their times and of calendars, and a row of numbers for each, int64."""

    #: When the pack was modified and changed, and its size.
    state: tuple[int, int, int]
    names: list[str]
    clocks: list[str]
    calendars: list[str]
    table: np.ndarray


class _Kept(msgspec.Struct, array_like=True):
    """The file: a checksum over all that follows."""

    version: int
    sum: bytes
    state: tuple[int, int, int]
    names: list[str]
    clocks: list[str]
    calendars: list[str]
    table: bytes


def read_index(path: Path) -> PackIndex | None:
    """The content of an index; None without a valid one."""
    try:
        kept = msgspec.msgpack.decode(read_regular(path), type=_Kept)
    except (OSError, msgspec.MsgspecError):
        return None
    if kept.version != _VERSION or kept.sum != _sum_of(kept) or len(kept.table) != 8 * WIDTH * len(kept.names):
        return None
    table = np.frombuffer(kept.table, dtype=np.int64).reshape(-1, WIDTH)
    return PackIndex(kept.state, kept.names, kept.clocks, kept.calendars, table) if _is_sound(kept, table) else None


def _is_sound(kept: _Kept, table: np.ndarray) -> bool:
    """Whether every copy lies within the pack, and its times have a name."""
    if not len(table):
        return True
    offsets, counts = table[:, OFFSETS:], table[:, COUNT]
    inside = bool((counts >= 0).all() and (offsets >= 0).all())
    inside = inside and bool((offsets + 8 * counts[:, None] <= kept.state[2]).all())
    named = ((CLOCK, kept.clocks), (CALENDAR, kept.calendars))
    return inside and all(bool(((table[:, c] >= 0) & (table[:, c] < len(names))).all()) for c, names in named)


def index_bytes(index: PackIndex) -> bytes:
    """An index as `read_index` reads it."""
    raw = np.ascontiguousarray(index.table, dtype=np.int64).tobytes()
    kept = _Kept(_VERSION, b"", index.state, index.names, index.clocks, index.calendars, raw)
    kept.sum = _sum_of(kept)
    return msgspec.msgpack.encode(kept)


def _sum_of(kept: _Kept) -> bytes:
    made = blake2b(
        msgspec.msgpack.encode((kept.version, kept.state, kept.names, kept.clocks, kept.calendars)), digest_size=12
    )
    made.update(kept.table)
    return made.digest()
