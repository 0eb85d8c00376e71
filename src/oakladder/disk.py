"""Reading and writing files: bounded reads of regular files, atomic writes, locks, and disk errors in words."""

from __future__ import annotations

import contextlib
import csv
import errno
import fcntl
import itertools
import os
import shutil
import stat
import tempfile
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from pathlib import Path
from typing import BinaryIO

_WORDS = {
    errno.ENOSPC: "the disk is full",
    errno.EDQUOT: "your share of the disk is used up",
    errno.EFBIG: "the file would be larger than this disk takes",
    errno.EROFS: "this disk can only be read",
    errno.EACCES: "you have no right to write or read there",
    errno.EPERM: "you have no right to write or read there",
    errno.ENOENT: "it is not there",
    errno.ENOTDIR: "a part of its path is no folder",
    errno.EISDIR: "a folder has that name",
    errno.EEXIST: "it is there already",
    errno.ENOTEMPTY: "the folder is not empty",
    errno.ENAMETOOLONG: "its name is too long for this disk",
    errno.EMFILE: "too many files are open",
    errno.ENFILE: "too many files are open",
    errno.EIO: "the disk does not answer as it should",
    errno.EAGAIN: "another copy of the program holds it",
    errno.EPIPE: "its reader has closed it",
    errno.ENOMEM: "there is not enough memory",
    errno.ELOOP: "its links run in a circle",
}
#: How names of files that are being written end.
_PARTIAL = ".partial"
_COUNT = itertools.count()
#: Seconds between two tries to take a lock, and between two reports that it is still held.
_LOCK_PAUSE, _LOCK_REPORT = 0.01, 1.0
#: The longest text about its holder that is read from a lock file.
_MOST_HOLDER_BYTES = 200


#: The longest text of the user's (lists, closed days, notes) and the longest file of any kind that is read whole.
MOST_TEXT, MOST_READ = 64_000_000, 2_000_000_000


class NotRegular(OSError):
    """A device, pipe, socket or folder where a regular file is needed."""

    def __init__(self, path: Path):
        super().__init__(errno.EINVAL, "it is no regular file", str(path))


class TooLarge(OSError):
    """A file with more bytes than are allowed: ``size``, as far as it is known, and the limit ``most``."""

    def __init__(self, path: Path, size: int, most: int):
        super().__init__(errno.EFBIG, f"it has {size:,} bytes, and {most:,} are allowed", str(path))
        self.size, self.most = size, most


class Locked(BlockingIOError):
    """Another program, or another thread of this one, holds a lock. ``holder`` names it, as in
    ``oak import (process 4711)``."""

    def __init__(self, path: Path, holder: str):
        super().__init__(errno.EAGAIN, f"{holder} holds it", str(path))
        self.holder = holder


class Waiting:
    """Settings of this process for locks: how it is named to others, and who hears that it waits.

    ``role`` is written into the lock files that this process holds. ``report`` gets a sentence about once a second while
    a lock is held by another program, on the waiting thread.
    """

    role = "another copy of the program"
    report: Callable[[str], None] | None = None
    #: What says to each thread that it shall wait no longer; see `stoppable`.
    _thread = threading.local()

    @classmethod
    def is_stopped(cls) -> bool:
        """Whether the thread shall wait no longer."""
        cancelled: Callable[[], bool] | None = getattr(cls._thread, "cancelled", None)
        return cancelled is not None and cancelled()


@contextlib.contextmanager
def stoppable(cancelled: Callable[[], bool]) -> Iterator[None]:
    """While it lasts, this thread waits for locks only until it is ``cancelled``."""
    Waiting._thread.cancelled = cancelled
    try:
        yield
    finally:
        Waiting._thread.cancelled = None


def why(error: OSError) -> str:
    """What the system's error means, in words that follow a colon."""
    if isinstance(error, NotRegular | TooLarge | Locked):
        return str(error.strerror)
    if error.errno in _WORDS:
        return _WORDS[error.errno]
    return (error.strerror or str(error) or "the system does not say why").lower()


@contextlib.contextmanager
def opened_regular(path: Path) -> Iterator[BinaryIO]:
    """Opens a regular file for reading; a pipe or a device is refused instead of being waited for.

    Raises `NotRegular` or another `OSError`.
    """
    # Without O_NONBLOCK, opening a pipe that has no writer waits for ever.
    handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC)
    with os.fdopen(handle, "rb") as file:
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            raise NotRegular(path)
        yield file


def read_regular(path: Path, most: int = MOST_READ) -> bytes:
    """Reads a regular file of at most ``most`` bytes, whatever size the system reports for it.

    Raises `NotRegular`, `TooLarge` or another `OSError`.
    """
    with opened_regular(path) as file:
        size = os.fstat(file.fileno()).st_size
        raw = file.read(most + 1) if size <= most else b""
    if max(size, len(raw)) > most:
        raise TooLarge(path, max(size, len(raw)), most)
    return raw


