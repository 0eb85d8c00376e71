"""What follows from the times of bars alone, worked out once for all symbols that trade at the same times."""

from __future__ import annotations

import threading
import weakref
from collections import OrderedDict
from collections.abc import Callable, Hashable, Sequence
from typing import TypeVar

import numpy as np

T = TypeVar("T")
_LOCK = threading.Lock()
#: Contents of shared arrays of times → the array; removed with the last bars that use it.
_SHARED: dict[tuple[int, int], weakref.ref[np.ndarray]] = {}
#: Shared array (by identity) → what has been worked out for it.
_KNOWN: dict[int, dict[Hashable, object]] = {}


def shared(times: np.ndarray) -> np.ndarray:
    """The one array of these times: equal contents give the same array, so that its facts are found again. Shape
    (bars,), int64."""
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
    # No lock: this may interrupt any code, and each step is atomic.
    _KNOWN.pop(name, None)
    found = _SHARED.get(key)
    if found is not None and found() is None:
        _SHARED.pop(key, None)


def remembered(times: np.ndarray, what: Hashable, work: Callable[[], T]) -> T:
    """A fact about an array of times, from memory where the array is shared. Shape (bars,), int64."""
    facts = _KNOWN.get(id(times))
    if facts is None:
        return work()
    if what not in facts:
        facts[what] = work()
    return facts[what]  # type: ignore[return-value]


#: The most bytes that are remembered of times by their names.
_MOST_NAMED = 64_000_000
_NAMED: OrderedDict[Hashable, np.ndarray] = OrderedDict()
_held = 0


def remembered_by_name(keys: Sequence[Hashable], sizes: Sequence[int], work: Callable[[], np.ndarray]) -> np.ndarray:
    """A fact about the times of many symbols, end to end, which have names but are not held themselves.

    ``keys`` say which times and which fact; ``sizes`` how long each part is. Worked out for all if one is missing.

    Shape (sum of ``sizes``,), dtype as ``work`` gives it.
    """
    global _held
    with _LOCK:
        known = [_NAMED.get(key) for key in keys]
    if known and all(part is not None for part in known):
        return np.concatenate(known)  # type: ignore[arg-type]
    made = work()
    at = 0
    with _LOCK:
        for key, size in zip(keys, sizes, strict=True):
            if key not in _NAMED:
                _NAMED[key] = made[at : at + size].copy()
                _held += _NAMED[key].nbytes
            at += size
        while _held > _MOST_NAMED and _NAMED:
            _held -= _NAMED.popitem(last=False)[1].nbytes
    return made
