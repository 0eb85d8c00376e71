"""Trades of a script with money: which are taken, with how many units, and what each brings."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.bars.adjustments import on_steps
from oakladder.bars.contract import PLAIN as SHARE
from oakladder.bars.zones import DAY
from oakladder.engine.run.row_kernel import RowKernel
from oakladder.rung.trade_log import Column, Moment, Order
from oakladder.rung.trade_words import Reason
from oakladder.trial.broker.fills import Model
from oakladder.trial.broker.ledger import Taken, ledger
from oakladder.trial.broker.money import Account, FillBar
from oakladder.trial.broker.trade_results import PARTS, RESULTS, outcome
from oakladder.trial.broker.trades import Trades
from oakladder.trial.grid import Grid

#: Days of a year, leap years in the mean.
_YEAR = 365.25


@dataclass(frozen=True, slots=True)
class Book:
    """What an account made of trades; arrays with a place for each trade, NaN where it was not taken.

    ``net`` is what a closed trade brought after all costs, ``gross`` before costs and slippage; of an open one they are
    reckoned at the last close, as if it were left there for nothing. ``ratio`` is ``net`` for what it was entered for,
    ``risks`` counts it in risks, ``bars`` those from the fill to the exit. Where prices are adjusted for dividends and splits,
    units are adjusted ones as well (`real_units`), as if each dividend were put into more of the symbol.
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
    ratio: np.ndarray
    risks: np.ndarray
    bars: np.ndarray
    #: How the money changes at each moment of the grid, how the number of positions does, and what they are worth.
    curve: np.ndarray

    @property
    def done(self) -> np.ndarray:
        """Which trades were taken and are closed, bool. Shape (trades,)."""
        return (self.taken == Taken.YES) & self.trades.closed

    @property
    def open(self) -> np.ndarray:
        """Which were taken and are still open, bool. Shape (trades,)."""
        return (self.taken == Taken.YES) & ~self.trades.closed

    @property
    def real_units(self) -> np.ndarray:
        """The units that were bought or sold at the entry, NaN where it was not taken. Shape (trades,), float64."""
        panel = self.trades.panel
        if panel.adjustments is None:
            return self.units
        return on_steps(self.units * panel.adjusted_on(self.trades.entered), self.account.lot)

    @property
    def start(self) -> float:
        """The money that all accounts began with."""
        return self.account.money * (len(self.trades.panel) if self.account.apart else 1)


def keep_book(trades: Trades, account: Account, grid: Grid) -> Book:
    """Goes through the trades of a panel with an account, or with one for each symbol."""
    grid, symbols = grid.in_currency(account.currency), len(trades.panel)
    model, settings = model_of(account, grid), cost_settings(account, grid)
    columns = panel_columns(trades, grid) | model_columns(trades, account, grid)
    moments = _moments(trades, grid)
    sized = settings | money_settings(account, symbols)
    units, taken = _sized(trades, account, moments, columns, sized, ledger(model))
    columns |= {"units": units, "from": moments[:, 0], "to": moments[:, 1]}
    settings["cells"] = float(PARTS * len(grid))
    results, curve = outcome(model).run(columns, np.array([0, len(trades)]), settings)
    made = dict(zip(RESULTS, results, strict=True))
    return Book(trades, account, grid, taken, units, curve=curve.reshape(PARTS, len(grid)), **made)


def panel_columns(trades: Trades, grid: Grid) -> dict[str, np.ndarray]:
    """What the code of an account reads of trades and of their panel. Each has one axis, shape (length,), float64: the
    rows of the log end to end, and those of `Grid.columns`."""
    sides = np.array([float(rule.side) for rule in trades.rules])
    return grid.columns | {"rows": rows_in_money(trades, grid).ravel(), "sides": sides}


