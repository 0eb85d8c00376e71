"""A trial beside chance: its trades with their entries moved at random, and its trades drawn again in blocks."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.rung.texts import count_words
from oakladder.rung.trade_log import Moment
from oakladder.trial.trial import Trial

#: So many runs with moved entries, and so many draws of blocks.
RUNS = 1_000
#: About so many trades are reckoned together.
_TOGETHER = 250_000
#: The shares of draws between which a range lies.
RANGE = (0.05, 0.95)


@dataclass(frozen=True, slots=True)
class ShiftTest:
    """The average trade (ratio of what it was entered for) of the real trial and of each run with moved entries.

    ``share`` is that of runs, the real one among them, that do at least as well.
    """

    real: float
    runs: np.ndarray
    trades: int
    name: ClassVar[str] = "chance"

    def as_plain(self) -> dict[str, float]:
        """As it is written in JSON."""
        low, middle, high = np.quantile(self.runs, (RANGE[0], 0.5, RANGE[1])).tolist()
        return {
            "share": self.share,
            "real": self.real,
            "runs": len(self.runs),
            "low": low,
            "middle": middle,
            "high": high,
        }

    @property
    def share(self) -> float:
        return float(1 + (self.runs >= self.real).sum()) / (1 + len(self.runs))

    def words(self) -> str:
        """What it comes to, in a sentence."""
        usual = float(np.median(self.runs))
        as_good = int((self.runs >= self.real).sum())
        how = "none" if not as_good else f"{as_good:,}"
        return (
            f"The average trade brought {self.real:+.2%}. With its {count_words(self.trades, 'entry')} shifted at random "
            f"the median of {len(self.runs):,} runs was {usual:+.2%}; {how} of them did at least as well."
        )


def shift_test_of(
    trial: Trial,
    runs: int = RUNS,
    seed: int = 1,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
) -> ShiftTest:
    """Moves the entries of a trial's closed trades at random: as many, as long, on the same side and the same symbols.

    The trades of a symbol keep their lengths, are placed in a random order and do not overlap, and the free time between them is
    shared out at random. A trade that left at an open leaves at one again, any other at a close; all pay what a market
    order pays. Raises `RunProblem` without a closed trade, and `Cancelled`.
    """
    which = np.flatnonzero(trial.book.done)
    if not len(which):
        raise RunProblem("There are no closed trades to shift.")
    moved = _Moved(trial, which)
    rng = np.random.default_rng(seed)
    step = max(_TOGETHER // len(which), 1)
    made = []
    for first in range(0, runs, step):
        if cancelled is not None and cancelled():
            raise Cancelled
        made.append(moved.averages(rng, min(step, runs - first)))
        if progress is not None:
            progress(min((first + step) / runs, 1.0))
    return ShiftTest(float(trial.results.ratio[which].mean()), np.concatenate(made), len(which))


class _Moved:
    """The closed trades of a trial, by symbol, ready to be moved."""

    def __init__(self, trial: Trial, which: np.ndarray):
        trades, panel, costs = trial.trades, trial.ground.panel, trial.account.costs
        self._symbol = trades.symbol[which]  # trades stand by symbol
        self._side = trades.side[which].astype(np.float64)
        self._length = (trades.left - trades.entered)[which]
        self._at_open = trades.moment[which] == Moment.OPEN
        self._opens, self._closes = panel.column("open"), panel.column("close")
        counts = np.bincount(self._symbol, minlength=len(panel))
        self._firsts = np.concatenate([[0], np.cumsum(counts)[:-1]])[self._symbol]
        begins = trial.ground.firsts
        sizes = panel.ends - begins
        taken = np.bincount(self._symbol, np.maximum(self._length, 1), len(panel)).astype(np.int64)
        #: Free bars of each trade's symbol, one kept for an exit at an open, and the first bar.
        self._free = np.maximum(sizes - taken - 1, 0)[self._symbol]
        self._begin = begins[self._symbol]
        self._last = (begins + sizes - 1)[self._symbol]
        self._ticks, self._slippage = np.array(panel.steps)[self._symbol], costs.slippage
        value = trial.book.units[which] * trial.book.paid[which]
        self._fixed = costs.fixed / value + costs.per_unit / trial.book.paid[which]
        self._ratio = costs.ratio

    def averages(self, rng: np.random.Generator, runs: int) -> np.ndarray:
        """The average trade of each of some runs."""
        count = len(self._symbol)
        # Within a symbol the free bars before each trade rise; a number for the symbol keeps them apart while sorting.
        gaps = np.sort(self._symbol + rng.random((runs, count)), axis=1) - self._symbol
        order = np.argsort(self._symbol + rng.random((runs, count)), axis=1)
        length, at_open, side = self._length[order], self._at_open[order], self._side[order]
        taken = np.cumsum(np.maximum(length, 1), axis=1) - np.maximum(length, 1)
        taken -= np.take_along_axis(taken, np.broadcast_to(self._firsts, taken.shape), axis=1)
        start = self._begin + taken + (gaps * (self._free + 1)).astype(np.int64)
        end = np.minimum(start + length, self._last)
        entry = self._opens[np.minimum(start, self._last)]
        exits = np.where(at_open & (length > 0), self._opens[end], self._closes[end])
        paid = entry + side * self._slippage.of(entry, self._ticks)
        got = exits - side * self._slippage.of(exits, self._ticks)
        fixed = self._fixed[order]
        ratio = side * (got - paid) / paid - 2 * fixed - self._ratio * (1 + got / paid)
        return np.asarray(np.nanmean(ratio, axis=1))


@dataclass(frozen=True, slots=True)
class Bootstrap:
    """The average trade (ratio) and the deepest fall (ratio) of a trial's trades, drawn again in blocks many times."""

    average: np.ndarray
    drawdown: np.ndarray
    real_average: float
    real_drawdown: float
    name: ClassVar[str] = "bootstrap"

    def as_plain(self) -> dict[str, float]:
        """As it is written in JSON."""
        (low, high), (middle, deep) = self.range_of_average(), self.drawdown_to_expect()
        return {"average_low": low, "average_high": high, "drawdown_middle": middle, "drawdown_high": deep}

    def range_of_average(self) -> tuple[float, float]:
        low, high = np.quantile(self.average, RANGE)
        return float(low), float(high)

    def drawdown_to_expect(self) -> tuple[float, float]:
        """The middle of the deepest falls, and what one of twenty exceeds."""
        middle, deep = np.quantile(self.drawdown, (0.5, RANGE[1]))
        return float(middle), float(deep)

    def words(self) -> str:
        """What the average trade may be, in a sentence."""
        low, high = self.range_of_average()
        return f"90 % of resampled runs have an average trade between {low:+.2%} and {high:+.2%}."

    def fall_words(self) -> str:
        """What fall is to be expected, in a sentence."""
        middle, deep = self.drawdown_to_expect()
        return f"Expected max drawdown {middle:.0%}; one run in twenty reaches {deep:.0%}."


