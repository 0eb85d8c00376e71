"""Sweeps on all cores of this machine: threads of one process share a lock, so long sweeps use separate processes,
behind the seam that a cluster stands behind too."""

from __future__ import annotations

import itertools
import os
from collections.abc import Callable
from concurrent.futures import Executor, Future, ProcessPoolExecutor
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from oakladder.work import process_pool

#: What a process takes beside the bars, in bytes, and how often over it has those.
_OWN_BYTES, _COPIES = 200_000_000, 3
_NUMBERS = itertools.count()


@dataclass(frozen=True, slots=True)
class Shared:
    """Bytes that other processes of this machine can read while this one keeps them; ``number`` tells them apart."""

    path: str
    number: int

    def bytes(self) -> bytes:
        """What was kept."""
        return _read(self)


@lru_cache(maxsize=2)
def _read(shared: Shared) -> bytes:
    with open(shared.path, "rb") as file:
        return file.read()


class Workers(Executor):
    """Processes for parts of sweeps, one for each core but the caller's. They start with the first
    part that is handed to them."""

    def __init__(self, count: int | None = None):
        #: How many work beside the caller.
        self.count = (os.cpu_count() or 1) - 1 if count is None else count
        self._pool: ProcessPoolExecutor | None = None
        self._files: list[int] = []

    def fitting(self, size: int) -> int:
        """How many of them there is memory for with so many bytes in each, and as much left as they take."""
        return min(self.count, _free_bytes() // (2 * (_OWN_BYTES + _COPIES * size)))

    def share(self, data: bytes) -> Shared:
        """Keeps bytes where all of them can read them, until the next come: the file has no name, and ends with us."""
        self._forget()
        file = os.memfd_create("oakladder sweep")
        self._files.append(file)
        view = memoryview(data)
        while len(view):
            view = view[os.write(file, view) :]
        return Shared(f"/proc/{os.getpid()}/fd/{file}", next(_NUMBERS))

    def _forget(self) -> None:
        while self._files:
            os.close(self._files.pop())

    def submit(self, fn: Callable[..., Any], /, *args: Any, **options: Any) -> Future[Any]:
        if self._pool is None:
            self._pool = process_pool(self.count)
        return self._pool.submit(fn, *args, **options)

    def shutdown(self, wait: bool = True, *, cancel_futures: bool = False) -> None:
        if self._pool is not None:
            self._pool.shutdown(wait=False)  # there is little in hand
            self._pool = None
        self._forget()


def _free_bytes() -> int:
    """How much memory the system could give: what is free, and what it keeps of files that can be read again."""
    try:
        with open("/proc/meminfo") as file:
            told = next(line.split() for line in file if line.startswith("MemAvailable:"))
        return 1024 * int(told[1])
    except (OSError, StopIteration, ValueError, IndexError):
        return 0