def rows_in_money(trades: Trades, grid: Grid) -> np.ndarray:
    """The rows of trades with their prices as what a unit was worth then. Shape (trades, columns), float64."""
    if grid.factors is None or not len(trades):
        return trades.rows
    rows = trades.rows.copy()
    entered, left = grid.factor(trades.entered), grid.factor(np.where(trades.closed, trades.left, trades.entered))
    for column in (Column.ENTRY, Column.RISK, Column.FIRST_RISK):
        rows[:, column] *= entered
    rows[:, Column.EXIT] *= left
    return rows


def model_of(account: Account, grid: Grid) -> Model:
    """What an account reckons with on some bars beside its plain costs."""
    costs, contracts = account.costs, grid.panel.contracts or ()
    return Model(
        by_bar=costs.slippage.by_bar or (_ticks_vary(grid) and costs.slippage.ticks > 0),
        carry=bool(costs.financing or costs.borrow),
        margin=any((c.margin, c.margin_money) != (SHARE.margin, SHARE.margin_money) for c in contracts),
        adjusted=grid.panel.adjustments is not None,
    )


def _ticks_vary(grid: Grid) -> bool:
    """Whether a tick is worth more on one bar than on another, so that `model_columns` have what it comes to."""
    return grid.factors is not None or grid.panel.adjustments is not None


def model_columns(trades: Trades, account: Account, grid: Grid) -> dict[str, np.ndarray]:
    """What the code of an account reads of each trade beside its row, by `Model`. By how much its entry and exit are worse by
    the bars that they are filled on, in money per unit: ``slip`` whatever the size, ``push`` for a fill of the whole volume, of
    which one unit is a ``share``; 0 for limits, targets and what is open. Which share of its value, and how much money
    for each unit, it ties up. And how many real units an adjusted one is at its entry and its exit. Each: shape (trades,),
    float64."""
    model, slip, panel = model_of(account, grid), account.costs.slippage, trades.panel
    made: dict[str, np.ndarray] = {}
    exits = np.where(trades.closed, trades.left, trades.entered)
    if model.adjusted:
        made["real_in"], made["real_out"] = (np.asarray(panel.adjusted_on(b)) for b in (trades.entered, exits))
    if model.by_bar:
        is_target = ~trades.closed | (trades.reason == Reason.TARGET.number)
        for way, bars, price, spared in (
            ("in", trades.entered, trades.entry, trades.order == Order.LIMIT),
            ("out", exits, trades.exit, is_target),
        ):
            ticks = panel.ticks_on(trades.symbol, bars) * (slip.ticks if _ticks_vary(grid) else 0.0)
            bar, factor, volume = FillBar.of(panel, bars, 0.0), grid.factor(bars), panel.column("volume")[bars]
            made[f"slip_{way}"] = np.where(spared, 0.0, (slip.of_range * bar.spread + ticks) * factor)
            made[f"push_{way}"] = np.where(spared, 0.0, slip.of_volume * np.abs(price) * factor)
            share = np.divide(1.0, volume, out=np.zeros(len(trades)), where=volume > 0)
            made[f"share_{way}"] = share * panel.adjusted_on(bars)
    if model.margin:
        contracts = [(panel.contracts or ())[s] for s in trades.symbol.tolist()]
        made["tied"] = np.array([c.margin for c in contracts])
        unit = np.array([c.margin_money / c.multiplier for c in contracts])
        made["tied_unit"] = unit * grid.factor(trades.entered) * panel.adjusted_on(trades.entered)
    return made


def cost_settings(account: Account, grid: Grid) -> dict[str, float]:
    """The costs of fills, as settings of the account code."""
    costs, second = account.costs, 1 / (_YEAR * DAY)
    return {
        "stride": float(len(grid)),
        "fee": costs.fixed,
        "fee_unit": costs.per_unit,
        "fee_ratio": costs.ratio,
        "slip": 0.0 if _ticks_vary(grid) else costs.slippage.ticks,
        "slip_ratio": costs.slippage.ratio,
        "carry_long": costs.financing * second,
        "carry_short": costs.borrow * second,
    }


