"""Reading and writing files: bounded reads of regular files, atomic writes, locks, and disk errors in words."""

from __future__ import annotations

import contextlib
import csv
import errno
import itertools
import os
import shutil
import stat
import tempfile
import time
from collections.abc import Iterable, Iterator, Sequence
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


#: The longest text of the user's (lists, closed days, notes) and the longest file of any kind that is read whole.
MOST_TEXT, MOST_READ = 64_000_000, 2_000_000_000


class NotRegular(OSError):
    """A device, pipe, socket or folder where a regular file is needed."""

    says_why = True

    def __init__(self, path: Path):
        super().__init__(errno.EINVAL, "it is no regular file", str(path))


class TooLarge(OSError):
    """A file with more bytes than are allowed: ``size``, as far as it is known, and the limit ``most``."""

    says_why = True

    def __init__(self, path: Path, size: int, most: int):
        super().__init__(errno.EFBIG, f"it has {size:,} bytes, and {most:,} are allowed", str(path))
        self.size, self.most = size, most


class Newer(OSError):
    """A file that a newer version of the program has written: what this one does not know of would be lost."""

    says_why = True

    def __init__(self, path: Path):
        words = "a newer version of the program has written it, and this one would lose what it does not know of"
        super().__init__(errno.EPERM, words, str(path))


def why(error: OSError) -> str:
    """What the system's error means, in words that follow a colon."""
    if getattr(error, "says_why", False):
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
    copy = aside_name(path)
    os.replace(path, copy)
    return copy


def copy_aside(path: Path) -> Path:
    """Copies a damaged file to a name dated by its last change, once, and gives that. Raises `OSError`."""
    copy = aside_name(path, moment=path.stat().st_mtime)
    if not copy.exists():
        with replacing(copy) as partial:
            shutil.copyfile(path, partial)
    return copy
