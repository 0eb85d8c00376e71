"""The trades of a script, as its run over a panel wrote them down: columns with a place for each trade."""

from __future__ import annotations

from functools import cached_property

import numpy as np

from oakladder.bars.adjustments import on_steps
from oakladder.bars.panel import Panel
from oakladder.engine.run.execute import Result
from oakladder.rung.plan.ops import ROWS_A_BAR, TradePlan, TradingPlan
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program
from oakladder.rung.trade_log import INSIDE, UNDECIDED, Column, Event

#: So many rows of a log are looked at first for its end.
_BLOCK = 512


class Trades:
    """Trades of a panel, by symbol and then by time: rows of the log (`Column`), and columns with a place for each.

    Bars are places in the panel. A trade that is still open has -1 for ``left``, NaN for ``exit`` and 0 for ``reason``.
    Prices are before slippage.
    """

    def __init__(
        self,
        panel: Panel,
        rules: tuple[TradePlan, ...],
        rows: np.ndarray,
        touched_at: np.ndarray,
        contradicted_at: np.ndarray,
    ):
        self.panel, self.rules, self.rows = panel, rules, rows
        #: The bars on which an entry was not made since its stop or target was reached already, and those on which a
        #: long and a short trade were decided together.
        self.touched_at, self.contradicted_at = touched_at, contradicted_at

    def __len__(self) -> int:
        return len(self.rows)

    def _column(self, column: Column) -> np.ndarray:
        return np.ascontiguousarray(self.rows[:, column])

    def _whole(self, column: Column) -> np.ndarray:
        return self.rows[:, column].astype(np.int64)

    def _of_exit(self, column: Column, otherwise: int) -> np.ndarray:
        """An integer column of closed trades."""
        return np.where(self.closed, self.rows[:, column], otherwise).astype(np.int64)

    @cached_property
    def closed(self) -> np.ndarray:
        """Which are closed, bool. Shape (trades,)."""
        return self.rows[:, Column.EVENT] == Event.CLOSED

    @cached_property
    def symbol(self) -> np.ndarray:
        """The number of its symbol in the panel. Shape (trades,), int64."""
        return self._whole(Column.SYMBOL)

    @cached_property
    def rule(self) -> np.ndarray:
        """Which of the script's trades, from 0. Shape (trades,), int64."""
        return self._whole(Column.TRADE) - 1

    @cached_property
    def side(self) -> np.ndarray:
        """1 for long, -1 for short. Shape (trades,), int64."""
        return np.array([int(r.side) for r in self.rules], dtype=np.int64)[self.rule]

    @cached_property
    def decided(self) -> np.ndarray:
        """The bar of the panel at whose close the entry was ordered. Shape (trades,), int64."""
        return self.entered - self._whole(Column.AGO)

    @cached_property
    def entered(self) -> np.ndarray:
        """The bar of the panel on which it was filled. Shape (trades,), int64."""
        return self._whole(Column.ENTERED)

    @cached_property
    def entry(self) -> np.ndarray:
        """The price at which it was filled. Shape (trades,), float64."""
        return self._column(Column.ENTRY)

    @cached_property
    def order(self) -> np.ndarray:
        """How it was ordered (`Order`). Shape (trades,), int64."""
        return self._whole(Column.ORDER) % INSIDE

    @cached_property
    def inside(self) -> np.ndarray:
        """Whether it was filled inside its bar. Shape (trades,), bool."""
        return self._column(Column.ORDER) >= INSIDE

    @cached_property
    def real_entry(self) -> np.ndarray:
        """The price of the fill that was traded: it differs from ``entry`` where prices are adjusted for dividends and
        splits. Shape (trades,), float64."""
        return self._real(self.entry, self.entered)

    @cached_property
    def real_exit(self) -> np.ndarray:
        """The price of the exit that was traded, NaN while it is open. Shape (trades,), float64."""
        return self._real(self.exit, np.where(self.closed, self.left, self.entered))

    @cached_property
    def real_risk(self) -> np.ndarray:
        """The risk as a distance of prices that were traded. Shape (trades,), float64."""
        return self._real(self.risk, self.entered)

    def _real(self, prices: np.ndarray, bars: np.ndarray) -> np.ndarray:
        if self.panel.adjustments is None:
            return prices
        return on_steps(prices / self.panel.adjusted_on(bars), np.array(self.panel.steps)[self.symbol])

    @cached_property
    def rank(self) -> np.ndarray:
        """What decides which entries go first where not all can be paid for; NaN without. Shape (trades,), float64."""
        return self._column(Column.RANK)

    @cached_property
    def first_risk(self) -> np.ndarray:
        """The risk as it was known at the fill, which sizes are reckoned from. Shape (trades,), float64."""
        return self._column(Column.FIRST_RISK)

    @cached_property
    def risk(self) -> np.ndarray:
        """The distance from the fill to the first stop, NaN without a stop. Shape (trades,), float64."""
        return self._column(Column.RISK)

    @cached_property
    def left(self) -> np.ndarray:
        """The bar of the panel of the exit, -1 while it is open. Shape (trades,), int64."""
        return self._of_exit(Column.LEFT, -1)

    @cached_property
    def exit(self) -> np.ndarray:
        """The price of the exit, NaN while it is open. Shape (trades,), float64."""
        return self._column(Column.EXIT)

    @cached_property
    def reason(self) -> np.ndarray:
        """`Reason` by number. Shape (trades,), int64."""
        return self._of_exit(Column.REASON, 0)

    @cached_property
    def moment(self) -> np.ndarray:
        """`Moment` of the exit. Shape (trades,), int64."""
        return self._of_exit(Column.MOMENT, 0) % UNDECIDED

    @cached_property
    def undecided(self) -> np.ndarray:
        """Whether the stop and the target were both reached on the bar of the exit. Shape (trades,), bool."""
        return self.rows[:, Column.MOMENT] >= UNDECIDED

    @cached_property
    def best(self) -> np.ndarray:
        """The best price for the trader at the closes of its bars, of closed trades. Shape (trades,), float64."""
        return self._column(Column.BEST)

    @cached_property
    def against(self) -> np.ndarray:
        """The worst one. Shape (trades,), float64."""
        return self._column(Column.AGAINST)

    @property
    def touched(self) -> int:
        """How many entries were not made since their stop or target was reached already."""
        return len(self.touched_at)

    @property
    def contradictions(self) -> int:
        """How often a long and a short trade were decided together."""
        return len(self.contradicted_at)

    def take(self, which: np.ndarray) -> Trades:
        """Some of the trades. Shape (trades,), bool, or int64 indices."""
        return Trades(self.panel, self.rules, self.rows[which], self.touched_at, self.contradicted_at)


