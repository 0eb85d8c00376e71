"""Files of the user's that hold a list of named things: typed, versioned, written whole, shared between copies.

Another copy of the program may write the file, and the user may edit it. A change here is applied to what the
file holds at that moment, under a lock; a damaged file is copied under a dated name, reported, and read as far as
it can be.
"""

from __future__ import annotations

import contextlib
import json
import threading
from collections.abc import Callable, Container, Iterator
from pathlib import Path
from typing import Generic, Protocol, TypeVar

import msgspec

from oakladder.disk import Newer, copy_aside, read_regular, why, write_atomic
from oakladder.locks import locked
from oakladder.user.salvage import salvaged

#: A file with more bytes than this is none of ours.
_MOST_BYTES = 64_000_000


def json_of(plain: object) -> bytes:
    """Something plain as JSON that people can read. What is no text (a lone half of a sign) becomes a question mark."""
    try:
        raw = msgspec.json.encode(plain)
    except UnicodeEncodeError:
        raw = json.dumps(plain, ensure_ascii=False).encode("utf-8", errors="replace")
    return msgspec.json.format(raw, indent=2) + b"\n"


def free_name(name: str, taken: Container[str]) -> str:
    """A name like this one that is not taken."""
    made, k = name, 2
    while made in taken:
        made, k = f"{name} {k}", k + 1
    return made


class Named(Protocol):
    """Something with a unique name."""

    name: str


T = TypeVar("T", bound=Named)


class Entries(Generic[T]):
    """What a kind of file holds: under which word its entries stand, and how one is read and written.

    ``read`` gives None for what is no entry, and says by the second value whether it took in all of it.
    """

    def __init__(
        self,
        word: str,
        version: int,
        read: Callable[[object], tuple[T | None, bool]],
        plain: Callable[[T], object],
    ):
        self.word, self.version, self.read, self.plain = word, version, read, plain


class KeptFile(Generic[T]):
    """The entries of one file by their names. Safe to be used from several threads.

    ``entries`` is replaced and never changed, so that one thread may read it while another writes the file.
    """

    def __init__(self, path: Path, kind: Entries[T], tell: Callable[[str], None]):
        self._path, self._kind, self._tell = path, kind, tell
        self._lock = path.with_name(f".{path.name}.lock")
        self._in_use = threading.Lock()
        self._seen: tuple[int, int] | None = None
        #: Whether a newer version of the program has written the file: it is read as far as it is known, and not written.
        self._is_newer = False
        self.entries: dict[str, T] = self._read_or_tell()
        #: Counts how often other entries were taken.
        self.revision = 0

    def _take(self, entries: dict[str, T]) -> None:
        self.entries = entries
        self.revision += 1

    def fresh(self) -> bool:
        """Reads what another copy of the program, or the user's editor, has written; returns whether there was a change.

        While a thread of this program changes the file it is left to that thread, so that this call never waits.
        """
        if self._stamp() == self._seen or not self._in_use.acquire(blocking=False):
            return False
        try:
            self._take(self._read_or_tell())
        finally:
            self._in_use.release()
        return True

    def _stamp(self) -> tuple[int, int] | None:
        try:
            facts = self._path.stat()
        except OSError:
            return None
        return facts.st_mtime_ns, facts.st_size

    def _read_or_tell(self) -> dict[str, T]:
        """The file's current entries by name; a damaged file is copied and reported, and its valid entries are returned."""
        try:
            return self._read()
        except OSError as error:
            self._tell(f"{self._path.name} cannot be read: {why(error)}. It stays as it is.")
            return {}

    def _read(self) -> dict[str, T]:
        self._seen, self._is_newer = self._stamp(), False
        if self._seen is None:
            return {}
        found, whole = self._entries(read_regular(self._path, _MOST_BYTES))
        made: dict[str, T] = {}
        for entry in found:
            if entry.name in made:
                whole, entry.name = False, free_name(entry.name, made)
            made[entry.name] = entry
        if not whole:
            self._keep_aside(len(made))
        return made

    def _entries(self, raw: bytes) -> tuple[list[T], bool]:
        try:
            plain = msgspec.json.decode(raw)
        except (msgspec.MsgspecError, ValueError, RecursionError):
            return salvaged(raw.decode("utf-8", "replace"), lambda x: self._kind.read(x)[0]), False
        version = plain.get("version") if isinstance(plain, dict) else self._kind.version
        self._is_newer = isinstance(version, int) and version > self._kind.version
        listed = plain.get(self._kind.word) if isinstance(plain, dict) else plain  # at first it was a bare list
        if not isinstance(listed, list):
            return [], self._is_newer
        read = [self._kind.read(entry) for entry in listed]
        known = isinstance(version, int) and 0 <= version <= self._kind.version
        entries = [entry for entry, _ in read if entry is not None]
        return entries, self._is_newer or (known and all(whole for _, whole in read))

    def _keep_aside(self, count: int) -> None:
        try:
            kept = copy_aside(self._path).name
        except OSError as error:
            kept = f"nothing ({why(error)})"
        what = f"{count} of its entries could" if count != 1 else "One of its entries could"
        self._tell(f"{self._path.name} was damaged. {what} be read; the file as it was is kept as {kept}.")

    @contextlib.contextmanager
    def changing(self) -> Iterator[dict[str, T]]:
        """Yields the file's current entries for a change, then writes them, under the lock.

        Raises `OSError`. After that, and after an error of the caller, the entries are the file's.
        """
        with self._in_use:
            try:
                with locked(self._lock):
                    entries = self._read()
                    if self._is_newer:
                        raise Newer(self._path)
                    yield entries
                    named = [self._kind.plain(e) for e in entries.values()]
                    write_atomic(self._path, json_of({"version": self._kind.version, self._kind.word: named}))
                    self._seen = self._stamp()
            except BaseException:
                self._take(self._read_or_tell())
                raise
            self._take(entries)
