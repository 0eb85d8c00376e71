"""Settings of the C library's memory allocator, in one place, since they hold for the whole process.

A command that visits a market should keep freed memory for the next part: fetching it again costs more than the
computation. A window that is open for days should return freed memory: the C library automatically raises the size
from which a block is mapped separately, opens a heap for each thread that asks at the same time, and returns only the end of
a heap, so that after some minutes it holds twice what is in use. In a window the second counts. See mallopt(3) and
malloc_trim(3); with another C library nothing is done.
"""

from __future__ import annotations

import ctypes
import threading

from oakladder.work import service_thread

#: Numbers of glibc's `mallopt`.
_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
#: For commands: so much free memory is kept.
_KEPT_BYTES = 64_000_000
#: For windows: the size from which a block is mapped alone, the heaps, and the seconds between two times of returning
#: memory, often enough that each is over in a few milliseconds.
_LARGE, _HEAPS, _PAUSE = 1 << 20, 2, 5.0
_SETTING = threading.Lock()
_is_set = False


def keep_freed_memory() -> None:
    """Keeps freed memory for what is allocated next, unless this process returns it."""
    global _is_set
    with _SETTING:
        if _is_set:
            return
        _is_set = True
        library = ctypes.CDLL(None)
        if hasattr(library, "mallopt"):
            library.mallopt(_TRIM_THRESHOLD, _KEPT_BYTES)
            library.mallopt(_MMAP_THRESHOLD, _KEPT_BYTES // 2)


def return_freed_memory(pause: float = _PAUSE) -> None:
    """Returns freed memory to the operating system from now on, every ``pause`` seconds."""
    global _is_set
    with _SETTING:
        _is_set = True
        library = ctypes.CDLL(None)
        if hasattr(library, "mallopt") and hasattr(library, "malloc_trim"):
            library.mallopt(_ARENA_MAX, _HEAPS)
            library.mallopt(_MMAP_THRESHOLD, _LARGE)
            service_thread("memory", lambda: _trim(library, pause))


def _trim(library: ctypes.CDLL, pause: float) -> None:
    never = threading.Event()
    while not never.wait(pause):
        library.malloc_trim(0)
