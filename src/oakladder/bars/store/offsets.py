"""Where the columns lie inside the bar files: so that thousands of files are read without being parsed again.

An Arrow file is parsed once; where its columns begin and what is known of them goes into the disk cache with the file's
size and time of change. A file that has changed since is parsed again.
"""

from __future__ import annotations

import os
import threading
from collections.abc import Sequence
from dataclasses import astuple, dataclass
from functools import cached_property
from pathlib import Path

import msgspec
import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.files import NAMES, kind_of, layout_of
from oakladder.cache import DiskCache, Section, cache_key
from oakladder.disk import why

_ORDER = {name: k for k, name in enumerate(NAMES)}
_VERSION = "3"


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
    """The column offsets of one library's files. Paths are texts: there are thousands, and `Path` is slow."""

    def __init__(self, folder: Path):
        self._cache = DiskCache(Section.OFFSETS)
        self._key = cache_key(_VERSION, str(folder.absolute()))
        self._lock = threading.Lock()
        self._fresh = False

    @cached_property
    def _known(self) -> dict[str, ColumnOffsets]:
        """What was found out before: read when it is first asked for, since bars that are packed need it not."""
        cached = self._cache.take(self._key)
        return msgspec.msgpack.decode(cached, type=dict[str, ColumnOffsets]) if cached is not None else {}

    def of(self, path: str) -> ColumnOffsets:
        """Where a file's columns begin.

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
        """The columns of a file: ``time`` int64, the others float64. Raises as `of`, and `FileChanged`. Each has shape
        (bars,)."""
        layout = self.of(path)
        made = {n: np.empty(layout.count, dtype=kind_of(n)) for n in NAMES}
        if layout.count:
            self.read(path, layout, list(made), list(made.values()))
        return made

    def read(
        self, path: str, layout: ColumnOffsets, names: Sequence[str], into: Sequence[np.ndarray], first: int = 0
    ) -> None:
        """Reads columns from bar ``first`` on into arrays of as many bars as there are, or fewer.

        A map of the file would not bear that another program cuts it short. Raises `FileChanged`, `OSError`.

        Each array has shape (bars,): int64 for ``time``, float64 for the others.
        """
        try:
            file = os.open(path, os.O_RDONLY)
        except FileNotFoundError:
            raise FileChanged(f"{path.rpartition('/')[2]} has gone while it was read. Try again.") from None
        try:
            _same(os.fstat(file), layout, path)
            for name, array in zip(names, into, strict=True):
                offset = layout.offsets[_ORDER[name]] + 8 * first
                if len(array) and os.preadv(file, [array.data], offset) != array.nbytes:
                    raise FileChanged(f"{path.rpartition('/')[2]} is shorter than it was.")
        finally:
            os.close(file)

    def read_of(
        self,
        symbol: str,
        path: str,
        layout: ColumnOffsets,
        names: Sequence[str],
        into: Sequence[np.ndarray],
        first: int = 0,
    ) -> None:
        """`read`, with the symbol said whose file cannot be read. Raises `FileChanged` or `Unreadable`. Shapes and
        dtypes as there: (bars,), int64 or float64."""
        try:
            self.read(path, layout, names, into, first)
        except OSError as error:
            raise Unreadable(symbol, f"Its file cannot be read: {why(error)}.") from None

    def known(self, path: str) -> ColumnOffsets:
        """The offsets as they were last found, without a look at the file; `read` notices where they are out of date."""
        return self._known.get(path.rpartition("/")[2]) or self.of(path)

    def flush(self) -> None:
        """Caches what was found out, if anything was."""
        with self._lock:
            if not self._fresh:
                return
            self._fresh = False
            content = msgspec.msgpack.encode(self._known)
        self._cache.put(self._key, content)


def _same(facts: os.stat_result, layout: ColumnOffsets, path: str) -> None:
    if not layout.is_of(facts):
        raise FileChanged(f"{path.rpartition('/')[2]} was changed while it was read. Try again.")
