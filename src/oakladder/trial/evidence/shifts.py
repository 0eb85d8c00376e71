"""What followed a flag, and what would have followed it had it come earlier or later: every circular shift in time.

A symbol's usable bars for a horizon h are those t with t + h in the data; its forward change is close[t+h] / open[t+1] - 1.
The flag on its usable bars is shifted round by k, by the same k for all symbols, so that clusters and days in common stay
as they are. The sums of all shifts are one circular correlation, which comes from one product of Fourier transforms.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

import numpy as np
from scipy import fft

from oakladder.bars.panel import Panel
from oakladder.rung.problems import Cancelled

#: About so many numbers are transformed together: few enough for the cache.
_TOGETHER = 65_536
#: So many symbols of one length are gone through at a time, between which stopping takes effect.
_MOST_ROWS = 256


@dataclass(slots=True)
class Followed:
    """What followed a flag after one horizon, over all symbols of a panel.

    ``sums[k]`` and ``counts[k]`` are the sum of the known changes, and their number, over the flag shifted by k bars;
    ``changes`` those of the flag as it is, NaN where one is not known, and ``places`` its bars in the panel.
    """

    horizon: int
    sums: np.ndarray
    counts: np.ndarray
    usual_sum: float
    usual_count: int
    changes: np.ndarray
    places: np.ndarray

    @property
    def shifts(self) -> int:
        """How many shifts there are beside none: one less than the longest symbol has usable bars."""
        return max(len(self.sums) - 1, 0)

    @property
    def means(self) -> np.ndarray:
        """The mean change over the flag shifted by each number of bars, NaN where none is known; float64."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.counts > 0, self.sums / self.counts, np.nan)


def followed(
    panel: Panel,
    flags: np.ndarray,
    horizons: Sequence[int],
    firsts: np.ndarray | None = None,
    *,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
) -> list[Followed]:
    """What followed a flag (bool, as long as the panel) after each horizon, from each symbol's bar ``firsts`` on.

    Raises `Cancelled`.
    """
    panel.fetch(("open", "close"))
    starts = panel.starts if firsts is None else firsts
    sizes = panel.ends - starts
    tasks = [
        (int(size), starts[rows[k : k + _MOST_ROWS]])
        for size in np.unique(sizes).tolist()
        for rows in [np.flatnonzero(sizes == size)]
        for k in range(0, len(rows), _MOST_ROWS)
    ]

    def work(task: tuple[int, np.ndarray]) -> list[Followed]:
        if cancelled is not None and cancelled():
            raise Cancelled
        return _of_one_length(panel.column("open"), panel.column("close"), flags, *task, horizons, cancelled)

    made: list[list[Followed]] = []
    done, every = 0, max(int(sizes.sum()), 1)
    for task, part in zip(tasks, executor.map(work, tasks) if executor is not None else map(work, tasks), strict=True):
        made.append(part)
        done += task[0] * len(task[1])
        if progress is not None:
            progress(done / every)
    return [_together(horizon, [part[k] for part in made]) for k, horizon in enumerate(horizons)]


def _together(horizon: int, parts: list[Followed]) -> Followed:
    """Symbols of several lengths: a short one has been all round when a long one has not."""
    longest = max((len(p.sums) for p in parts), default=0)
    sums, counts = np.zeros(longest), np.zeros(longest)
    for part in parts:
        if len(part.sums):
            sums += np.resize(part.sums, longest)
            counts += np.resize(part.counts, longest)
    empty = np.zeros(0)
    changes = np.concatenate([p.changes for p in parts] or [empty])
    places = np.concatenate([p.places for p in parts] or [empty.astype(np.int64)])
    order = np.argsort(places)
    usual_sum, usual_count = sum(p.usual_sum for p in parts), sum(p.usual_count for p in parts)
    return Followed(horizon, sums, counts, usual_sum, usual_count, changes[order], places[order])


