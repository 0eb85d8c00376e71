"""What follows from the times of bars alone, worked out once for all symbols that trade at the same times."""

from __future__ import annotations

import threading
import weakref
from collections.abc import Callable, Hashable
from typing import TypeVar

import numpy as np

T = TypeVar("T")
_LOCK = threading.Lock()
#: Contents of shared arrays of times → the array; goes with the last bars that have it.
_SHARED: dict[tuple[int, int], weakref.ref[np.ndarray]] = {}
#: Shared array (by identity) → what has been worked out for it.
_KNOWN: dict[int, dict[Hashable, object]] = {}


def shared(times: np.ndarray) -> np.ndarray:
    """The one array of these times: equal contents give the same array, so that its facts are found again."""
    key = (len(times), hash(times.tobytes()))
    with _LOCK:
        found = _SHARED.get(key)
        known = found() if found is not None else None
        if known is not None and np.array_equal(known, times):
            return known
        _SHARED[key] = weakref.ref(times)
        name = id(times)
        _KNOWN[name] = {}
        weakref.finalize(times, _forget, key, name)
        return times


def _forget(key: tuple[int, int], name: int) -> None:
    # No lock: this may run in the middle of anything, and each step is whole by itself.
    _KNOWN.pop(name, None)
    found = _SHARED.get(key)
    if found is not None and found() is None:
        _SHARED.pop(key, None)


def remembered(times: np.ndarray, what: Hashable, work: Callable[[], T]) -> T:
    """A fact about an array of times, from memory where the array is shared."""
    facts = _KNOWN.get(id(times))
    if facts is None:
        return work()
    if what not in facts:
        facts[what] = work()
    return facts[what]  # type: ignore[return-value]