def bootstrap_of(
    trial: Trial, draws: int = RUNS, seed: int = 1, cancelled: Callable[[], bool] | None = None
) -> Bootstrap:
    """Draws the closed trades of a trial again, in the order of their exits and in blocks that go round (the circular
    block bootstrap of Politis and Romano, 1992), so that good and bad stretches stay together. A block has as many trades
    as the square root of their number. Raises `RunProblem` without a closed trade, and `Cancelled`.

    The fall is that of the starting money with the trades' results in money, one after the other.
    """
    which, book = np.flatnonzero(trial.book.done), trial.book
    if not len(which):
        raise RunProblem("There are no closed trades to resample.")
    left = book.trades.left[which]
    which = which[np.argsort(book.grid.at[left] * 4 + book.trades.moment[which], kind="stable")]
    ratio, net, count = trial.results.ratio[which], book.net[which], len(which)
    block = max(round(np.sqrt(count)), 1)
    rng = np.random.default_rng(seed)
    blocks = -(-count // block)
    step = max(_TOGETHER // count, 1)
    averages, falls = [], []
    for first in range(0, draws, step):
        if cancelled is not None and cancelled():
            raise Cancelled
        starts = rng.integers(0, count, (min(step, draws - first), blocks))
        drawn = ((starts[:, :, None] + np.arange(block)) % count).reshape(len(starts), -1)[:, :count]
        averages.append(ratio[drawn].mean(axis=1))
        falls.append(_fall(book.start, net[drawn]))
    return Bootstrap(
        np.concatenate(averages),
        np.concatenate(falls),
        float(ratio.mean()),
        float(_fall(book.start, net[None, :])[0]),
    )


def _fall(start: float, net: np.ndarray) -> np.ndarray:
    """The deepest fall of each row of results, from the highest value so far, as a ratio of that; 1 where all is lost."""
    value = start + np.cumsum(net, axis=1)
    peak = np.maximum(np.maximum.accumulate(value, axis=1), start)
    return np.asarray(np.minimum((1 - value / peak).max(axis=1), 1.0))
