"""The trades of a script, as its run over a panel wrote them down: columns with a place for each trade."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, fields

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run import Result, run
from oakladder.rung import tree as t
from oakladder.rung.plan.ops import ROWS_A_BAR, TradePlan, TradingPlan
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program
from oakladder.rung.trade_log import INSIDE, Column, Event, Moment
from oakladder.trial.rewriting import clause_line


@dataclass(frozen=True, slots=True)
class Trades:
    """Trades of a panel, by symbol and then by time; arrays with a place for each, bars as places in the panel.

    A trade that is still open has -1 for ``left``, NaN for ``exit`` and 0 for ``reason``. Prices are before slippage.
    """

    panel: Panel
    rules: tuple[TradePlan, ...]
    symbol: np.ndarray
    #: Which of the script's trades, from 0.
    rule: np.ndarray
    side: np.ndarray
    decided: np.ndarray
    entered: np.ndarray
    entry: np.ndarray
    #: How it was ordered (`Order`), and whether it was filled inside its bar.
    order: np.ndarray
    inside: np.ndarray
    risk: np.ndarray
    #: The risk as it was known at the fill, which sizes are reckoned from.
    first_risk: np.ndarray
    rank: np.ndarray
    left: np.ndarray
    exit: np.ndarray
    #: `Reason` by number.
    reason: np.ndarray
    #: `Moment` of the exit.
    moment: np.ndarray
    undecided: np.ndarray
    #: The bars on which an entry was not made since its stop or target was reached already, and those on which a long
    #: and a short trade were decided together.
    touched_at: np.ndarray
    contradicted_at: np.ndarray

    def __len__(self) -> int:
        return len(self.entered)

    @property
    def touched(self) -> int:
        """How many entries were not made since their stop or target was reached already."""
        return len(self.touched_at)

    @property
    def contradictions(self) -> int:
        """How often a long and a short trade were decided together."""
        return len(self.contradicted_at)

    @property
    def closed(self) -> np.ndarray:
        """Which are closed, bool."""
        return self.left >= 0

    def take(self, which: np.ndarray) -> Trades:
        """Some of the trades."""
        columns = {f.name: getattr(self, f.name) for f in fields(self)}
        each = {n for n, v in columns.items() if isinstance(v, np.ndarray)} - {"touched_at", "contradicted_at"}
        return Trades(**{n: v[which] if n in each else v for n, v in columns.items()})


def trading_of(program: Program) -> TradingPlan:
    """What a script tells of its trades. Raises `RunProblem` where it has none."""
    if program.plan.trading is None:
        raise RunProblem("The script has no `trade`. Add one, or have one composed from its signals.")
    return program.plan.trading


def check_timeframe(program: Program, panel: Panel) -> None:
    """Raises `RunProblem` where a trade asks for a moment of the day on bars of a day and longer."""
    if panel.timeframe.intraday:
        return
    for rule in trading_of(program).trades:
        if rule.within_day:
            words = next(clause_line(c) for c in _clauses(program) if c.span.line == rule.within_day)
            raise RunProblem(
                f"`{words}` makes no sense on {panel.timeframe} bars: they last as long as the session. "
                "Put it on shorter bars, or take the line out.",
                rule.within_day,
            )


def _clauses(program: Program) -> Iterator[t.TradeClause]:
    for statement in program.trace.root.statements:
        if isinstance(statement, t.Trade):
            yield from statement.clauses.values()


def find_trades(
    program: Program,
    panel: Panel,
    settings: Mapping[str, object] | None = None,
    *,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
    reference: bool = False,
) -> Trades:
    """The trades of a script over every symbol of a panel. Raises `RunProblem` or `Cancelled`."""
    plan = trading_of(program)
    check_timeframe(program, panel)
    done = run(
        program,
        panel,
        settings,
        outputs=[],
        extra=plan.roots,
        executor=executor,
        cancelled=cancelled,
        progress=progress,
        reference=reference,
    )
    return trades_of(done)


def trades_of(result: Result) -> Trades:
    """The trades in the log of a run."""
    plan = trading_of(result.program)
    count, rows = result.arrays[plan.count], result.arrays[plan.rows]
    busy = np.flatnonzero(count)
    written = count[busy].astype(np.int64)
    panel = result.panel
    # Rows of a piece stand end to end from its first bar on.
    pieces = result.pieces
    piece = np.searchsorted(pieces, busy, "right") - 1
    before = np.concatenate([[0], np.cumsum(written)])
    of_piece = before[np.searchsorted(busy, pieces[piece], "left")]
    first = ROWS_A_BAR * pieces[piece] + before[:-1] - of_piece
    bar = np.repeat(busy, written)
    at = np.repeat(first - before[:-1], written) + np.arange(before[-1])
    return _matched(panel, plan, rows[at], bar)


def _matched(panel: Panel, plan: TradingPlan, rows: np.ndarray, bar: np.ndarray) -> Trades:
    """Rows in order, each with its bar in the panel, as trades."""
    event = rows[:, Column.EVENT]
    ins, outs = np.flatnonzero(event == Event.ENTERED), np.flatnonzero(event == Event.LEFT)
    symbol = np.searchsorted(panel.offsets, bar[ins], "right") - 1
    # A symbol holds one position at a time: an entry is closed by the first exit behind it, if that is its own symbol's.
    after = np.searchsorted(outs, ins, "left")
    there = after < len(outs)
    closing = np.where(there, outs[np.minimum(after, max(len(outs) - 1, 0))] if len(outs) else 0, 0)
    there &= bar[closing] < panel.offsets[symbol + 1] if len(bar) else there
    entries, exits = rows[ins], rows[closing] if len(rows) else rows[ins]
    rule = entries[:, Column.TRADE].astype(np.int64) - 1
    sides = np.array([int(r.side) for r in plan.trades], dtype=np.int64)
    how = entries[:, Column.HOW].astype(np.int64)
    # Bars are counted from the first that was run.
    entered = bar[ins]
    decided = entered - (entries[:, Column.BAR] - entries[:, Column.DECIDED]).astype(np.int64)
    first_risk = entries[:, Column.RISK]

    def of_exit(column: Column, otherwise: float) -> np.ndarray:
        return np.where(there, exits[:, column], otherwise)

    return Trades(
        panel,
        plan.trades,
        symbol,
        rule,
        sides[rule],
        decided,
        entered,
        entries[:, Column.PRICE],
        how % INSIDE,
        how >= INSIDE,
        np.where(there & np.isnan(first_risk), exits[:, Column.RISK], first_risk),
        first_risk,
        entries[:, Column.RANK],
        np.where(there, bar[closing] if len(bar) else -1, -1),
        of_exit(Column.PRICE, np.nan),
        of_exit(Column.REASON, 0).astype(np.int64),
        of_exit(Column.MOMENT, Moment.OPEN).astype(np.int64),
        of_exit(Column.UNDECIDED, 0) == 1,
        bar[event == Event.TOUCHED],
        bar[event == Event.CONTRADICTION],
    )