def money_settings(account: Account, symbols: int) -> dict[str, float]:
    """The money and sizing of an account for so many symbols, as settings of its code."""
    size = account.size_for(symbols)
    return {
        "money": account.money,
        "sizing": float(size.kind),
        "size": size.amount,
        "lot": account.lot,
        "most": float(account.most) if account.most is not None else np.inf,
        "power": account.power,
        "places": float(1 if account.apart else max(symbols, 1)),
    }


def _moments(trades: Trades, grid: Grid) -> np.ndarray:
    """The moments of the entry and the exit of each trade; of one that is open the number of moments."""
    made = np.empty((len(trades), 2), dtype=np.int64)
    if len(trades):
        made[:, 0], made[:, 1] = grid.at[trades.entered], grid.at[trades.left]
        made[~trades.closed, 1] = len(grid)
    return made


# Events are numbered: twice the number of a trade for its entry, and 1 more for its exit.


def _sized(
    trades: Trades,
    account: Account,
    moments: np.ndarray,
    columns: dict[str, np.ndarray],
    settings: dict[str, float],
    code: RowKernel,
) -> tuple[np.ndarray, np.ndarray]:
    """The units of each trade, and what became of it."""
    count, symbols = len(trades), len(trades.panel)
    closed = int(np.count_nonzero(trades.closed))
    offsets = np.array([0, count + closed])
    if account.apart:  # entries and exits of each symbol as they come
        events = np.flatnonzero(np.column_stack([np.ones(count, dtype=bool), trades.closed]))
        offsets = np.searchsorted(trades.symbol[events >> 1], np.arange(symbols + 1))
    else:
        events = _by_moments(trades, moments)[: count + closed]
    given = columns | {"event": events, "moment": moments.ravel()[events]}
    (units, taken), _ = code.run(given, offsets.astype(np.int64), settings)
    made = np.empty((2 * count, 2))
    made[events] = np.column_stack([units, taken])
    return np.ascontiguousarray(made[::2, 0]), made[::2, 1].astype(np.int64)


def _by_moments(trades: Trades, moments: np.ndarray) -> np.ndarray:
    """Entries and exits of all symbols by time, what leaves first and then by rank and symbol; what is still open comes
    last."""
    keys = moments * 8
    _add_phases(keys, trades)
    if any(rule.has_rank for rule in trades.rules):
        rank = np.full(keys.shape, np.inf)
        rank[:, 0] = np.where(np.isnan(trades.rank), np.inf, -trades.rank)
        behind = _leaves_behind_its_entry(trades)
        rank[behind, 1] = rank[behind, 0]
        return np.lexsort((np.repeat(trades.symbol, 2), rank.ravel(), keys.ravel()))
    return in_order(keys.ravel())  # trades stand by symbol


def _add_phases(keys: np.ndarray, trades: Trades) -> None:
    """Adds when in their bar entries and exits happen, among all that happens in one: exits at the open 0, entries there
    1, exits inside 2, entries inside 3, and right behind each its exit inside the same bar, exits at the close 5."""
    moment, inside = trades.moment, trades.inside
    keys[:, 0] += 1
    keys[:, 1] += 2 * moment
    keys[moment == Moment.CLOSE, 1] += 1
    if inside.any():
        keys[inside, 0] += 2
        keys[_leaves_behind_its_entry(trades), 1] += 1


def _leaves_behind_its_entry(trades: Trades) -> np.ndarray:
    """Which trades are filled and left inside one bar: such a trade takes no position and no money from another. Shape (trades,),
    bool."""
    return trades.inside & (trades.moment == Moment.INSIDE) & (trades.entered == trades.left)


def in_order(keys: np.ndarray) -> np.ndarray:
    """A stable argsort of whole numbers, smallest first. Small ranges use counting more quickly, digit by digit. Shape
    (keys,), int64; so is the result."""
    if len(keys) and int(keys.max()) < 1 << 16 and int(keys.min()) >= 0:
        keys = keys.astype(np.uint16)
    return np.argsort(keys, kind="stable")
