"""Keeps the size of a program that is open for days level: what it has freed goes back to the system.

The C library raises by itself the size from which a block is mapped alone and given back when it is freed, opens a
heap for each thread that asks at the same time, and gives back only the end of a heap. After some minutes of runs
over arrays of all sizes in several threads it holds twice what is in use. See mallopt(3) and malloc_trim(3).
"""

from __future__ import annotations

import ctypes
import threading

_MMAP_THRESHOLD, _ARENA_MAX = -3, -8
_LARGE = 1 << 20
_HEAPS = 2
#: Seconds between two times of giving back: often enough that each is over in a few milliseconds.
_PAUSE = 5.0


def give_memory_back(pause: float = _PAUSE) -> None:
    """From now on, for the whole process, every ``pause`` seconds; without such a C library it does nothing."""
    library = ctypes.CDLL(None)
    if hasattr(library, "mallopt") and hasattr(library, "malloc_trim"):
        library.mallopt(_ARENA_MAX, _HEAPS)
        library.mallopt(_MMAP_THRESHOLD, _LARGE)
        threading.Thread(target=_trim, args=(library, pause), name="memory", daemon=True).start()


def _trim(library: ctypes.CDLL, pause: float) -> None:
    never = threading.Event()
    while not never.wait(pause):
        library.malloc_trim(0)
