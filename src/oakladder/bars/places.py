"""Where the columns lie inside the bar files: so that thousands of files are mapped without being parsed again.

An Arrow file is parsed once; the byte offsets of its columns are kept beside the library (``places.json``) with
the file's size and time of change. A file that has changed since is parsed anew, so the list can be thrown away.
"""

from __future__ import annotations

import json
import mmap
import os
import threading
from pathlib import Path

import numpy as np
import pyarrow as pa

from .series import COLUMNS

_NAMES = ("time", *COLUMNS)


class Places:
    """The offsets of one library's files."""

    def __init__(self, folder: Path):
        self._file = folder / "places.json"
        self._lock = threading.Lock()
        self._fresh = False
        try:
            found = json.loads(self._file.read_text(encoding="utf-8"))
            self._known: dict[str, list[int]] = found if isinstance(found, dict) else {}
        except (OSError, ValueError):
            self._known = {}

    def arrays(self, path: Path) -> dict[str, np.ndarray]:
        """The columns of a file over its memory map: ``time`` int64, the others float64.

        Raises `OSError`, `pa.ArrowInvalid`, `KeyError` or `ValueError` for a file that is none of ours.
        """
        with path.open("rb") as file:
            facts = os.fstat(file.fileno())
            known = self._known.get(path.name)
            if known is None or known[:2] != [facts.st_mtime_ns, facts.st_size] or len(known) != 3 + len(_NAMES):
                known = [facts.st_mtime_ns, facts.st_size, *_parsed(path)]
                with self._lock:
                    self._known[path.name] = known
                    self._fresh = True
            count, offsets = known[2], known[3:]
            if not count:
                return {n: np.zeros(0, dtype=np.int64 if n == "time" else np.float64) for n in _NAMES}
            if max(offsets) + 8 * count > facts.st_size or min(offsets) < 0:
                raise ValueError("offsets outside the file")
            mapped = mmap.mmap(file.fileno(), 0, prot=mmap.PROT_READ)
        kinds = (np.int64, *(np.float64,) * len(COLUMNS))
        return {
            name: np.frombuffer(mapped, dtype=kind, count=count, offset=offset)
            for name, kind, offset in zip(_NAMES, kinds, offsets, strict=True)
        }

    def flush(self) -> None:
        """Writes down what was found out, if anything was; nothing is lost where that cannot be done."""
        with self._lock:
            if not self._fresh:
                return
            self._fresh = False
            text = json.dumps(self._known)
        partial = self._file.with_suffix(f".{os.getpid()}-{threading.get_ident()}.partial")
        try:
            partial.write_text(text, encoding="utf-8")
            os.replace(partial, self._file)
        except OSError:
            partial.unlink(missing_ok=True)


def _parsed(path: Path) -> list[int]:
    """How many bars a file has, and where each column begins."""
    with pa.memory_map(str(path)) as source:
        whole = source.read_buffer(source.size())
        table = pa.ipc.open_file(pa.BufferReader(whole)).read_all()
        if len(table) == 0:
            return [0] * (1 + len(_NAMES))
        made = [len(table)]
        for name in _NAMES:
            column = table[name]
            if column.num_chunks != 1 or column.null_count or column.type.bit_width != 64:
                raise ValueError(f"the column {name} is not as the library writes it")
            values = column.chunk(0)
            buffer = values.buffers()[1]
            made.append(buffer.address - whole.address + 8 * values.offset)
        return made
