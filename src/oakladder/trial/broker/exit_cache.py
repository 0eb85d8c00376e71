"""Cache of exits per entry bar. Sweep variants that differ only in their signals reuse it.

Signals differ between variants, but the stop, target or time limit of an entry gives the same exit in all of them. So a
variant looks up the exits of its entries, only new entries are simulated (`Idle.alone`), and the trades are then chained
(`trade_sequencer`).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.execute import Result
from oakladder.engine.run.two_pass import TwoPassRun
from oakladder.rung import tree as t
from oakladder.rung.plan.ops import Op, TradePlan
from oakladder.rung.program import Program
from oakladder.rung.trade_log import WIDTH, Column, Event
from oakladder.rung.trade_words import TradeWord
from oakladder.trial.broker.trade_sequencer import GOES_ON, NOTHING, UNCLEAR, sequence_trades
from oakladder.trial.broker.trades import Trades, rows_of, trading_of
from oakladder.tuning import TUNING

#: No more bars than these: for each the whole row of a trade is kept.
_MOST_BARS = 500_000
#: Clauses by which more than the flags of a bar decide whether a trade is entered, or when it may be again.
_TOUCHING = {TradeWord.ENTER_AT, TradeWord.PAUSE, TradeWord.FLAT_BY, TradeWord.FLAT_AT_END}
#: Clauses whose stop may be none at first.
_LATER = {TradeWord.STOP_AT, TradeWord.TRAIL}


def cached_exits(runs: TwoPassRun, given: Mapping[Op, np.ndarray]) -> Trades | None:
    """The trades of a part of a panel, if enough of their exits are known. Each given value: shape (bars,), float64, or
    int8 for a flag."""
    known = runs.buffers.facts.get(ExitCache)
    if not isinstance(known, ExitCache) or not known.is_of(runs.program, runs.panel):
        known = runs.buffers.facts[ExitCache] = ExitCache(runs.program, runs.panel)
    return known.trades(runs, given)


class ExitCache:
    """The exits of a script's only trade by entry bar. For one thread."""

    def __init__(self, program: Program, panel: Panel) -> None:
        self._program, self._panel = program, panel
        if ExitCache not in program.facts:
            program.facts[ExitCache] = _lone_trade(program)
        self._lone: _Lone | None = program.facts[ExitCache] if panel.size <= _MOST_BARS else None  # type: ignore[assignment]
        self._for: tuple[object, ...] | None = None
        self._table = np.empty((0, WIDTH))
        self._unknown = np.zeros(0, dtype=bool)
        self._follow: Callable[[np.ndarray], Result] | None = None
        self._more = 0

    def is_of(self, program: Program, panel: Panel) -> bool:
        return self._program is program and self._panel is panel

    def trades(self, runs: TwoPassRun, given: Mapping[Op, np.ndarray]) -> Trades | None:
        """The trades that follow from the flags of a variant; None where the second run finds them sooner. Each given
        value: shape (bars,), float64, or int8 for a flag."""
        if self._lone is None or not self._is_for(self._lone, runs):
            return None
        trade = self._lone.trade
        enters = given[trade.enter]
        fresh = np.flatnonzero((enters == 1) & self._unknown)
        self._more += self._panel.size // TUNING.exits_one_in
        if len(fresh) > self._more:
            return None
        if len(fresh):
            self._more -= len(fresh)
            self._follow = self._follow or runs.alone(trading_of(self._program).roots, given)
            self._find(self._follow, self._lone, fresh)
        leaves = given[trade.leave] if trade.leave is not None else None
        columns = {name: self._panel.column(name) for name in ("open", "high", "low")}
        found = sequence_trades(self._panel.offsets, enters, leaves, self._table, columns, trade.side)
        if found is None:
            self._lone = None  # these bars have holes
            return None
        return Trades(self._panel, (trade,), *found, np.zeros(0, dtype=np.int64))

    def _is_for(self, lone: _Lone, runs: TwoPassRun) -> bool:
        """Whether the cache belongs to these settings; it is cleared if they come a second time in a row."""
        asked = tuple(map((runs.settings or {}).get, lone.names))
        again = asked == self._for
        if not again:
            self._for, self._more, self._follow = asked, 0, None
            self._unknown = self._unknown[:0]
        elif not len(self._unknown):
            self._unknown = np.ones(self._panel.size, dtype=bool)
        return again

    def _find(self, follow: Callable[[np.ndarray], Result], lone: _Lone, bars: np.ndarray) -> None:
        """Computes the exits of entries decided on some bars."""
        if not len(self._table):
            self._table = np.empty((self._panel.size, WIDTH))
        offsets = self._panel.offsets
        self._unknown[bars] = False
        self._table[bars, Column.EVENT] = NOTHING
        self._table[bars, GOES_ON] = offsets[np.searchsorted(offsets, bars, "right")]
        rows = rows_of(follow(bars))
        decided = (rows[:, Column.ENTERED] - rows[:, Column.AGO]).astype(np.int64)
        event = rows[:, Column.EVENT]
        ends = self._table[decided, GOES_ON]
        self._table[decided] = rows
        goes_on = np.where(event == Event.CLOSED, rows[:, Column.LEFT], rows[:, Column.ENTERED])
        self._table[decided, GOES_ON] = np.where(event == Event.OPEN, ends, goes_on)
        unclear = rows[:, Column.AGO] != 1
        if lone.risks_later:
            unclear |= (event == Event.OPEN) & np.isnan(rows[:, Column.FIRST_RISK])
        self._table[decided[unclear], Column.EVENT] = UNCLEAR


@dataclass(frozen=True, slots=True)
class _Lone:
    """The only trade of a script, and the settings that its exits depend on, its flags apart."""

    trade: TradePlan
    names: tuple[str, ...]
    #: Whether a stop, and with it a risk, may become known only some bars after the entry.
    risks_later: bool


def _lone_trade(program: Program) -> _Lone | None:
    """The trade of a script that has one, which is entered at the open and whose position nothing but its flags and fixed
    rules decide on."""
    split, plan = program.split, trading_of(program)
    statements = [s for s in program.trace.root.statements if isinstance(s, t.Trade)]
    if split is None or split.idle is None or len(plan.trades) != 1 or _TOUCHING & statements[0].clauses.keys():
        return None
    (trade,) = plan.trades
    second = program.variant(plan.roots, split)
    flags = {op for op in second.live.ops if op in split.given and op.is_flag}
    if flags != {op for op in (trade.enter, trade.leave) if op is not None}:
        return None
    read = [op for op in second.live.ops if op.fixed or (op in split.given and not op.is_flag)]
    names = {name for op in read for name in program.settings_under(op)}
    return _Lone(trade, tuple(sorted(names)), bool(_LATER & statements[0].clauses.keys()))
