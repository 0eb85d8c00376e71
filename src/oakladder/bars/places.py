"""Where the columns lie inside the bar files: so that thousands of files are read without being parsed again.

An Arrow file is parsed once; where its columns begin and what is known of them is kept beside the library
(``places.json``) with the file's size and time of change. A file that has changed since is parsed anew, so the
list can be thrown away.
"""

from __future__ import annotations

import hashlib
import json
import mmap
import os
import threading
from collections.abc import Sequence
from dataclasses import astuple, dataclass
from pathlib import Path

import numpy as np
import pyarrow as pa

from .errors import DataProblem
from .series import COLUMNS, is_tidy

_NAMES = ("time", *COLUMNS)
_ORDER = {name: k for k, name in enumerate(_NAMES)}


class FileChanged(DataProblem):
    """A file was replaced while its columns were being read. Reading again gives the new one."""


class Unreadable(DataProblem):
    """A symbol's file cannot be read, though others can."""

    def __init__(self, symbol: str, reason: str):
        super().__init__(reason)
        self.symbol = symbol


@dataclass(frozen=True, slots=True)
class Place:
    """What is known of a file: its state when it was parsed, its bars, and where each column begins in it.

    ``clock`` names the times: files with the same times have the same. ``clean`` says that no number is absurd.
    """

    changed: int
    size: int
    count: int
    offsets: tuple[int, ...]
    clock: str
    clean: bool


class Places:
    """The places of one library's files. Paths are texts: there are thousands, and `Path` is slow."""

    def __init__(self, folder: Path):
        self._file = folder / "places.json"
        self._lock = threading.Lock()
        self._fresh = False
        self._known: dict[str, Place] = {}
        try:
            found = json.loads(self._file.read_text(encoding="utf-8"))
            self._known = {name: _place(entry) for name, entry in found.items()}
        except (OSError, ValueError, TypeError, AttributeError):
            pass  # made anew as files are read

    def place(self, path: str) -> Place:
        """Where a file's columns lie.

        Raises `OSError`, `pa.ArrowInvalid`, `KeyError` or `ValueError` for a file that is none of ours.
        """
        facts = os.stat(path)
        name = path.rpartition("/")[2]
        known = self._known.get(name)
        if known is None or known.changed != facts.st_mtime_ns or known.size != facts.st_size:
            known = _parsed(path, facts)
            with self._lock:
                self._known[name] = known
                self._fresh = True
        return known

    def arrays(self, path: str) -> dict[str, np.ndarray]:
        """The columns of a file over its memory map: ``time`` int64, the others float64. Raises as `place`."""
        place = self.place(path)
        if not place.count:
            return {n: np.zeros(0, dtype=np.int64 if n == "time" else np.float64) for n in _NAMES}
        with open(path, "rb") as file:
            _same(os.fstat(file.fileno()), place, path)
            mapped = mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ)
        return {
            name: np.frombuffer(mapped, dtype=_kind(name), count=place.count, offset=offset)
            for name, offset in zip(_NAMES, place.offsets, strict=True)
        }

    def read(self, path: str, place: Place, names: Sequence[str], into: Sequence[np.ndarray], first: int = 0) -> None:
        """Reads columns from bar ``first`` on into arrays of as many bars as there are, or fewer.

        Where a file is read once and its numbers are to lie behind others, this takes half the time of a
        memory map. Raises `FileChanged`, `OSError`.
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

    def known(self, path: str) -> Place:
        """The place as it was last found, without a look at the file; `read` notices where that is out of date."""
        return self._known.get(path.rpartition("/")[2]) or self.place(path)

    def flush(self) -> None:
        """Writes down what was found out, if anything was; nothing is lost where that cannot be done."""
        with self._lock:
            if not self._fresh:
                return
            self._fresh = False
            text = json.dumps({name: astuple(place) for name, place in self._known.items()})
        partial = self._file.with_suffix(f".{os.getpid()}-{threading.get_ident()}.partial")
        try:
            partial.write_text(text, encoding="utf-8")
            os.replace(partial, self._file)
        except OSError:
            partial.unlink(missing_ok=True)


def _place(entry: list[object]) -> Place:
    changed, size, count, offsets, clock, clean = entry
    known = Place(changed, size, count, tuple(offsets), clock, clean)  # type: ignore[arg-type]
    if len(known.offsets) != len(_NAMES) or max(known.offsets) + 8 * known.count > known.size or min(known.offsets) < 0:
        raise ValueError("offsets outside the file")
    return known


def _same(facts: os.stat_result, place: Place, path: str) -> None:
    if facts.st_mtime_ns != place.changed or facts.st_size != place.size:
        raise FileChanged(f"{path.rpartition('/')[2]} was changed while it was read. Try again.")


def _kind(name: str) -> type[np.generic]:
    return np.int64 if name == "time" else np.float64


def _parsed(path: str, facts: os.stat_result) -> Place:
    """Reads a file through to find out all that is kept of it. Raises `ValueError` for times out of order."""
    with pa.memory_map(path) as source:
        whole = source.read_buffer(source.size())
        table = pa.ipc.open_file(pa.BufferReader(whole)).read_all()
        if len(table) == 0:
            return Place(facts.st_mtime_ns, facts.st_size, 0, (0,) * len(_NAMES), "", True)
        offsets, clock, clean = [], "", True
        for name in _NAMES:
            column = table[name]
            if column.num_chunks != 1 or column.null_count or column.type.bit_width != 64:
                raise ValueError(f"the column {name} is not as the library writes it")
            values = column.chunk(0)
            buffer = values.buffers()[1]
            offsets.append(buffer.address - whole.address + 8 * values.offset)
            array = np.frombuffer(whole, dtype=_kind(name), count=len(table), offset=offsets[-1])
            if name == "time":
                if not (array[1:] > array[:-1]).all():
                    raise ValueError("times out of order")
                clock = hashlib.blake2b(array.tobytes(), digest_size=12).hexdigest()
            else:
                clean = clean and is_tidy(array)
        return Place(facts.st_mtime_ns, facts.st_size, len(table), tuple(offsets), clock, clean)
