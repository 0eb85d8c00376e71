"""Journal of unsaved text, written at once, so that a killed program loses nothing.

Every running program has a separate folder with a lock that ends with the process: entries of a folder whose lock
is free are of one that has ended before it could save.
"""

from __future__ import annotations

import contextlib
import fcntl
import hashlib
import os
import time
from pathlib import Path

import msgspec

from oakladder.disk import MOST_TEXT, read_regular, set_aside, sweep, write_atomic

_LOCK = "lock"


class JournalEntry(msgspec.Struct, frozen=True):
    """An unsaved text. ``base`` is the mark of what its file held when it was typed; empty where there was no file."""

    path: str
    base: str
    text: str
    moment: float = 0.0


class Journal:
    """The entries of this program; made when the first is written."""

    def __init__(self, folder: Path):
        self._all = folder
        self._own: Path | None = None
        self._lock = -1

    def put(self, entry: JournalEntry) -> None:
        """Writes an entry in the place of the one of that path. Raises `OSError`."""
        if self._own is None or not self._own.is_dir():
            self._begin()
        assert self._own is not None
        write_atomic(self._own / self._name(entry.path), msgspec.json.encode(entry), durable=False)

    @staticmethod
    def _name(path: str) -> str:
        return f"{hashlib.blake2b(path.encode('utf-8', 'surrogatepass'), digest_size=12).hexdigest()}.json"

    def _begin(self) -> None:
        self.close()
        own = self._all / f"{time.time_ns()}-{os.getpid()}"
        own.mkdir(parents=True, exist_ok=True)
        lock = os.open(own / _LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o666)
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        self._own, self._lock = own, lock

    def drop(self, path: str) -> None:
        """Forgets the entry of a path: it is saved."""
        if self._own is not None:
            with contextlib.suppress(OSError):
                (self._own / self._name(path)).unlink(missing_ok=True)

    def close(self) -> None:
        """Lets go of the folder; entries that are still in it are found at the next start."""
        if self._own is None:
            return
        with contextlib.suppress(OSError):
            if [p.name for p in self._own.iterdir()] == [_LOCK]:
                (self._own / _LOCK).unlink()
                self._own.rmdir()
        os.close(self._lock)
        self._own = None

    def left_behind(self) -> list[JournalEntry]:
        """The entries of programs that have ended before they could save, oldest first; they are this program's from
        now on. Raises `OSError`."""
        found: list[JournalEntry] = []
        for folder in sorted(self._all.glob("*-*")) if self._all.is_dir() else []:
            if folder == self._own:
                continue
            try:
                lock = os.open(folder / _LOCK, os.O_RDWR | os.O_CLOEXEC)
            except OSError:
                lock = -1
            try:
                if lock >= 0:
                    fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                os.close(lock)
                continue
            found += self._adopted(folder)
            if lock >= 0:
                os.close(lock)
        return found

    def _adopted(self, folder: Path) -> list[JournalEntry]:
        """The entries of a folder, written down in this program's; then the folder goes."""
        made = []
        sweep(folder)
        for path in folder.glob("*.json"):
            try:
                entry = msgspec.json.decode(read_regular(path, MOST_TEXT), type=JournalEntry)
            except (OSError, msgspec.MsgspecError, UnicodeDecodeError):
                set_aside(path)
                continue
            self.put(entry)
            path.unlink()
            made.append(entry)
        with contextlib.suppress(OSError):
            (folder / _LOCK).unlink(missing_ok=True)
            folder.rmdir()
        return sorted(made, key=lambda e: e.moment)
