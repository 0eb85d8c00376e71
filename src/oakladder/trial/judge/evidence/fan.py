"""The paths that prices took after some bars, as a fan of quantiles."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.bars.panel import Panel

#: The shares of paths that lie below each line of a fan.
SHARES = (0.1, 0.25, 0.5, 0.75, 0.9)
#: A fan is drawn from so many paths, evenly chosen from more: a picture needs no others.
_MOST_PATHS = 2_000


@dataclass(frozen=True, slots=True)
class Fan:
    """Changes from the next open to the close 1, 2, … bars later: ``lines`` float64, shape (shares, bars), NaN where no
    path reaches."""

    lines: np.ndarray
    paths: int


def evenly(count: int) -> np.ndarray:
    """The numbers of the paths that are drawn of so many, int64: all of few, evenly chosen ones of more. Shape (paths
    drawn,)."""
    if count <= _MOST_PATHS:
        return np.arange(count)
    return np.linspace(0, count - 1, _MOST_PATHS).astype(np.int64)


def fan_of(panel: Panel, places: np.ndarray, bars: int) -> Fan:
    """The fan of the paths after some bars (places in the panel), so many bars wide. Shape (paths,), int64."""
    places = places[evenly(len(places))]
    opens, closes = panel.column("open"), panel.column("close")
    ends = panel.offsets[np.searchsorted(panel.offsets, places, "right")] if len(places) else places
    at = places[:, None] + np.arange(1, bars + 1)
    there = at < ends[:, None]
    last = max(panel.size - 1, 0)
    with np.errstate(divide="ignore", invalid="ignore"):
        first = opens[np.minimum(places + 1, last)] if len(places) else np.zeros(0)
        paths = np.where(there & (first > 0)[:, None], closes[np.minimum(at, last)] / first[:, None] - 1, np.nan)
    known = (~np.isnan(paths)).sum(axis=0)
    return Fan(_quantiles(np.sort(paths, axis=0), known), len(places))


def _quantiles(rising: np.ndarray, known: np.ndarray) -> np.ndarray:
    """Quantiles down columns that rise, with what is not known (NaN) at their ends; between two values in a line."""
    if not len(rising):
        return np.full((len(SHARES), rising.shape[1]), np.nan)
    made = []
    columns = np.arange(rising.shape[1])
    for share in SHARES:
        at = np.maximum(known - 1, 0) * share
        low = at.astype(np.int64)
        high = np.minimum(low + 1, np.maximum(known - 1, 0))
        a, b = rising[low, columns], rising[high, columns]
        made.append(np.where(known > 0, a + (b - a) * (at - low), np.nan))
    return np.array(made)
