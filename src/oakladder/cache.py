"""The disk cache: what takes long to compute and follows from its inputs alone, kept from one start to the next.

All sections share one folder, one key scheme and one total size; the least recently used entries go first. An entry is
one file that begins with a digest of the rest: a damaged one is deleted and computed again. Losing all of it costs
nothing but time. Two programs may use the same folder.
"""

from __future__ import annotations

import contextlib
import hashlib
import os
import threading
from dataclasses import dataclass, field
from enum import StrEnum
from pathlib import Path
from typing import Self

import platformdirs

from oakladder.disk import read_regular, sweep, write_atomic


class Section(StrEnum):
    """What is cached; the value begins the names of the section's files."""

    CODE = "code"
    CHECKPOINTS = "checkpoints"
    FUNCTIONS = "functions"
    GRAMMAR = "grammar"
    OFFSETS = "offsets"

    @property
    def about(self) -> str:
        """What it holds, in a few words."""
        return _ABOUT[self]


_ABOUT = {
    Section.CODE: "machine code of scripts",
    Section.CHECKPOINTS: "checkpoints that scans go on from",
    Section.FUNCTIONS: "parsed library functions",
    Section.GRAMMAR: "parser tables of the language",
    Section.OFFSETS: "where columns begin in bar files",
}
_MARK = b"oak cache 2\n"
_DIGEST = hashlib.sha256().digest_size
_SUFFIX = ".cache"
#: What all entries may take: bytes, and files.
MOST_BYTES, MOST_FILES = 1_000_000_000, 2000
#: The folder is looked through again once this share of the limits has been added.
_SHARE = 16


@dataclass(frozen=True, slots=True)
class Usage:
    """How much a section holds, and when an entry was last used (seconds since 1970, 0 for never)."""

    files: int = 0
    bytes: int = 0
    last_used: float = 0.0


@dataclass(slots=True)
class _Added:
    """What this process has added since it last looked through a folder; nothing is known before the first time."""

    bytes: int = MOST_BYTES
    files: int = MOST_FILES
    lock: threading.Lock = field(default_factory=threading.Lock)

    def take(self, size: int, most_bytes: int, most_files: int) -> bool:
        """Counts one more file; whether it is time to look."""
        with self.lock:
            self.bytes, self.files = self.bytes + size, self.files + 1
            if self.bytes * _SHARE < most_bytes and self.files * _SHARE < most_files:
                return False
            self.bytes = self.files = 0
            return True


_ADDED: dict[Path, _Added] = {}


def cache_key(*inputs: bytes | str) -> bytes:
    """The key of an entry: a digest of everything that its content follows from, in order.

    Name the format's version among the inputs, and processor and pass options where they decide.
    """
    made = hashlib.sha256()
    for part in inputs:
        raw = part if isinstance(part, bytes) else part.encode("utf-8", "surrogatepass")
        made.update(len(raw).to_bytes(8, "little") + raw)
    return made.digest()


class DiskCache:
    """One section of the cache."""

    def __init__(self, section: Section, most_bytes: int = MOST_BYTES, most_files: int = MOST_FILES):
        self._section, self._most_bytes, self._most_files = section, most_bytes, most_files
        self.folder = cache_folder()

    def _path(self, key: bytes) -> Path:
        return self.folder / f"{self._section}-{key.hex()}{_SUFFIX}"

    def take(self, key: bytes) -> bytes | None:
        """The content of a key; None without a valid one."""
        path = self._path(key)
        try:
            raw = read_regular(path)
        except OSError:
            return None
        head, content = raw[: len(_MARK) + _DIGEST], raw[len(_MARK) + _DIGEST :]
        if head != _MARK + hashlib.sha256(content).digest():
            with contextlib.suppress(OSError):
                path.unlink()
            return None
        with contextlib.suppress(OSError):
            path.touch()
        return content

    def put(self, key: bytes, content: bytes) -> None:
        """Stores content under a key; a failed write only costs time later."""
        with contextlib.suppress(OSError):
            self.folder.mkdir(parents=True, exist_ok=True)
            write_atomic(self._path(key), _MARK + hashlib.sha256(content).digest() + content, durable=False)
            added = _ADDED.setdefault(self.folder, _Added())
            if added.take(len(content), self._most_bytes, self._most_files):
                self._tidy()

    def _tidy(self) -> None:
        """Deletes the least recently used entries, of all sections, beyond the limits."""
        sweep(self.folder)
        newest = sorted(_Entry.all_in(self.folder), key=lambda e: -e.used)
        total = 0
        for k, entry in enumerate(newest):
            total += entry.size
            if total > self._most_bytes or k >= self._most_files:
                with contextlib.suppress(OSError):
                    os.unlink(entry.path)


@dataclass(frozen=True, slots=True)
class _Entry:
    path: str
    section: str
    size: int
    used: float

    @classmethod
    def all_in(cls, folder: Path) -> list[Self]:
        """Every entry that is there just now."""
        found = []
        try:
            with os.scandir(folder) as files:
                for file in files:
                    with contextlib.suppress(OSError):  # another program may have deleted it
                        if file.name.endswith(_SUFFIX) and file.is_file(follow_symlinks=False):
                            facts = file.stat(follow_symlinks=False)
                            section = file.name.rpartition("-")[0]
                            found.append(cls(file.path, section, facts.st_size, facts.st_mtime))
        except OSError:
            pass
        return found


def cache_folder() -> Path:
    """The folder of all sections."""
    return Path(platformdirs.user_cache_dir("oakladder"))


def usage() -> dict[Section, Usage]:
    """How much every section holds."""
    made = {}
    entries = _Entry.all_in(cache_folder())
    for section in Section:
        its = [e for e in entries if e.section == section]
        made[section] = Usage(len(its), sum(e.size for e in its), max((e.used for e in its), default=0.0))
    return made


def clear() -> Usage:
    """Deletes every entry; gives what is gone. Raises `OSError` where one cannot be deleted."""
    gone = _Entry.all_in(cache_folder())
    for entry in gone:
        with contextlib.suppress(FileNotFoundError):
            os.unlink(entry.path)
    return Usage(len(gone), sum(e.size for e in gone))
