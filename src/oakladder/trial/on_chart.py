"""Trades of a script on the bars of one symbol, as a chart shows them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.engine.run.execute import Result
from oakladder.engine.sealed import OPEN, SealedDays
from oakladder.rung.plan.ops import Op
from oakladder.rung.program import Program
from oakladder.rung.trade_words import Reason, Side
from oakladder.trial.broker.trade_finder import check_timeframe
from oakladder.trial.broker.trades import trades_of

#: What is said instead of a result that is sealed.
SEALED_WORDS = "its result is sealed"


@dataclass(frozen=True, slots=True)
class ChartTrades:
    """Trades before costs, oldest first; arrays with a place for each, bars as numbers of the chart.

    An open one ends at the last bar's close. ``stop`` is the stop in force after each bar's close, NaN without one. The
    results of trades that end on bar ``opened`` or later are sealed: their gain is NaN.
    """

    bars: int
    names: tuple[str, ...]
    side: np.ndarray
    entered: np.ndarray
    entry: np.ndarray
    ends: np.ndarray
    last: np.ndarray
    gain: np.ndarray
    is_open: np.ndarray
    reasons: tuple[str, ...]
    stop: np.ndarray
    decided: np.ndarray
    touched: frozenset[int]
    contradicted: frozenset[int]
    opened: int
    #: The prices that were traded: they differ from those of the chart where these are adjusted for dividends and splits.
    traded_entry: np.ndarray
    traded_last: np.ndarray

    @property
    def is_sealed(self) -> np.ndarray:
        """Whether the result of each trade is sealed; bool. Shape (trades,)."""
        return np.asarray(self.ends >= self.opened)

    def gain_words(self, k: int) -> str:
        """The result of a trade."""
        return SEALED_WORDS if self.is_sealed[k] else f"{self.gain[k]:+.2%}"

    def words(self, k: int) -> str:
        """A trade in a sentence."""
        side = Side(int(self.side[k])).word
        if self.is_open[k]:
            so_far = SEALED_WORDS if self.is_sealed[k] else f"{self.gain[k]:+.2%} so far"
            return f"{self.names[k]} {side} at {self._entry(k)}, open, {so_far}"
        return f"{self.names[k]} {side} in at {self._entry(k)}, out {self._exit(k)}"

    def _entry(self, k: int) -> str:
        """The price that a trade was entered at."""
        return _price_words(self.traded_entry[k], self.entry[k])

    def _exit(self, k: int) -> str:
        """How a trade was left; at which price only where that is not sealed."""
        at = "" if self.is_sealed[k] else f"at {_price_words(self.traded_last[k], self.last[k])} "
        return f"{at}by {self.reasons[k]}: {self.gain_words(k)}"

    def held_at(self, bar: int) -> int | None:
        """The trade that is held at the close of a bar, or that was left on it."""
        found = np.flatnonzero((self.entered <= bar) & (self.ends >= bar))
        return int(found[-1]) if len(found) else None

    def story(self, bar: int) -> str:
        """What happened to the position on a bar, in sentences."""
        made = []
        for k in np.flatnonzero((self.ends == bar) & ~self.is_open & (self.entered < bar)).tolist():
            made.append(f"Left here {self._exit(k)}.")
        if bar in self.touched:
            made.append("An entry was not made: its stop or target was reached already at the fill price.")
        for k in np.flatnonzero(self.entered == bar).tolist():
            ago = bar - int(self.decided[k])
            when = "at the close before" if ago == 1 else f"{ago} bars before"
            made.append(f"Entered here at {self._entry(k)} ({self.names[k]}, decided {when}).")
            if self.ends[k] == bar and not self.is_open[k]:
                made.append(f"Left on the same bar {self._exit(k)}.")
        for k in np.flatnonzero((self.entered < bar) & ((self.ends > bar) | self.is_open)).tolist():
            made.append(f"{self.names[k]} is held, {bar - int(self.entered[k])} bars after its fill.")
        for k in np.flatnonzero(self.decided == bar).tolist():
            at = "the next open" if self.entered[k] == bar + 1 else f"{int(self.entered[k]) - bar} bars later"
            made.append(f"{self.names[k]} is decided at this close, and filled at {at}.")
        if bar in self.contradicted:
            made.append("A long and a short trade were decided together, so neither is made.")
        return " ".join(made) or "There is no position here."

    def next_entry(self, bar: int) -> int | None:
        """The bar of the next entry behind a bar."""
        later = self.entered[self.entered > bar]
        return int(later[0]) if len(later) else None

    def last_entry(self, bar: int) -> int | None:
        """The bar of the last entry before a bar."""
        earlier = self.entered[self.entered < bar]
        return int(earlier[-1]) if len(earlier) else None


def _price_words(traded: float, drawn: float) -> str:
    """A price that was traded, and what stands for it on the chart where that is another."""
    beside = "" if abs(traded - drawn) <= 1e-9 * abs(drawn) or traded != traded else f" (adjusted {drawn:,.6g})"
    return f"{traded:,.6g}{beside}"


def asked_of(program: Program) -> list[Op]:
    """What must be run with a chart for its trades."""
    plan = program.plan.trading
    return [*plan.roots, plan.position["stop"]] if plan is not None else []


def chart_trades(result: Result, sealed: SealedDays = OPEN) -> ChartTrades | None:
    """The trades of a run over one symbol, without their results on ``sealed`` days; None for a script without. Raises `RunProblem` where they make no sense on
    its timeframe."""
    plan = result.program.plan.trading
    if plan is None:
        return None
    check_timeframe(result.program, result.panel)
    found = trades_of(result)
    size = result.panel.size
    close = result.panel.column("close")
    known = np.flatnonzero(~np.isnan(close))
    is_open = ~found.closed
    last = np.where(is_open, close[known[-1]] if len(known) else np.nan, found.exit)
    opened = int(sealed.opened(result.panel)[0])
    ends = np.where(is_open, size - 1, found.left)
    return ChartTrades(
        size,
        tuple(found.rules[r].name for r in found.rule),
        found.side,
        found.entered,
        found.entry,
        ends,
        last,
        np.where(ends >= opened, np.nan, found.side * (last / found.entry - 1)),
        is_open,
        tuple(["", *Reason][r] for r in found.reason),
        result.number(plan.position["stop"]),
        found.decided,
        frozenset(found.touched_at.tolist()),
        frozenset(found.contradicted_at.tolist()),
        opened,
        found.real_entry,
        np.where(is_open, last, found.real_exit),
    )
