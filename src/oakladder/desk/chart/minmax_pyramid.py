"""The smallest and largest values of long arrays, at any zoom: what can be drawn, in time that the screen sets."""

from __future__ import annotations

import numpy as np

FACTOR = 8
#: Below this many values it is quicker to look at them all.
_FEW = 4096


class Pyramid:
    """Levels of minima and maxima over an array, each a `FACTOR` coarser; made when first asked for. NaN is no value."""

    def __init__(self, values: np.ndarray):
        self._levels: list[tuple[np.ndarray, np.ndarray]] = [(values, values)]

    def _level(self, k: int) -> tuple[np.ndarray, np.ndarray]:
        while len(self._levels) <= k:
            low, high = self._levels[-1]
            starts = np.arange(0, len(low), FACTOR)
            self._levels.append((np.fmin.reduceat(low, starts), np.fmax.reduceat(high, starts)))
        return self._levels[k]

    def groups(self, starts: np.ndarray, step: int) -> tuple[np.ndarray, np.ndarray]:
        """Minimum and maximum of each group of ``step`` values that begins at ``starts`` (multiples of ``step``).

        ``step`` is a power of two; the last group may be shorter.

        Starts: shape (groups,), int64; both results: shape (groups,), float64.
        """
        level, size = 0, 1
        while size * FACTOR <= step:
            level, size = level + 1, size * FACTOR
        low, high = self._level(level)
        at, each = int(starts[0]) // size, step // size
        return _folded(np.fmin, low, at, len(starts), each), _folded(np.fmax, high, at, len(starts), each)

    def ends(self, first: int, last: int) -> tuple[float, float]:
        """The smallest and largest value from ``first`` up to ``last``; NaN without any."""
        values = self._levels[0][0]
        if last - first <= _FEW:
            return ends_of(values[first:last])
        size, level = FACTOR**3, 3
        a, b = -(-first // size), last // size
        edges = [values[first : a * size], values[b * size : last]]
        low, high = (part[a:b] for part in self._level(level))
        return ends_of(np.concatenate([*edges, low]))[0], ends_of(np.concatenate([*edges, high]))[1]


def ends_of(values: np.ndarray) -> tuple[float, float]:
    """The smallest and the largest known value; NaN without any. Any shape, float64."""
    if not len(values):
        return float("nan"), float("nan")
    return float(np.fmin.reduce(values)), float(np.fmax.reduce(values))


def _folded(how: np.ufunc, values: np.ndarray, first: int, count: int, each: int) -> np.ndarray:
    """``count`` groups of ``each`` neighbours (a power of two), folded; what is missing of the last one is no value."""
    made = values[first : first + count * each]
    if len(made) < count * each:
        made = np.concatenate([made, np.full(count * each - len(made), np.nan)])
    while each > 1:
        made, each = how(made[0::2], made[1::2]), each // 2
    return made


def step_for(width: float) -> int:
    """How many bars share a pixel where one is ``width`` pixels wide, as a power of two."""
    return 1 if width >= 1.0 else 1 << int(np.ceil(np.log2(1.0 / max(width, 1e-9))))
