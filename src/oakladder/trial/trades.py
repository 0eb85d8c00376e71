"""The trades of a script, as its run over a panel wrote them down: columns with a place for each trade."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Executor
from dataclasses import dataclass, fields

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.kept_values import Kept
from oakladder.engine.run import Result, run
from oakladder.engine.two_runs import parts_in_two_runs, pays
from oakladder.rung import tree as t
from oakladder.rung.plan.ops import ROWS_A_BAR, TradePlan, TradingPlan
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program
from oakladder.rung.trade_log import INSIDE, UNDECIDED, Column, Event
from oakladder.trial.rewriting import clause_line

#: So many rows of a log are looked at first for its end.
_BLOCK = 4096


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
    #: The best and the worst price for the trader at the closes of its bars, of closed trades.
    best: np.ndarray
    against: np.ndarray
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
    thorough: bool = False,
    lanes: int | None = None,
    kept: Kept | None = None,
) -> Trades:
    """The trades of a script over every symbol of a panel; ``thorough`` waits for thoroughly compiled code, for ``lanes``
    see `run`, ``kept`` keeps what variants share. Raises `RunProblem` or `Cancelled`."""
    plan = trading_of(program)
    check_timeframe(program, panel)
    if not reference and pays(program, panel, thorough):
        parts = parts_in_two_runs(
            program,
            panel,
            settings,
            plan.roots,
            trades_of,
            executor=executor,
            cancelled=cancelled,
            progress=progress,
            lanes=lanes,
            kept=kept,
        )
        return _joined(panel, list(parts))
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
        thorough=thorough,
        lanes=lanes,
    )
    return trades_of(done)


def trades_of(result: Result) -> Trades:
    """The trades in the log of a run."""
    plan = trading_of(result.program)
    return _matched(result.panel, plan, _rows(result.arrays[plan.rows], result.pieces))


def _joined(panel: Panel, parts: list[tuple[int, Trades]]) -> Trades:
    """Trades of parts of a panel, each with the number of its first symbol, as those of the whole."""
    if len(parts) == 1:
        return parts[0][1]
    bars = [int(panel.offsets[first]) for first, _ in parts]
    shifts = {"symbol": [first for first, _ in parts]} | dict.fromkeys(
        ("decided", "entered", "touched_at", "contradicted_at"), bars
    )
    columns: dict[str, np.ndarray] = {}
    for name in (f.name for f in fields(Trades) if f.name not in ("panel", "rules")):
        some = [getattr(trades, name) for _, trades in parts]
        if name == "left":
            some = [np.where(places >= 0, places + by, -1) for places, by in zip(some, bars, strict=True)]
        elif name in shifts:
            some = [places + by for places, by in zip(some, shifts[name], strict=True)]
        columns[name] = np.concatenate(some)
    return Trades(panel=panel, rules=parts[0][1].rules, **columns)


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


def _matched(panel: Panel, plan: TradingPlan, rows: np.ndarray) -> Trades:
    """Rows in order as trades: a symbol holds one position at a time, so the exit of an entry follows it."""
    place = rows[:, Column.PLACE].astype(np.int64)
    event = rows[:, Column.EVENT].astype(np.int8)
    touched_at, contradicted_at = place[event == Event.TOUCHED], place[event == Event.CONTRADICTION]
    if len(touched_at) or len(contradicted_at):
        told = event <= Event.LEFT
        rows, place, event = rows[told], place[told], event[told]
    ins = np.flatnonzero(event == Event.ENTERED)
    closed = np.append(event[1:] == Event.LEFT, False)[ins]
    entry = np.ascontiguousarray(rows.take(ins, axis=0).T)
    left = np.ascontiguousarray(rows.take(np.minimum(ins + 1, max(len(rows) - 1, 0)), axis=0).T)

    def of_exit(column: Column, otherwise: float) -> np.ndarray:
        return np.where(closed, left[column], otherwise)

    entered = place[ins]
    counts = np.diff(np.searchsorted(entered, panel.offsets))
    rule = entry[Column.TRADE].astype(np.int64) - 1
    how, moment = entry[Column.HOW].astype(np.int16), of_exit(Column.HOW, 0).astype(np.int16)
    sides = np.array([int(r.side) for r in plan.trades], dtype=np.int64)
    risk = entry[Column.RISK]
    return Trades(
        panel=panel,
        rules=plan.trades,
        symbol=np.repeat(np.arange(len(panel)), counts),
        rule=rule,
        side=sides[rule],
        decided=entered - entry[Column.AGO].astype(np.int64),
        entered=entered,
        entry=entry[Column.PRICE],
        order=how % INSIDE,
        inside=how >= INSIDE,
        risk=np.where(closed & np.isnan(risk), left[Column.RISK], risk),
        first_risk=risk,
        rank=entry[Column.RANK],
        left=of_exit(Column.PLACE, -1).astype(np.int64),
        exit=of_exit(Column.PRICE, np.nan),
        reason=of_exit(Column.REASON, 0).astype(np.int64),
        moment=moment % UNDECIDED,
        undecided=moment >= UNDECIDED,
        best=of_exit(Column.BEST, np.nan),
        against=of_exit(Column.AGAINST, np.nan),
        touched_at=touched_at,
        contradicted_at=contradicted_at,
    )