def _of_one_length(
    opens: np.ndarray,
    closes: np.ndarray,
    flags: np.ndarray,
    size: int,
    starts: np.ndarray,
    horizons: Sequence[int],
    cancelled: Callable[[], bool] | None,
) -> list[Followed]:
    """Symbols that have equally many bars; the horizons rise."""
    length = fft.next_fast_len(max(2 * size - 1, 1), real=True)
    sums = [_Correlation(length, max(size - h, 0)) for h in horizons]
    counts = [_Correlation(length, max(size - h, 0)) for h in horizons]
    made = [Followed(h, np.zeros(0), np.zeros(0), 0.0, 0, np.zeros(0), np.zeros(0, np.int64)) for h in horizons]
    kept: list[list[tuple[np.ndarray, np.ndarray]]] = [[] for _ in horizons]
    step = max(_TOGETHER // length, 1)
    late = _LateBars(length, size, min(max(horizons), size))
    for k in range(0, len(starts) if size else 0, step):
        if cancelled is not None and cancelled():
            raise Cancelled
        places = starts[k : k + step, None] + np.arange(size)
        rows = _Rows(opens[places], closes[places], flags[places], length)
        any_flag, shape, reach = bool(rows.flags.any()), None, 0
        for j, horizon in enumerate(horizons):
            if horizon >= size:
                continue
            usable = size - horizon
            known = rows.change(horizon)
            change = rows.padded[:, :usable]
            made[j].usual_sum += float(change.sum())
            made[j].usual_count += change.size if known is None else int(known.sum())
            if not any_flag:
                continue
            hit = rows.flags[:, :usable]
            values = change[hit] if known is None else np.where(known[hit], change[hit], np.nan)
            kept[j].append((values, places[:, :usable][hit]))
            if shape is None:
                shape = rows.transform()
            late.take_off(shape, rows.flags, reach, horizon)
            reach = horizon
            sums[j].add(shape, rows.padded)
            if known is None:
                counts[j].flat += float(hit.sum())
            else:
                rows.padded[:, :usable] = known
                counts[j].add(shape, rows.padded)
    for one, total, count, values_at in zip(made, sums, counts, kept, strict=True):
        one.sums, one.counts = total.circular(), np.round(count.circular())
        if values_at:
            one.changes = np.concatenate([v for v, _ in values_at])
            one.places = np.concatenate([p for _, p in values_at])
    return made


class _Rows:
    """Some symbols of one length, one below the other."""

    def __init__(self, opens: np.ndarray, closes: np.ndarray, flags: np.ndarray, length: int):
        self.opens, self.closes, self.flags = opens, closes, flags
        #: The changes that are looked at, and 0 behind them as far as transforms reach.
        self.padded = np.zeros((len(opens), length))
        # Where every price is sound no change can be unknown.
        self._sound = bool(np.isfinite(opens).all() and np.isfinite(closes).all() and (opens > 0).all())

    def change(self, horizon: int) -> np.ndarray | None:
        """Puts the forward change of each usable bar in place, 0 where it is not known; gives where it is, unless
        everywhere. Horizons come rising."""
        size = self.opens.shape[1]
        before, after = self.opens[:, 1 : size - horizon + 1], self.closes[:, horizon:]
        place = self.padded[:, : size - horizon]
        self.padded[:, size - horizon : size] = 0
        if self._sound:
            np.divide(after, before, out=place)
            place -= 1
            return None
        with np.errstate(divide="ignore", invalid="ignore"):
            made = np.where(before > 0, after / before - 1, np.nan)
        known = np.isfinite(made)
        place[...] = np.where(known, made, 0.0)
        return known

    def transform(self) -> np.ndarray:
        """The conjugate of the transform of the flags."""
        padded = np.zeros_like(self.padded)
        padded[:, : self.flags.shape[1]] = self.flags
        made = fft.rfft(padded, axis=1, overwrite_x=True)
        return np.conj(made, out=made)


class _LateBars:
    """The transforms of the last bars one by one, to take flags off that no longer have a horizon's bars behind them."""

    def __init__(self, length: int, size: int, most: int):
        turn = np.outer(np.arange(size - most, size), np.arange(length // 2 + 1)) % length
        self._each = np.exp(2j * np.pi / length * turn)
        self._most, self._size = most, size

    def take_off(self, shape: np.ndarray, flags: np.ndarray, before: int, now: int) -> None:
        """Takes off the flags on the bars from the last but ``now`` up to the last but ``before``."""
        for bar in range(now, before, -1):
            gone = flags[:, self._size - bar]
            if gone.any():
                shape[gone] -= self._each[self._most - bar]


class _Correlation:
    """A correlation of flags with changes, summed over symbols before it is transformed back."""

    def __init__(self, length: int, size: int):
        self._length, self._size = length, size
        self._sum: np.ndarray | None = None
        #: What is the same for every shift.
        self.flat = 0.0

    def add(self, shape: np.ndarray, padded: np.ndarray) -> None:
        """Adds the correlation of flags (by the conjugate of their transforms) with values that are padded with 0."""
        product = fft.rfft(padded, axis=1)
        product *= shape
        if self._sum is None:
            self._sum = np.zeros(self._length // 2 + 1, dtype=np.complex128)
        self._sum += np.add.reduce(product, axis=0)

    def circular(self) -> np.ndarray:
        """The sum for each shift: what is shifted beyond the last usable bar comes in at the first."""
        if self._sum is None:
            return np.full(self._size, self.flat)
        straight = fft.irfft(self._sum, self._length)
        made = straight[: self._size].copy()
        made[1:] += straight[self._length - self._size + 1 :]
        return made + self.flat
