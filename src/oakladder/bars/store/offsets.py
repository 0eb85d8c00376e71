"""Where the columns lie inside the bar files: so that thousands of files are read without being parsed again.

An Arrow file is parsed once; where its columns begin and what is known of them is kept beside the library
(``places.json``) with the file's size and time of change. A file that has changed since is parsed anew, so the
list can be thrown away.
"""

from __future__ import annotations

import contextlib
import os
import threading
from collections.abc import Sequence
from dataclasses import astuple, dataclass
from functools import cached_property
from hashlib import blake2b
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.files import NAMES, kind_of, layout_of
from oakladder.disk import read_regular, why, write_atomic

_ORDER = {name: k for k, name in enumerate(NAMES)}
_VERSION = 2


class FileChanged(DataProblem):
    """A file was replaced while its columns were being read. Reading again gives the new one."""


class Unreadable(DataProblem):
    """A symbol's file cannot be read, though others can."""

    def __init__(self, symbol: str, reason: str):
        super().__init__(reason)
        self.symbol = symbol


@dataclass(frozen=True, slots=True)
class ColumnOffsets:
    """What is known of a file: its state when it was parsed (the times of its last change and of the last change of
    what the disk knows of it), its bars, and where each column begins in it.

    ``clock`` names the times: files with the same times have the same. ``clean`` says that no number is absurd.
    """

    changed: int
    touched: int
    size: int
    count: int
    offsets: tuple[int, ...]
    clock: str
    clean: bool

    @property
    def state(self) -> tuple[int, int, int]:
        """The file's state, as `state_of` gives it."""
        return self.changed, self.touched, self.size

    def is_of(self, facts: os.stat_result) -> bool:
        """Whether a file still is as it was when it was parsed."""
        return state_of(facts) == self.state


def state_of(facts: os.stat_result) -> tuple[int, int, int]:
    """When a file was modified, when what the disk knows of it was changed (ns since 1970), and its size."""
    return facts.st_mtime_ns, facts.st_ctime_ns, facts.st_size


class FileOffsets:
    """The places of one library's files. Paths are texts: there are thousands, and `Path` is slow."""

    def __init__(self, folder: Path):
        self._file = folder / "places.json"
        self._lock = threading.Lock()
        self._fresh = False

    @cached_property
    def _known(self) -> dict[str, ColumnOffsets]:
        """What was found out before: read when it is first asked for, since bars that are packed need it not."""
        try:
            kept = msgspec.json.decode(read_regular(self._file), type=_Kept)
            if kept.version == _VERSION and kept.sum == _sum_of(kept.places):
                return {name: _place(entry) for name, entry in msgspec.json.decode(kept.places).items()}
        except (OSError, msgspec.MsgspecError, ValueError, TypeError, AttributeError, RecursionError):
            pass  # rebuilt as files are read
        return {}

    def place(self, path: str) -> ColumnOffsets:
        """Where a file's columns lie.

        Raises `OSError`, `pa.ArrowException`, `KeyError` or `ValueError` for a file that is damaged or none of ours.
        """
        facts = os.stat(path)
        name = path.rpartition("/")[2]
        known = self._known.get(name)
        if known is None or not known.is_of(facts):
            known = ColumnOffsets(*state_of(facts), *astuple(layout_of(path)))
            with self._lock:
                self._known[name] = known
                self._fresh = True
        return known

    def arrays(self, path: str) -> dict[str, np.ndarray]:
        """The columns of a file: ``time`` int64, the others float64. Raises as `place`, and `FileChanged`."""
        place = self.place(path)
        made = {n: np.empty(place.count, dtype=kind_of(n)) for n in NAMES}
        if place.count:
            self.read(path, place, list(made), list(made.values()))
        return made

    def read(
        self, path: str, place: ColumnOffsets, names: Sequence[str], into: Sequence[np.ndarray], first: int = 0
    ) -> None:
        """Reads columns from bar ``first`` on into arrays of as many bars as there are, or fewer.

        A map of the file would not bear that another program cuts it short. Raises `FileChanged`, `OSError`.
        """
        try:
            file = os.open(path, os.O_RDONLY)
        except FileNotFoundError:
            raise FileChanged(f"{path.rpartition('/')[2]} has gone while it was read. Try again.") from None
        try:
            _same(os.fstat(file), place, path)
            for name, array in zip(names, into, strict=True):
                offset = place.offsets[_ORDER[name]] + 8 * first
                if len(array) and os.preadv(file, [array.data], offset) != array.nbytes:
                    raise FileChanged(f"{path.rpartition('/')[2]} is shorter than it was.")
        finally:
            os.close(file)

    def read_of(
        self,
        symbol: str,
        path: str,
        place: ColumnOffsets,
        names: Sequence[str],
        into: Sequence[np.ndarray],
        first: int = 0,
    ) -> None:
        """`read`, with the symbol said whose file cannot be read. Raises `FileChanged` or `Unreadable`."""
        try:
            self.read(path, place, names, into, first)
        except OSError as error:
            raise Unreadable(symbol, f"Its file cannot be read: {why(error)}.") from None

    def known(self, path: str) -> ColumnOffsets:
        """The place as it was last found, without a look at the file; `read` notices where that is out of date."""
        return self._known.get(path.rpartition("/")[2]) or self.place(path)

    def flush(self) -> None:
        """Writes down what was found out, if anything was; nothing is lost where that cannot be done."""
        with self._lock:
            if not self._fresh:
                return
            self._fresh = False
            raw = msgspec.json.encode({name: astuple(place) for name, place in self._known.items()})
        kept = _Kept(_VERSION, _sum_of(raw), msgspec.Raw(raw))
        with contextlib.suppress(OSError):
            write_atomic(self._file, msgspec.json.encode(kept), durable=False, make_folder=False)


class _Kept(msgspec.Struct):
    """The file: what it holds, and a checksum of that."""

    version: int
    sum: str
    places: msgspec.Raw


def _sum_of(raw: bytes | msgspec.Raw) -> str:
    return blake2b(bytes(raw), digest_size=12).hexdigest()


def _place(entry: list[Any]) -> ColumnOffsets:
    changed, touched, size, count, offsets, clock, clean = entry
    known = ColumnOffsets(changed, touched, size, count, tuple(offsets), clock, clean)
    if len(known.offsets) != len(NAMES) or max(known.offsets) + 8 * known.count > known.size or min(known.offsets) < 0:
        raise ValueError("offsets outside the file")
    return known


def _same(facts: os.stat_result, place: ColumnOffsets, path: str) -> None:
    if not place.is_of(facts):
        raise FileChanged(f"{path.rpartition('/')[2]} was changed while it was read. Try again.")