def trading_of(program: Program) -> TradingPlan:
    """The trade plan of a script. Raises `RunProblem` without one."""
    if program.plan.trading is None:
        raise RunProblem("The script has no `trade`. Add one, or have one composed from its signals.")
    return program.plan.trading


def trades_of(result: Result) -> Trades:
    """The trades in the log of a run."""
    return _told(result.panel, trading_of(result.program).trades, rows_of(result))


def rows_of(result: Result) -> np.ndarray:
    """What was written of the log of a run, which may be written over by the next. Shape (trades, columns), float64."""
    return _rows(result.arrays[trading_of(result.program).rows], result.pieces)


def _rows(rows: np.ndarray, pieces: np.ndarray) -> np.ndarray:
    """What was written of a log: the rows of each call stand end to end from its first bar on, up to one of 0."""
    made = [rows[:0]] if not len(pieces) else []
    for start in (ROWS_A_BAR * pieces).tolist():
        at, step = start, _BLOCK
        while at < len(rows):
            ends = np.flatnonzero(rows[at : at + step, Column.EVENT] == 0)
            if len(ends):
                at += int(ends[0])
                break
            at, step = at + step, step * 2
        made.append(rows[start:at])
    return np.concatenate(made) if len(made) != 1 else made[0]


def _told(panel: Panel, rules: tuple[TradePlan, ...], rows: np.ndarray) -> Trades:
    """The trades of some rows; the rows are copied."""
    others = np.flatnonzero(rows[:, Column.EVENT] != Event.CLOSED)  # few
    event, bars = rows[others, Column.EVENT], rows[others, Column.ENTERED].astype(np.int64)
    # What was open where one piece of a run ended may have been left in a later one.
    later = np.minimum(others + 1, max(len(rows) - 1, 0))
    gone = (rows[later, Column.EVENT] == Event.CLOSED) & (rows[later, Column.ENTERED] == bars)
    left_out = others[(event != Event.OPEN) | gone]
    made = np.delete(rows, left_out, axis=0) if len(left_out) else rows.copy()
    firsts = np.searchsorted(made[:, Column.ENTERED], panel.offsets)
    made[:, Column.SYMBOL] = np.repeat(np.arange(len(panel)), firsts[1:] - firsts[:-1])
    touched, contradicted = (bars[event == what] for what in (Event.TOUCHED, Event.CONTRADICTION))
    return Trades(panel, rules, made, touched, contradicted)
