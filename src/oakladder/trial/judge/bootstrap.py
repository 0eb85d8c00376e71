"""The sessions of a trial resampled in blocks: ranges for its metrics."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise
from typing import ClassVar

import numpy as np

from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.trial.judge.block_length import block_length
from oakladder.trial.metrics.metrics import YEAR, session_returns
from oakladder.trial.trial import Trial

#: So many draws.
DRAWS = 1_000
#: About so many sessions of draws, or bars of trades, are computed together.
_TOGETHER = 500_000
#: The shares of draws between which a range lies.
RANGE = (0.05, 0.95)
_SEED = 1


@dataclass(frozen=True, slots=True)
class Bootstrap:
    """What each draw showed, by the names of the metrics: ``growth``, ``sharpe``, ``drawdown``, ``average`` and
    ``expectancy``, float64, NaN where a draw has none; what the trial itself shows, none where that is not defined; and the
    mean length of the blocks in sessions. Draws: shape (draws,)."""

    draws: dict[str, np.ndarray]
    real: dict[str, float | None]
    block: float
    name: ClassVar[str] = "bootstrap"

    def as_plain(self) -> dict[str, object]:
        """As it is written in JSON; what is not defined is none."""
        average, drawdown = self.range_of("average"), self.drawdown_to_expect()
        return {
            "average_low": average[0] if average else None,
            "average_high": average[1] if average else None,
            "drawdown_middle": drawdown[0] if drawdown else None,
            "drawdown_high": drawdown[1] if drawdown else None,
            "block": self.block,
            "ranges": {name: self.range_of(name) for name in self.draws},
        }

    def range_of(self, name: str) -> tuple[float, float] | None:
        """What 90 % of draws lie within; none where the metric is not defined."""
        known = self.draws[name][np.isfinite(self.draws[name])]
        if self.real[name] is None or not len(known):
            return None
        low, high = np.quantile(known, RANGE)
        return float(low), float(high)

    def drawdown_to_expect(self) -> tuple[float, float] | None:
        """The median of the max drawdowns, and what one of twenty exceeds."""
        known = self.draws["drawdown"]
        if not len(known):
            return None
        middle, deep = np.quantile(known, (0.5, RANGE[1]))
        return float(middle), float(deep)

    def words(self) -> str:
        """What the metrics may be, in a sentence."""
        told = [
            f"{words} between {write.format(found[0])} and {write.format(found[1])}"
            for name, words, write in (
                ("average", "an average trade", "{:+.2%}"),
                ("growth", "an annual return", "{:+.1%}"),
                ("sharpe", "a Sharpe ratio", "{:.2f}"),
                ("expectancy", "an expectancy", "{:+.2f} R"),
            )
            if (found := self.range_of(name)) is not None
        ]
        if not told:
            return "There are too few sessions to resample."
        return f"90 % of resampled runs have {told[0]}{''.join(f', {t}' for t in told[1:])}."

    def fall_words(self) -> str:
        """What max drawdown is to be expected, in a sentence."""
        found = self.drawdown_to_expect()
        if found is None:
            return "There are too few sessions to resample."
        return f"Expected max drawdown {found[0]:.0%}; one run in twenty reaches {found[1]:.0%}."


def bootstrap_of(
    trial: Trial, draws: int = DRAWS, seed: int = _SEED, cancelled: Callable[[], bool] | None = None
) -> Bootstrap:
    """Resamples the sessions of a trial, each with its return and with what closed trades brought on it, in blocks of
    random length that go round (the stationary bootstrap of Politis and Romano, 1994), so that good and bad stretches
    stay together. The blocks are as long on average as `block_length` says of the returns, or of the trades where those
    depend on one another for longer. Raises `RunProblem` without a closed trade, and `Cancelled`.

    The average trade and the expectancy are those of the trades of the drawn sessions, the max drawdown that of the closes of
    sessions. A metric that the trial itself lacks gets no range.
    """
    which = np.flatnonzero(trial.book.done)
    if not len(which):
        raise RunProblem("There are no closed trades to resample.")
    sessions = trial.equity.clock.sessions
    found = session_returns(trial.equity)
    returns, a_year = found if found is not None else (np.zeros(max(len(sessions) - 1, 0)), math.nan)
    count = len(returns)
    sums = _sums(trial, which, sessions, max(count, 1), cancelled)
    block = max([block_length(returns), *(block_length(_errors(*s)) for s in sums)])
    made: dict[str, list[np.ndarray]] = {
        name: [np.zeros(0)] for name in ("growth", "sharpe", "drawdown", "average", "expectancy")
    }
    real = {name: _number(trial.metrics.get(name)) for name in made}
    days = trial.equity.clock.days
    rng = np.random.default_rng(seed)
    step = max(_TOGETHER // max(count, 1), 1)
    for first in range(0, draws, step):
        if cancelled is not None and cancelled():
            raise Cancelled
        drawn = _drawn(rng, min(step, draws - first), max(count, 1), block)
        for name, (total, number) in zip(("average", "expectancy"), sums, strict=True):
            with np.errstate(invalid="ignore", divide="ignore"):
                made[name].append(total[drawn].sum(axis=1) / number[drawn].sum(axis=1))
        if found is None:
            continue
        some = returns[drawn]
        value = np.cumprod(1 + some, axis=1)
        peak = np.maximum(np.maximum.accumulate(value, axis=1), 1.0)
        made["drawdown"].append((1 - value / peak).max(axis=1))
        made["growth"].append(value[:, -1] ** (YEAR / days) - 1)
        spread = some.std(axis=1, ddof=1)
        with np.errstate(invalid="ignore", divide="ignore"):
            made["sharpe"].append(np.where(spread > 0, some.mean(axis=1) / spread * math.sqrt(a_year), np.nan))
    return Bootstrap({name: np.concatenate(parts) for name, parts in made.items()}, real, block)


def _number(value: object) -> float | None:
    return float(value) if isinstance(value, (int, float)) else None


def _sums(
    trial: Trial, which: np.ndarray, sessions: np.ndarray, count: int, cancelled: Callable[[], bool] | None
) -> list[tuple[np.ndarray, np.ndarray]]:
    """What closed trades brought on each session, as a ratio and in risks, with the number of trades that left on it: what a
    trade brings is spread over the sessions on which it came, so that trades which are held together move together.

    Which: shape (trades,), int64; sessions: shape (sessions,), int64; each array of the result (count,), float64.
    """
    made = [(np.zeros(count), np.zeros(count)) for _ in range(2)]
    bars = np.cumsum(trial.trades.left[which] - trial.trades.entered[which] + 1)
    cuts = np.unique(np.searchsorted(bars, np.arange(0, int(bars[-1]), _TOGETHER)))
    for first, end in pairwise([*cuts.tolist(), len(which)]):
        if cancelled is not None and cancelled():
            raise Cancelled
        for sums, part in zip(made, _sums_of(trial, which[first:end], sessions, count), strict=True):
            for total, more in zip(sums, part, strict=True):
                total += more
    return made


def _sums_of(trial: Trial, which: np.ndarray, sessions: np.ndarray, count: int) -> list[tuple[np.ndarray, np.ndarray]]:
    """The same for some of the trades, with all of their bars at once."""
    trades, book = trial.trades, trial.book
    entered = trades.entered[which]
    bars = trades.left[which] - entered + 1
    trade = np.repeat(np.arange(len(which)), bars)
    first = np.cumsum(bars) - bars
    last = first + bars - 1
    at = book.grid.at[np.arange(len(trade)) - first[trade] + entered[trade]]
    # At first a trade is worth what was paid, then the last known close.
    worth = book.grid.closes[trades.symbol[which][trade], at]
    worth = np.where(np.isnan(worth), book.paid[which][trade], worth)
    before = np.append(0.0, worth[:-1])
    before[first] = book.paid[which]
    pieces = trades.side[which][trade] * (worth - before)  # money per unit
    pieces[last] = 0.0
    whole = np.bincount(trade, pieces, len(which))
    session = np.clip(np.searchsorted(sessions, at - trial.ground.first_place, "left") - 1, 0, count - 1)
    made = []
    for values in (trial.results.ratio[which], trial.results.risks[which]):
        known = np.isfinite(values)
        with np.errstate(invalid="ignore", divide="ignore"):
            scale = values / (book.net[which] / book.units[which])
        scale = np.where(np.isfinite(scale), scale, 0.0)
        brought = pieces * scale[trade]
        brought[last] = np.where(known, values - whole * scale, 0.0)  # the rest, costs and slippage too
        counts = np.bincount(session[last[known]], minlength=count).astype(np.float64)
        made.append((np.bincount(session, brought, count), counts))
    return made


def _errors(total: np.ndarray, number: np.ndarray) -> np.ndarray:
    """How far the sums of sessions are from what their trades would bring on average; both shape (sessions,)."""
    return total - number * (total.sum() / max(number.sum(), 1.0))


def _drawn(rng: np.random.Generator, runs: int, count: int, block: float) -> np.ndarray:
    """Sessions in blocks that begin anywhere and end at each session with the chance 1 / ``block``; int64, shape (runs,
    count)."""
    begins = rng.random((runs, count)) < 1 / block
    begins[:, 0] = True
    starts = rng.integers(0, count, (runs, count))
    at = np.maximum.accumulate(np.where(begins, np.arange(count), 0), axis=1)
    return np.asarray((np.take_along_axis(starts, at, axis=1) + np.arange(count) - at) % count)
