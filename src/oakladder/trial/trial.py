"""A rule on trial: its script over a panel, its trades with an account, and what that comes to."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.rung.program import Program
from oakladder.trial.broker.account import Book, keep_book
from oakladder.trial.broker.money import Account
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.broker.trades import Trades
from oakladder.trial.grid import Grid, grid_of
from oakladder.trial.metrics.equity import Equity, equity_of
from oakladder.trial.metrics.metrics import TradeResults, Value, metrics_of, results_of
from oakladder.trial.metrics.streaming import StreamingTotals, can_stream, stream_totals
from oakladder.trial.metrics.within_bars import falls_within_bars
from oakladder.trial.spans import Span


@dataclass(frozen=True, slots=True)
class TrialData:
    """The bars of a trial, made ready once for many: their panel as far as it may be looked at, and its grid."""

    panel: Panel
    grid: Grid
    first: int | None = None
    #: From when on the rest of history is sealed; None where nothing is.
    seal: int | None = None
    #: Whether the rule became what it is after the sealed part had been seen, and is tried on that part too.
    is_tuned: bool = False

    @property
    def firsts(self) -> np.ndarray:
        """The first bar of each symbol that counts, as a place in the panel; int64. Shape (symbols,)."""
        if self.first is None:
            return self.panel.starts
        at = [int(np.searchsorted(times, self.first)) for times in self.panel.timeline.each]
        return self.panel.starts + np.array(at, dtype=np.int64)

    @property
    def counted(self) -> np.ndarray:
        """Which bars of the panel count: those from ``first`` on; bool. Shape (bars,)."""
        if self.first is None:
            return np.ones(self.panel.size, dtype=bool)
        return np.asarray(self.panel.times >= self.first)

    @property
    def first_place(self) -> int:
        """The place in the grid from which on the trial counts."""
        return 0 if self.first is None else int(np.searchsorted(self.grid.times, self.first, "left"))


def trial_data_of(panel: Panel, span: Span = Span()) -> TrialData:
    """Prepares the bars of a trial. Raises `RunProblem` where the span has no bars, `DataProblem` where they cannot be
    read."""
    panel.fetch(("open", "high", "low", "close"))
    cut = span.truncate(panel)
    span.check(panel, cut)
    return TrialData(cut, grid_of(cut), span.first, span.seal_time(panel))


@dataclass(frozen=True, slots=True)
class Trial:
    """The result of a rule: its trades, its book, its equity and its metrics."""

    program: Program
    settings: Mapping[str, object]
    ground: TrialData
    account: Account
    book: Book
    results: TradeResults
    equity: Equity
    metrics: dict[str, Value]

    @property
    def trades(self) -> Trades:
        return self.book.trades

    @property
    def counts(self) -> dict[str, int]:
        """See `counts_of`."""
        return counts_of(self.trades)


def run_trial(
    program: Program,
    ground: TrialData,
    account: Account = Account(),
    settings: Mapping[str, object] | None = None,
    *,
    context: RunContext = PLAIN,
) -> Trial:
    """Puts a script with trades on trial. Raises `RunProblem` where it cannot run or takes no position, `Cancelled`."""
    account.check()
    account.check_prices(ground.panel.symbols, ground.grid.below_zero)
    trades = find_trades(program, ground.panel, settings, through=account.through, context=context)
    return judged(program, dict(settings or {}), ground, account, trades_from(trades, ground))


def trades_from(trades: Trades, ground: TrialData) -> Trades:
    """Those of the trades of a panel that were decided when the trial had begun."""
    if ground.first is None or not len(trades):
        return trades
    return trades.take(ground.panel.times[trades.decided] >= ground.first)


def counts_of(trades: Trades) -> dict[str, int]:
    """How often a bar left the order of stop and target open, a long and a short trade were decided together, and an
    entry was not made since its stop or target was reached already."""
    return {
        "undecided": int(trades.undecided.sum()),
        "contradictions": trades.contradictions,
        "touched": trades.touched,
    }


def judged(
    program: Program, settings: Mapping[str, object], ground: TrialData, account: Account, trades: Trades
) -> Trial:
    """What trades that are known come to with an account."""
    book = keep_book(trades, account, ground.grid)
    results = results_of(book)
    equity = equity_of(book, ground.first_place)
    sums = summarize(trades, account, ground)
    if sums is None:
        metrics = metrics_of(book, results, equity)
    else:  # what a sweep says of it, to the last bit
        metrics, equity = sums.metrics, replace(equity, value=sums.value)
    fall, fall_money = falls_within_bars(book, equity, ground.first_place)
    metrics |= {"drawdown_within": fall, "drawdown_within_money": fall_money}
    return Trial(program, settings, ground, account, book, results, equity, metrics)


def summarize(trades: Trades, account: Account, ground: TrialData) -> StreamingTotals | None:
    """What trades with an account come to, where it is there without its book."""
    if ground.grid.below_zero.any():
        return None
    return stream_totals(trades, account, ground.grid, ground.first_place) if can_stream(trades, account) else None
