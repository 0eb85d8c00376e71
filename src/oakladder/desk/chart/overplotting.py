"""Thins out overlapping marks: of several that would look the same, one is painted."""

from __future__ import annotations

import numpy as np

#: Fewer things than this are painted one by one.
MANY = 1500


def newest_in_cells(xs: np.ndarray, ys: np.ndarray, wide: float, high: float) -> np.ndarray:
    """For each point, in the order of time, the index of the newest one in its cell of ``wide`` by ``high`` pixels.

    Points without a place (NaN) stand for themselves.

    Pixels, each shape (points,), float64; gives shape (points,), int64.
    """
    count = len(xs)
    made = np.arange(count)
    placed = ~np.isnan(xs + ys)
    if not placed.any():
        return made
    x, y = xs[placed], ys[placed]
    across = np.floor((x - x.min()) / wide).astype(np.int64)
    down = np.floor((y - y.min()) / high).astype(np.int64)
    keys = across * (int(down.max()) + 1) + down
    newest = np.zeros(int(keys.max()) + 1, dtype=np.int64)
    newest[keys] = made[placed]  # of several with one key the last is kept
    made[placed] = newest[keys]
    return made


def told_apart(xs: np.ndarray, ys: np.ndarray, apart: float, many: int = MANY) -> np.ndarray:
    """Which points to paint: all of them, or where there are more than ``many``, the newest of those within ``apart``
    pixels. Pixels, each shape (points,), float64; gives shape (painted points,), int64."""
    if len(xs) <= many:
        return np.arange(len(xs))
    return np.flatnonzero(newest_in_cells(xs, ys, apart, apart) == np.arange(len(xs)))
