"""What took long to work out and is kept on disk from one start to the next: machine code, the trees of the library.

A file for each thing, named for all that it follows from. It begins with a digest of the rest: what does not fit is
deleted and computed again. It is derived: losing it costs nothing but time.
"""

from __future__ import annotations

import contextlib
import hashlib
from pathlib import Path

import platformdirs

from oakladder.disk import read_regular, sweep, write_atomic

_MARK = b"oak cache 1\n"
_DIGEST = hashlib.sha256().digest_size
#: Max number of files, least recently used deleted first, unless a cache sets another.
_MOST_FILES = 300


class DiskCache:
    """A folder of the user's cache with at most so many files. Two programs may use the same one."""

    def __init__(self, name: str, most_files: int = _MOST_FILES):
        self._most_files = most_files
        self.folder = Path(platformdirs.user_cache_dir("oakladder")) / name

    def _path(self, key: bytes) -> Path:
        return self.folder / f"{key.hex()}.kept"

    def take(self, key: bytes) -> bytes | None:
        """The content of a key; None without a valid one."""
        path = self._path(key)
        try:
            content = read_regular(path)
        except OSError:
            return None
        head, code = content[: len(_MARK) + _DIGEST], content[len(_MARK) + _DIGEST :]
        if head != _MARK + hashlib.sha256(code).digest():
            with contextlib.suppress(OSError):
                path.unlink()
            return None
        with contextlib.suppress(OSError):
            path.touch()
        return code

    def put(self, key: bytes, code: bytes) -> None:
        """Stores content under a key; a failed write only costs time later."""
        with contextlib.suppress(OSError):
            self.folder.mkdir(parents=True, exist_ok=True)
            write_atomic(self._path(key), _MARK + hashlib.sha256(code).digest() + code, durable=False)
            self._tidy()

    def _tidy(self) -> None:
        sweep(self.folder)
        files = sorted(self.folder.glob("*.kept"), key=lambda p: p.stat().st_mtime)
        for path in files[: -self._most_files]:
            path.unlink(missing_ok=True)