def read_text(path: Path) -> str:
    """Reads a UTF-8 text of the user's. Raises `UnicodeDecodeError`, and `OSError` as `read_regular`."""
    return read_regular(path, MOST_TEXT).decode("utf-8-sig")


def is_regular(path: Path) -> bool:
    """Whether a path leads to a regular file; False also where it cannot be looked at."""
    try:
        return stat.S_ISREG(os.stat(path).st_mode)
    except (OSError, ValueError):
        return False


@contextlib.contextmanager
def replacing(path: Path, *, durable: bool = True, make_folder: bool = True) -> Iterator[Path]:
    """Gives the name of a file beside ``path`` to be written; it takes the place of ``path`` when all went well.

    A link stays a link, a file keeps its rights, a missing folder is made (with ``make_folder``). With ``durable`` the new file is on the disk
    itself before it counts, so that a power cut leaves the old or the new. A pipe or a character device is written to,
    not replaced. Raises `OSError`; after that or any other error the old file is unchanged.
    """
    if _is_stream(path):
        with _written_into(path) as partial:
            yield partial
        return
    target = path.resolve() if path.is_symlink() else path
    try:
        if make_folder:
            target.parent.mkdir(parents=True, exist_ok=True)
    except FileExistsError as error:
        raise NotADirectoryError(errno.ENOTDIR, "a part of the path is no folder", str(target)) from error
    partial = _beside(target)
    try:
        yield partial
        with contextlib.suppress(FileNotFoundError):
            os.chmod(partial, stat.S_IMODE(target.stat().st_mode))
        if durable:
            _sync(partial)
        os.replace(partial, target)
        if durable:
            with contextlib.suppress(OSError):  # not every disk can sync a folder; the file itself is there
                _sync(target.parent)
    except BaseException:
        with contextlib.suppress(OSError):
            partial.unlink(missing_ok=True)
        raise


def _is_stream(target: Path) -> bool:
    """Whether a path is a pipe or a character device. Raises `NotRegular` for a block device or a socket."""
    try:
        mode = target.stat().st_mode
    except OSError:
        return False
    if stat.S_ISBLK(mode) or stat.S_ISSOCK(mode):
        raise NotRegular(target)
    return stat.S_ISFIFO(mode) or stat.S_ISCHR(mode)


@contextlib.contextmanager
def _written_into(target: Path) -> Iterator[Path]:
    """Gives the name of a temporary file; its content is written into a pipe or a device when all went well."""
    handle, name = tempfile.mkstemp(prefix="oakladder-")
    os.close(handle)
    try:
        yield Path(name)
        with open(name, "rb") as made, open(os.open(target, os.O_WRONLY | os.O_NOCTTY | os.O_CLOEXEC), "wb") as sink:
            shutil.copyfileobj(made, sink)
    finally:
        os.unlink(name)


def _beside(target: Path) -> Path:
    """An empty file beside one, with the rights that new files have here; its name says which process makes it."""
    # The name is cut: with what is added it must not be longer than a disk takes.
    short = os.fsencode(target.name)[:80].decode(errors="ignore")
    made = target.with_name(f".{short}.{os.getpid()}-{next(_COUNT)}{_PARTIAL}")
    os.close(os.open(made, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_CLOEXEC, 0o666))
    return made


def sweep(folder: Path) -> None:
    """Takes away what processes that were killed have left half written in a folder."""
    for path in folder.glob(f".*{_PARTIAL}"):
        owner = path.name.removesuffix(_PARTIAL).rpartition(".")[2].partition("-")[0]
        if owner.isdigit() and not Path(f"/proc/{owner}").exists():
            with contextlib.suppress(OSError):
                path.unlink()


