"""Keeps the size of a program that is open for days level: what it has freed goes back to the system.

The C library raises by itself the size from which a block is mapped alone and given back when it is freed, and
opens a heap for each thread that asks at the same time. After some minutes of runs over arrays of all sizes in
several threads it holds several times what is in use. See mallopt(3).
"""

from __future__ import annotations

import ctypes

_TRIM_THRESHOLD, _MMAP_THRESHOLD, _ARENA_MAX = -1, -3, -8
_LARGE = 1 << 20
_HEAPS = 2


def give_memory_back() -> None:
    """Fixes both sizes and the number of heaps for the whole process; without such a C library it does nothing."""
    mallopt = getattr(ctypes.CDLL(None), "mallopt", None)
    if mallopt is not None:
        mallopt(_ARENA_MAX, _HEAPS)
        mallopt(_MMAP_THRESHOLD, _LARGE)
        mallopt(_TRIM_THRESHOLD, _LARGE)
