"""The map of a sweep: a figure over one or two settings, and what a point's neighbours say of it.

A setting that is good for a reason is good in its neighbourhood too; a lonely peak is most likely luck.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.trial.figures import FIGURES
from oakladder.trial.sweeps.ranges import Point, Range
from oakladder.trial.sweeps.running import Tried

#: Where points are drawn at random, so many of the nearest are a point's neighbours.
_NEAREST = 8
#: A peak is among this share of the best.
_BEST = 0.1
#: A peak is lonely where its neighbours are not among this share of the best.
_BETTER = 1 / 3


@dataclass(frozen=True, slots=True)
class SweepMap:
    """A figure over settings; arrays with a place for each variant, NaN where the figure is not defined.

    ``places`` are the places of each variant's values in their ranges, shape (variants, ranges). ``around`` is the median
    of its neighbours, ``lonely`` marks peaks that their neighbours do not bear out, ``best`` is the place of the best
    variant and ``broad`` of the one with the best neighbourhood, itself among it; None where no figure is defined.
    """

    figure: str
    ranges: tuple[Range, ...]
    places: np.ndarray
    values: np.ndarray
    around: np.ndarray
    lonely: np.ndarray
    best: int | None
    broad: int | None


def map_of(ranges: Sequence[Range], tried: Sequence[Tried], figure: str) -> SweepMap:
    """The map of what was tried, by one of `FIGURES`."""
    places = np.array([[_place(one.settings[r.name], r.values) for r in ranges] for one in tried], dtype=np.int64)
    places = places.reshape(len(tried), len(ranges))
    values = np.array([_number(one.value(figure)) for one in tried])
    near = _neighbours(places, [len(r.values) for r in ranges])
    around = np.array([_median(values[some]) for some in near] or [], dtype=np.float64)
    sign = -1.0 if FIGURES[figure].good < 0 else 1.0
    good = sign * values
    known = ~np.isnan(good)
    if not known.any():
        return SweepMap(figure, tuple(ranges), places, values, around, np.zeros(len(tried), dtype=bool), None, None)
    high, better = np.quantile(good[known], (1 - _BEST, 1 - _BETTER)).tolist()
    with np.errstate(invalid="ignore"):
        lonely = (good >= high) & (sign * around <= better) & (sign * around < good)
    best = int(np.nanargmax(good))
    return SweepMap(figure, tuple(ranges), places, values, around, lonely, best, _broadest(good, near))


def _broadest(good: np.ndarray, near: Sequence[np.ndarray]) -> int:
    """The point with the best median of itself and its neighbours; of equals that with the best mean, then with the most
    neighbours."""

    def rank(k: int) -> tuple[float, float, int]:
        around = np.append(good[near[k]], good[k])
        return _median(around), float(np.nanmean(around)), len(near[k])

    return max(np.flatnonzero(~np.isnan(good)).tolist(), key=rank)


def _place(value: object, values: tuple[Point, ...]) -> int:
    return values.index(value)


def _number(value: float | None) -> float:
    return float("nan") if value is None else float(value)


def _median(values: np.ndarray) -> float:
    known = values[~np.isnan(values)]
    return float(np.median(known)) if len(known) else float("nan")


def _neighbours(places: np.ndarray, sizes: Sequence[int]) -> list[np.ndarray]:
    """The neighbours of each point: on a whole grid those that are one step away at most in each setting; of points that
    were drawn at random the nearest."""
    count = len(places)
    if count == int(np.prod(sizes)):
        steps = np.array(np.meshgrid(*[[-1, 0, 1]] * len(sizes), indexing="ij")).reshape(len(sizes), -1).T
        number = np.full(tuple(sizes), -1, dtype=np.int64)
        number[tuple(places.T)] = np.arange(count)
        made = []
        for place in places:
            there = place + steps
            inside = ((there >= 0) & (there < np.array(sizes))).all(axis=1) & steps.any(axis=1)
            made.append(number[tuple(there[inside].T)])
        return made
    scaled = places / np.maximum(np.array(sizes) - 1, 1)
    made = []
    for k in range(count):
        far = np.abs(scaled - scaled[k]).max(axis=1)
        far[k] = np.inf
        made.append(np.argsort(far, kind="stable")[: min(_NEAREST, count - 1)])
    return made