def _sync(path: Path) -> None:
    handle = os.open(path, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def write_atomic(path: Path, content: str | bytes, *, durable: bool = True, make_folder: bool = True) -> None:
    """Puts a file in place whole or not at all; text as UTF-8. Raises as `replacing` does."""
    raw = content.encode("utf-8", errors="replace") if isinstance(content, str) else content
    with replacing(path, durable=durable, make_folder=make_folder) as partial:
        partial.write_bytes(raw)


def write_rows(path: Path, rows: Iterable[Sequence[object]]) -> None:
    """Writes a table as CSV, whole or not at all. Raises `OSError`."""
    with replacing(path) as made, made.open("w", newline="", encoding="utf-8") as file:
        csv.writer(file).writerows(rows)


def free_path(folder: Path, stem: str, suffix: str) -> Path:
    """A file of that name, or with a number behind it, that is not there yet."""
    path = folder / f"{stem}{suffix}"
    for k in itertools.count(2):
        if not path.exists():
            break
        path = folder / f"{stem}_{k}{suffix}"
    return path


def aside_name(path: Path, what: str = "damaged", moment: float | None = None) -> Path:
    """A name beside ``path`` that says what it is and of when, as in ``lists.damaged-2026-03-02-101530.json``; free
    unless ``moment`` (seconds since 1970) is given."""
    stamp = f"{datetime.fromtimestamp(moment if moment is not None else time.time()):%Y-%m-%d-%H%M%S}"
    made, k = path.with_name(f"{path.stem}.{what}-{stamp}{path.suffix}"), 2
    while moment is None and made.exists():
        made, k = path.with_name(f"{path.stem}.{what}-{stamp}-{k}{path.suffix}"), k + 1
    return made


def set_aside(path: Path) -> Path:
    """Moves a damaged file to a dated name beside it, and gives that. Raises `OSError`."""
    aside = aside_name(path)
    os.replace(path, aside)
    return aside


def copy_aside(path: Path) -> Path:
    """Copies a damaged file to a name dated by its last change, once, and gives that. Raises `OSError`."""
    aside = aside_name(path, moment=path.stat().st_mtime)
    if not aside.exists():
        with replacing(aside) as partial:
            shutil.copyfile(path, partial)
    return aside


@contextlib.contextmanager
def locked(
    path: Path,
    patience: float = 60.0,
    *,
    cancelled: Callable[[], bool] | None = None,
    make_folder: bool = True,
) -> Iterator[None]:
    """Holds a lock file against other programs, and other threads of this one; it is freed with the process.

    The file names its holder. While another one holds it, `Waiting.report` hears about it once a second. A lock file
    that was moved or deleted while it was waited for does not count: the one that is at ``path`` now is taken.
    Raises `Locked` where it is not free within ``patience`` seconds or ``cancelled`` (or what `stoppable` was given)
    says to stop, `OSError` where it cannot be made.
    """
    if make_folder:
        path.parent.mkdir(parents=True, exist_ok=True)
    handle = _lock(path, patience, cancelled)
    try:
        yield
    finally:
        os.close(handle)


def _lock(path: Path, patience: float, cancelled: Callable[[], bool] | None) -> int:
    begun = time.monotonic()
    reported, holder = begun, "another program"
    while True:
        handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o666)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
            if Waiting.is_stopped():  # it was given up before it was free
                raise Locked(path, holder)
            if _is_at(path, handle):
                _sign(handle)
                return handle
        except Locked:
            os.close(handle)
            raise
        except BlockingIOError:
            holder = holder_of(path)
            now = time.monotonic()
            if now - begun >= patience or (cancelled is not None and cancelled()) or Waiting.is_stopped():
                os.close(handle)
                raise Locked(path, holder) from None
            if now - reported >= _LOCK_REPORT and Waiting.report is not None:
                reported = now
                Waiting.report(f"Waiting for {path.parent}: {holder} is writing there.")
        except BaseException:
            os.close(handle)
            raise
        os.close(handle)
        time.sleep(_LOCK_PAUSE)


def _is_at(path: Path, handle: int) -> bool:
    """Whether an open file is the one at a path: it may have been moved away meanwhile."""
    try:
        return os.path.samestat(os.stat(path), os.fstat(handle))
    except OSError:
        return False


def _sign(handle: int) -> None:
    """Writes into a lock file who holds it."""
    with contextlib.suppress(OSError):  # a full disk keeps nobody from locking
        os.ftruncate(handle, 0)
        os.pwrite(handle, f"{os.getpid()} {Waiting.role}\n".encode()[:_MOST_HOLDER_BYTES], 0)


def holder_of(path: Path) -> str:
    """Who holds a lock, as its file says: ``oak import (process 4711)``."""
    try:
        number, _, role = read_regular(path, _MOST_HOLDER_BYTES).decode("utf-8", "replace").strip().partition(" ")
    except OSError:
        return "another program"
    if not number.isdecimal() or not Path(f"/proc/{number}").exists():
        return "another program"
    return f"{role or 'another program'} (process {number})"


_PLAIN = frozenset("ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_.")


def safe_name(text: str) -> str:
    """A text as a file name that can be turned back: it holds no sign that means something in a path, and two texts
    that differ give names that differ, also where a disk takes small letters for large ones.

    Large letters, digits, ``-``, ``_`` and (but at the start) ``.`` stand for themselves, every other sign for its
    UTF-8 bytes as ``%`` and two digits.
    """
    if _stands_for_itself(text):
        return text
    made = []
    for k, sign in enumerate(text):
        plain = sign in _PLAIN and not (k == 0 and sign == ".")
        made.append(sign if plain else "".join(f"%{byte:02x}" for byte in sign.encode("utf-8", "surrogatepass")))
    return "".join(made)


def _stands_for_itself(text: str) -> bool:
    """Whether a text is its own safe name, as nearly all are."""
    return not text.startswith(".") and _PLAIN.issuperset(text)


def plain_name(name: str) -> str:
    """The text that `safe_name` has turned into a file name. Raises `ValueError` for a name that it never gives."""
    if _stands_for_itself(name):
        return name
    raw = bytearray()
    k = 0
    while k < len(name):
        if name[k] == "%":
            raw += bytes.fromhex(name[k + 1 : k + 3])
            k += 3
        else:
            raw += name[k].encode("utf-8", "surrogatepass")
            k += 1
    text = raw.decode("utf-8", "surrogatepass")
    if safe_name(text) != name:
        raise ValueError(f"{name} is no name of ours")
    return text
