"""The studentised mean: a mean of values over its own standard error, where values of one moment belong together and those of
near moments may.

The error is that of Newey and West (1987), with the weights of Bartlett: a mean of what merely moves much, or of one event
counted many times, is no larger than its error.
"""

from __future__ import annotations

import numpy as np

from oakladder.trial.judge.long_run_variance import COLUMNS, totals_squares_variances

#: Up to so many shifts are all looked at; of more, so many different ones are drawn.
MOST_SHIFTS, DRAWN_SHIFTS = 3_000, 1_000
#: On fewer moments nothing can be said.
FEWEST_MOMENTS = 5
#: Statistics that differ by less are equal: the difference is rounding error.
SAME = 1e-9
#: A variance below this share of the squared sums is rounding error.
_NOTHING = 1e-20
_SEED = 1


def shifts_among(count: int) -> np.ndarray:
    """The shifts to be looked at where there are ``count`` beside none: int64, from 1 on, rising; all of them up to
    `MOST_SHIFTS`, else `DRAWN_SHIFTS` that are always the same. Shape (shifts,)."""
    if count <= MOST_SHIFTS:
        return np.arange(1, max(count, 0) + 1)
    return np.sort(np.random.default_rng(_SEED).choice(count, DRAWN_SHIFTS, replace=False)) + 1


def studentised(sums: np.ndarray, counts: np.ndarray, lag: int) -> np.ndarray:
    """The mean over its standard error of each column of values: ``sums`` of the values of each moment (the moments in
    order, those without a value too), and their ``counts``.

    With the mean m, e[d] = sums[d] - m counts[d], the error's square times the squared number of values is the sum of
    e[d]² and of 2 (1 - q / (lag + 1)) e[d] e[d - q] over all q from 1 to ``lag``. Where it is nothing but rounding error,
    and where there is no value, the statistic is 0. ``sums`` is overwritten.

    Shapes: ``sums`` (moments, columns), float64; ``counts`` (moments,) or (moments, columns); (columns,), float64.
    """
    every = counts.sum(axis=0)
    if counts.ndim == 1 and sums.shape[1] % COLUMNS == 0 and sums.flags.c_contiguous and sums.size and every > 0:
        total, squares, variance = totals_squares_variances(sums, np.ascontiguousarray(counts), lag)
    else:
        total, squares = sums.sum(axis=0), np.einsum("ij,ij->j", sums, sums)
        mean = np.where(every > 0, total / np.maximum(every, 1), 0.0)
        sums -= mean * (counts if counts.ndim == 2 else counts[:, None])
        variance = _long_run(sums, lag)
    there = variance > _NOTHING * squares
    return np.where(there, total / np.sqrt(np.where(there, variance, 1.0)), 0.0)


def _long_run(errors: np.ndarray, lag: int) -> np.ndarray:
    """What Bartlett's weights make of the products of errors: the sum of the squares of all sums over lag + 1 moments in a
    row, over lag + 1. Overwrites the errors, shape (moments, columns), with their running sums."""
    if not lag:
        return np.einsum("ij,ij->j", errors, errors)
    moments, wide = len(errors), lag + 1
    np.cumsum(errors, axis=0, out=errors)
    first = errors[: min(wide, moments)]
    made = np.einsum("ij,ij->j", first, first)
    if moments > wide:
        inner = errors[wide:] - errors[:-wide]
        made += np.einsum("ij,ij->j", inner, inner)
    # Windows that reach beyond the last moment; those over all moments sum to nothing.
    last = errors[-1] - errors[max(moments - wide, 0) : moments - 1]
    made += np.einsum("ij,ij->j", last, last)
    return np.asarray(made / wide)
