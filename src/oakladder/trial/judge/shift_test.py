"""A trial compared with chance: the pattern of its trades shifted through time."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.rung.texts import count_words
from oakladder.rung.trade_log import Moment
from oakladder.trial.broker.money import FillBar
from oakladder.trial.judge.studentised import FEWEST_MOMENTS, SAME, shifts_among, studentised
from oakladder.trial.trial import Trial

#: About so many numbers are computed together.
_TOGETHER = 1_000_000
#: The shares of shifts between which their range lies.
_RANGE = (0.05, 0.5, 0.95)


@dataclass(frozen=True, slots=True)
class ShiftTest:
    """The average trade (ratio of what it was entered for) of a trial and of each shift of its trades, NaN where none fits;
    and that average over its own standard error, likewise. float64, shape (shifts,).

    ``statistic`` is none where the trades were entered on too few days. ``share`` is that of shifts, none among them,
    whose average over its error is at least as good.
    """

    real: float
    means: np.ndarray
    statistic: float | None
    statistics: np.ndarray
    trades: int
    #: Whether averages are in money per unit instead: a symbol has prices of 0 and below.
    in_money: bool = False
    name: ClassVar[str] = "chance"

    def as_plain(self) -> dict[str, float | int | None]:
        """As it is written in JSON; ``low``, ``middle`` and ``high`` are of the shifts' average trades."""
        known = self.means[~np.isnan(self.means)]
        low, middle, high = np.quantile(known, _RANGE).tolist() if len(known) else (None, None, None)
        return {
            "share": self.share,
            "real": self.real,
            "statistic": self.statistic,
            "runs": len(self.means),
            "low": low,
            "middle": middle,
            "high": high,
        }

    @property
    def as_good(self) -> int:
        """How many shifts do at least as well."""
        return 0 if self.statistic is None else int((self.statistics >= self.statistic - SAME).sum())

    @property
    def share(self) -> float | None:
        if self.statistic is None or not len(self.means):
            return None
        return (1 + self.as_good) / (1 + len(self.means))

    def words(self) -> str:
        """What it comes to, in a sentence."""
        write: Callable[[float], str] = "{:+,.4g} a unit".format if self.in_money else "{:+.2%}".format
        brought = f"The average trade brought {write(self.real)}"
        if self.statistic is None:
            return f"{brought}. The trades were entered on fewer than {FEWEST_MOMENTS} days: too few to compare with chance."
        if not len(self.means):
            return f"{brought}. The history is too short to shift the trades."
        known = self.means[~np.isnan(self.means)]
        usual = f", against {write(float(np.median(known)))} in the median shift" if len(known) else ""
        how = f"{self.as_good:,} of {count_words(len(self.means), 'shift')}" if self.as_good else "None of the shifts"
        return (
            f"{brought}, {self.statistic:.1f} standard errors from zero. Its {count_words(self.trades, 'trade')} were "
            f"shifted through time together{usual}. {how} did at least as well, measured in standard errors."
        )


