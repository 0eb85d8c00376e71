"""What followed a flag, compared with shifts of the flag in time.

A symbol's usable bars for a horizon h are those t with t + h in the data; its forward change is close[t+h] / open[t+1] - 1.
The flag on its usable bars is shifted round by k, by the same k for all symbols, so that clusters and days in common stay
as they are. At each shift the mean change beyond the usual one is taken over its standard error (`studentised`), where the
changes are summed by the moment of the flag before it was shifted, and the lag is the horizon.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.trial.judge.evidence.shifted_sums import BLOCK, sums_of_stretches
from oakladder.trial.judge.studentised import MOST_SHIFTS, shifts_among, studentised
from oakladder.trial.trial import TrialData

#: So many shifts are gone through together: the sums of all moments stay in the cache.
_SHIFTS = 16 * BLOCK
#: Flags on more than this share of the bars, and besides so many on each moment, are many: a product of matrices is quicker
#: then.
_MANY, _BESIDES = 0.1, 4
#: About so many numbers are gathered at a time where shifts are drawn.
_GATHERED = 4_000_000


@dataclass(slots=True)
class Followed:
    """What followed a flag after one horizon, over all symbols of a panel.

    ``statistics`` are the mean change beyond the usual one over its standard error for each of the ``shifts`` (int64,
    the first of them 0: the flag as it is); ``changes`` those of the flag as it is, NaN where one is not known, and
    ``places`` its bars in the panel.
    """

    horizon: int
    shifts: np.ndarray
    statistics: np.ndarray
    usual_sum: float
    usual_count: int
    #: On how many moments a change is known.
    moments: int
    changes: np.ndarray
    places: np.ndarray


def followed(
    ground: TrialData, flags: np.ndarray, horizons: Sequence[int], *, context: RunContext = PLAIN
) -> list[Followed]:
    """What followed a flag (bool, as long as the panel) after each horizon, from each symbol's first counted bar on.

    Every shift up to `MOST_SHIFTS`; where the longest horizon leaves more, `DRAWN_SHIFTS` of those, the same for all
    horizons. Raises `Cancelled`.

    Flags: shape (bars,).
    """
    ground.panel.fetch(("open", "close"))
    whole = _Flags(ground, flags)
    longest = int(whole.sizes.max(initial=0))
    drawn = shifts_among(longest - max(horizons) - 1) if longest - max(horizons) - 1 > MOST_SHIFTS else None
    made: list[Followed] = []
    for one in context.map(lambda horizon: _after(whole, horizon, longest, drawn, context), list(horizons)):
        made.append(one)
        context.report(len(made) / len(horizons))
    return made


class _Flags:
    """The flags of a panel by moment: the symbol, the bar (counted from the symbol's first that counts) and the moment of
    each, int64."""

    def __init__(self, ground: TrialData, flags: np.ndarray):
        panel = ground.panel
        self.opens, self.closes = panel.column("open"), panel.column("close")
        #: The first counted bar of each symbol, and how many there are.
        self.starts = ground.firsts
        self.sizes = panel.ends - self.starts
        self.below_zero = ground.grid.below_zero
        at = np.flatnonzero(flags)
        symbol = np.searchsorted(panel.offsets, at, "right") - 1
        bar = at - self.starts[symbol]
        counted = bar >= 0
        at, symbol, bar = at[counted], symbol[counted], bar[counted]
        moment = ground.grid.at[at] - ground.first_place
        order = np.argsort(moment, kind="stable")
        self.at, self.symbol, self.bar, self.moment = at[order], symbol[order], bar[order], moment[order]
        self.moments = len(ground.grid) - ground.first_place
        #: Whether every symbol has a bar at every moment.
        self.aligned = bool((self.sizes == self.moments).all())


def _after(whole: _Flags, horizon: int, longest: int, drawn: np.ndarray | None, context: RunContext) -> Followed:
    """What followed flags after one horizon."""
    context.check()
    sizes = np.maximum(whole.sizes - horizon, 0)
    shifts = np.append(0, drawn if drawn is not None else np.arange(1, max(longest - horizon, 1)))
    usable = np.flatnonzero(whole.bar < sizes[whole.symbol])
    changes = _Changes(whole, sizes, horizon)
    sums = _Sums(whole, usable, changes, sizes, in_a_row=drawn is None)
    own, places, moment = changes.numbers[sums.place], whole.at[usable], whole.moment[usable]
    order = np.argsort(places)
    changes.demean()
    counts = np.bincount(moment, minlength=whole.moments).astype(np.float64)
    statistics = [np.zeros(0)]
    for k in range(0, len(shifts) if len(usable) else 0, sums.step):
        context.check()
        some = shifts[k : k + sums.step]
        there = counts if changes.known is None else sums.of(changes.known, some)
        statistics.append(studentised(sums.of(changes.numbers, some), there, horizon)[: len(some)])
    return Followed(
        horizon,
        shifts,
        np.concatenate(statistics),
        changes.usual_sum,
        changes.usual_count,
        len(np.unique(moment[~np.isnan(own)])),
        own[order],
        places[order],
    )


class _Sums:
    """Sums of numbers over the flags of each moment, at some shifts at a time.

    Shifts that follow one another are gone through flag by flag, stretch by stretch; where flags are many and every symbol
    has every moment, the sums of all shifts are one product of matrices. Where shifts are drawn, each number is looked up.
    """

    def __init__(self, whole: _Flags, usable: np.ndarray, changes: _Changes, sizes: np.ndarray, *, in_a_row: bool):
        symbol = whole.symbol[usable]
        self._whole, self._changes, self._symbol, self._in_a_row = whole, changes, symbol, in_a_row
        self._bar, self._begin, self._period = whole.bar[usable], changes.begins[symbol], sizes[symbol]
        #: Where the numbers of the flags stand as they are.
        self.place = self._begin + self._bar
        moment = whole.moment[usable]
        self._found, self._firsts = np.unique(moment, return_index=True)
        self._ends = np.append(self._firsts[1:], len(moment))
        self._many = in_a_row and whole.aligned and len(usable) > _MANY * sizes.sum() + _BESIDES * whole.moments
        self._products: dict[int, np.ndarray] = {}
        #: So many shifts at a time.
        self.step = _SHIFTS if in_a_row else max(_GATHERED // max(len(usable), whole.moments, 1), 1)

    def of(self, numbers: np.ndarray, shifts: np.ndarray) -> np.ndarray:
        """The sums at some shifts and, where they follow one another, at the next ones up to `step`; float64, shape (moments,
        shifts)."""
        if self._many:
            made = self._from_product(numbers, int(shifts[0]))
        elif self._in_a_row:
            places = self._begin + (self._bar + int(shifts[0])) % self._period
            made = sums_of_stretches(numbers, self._ends, places, _SHIFTS)
        else:
            places = self._begin[:, None] + (self._bar[:, None] + shifts) % self._period[:, None]
            made = np.add.reduceat(numbers[places], self._firsts, axis=0)
        if len(made) == self._whole.moments:
            return made
        every = np.zeros((self._whole.moments, made.shape[1]))
        every[self._found if len(made) == len(self._found) else slice(len(made))] = made
        return every

    def _from_product(self, numbers: np.ndarray, first: int) -> np.ndarray:
        """The flags of each moment times the numbers of each bar; a shift is a step to the right."""
        rows = len(self._whole.sizes)
        size = int(self._period[0])
        product = self._products.get(id(numbers))
        if product is None:
            flags = np.zeros((rows, size))
            flags[self._symbol, self._bar] = 1.0
            product = flags.T @ numbers.reshape(rows, size + _SHIFTS)[:, :size]
            times = 2 + -(-_SHIFTS // size)
            product = self._products[id(numbers)] = np.concatenate([product] * times, axis=1)
        step = product.strides[1]
        beside = np.lib.stride_tricks.as_strided(product, (size, size + _SHIFTS), (product.strides[0] + step, step))
        return np.ascontiguousarray(beside[:, first : first + _SHIFTS])


class _Changes:
    """The changes of all usable bars, symbol by symbol, each symbol's first ones again behind its last: what is shifted
    beyond the last bar comes in at the first. NaN where one is not known, until they are demeaned."""

    def __init__(self, whole: _Flags, sizes: np.ndarray, horizon: int):
        self.begins = np.cumsum(sizes + _SHIFTS) - (sizes + _SHIFTS)
        self.numbers = np.zeros(int((sizes + _SHIFTS).sum()))
        #: 1 where a change is known; None where all are.
        self.known: np.ndarray | None = None
        self.usual_sum, self.usual_count = 0.0, 0
        for size in np.unique(sizes[sizes > 0]).tolist():
            rows = np.flatnonzero(sizes == size)
            for k in range(0, len(rows), max(_GATHERED // size, 1)):
                some = rows[k : k + max(_GATHERED // size, 1)]
                self._take(whole, some, size, horizon)

    def _take(self, whole: _Flags, rows: np.ndarray, size: int, horizon: int) -> None:
        """The changes of some symbols with equally many usable bars."""
        starts = whole.starts[rows]
        opens = _side_by_side(whole.opens, starts, size + horizon)[:, 1 : size + 1]
        closes = _side_by_side(whole.closes, starts, size + horizon)[:, horizon:]
        with np.errstate(divide="ignore", invalid="ignore"):
            made = closes / opens
            made -= 1
            made[~(np.isfinite(made) & (opens > 0))] = np.nan
            made[whole.below_zero[rows]] = np.nan  # no change in per cent has a meaning
        there = ~np.isnan(made)
        self.usual_count += int(there.sum())
        self.usual_sum += float(made.sum() if there.all() else np.nansum(made))
        wide = size + _SHIFTS
        begins = self.begins[rows]
        if len(rows) and int(begins[-1] - begins[0]) == (len(rows) - 1) * wide:
            to = self.numbers[begins[0] : begins[0] + len(rows) * wide].reshape(len(rows), wide)
            to[:, :size] = made
            to[:, size:] = made[:, np.arange(_SHIFTS) % size]
        else:
            self.numbers[begins[:, None] + np.arange(wide)] = made[:, np.arange(wide) % size]

    def demean(self) -> None:
        """Takes the usual change off each, and makes unknown ones 0."""
        self.numbers -= self.usual_sum / max(self.usual_count, 1)
        there = ~np.isnan(self.numbers)
        if not there.all():
            self.known = there.astype(np.float64)
            self.numbers[~there] = 0.0


def _side_by_side(column: np.ndarray, starts: np.ndarray, size: int) -> np.ndarray:
    """A column of some symbols of one length, one below the other; nothing is copied where they stand end to end."""
    if int(starts[-1] - starts[0]) == (len(starts) - 1) * size:
        return column[starts[0] : starts[0] + len(starts) * size].reshape(len(starts), size)
    return column[starts[:, None] + np.arange(size)]
