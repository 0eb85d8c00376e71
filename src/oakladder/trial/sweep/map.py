"""The map of a sweep: a metric over one or two settings, and what a point's neighbours say of it.

A setting that is good for a reason is good in its neighbourhood too; a lonely peak is most likely luck.
"""

from __future__ import annotations

import itertools
import warnings
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.trial.batch.task import Tried
from oakladder.trial.metrics.metrics import METRICS
from oakladder.trial.sweep.ranges import Range

#: Where points are drawn at random, so many of the nearest are a point's neighbours.
_NEAREST = 8
#: A peak is among this share of the best.
_BEST = 0.1
#: A peak is lonely where its neighbours are not among this share of the best.
_BETTER = 1 / 3


@dataclass(frozen=True, slots=True)
class SweepMap:
    """A metric over settings; arrays with a place for each variant, NaN where the metric is not defined.

    ``places`` are the places of each variant's values in their ranges, shape (variants, ranges). ``around`` is the median
    of its neighbours, ``lonely`` marks peaks that their neighbours do not bear out, ``best`` is the place of the best
    variant and ``broad`` of the one with the best neighbourhood, itself among it; None where no metric is defined.
    """

    metric: str
    ranges: tuple[Range, ...]
    places: np.ndarray
    values: np.ndarray
    around: np.ndarray
    lonely: np.ndarray
    best: int | None
    broad: int | None

    @property
    def edges(self) -> dict[str, int]:
        """The settings at an end of whose range the best lies, so that a better one may lie beyond: -1 at the low end, 1 at the
        high one. A range of two values is all ends."""
        if self.best is None:
            return {}
        made = {}
        for one, at in zip(self.ranges, self.places[self.best].tolist(), strict=True):
            if len(one.values) > 2 and at in (0, len(one.values) - 1):
                made[one.name] = 1 if at else -1
        return made


def map_of(ranges: Sequence[Range], tried: Sequence[Tried], metric: str) -> SweepMap:
    """The map of what was tried, by one of `METRICS`."""
    places = _places(ranges, tried)
    values = np.array([_number(one.value(metric)) for one in tried], dtype=np.float64)
    near = _values_around(places, [len(r.values) for r in ranges], values)
    around = _medians(near)
    sign = -1.0 if METRICS[metric].good < 0 else 1.0
    good = sign * values
    known = ~np.isnan(good)
    if not known.any():
        return SweepMap(metric, tuple(ranges), places, values, around, np.zeros(len(tried), dtype=bool), None, None)
    high, better = np.quantile(good[known], (1 - _BEST, 1 - _BETTER)).tolist()
    with np.errstate(invalid="ignore"):
        lonely = (good >= high) & (sign * around <= better) & (sign * around < good)
    best = int(np.nanargmax(good))
    broad = _broadest(good, sign * near)
    return SweepMap(metric, tuple(ranges), places, values, around, lonely, best, broad)


def _places(ranges: Sequence[Range], tried: Sequence[Tried]) -> np.ndarray:
    """The place of each variant's values in their ranges, int64, shape (variants, ranges)."""
    columns = []
    for one in ranges:
        at = {value: k for k, value in enumerate(one.values)}
        columns.append([at[t.settings[one.name]] for t in tried])  # type: ignore[index]
    return np.array(columns, dtype=np.int64).reshape(len(ranges), len(tried)).T


def _number(value: float | None) -> float:
    return float("nan") if value is None else float(value)


def _values_around(places: np.ndarray, sizes: Sequence[int], values: np.ndarray) -> np.ndarray:
    """The values of each point's neighbours, float64, shape (neighbours at most, variants), NaN for missing ones.

    On a whole grid those are at most one step away in each setting; of points that were drawn at random the nearest.
    """
    count = len(places)
    if count == int(np.prod(sizes)):
        grid = np.full([n + 2 for n in sizes], np.nan)
        grid[tuple(places.T + 1)] = values
        steps = [s for s in itertools.product((-1, 0, 1), repeat=len(sizes)) if any(s)]
        return np.array([grid[tuple(places.T + 1 + np.array(s)[:, None])] for s in steps])
    from scipy.spatial import KDTree  # takes longer to load than a map takes

    scaled = places / np.maximum(np.array(sizes) - 1, 1)
    nearest = KDTree(scaled).query(scaled, min(_NEAREST + 1, count), p=np.inf)[1].reshape(count, -1)
    own = nearest == np.arange(count)[:, None]
    return np.where(own, np.nan, values[nearest]).T


def _medians(near: np.ndarray) -> np.ndarray:
    """The median down each column, NaN where nothing is known."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)
        return np.asarray(np.nanmedian(near, axis=0)) if len(near) else np.full(near.shape[1:], np.nan)


def _broadest(good: np.ndarray, near: np.ndarray) -> int:
    """The point with the best median of itself and its neighbours; of equals that with the best mean, then with the most
    neighbours, then the best itself, then the first."""
    with_itself = np.concatenate([near, good[None, :]])
    known = np.flatnonzero(~np.isnan(good))
    counts = (~np.isnan(with_itself)).sum(axis=0)
    means = np.where(np.isnan(with_itself), 0.0, with_itself).sum(axis=0) / np.maximum(counts, 1)
    keys = (-known, good[known], counts[known], means[known], _medians(with_itself[:, known]))
    return int(known[np.lexsort(keys)[-1]])
