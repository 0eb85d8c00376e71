"""Finds the trades of a script over a whole panel, in the quickest way."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.execute import run
from oakladder.engine.run.two_pass import two_pass_parts, two_pass_pays
from oakladder.rung import tree as t
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program
from oakladder.rung.trade_log import Column
from oakladder.trial.broker.exit_cache import cached_exits
from oakladder.trial.broker.trades import Trades, trades_of, trading_of
from oakladder.trial.rewrite import clause_line


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
    through: bool = False,
    context: RunContext = PLAIN,
    reference: bool = False,
) -> Trades:
    """The trades of a script over every symbol of a panel; limits and targets fill only where they are traded ``through``, if
    asked for. Raises `RunProblem` or `Cancelled`."""
    program = program.traded_through() if through else program
    plan = trading_of(program)
    check_timeframe(program, panel)
    if not reference and two_pass_pays(program, panel, context.thorough):
        parts = two_pass_parts(
            program,
            panel,
            settings,
            plan.roots,
            trades_of,
            context=context,
            sooner=cached_exits if context.signal_cache is not None else None,
        )
        return _joined(panel, list(parts))
    if context.signal_cache is not None and context.executor is None:
        context = replace(context, buffers=context.signal_cache.buffers.mine)
    return trades_of(run(program, panel, settings, outputs=[], extra=plan.roots, context=context, reference=reference))


def _joined(panel: Panel, parts: list[tuple[int, Trades]]) -> Trades:
    """Trades of parts of a panel, each with the number of its first symbol, as those of the whole."""
    if len(parts) == 1:
        return parts[0][1]
    rows = np.concatenate([trades.rows for _, trades in parts])
    counts = [len(trades) for _, trades in parts]
    bars = [int(panel.offsets[first]) for first, _ in parts]
    shift = np.repeat(bars, counts)
    rows[:, Column.ENTERED] += shift
    rows[:, Column.LEFT] += shift
    rows[:, Column.SYMBOL] += np.repeat([first for first, _ in parts], counts)
    touched, contradicted = (
        np.concatenate([getattr(trades, name) + by for (_, trades), by in zip(parts, bars, strict=True)])
        for name in ("touched_at", "contradicted_at")
    )
    return Trades(panel, parts[0][1].rules, rows, touched, contradicted)
