"""Memory that is freed and soon wanted again, part after part of a market."""

from __future__ import annotations

import ctypes
from functools import lru_cache

#: Numbers of glibc's `mallopt`: from how much free memory on some is given back; from what size on it is separate.
_TRIM_THRESHOLD, _MMAP_THRESHOLD, _KEPT_BYTES = -1, -3, 64_000_000


@lru_cache(maxsize=1)
def keep_freed_memory() -> None:
    """Asks the C library to keep what a part frees for the next part, and not to fetch it anew from the system.

    Fetching costs more than all that is then done with it. Where there is no such call, nothing is lost but time.
    """
    adjust = getattr(ctypes.CDLL(None), "mallopt", None)
    if adjust is not None:
        adjust(_TRIM_THRESHOLD, _KEPT_BYTES)
        adjust(_MMAP_THRESHOLD, _KEPT_BYTES // 2)