def shift_test_of(
    trial: Trial,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
) -> ShiftTest:
    """Shifts the closed trades of a trial through time, all of them by the same number of sessions, round each symbol's own
    bars: a trade of session d moves to session d + k, to the same bar of the session, as long and on the same side. A
    trade that does not fit there is left out of that shift.

    A trade that left at an open leaves at one again, any other at a close; all pay what a market order pays. Compared is
    the average trade over its standard error (`studentised`), the trades summed by the day on which they were entered, with
    the median number of sessions held as lag. Shifts: `shifts_among`, the sessions of the longest symbol that was traded
    less one. Raises `RunProblem` without a closed trade, and `Cancelled`.
    """
    which = np.flatnonzero(trial.book.done)
    if not len(which):
        raise RunProblem("There are no closed trades to shift.")
    shifted = _Shifted(trial, which)
    shifts = shifts_among(shifted.sessions - 1)
    step = max(_TOGETHER // max(len(which), shifted.days), 1)
    means, statistics = [np.zeros(0)], [np.zeros(0)]
    for first in range(0, len(shifts), step):
        if cancelled is not None and cancelled():
            raise Cancelled
        some = shifts[first : first + step]
        for kept, made in zip((means, statistics), shifted.measured(shifted.ratios(some)), strict=True):
            kept.append(made)
        if progress is not None:
            progress(min((first + step) / len(shifts), 1.0))
    ratio = shifted.real
    few = len(np.unique(shifted.day)) < FEWEST_MOMENTS
    _, (real,) = shifted.measured(ratio[None, :])
    return ShiftTest(
        float(ratio.mean()),
        np.concatenate(means),
        None if few else float(real),
        np.concatenate(statistics),
        len(which),
        shifted.in_money,
    )


class _Shifted:
    """The closed trades of a trial, ready to be shifted."""

    def __init__(self, trial: Trial, which: np.ndarray):
        trades, panel, costs = trial.trades, trial.ground.panel, trial.account.costs
        symbol, entered = trades.symbol[which], trades.entered[which]
        self._side = trades.side[which].astype(np.float64)
        self._length = trades.left[which] - entered
        self._at_open = (trades.moment[which] == Moment.OPEN) & (self._length > 0)
        self._opens, self._closes = panel.column("open"), panel.column("close")
        self._symbol, self._slippage = symbol, costs.slippage
        book, self.in_money = trial.book, trial.results.in_money
        self._panel, self._grid, self._units = panel, book.grid, book.units[which]
        self._costs = 2 * (costs.fixed / book.units[which] + costs.per_unit * panel.adjusted_on(entered))
        self._ratio = costs.ratio
        #: What each trade brought.
        self.real = book.net[which] / book.units[which] if self.in_money else trial.results.ratio[which]
        if not self.in_money:
            self._costs = self._costs / book.paid[which]
        # Sessions, numbered through all symbols: where each begins and ends, and of each symbol its first session.
        days = panel.column("day_number")
        parts, ends, first = [], [], [0]
        for begin, end in zip(trial.ground.firsts.tolist(), panel.ends.tolist(), strict=True):
            turns = (
                np.flatnonzero(np.diff(days[begin:end])) + 1 if panel.timeframe.intraday else np.arange(1, end - begin)
            )
            starts = begin + np.append(0, turns) if end > begin else np.zeros(0, dtype=np.int64)
            parts.append(starts)
            ends.append(np.append(starts[1:], end)[: len(starts)])
            first.append(first[-1] + len(starts))
        self._starts, self._ends = np.concatenate(parts), np.concatenate(ends)
        self._base, self._count = np.array(first)[symbol], np.diff(first)[symbol]
        self._last = panel.ends[symbol] - 1
        session = np.searchsorted(self._starts, entered, "right") - 1
        self._session, self._offset = session - self._base, entered - self._starts[session]
        held = np.searchsorted(self._starts, trades.left[which], "right") - 1 - session
        self.lag = max(int(np.median(held)), 1)
        self.sessions = int(self._count.max())
        # The days of all symbols in order, and that of each trade.
        every = np.unique(days[self._starts])
        self.days = len(every)
        self.day = np.searchsorted(every, days[entered])
        self._order = np.argsort(self.day, kind="stable")
        self._groups = np.flatnonzero(np.append(True, np.diff(self.day[self._order]) != 0))

    def ratios(self, shifts: np.ndarray) -> np.ndarray:
        """What each trade brings at each shift, NaN where it does not fit; float64, shape (shifts, trades). Shifts: shape
        (shifts,), int64."""
        session = self._base + (self._session + shifts[:, None]) % self._count
        start = self._starts[session] + self._offset
        end = start + self._length
        fits = (start < self._ends[session]) & (end <= self._last)
        end = np.minimum(end, self._last)
        entry = self._opens[np.minimum(start, self._last)]
        exits = np.where(self._at_open, self._opens[end], self._closes[end])
        begin = np.minimum(start, self._last)
        paid = (entry + self._side * self._worse(entry, begin)) * self._grid.factor(begin)
        got = (exits - self._side * self._worse(exits, end)) * self._grid.factor(end)
        with np.errstate(invalid="ignore", divide="ignore"):
            if self.in_money:  # where costs are no ratio
                return np.where(fits, self._side * (got - paid) - self._costs, np.nan)
            ratio = self._side * (got - paid) / paid - self._costs - self._ratio * (1 + got / paid)
        return np.where(fits, ratio, np.nan)

    def _worse(self, price: np.ndarray, bars: np.ndarray) -> np.ndarray:
        """By how much fills on some bars are worse, in money per unit. Each: shape (shifts, trades), float64; bars int64."""
        bar = FillBar.of(self._panel, bars, self._units) if self._slippage.by_bar else None
        return self._slippage.of(price, self._panel.ticks_on(self._symbol, bars), bar)

    def measured(self, ratios: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """The mean of each row of ratios (NaN for a trade that is left out, and where all are) and that over its standard
        error. Shape (shifts, trades), float64; (shifts,) twice."""
        there = np.isfinite(ratios)
        values = np.where(there, ratios, 0.0)
        counts, sums = (self._by_day(part) for part in (there.astype(np.float64), values))
        every = there.sum(axis=1)
        means = np.where(every > 0, values.sum(axis=1) / np.maximum(every, 1), np.nan)
        return means, studentised(sums, counts, self.lag)

    def _by_day(self, values: np.ndarray) -> np.ndarray:
        """Sums over the trades of each day; shape (shifts, trades) to (days, shifts)."""
        made = np.zeros((self.days, len(values)))
        made[self.day[self._order[self._groups]]] = np.add.reduceat(values[:, self._order], self._groups, axis=1).T
        return made
