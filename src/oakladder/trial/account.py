"""Trades of a script with money: which are taken, with how many units, and what each brings."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.rung.trade_log import Moment, Order
from oakladder.rung.trade_words import Reason
from oakladder.trial.grid import Grid
from oakladder.trial.ledger import Taken, ledger
from oakladder.trial.money import Account
from oakladder.trial.trades import Trades


@dataclass(frozen=True, slots=True)
class Book:
    """What an account made of trades; arrays with a place for each trade, NaN where it was not taken.

    ``net`` is what a closed trade brought after all costs, ``gross`` before costs and slippage; of an open one they are
    reckoned at the last close, as if it were left there for nothing.
    """

    trades: Trades
    account: Account
    grid: Grid
    taken: np.ndarray
    units: np.ndarray
    paid: np.ndarray
    got: np.ndarray
    costs: np.ndarray
    net: np.ndarray
    gross: np.ndarray

    @property
    def done(self) -> np.ndarray:
        """Which trades were taken and are closed, bool."""
        return (self.taken == Taken.YES) & self.trades.closed

    @property
    def open(self) -> np.ndarray:
        """Which were taken and are still open, bool."""
        return (self.taken == Taken.YES) & ~self.trades.closed

    @property
    def start(self) -> float:
        """The money that all accounts began with."""
        return self.account.money * (len(self.trades.panel) if self.account.apart else 1)


def keep_book(trades: Trades, account: Account, grid: Grid) -> Book:
    """Goes through the trades of a panel with an account, or with one for each symbol."""
    ticks = np.array(trades.panel.steps)[trades.symbol]
    slip = account.costs.slippage

    def worse(price: np.ndarray, at_market: np.ndarray) -> np.ndarray:
        return np.where(at_market, slip.of(price, ticks), 0.0)

    paid = trades.entry + trades.side * worse(trades.entry, trades.order != Order.LIMIT)
    got = trades.exit - trades.side * worse(trades.exit, trades.reason != Reason.TARGET.number)
    units, taken = _sized(trades, account, grid, paid, got)
    return _with_results(trades, account, grid, (paid, got, units, taken))


def _sized(
    trades: Trades, account: Account, grid: Grid, paid: np.ndarray, got: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """The units of each trade, and what became of it."""
    count, symbols = len(trades), len(trades.panel)
    closed = np.flatnonzero(trades.closed)
    moments = grid.at[np.concatenate([trades.entered, trades.left[closed]])]
    order = _one_by_one(trades, closed) if account.apart else _by_moments(trades, closed, moments)

    def ordered(of_entries: np.ndarray, of_exits: np.ndarray) -> np.ndarray:
        return np.concatenate([of_entries, of_exits])[order]

    which = ordered(np.arange(count), closed)
    moment, symbol = moments[order], trades.symbol[which]
    offsets = np.array([0, len(which)], dtype=np.int64)
    row = moment - 1
    if account.apart:
        offsets = np.searchsorted(symbol, np.arange(symbols + 1)).astype(np.int64)
        row = row + symbol * len(grid)
    is_entry = order < count
    columns = {
        "is_entry": is_entry,
        "price": ordered(paid, got[closed]),
        "side": trades.side[which],
        "symbol": np.zeros(len(which)) if account.apart else symbol,
        "moment": moment,
        "row": row,
        "risk": trades.first_risk[which],
        "closes": grid.closes.ravel(),
    }
    size, costs = account.size_for(symbols), account.costs
    settings = {
        "money": account.money,
        "sizing": float(size.kind),
        "size": size.amount,
        "lot": account.lot,
        "most": float(account.most) if account.most is not None else np.inf,
        "power": account.power,
        "fee": costs.fixed,
        "fee_unit": costs.per_unit,
        "fee_ratio": costs.ratio,
        "symbols": float(1 if account.apart else max(symbols, 1)),
        "stride": float(len(grid)),
    }
    units, taken = ledger().run(columns, offsets, settings)
    made_units, made_taken = np.full(count, np.nan), np.zeros(count, dtype=np.int64)
    entries = which[is_entry]
    made_units[entries] = units[is_entry]
    made_taken[entries] = taken[is_entry].astype(np.int64)
    return made_units, made_taken


# Events are numbered: first the entries of all trades, then the exits of those that are closed.


def _one_by_one(trades: Trades, closed: np.ndarray) -> np.ndarray:
    """Entries and exits of each symbol as they come: the numbers of the events in order."""
    count = len(trades)
    exits = np.full(count, -1)
    exits[closed] = count + np.arange(len(closed))
    events = np.column_stack([np.arange(count), exits]).ravel()
    return events[events >= 0]


def _by_moments(trades: Trades, closed: np.ndarray, moments: np.ndarray) -> np.ndarray:
    """Entries and exits of all symbols by time, what leaves first and then by rank and symbol: the numbers of the events
    in order. ``moments`` are those of the events."""
    keys = moments * 8 + np.concatenate([_entry_phase(trades), _exit_phase(trades)[closed]])
    if any(rule.has_rank for rule in trades.rules):
        rank = np.where(np.isnan(trades.rank), np.inf, -trades.rank)
        symbol = np.concatenate([trades.symbol, trades.symbol[closed]])
        return np.lexsort((symbol, np.concatenate([rank, np.full(len(closed), np.inf)]), keys))
    return in_order(keys)  # trades stand by symbol


def in_order(keys: np.ndarray) -> np.ndarray:
    """The places of whole numbers from the smallest to the largest, equal ones as they stand. Small ones are told apart
    more quickly, digit by digit."""
    if len(keys) and int(keys.max()) < 1 << 16 and int(keys.min()) >= 0:
        keys = keys.astype(np.uint16)
    return np.argsort(keys, kind="stable")


def _entry_phase(trades: Trades) -> np.ndarray:
    """When in its bar a trade is entered, among all that happens in one: 1 at the open, 3 inside."""
    return np.where(trades.inside, 3, 1)


def _exit_phase(trades: Trades) -> np.ndarray:
    """When in its bar a trade is left: 0 at the open, 2 inside (4 behind an entry inside the same bar), 5 at the close."""
    inside = np.where(trades.inside & (trades.entered == trades.left), 4, 2)
    return np.where(trades.moment == Moment.OPEN, 0, np.where(trades.moment == Moment.CLOSE, 5, inside))


def _with_results(
    trades: Trades,
    account: Account,
    grid: Grid,
    reckoned: tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray],
) -> Book:
    paid, got, units, taken = reckoned
    closed, costs = trades.closed, account.costs
    last = grid.closes[trades.symbol, -1] if len(grid) else trades.exit
    ends = np.where(closed, got, last)
    plain_ends = np.where(closed, trades.exit, last)

    paid_costs = costs.of_fills(units, paid) + np.where(closed, costs.of_fills(units, got), 0.0)
    net = trades.side * units * (ends - paid) - paid_costs
    gross = trades.side * units * (plain_ends - trades.entry)
    return Book(trades, account, grid, taken, units, paid, got, paid_costs, net, gross)
