"""Lock files that programs and threads hold against one another, and that say who holds them."""

from __future__ import annotations

import contextlib
import errno
import fcntl
import os
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from oakladder.disk import read_regular

#: Seconds between two tries to take a lock, and between two reports that it is still held.
_LOCK_PAUSE, _LOCK_REPORT = 0.01, 1.0
#: The longest text about its holder that is read from a lock file.
_MOST_HOLDER_BYTES = 200


class Locked(BlockingIOError):
    """Another program, or another thread of this one, holds a lock. ``holder`` names it, as in
    ``oak import (process 4711)``."""

    says_why = True

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
    with contextlib.suppress(OSError):  # a full disk must not prevent locking
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
