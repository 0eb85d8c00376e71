"""Longer bars that are read before they are complete."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import Result, run
from oakladder.rung import tree as t
from oakladder.rung.plan.ops import Domain, Op, Slot, under
from oakladder.rung.program import Program
from oakladder.rung.service.unparse import unparse
from oakladder.rung.texts import count_words
from oakladder.rung.words import Shown
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.broker.trades import Trades
from oakladder.trial.judge.look_ahead.finding import Finding, FindingKind, finding
from oakladder.trial.trial import TrialData, trades_from


def reads_of(program: Program) -> list[t.OnTimeframe]:
    """Every `on … forming` of a script, in the order of its text."""
    return [one for one in walked(program.trace.root.statements) if isinstance(one, t.OnTimeframe) and one.forming]


def walked(node: Any) -> Iterator[Any]:
    """A part of a syntax tree and all below it, outermost first."""
    if is_dataclass(node) and not isinstance(node, type):
        yield node
        for slot in fields(node):
            yield from walked(getattr(node, slot.name))
    elif isinstance(node, tuple | list):
        for part in node:
            yield from walked(part)


def forming_of(op: Op) -> set[Domain]:
    """The longer bars that a value reads while they form."""
    return {part.attr.domain for part in under(op) if isinstance(part.attr, Slot) and part.attr.domain.forming}


def read_while_forming(
    result: Result, counted: np.ndarray, ground: TrialData, settings: Mapping[str, object] | None, context: RunContext
) -> list[Finding]:
    """Signals and trades of a result that a bar decided which was not complete yet; and reads that decide nothing.

    A signal that reads such a bar itself is found where it fired before that was complete. Anything else that depends on
    it, through what the script keeps, through other symbols or in a trade's clauses, is found by running the script on
    complete bars alone: what is otherwise then was decided by a forming one. ``counted`` says which bars of the panel are checked; bool.
    Shape (bars,). Raises `Cancelled`.
    """
    program, panel = result.program, result.panel
    if not panel.size or not program.plan.reads_forming:
        return []
    reads = reads_of(program)
    told = "; ".join(f"`{unparse(r)}`" for r in reads[:3]) or "A function of another script"
    made = []
    complete = program.on_complete_bars()
    other = run(complete, panel, settings, context=context)
    for output in (o for o in result.outputs if o.what is Shown.SIGNAL):
        value = output.roles["value"]
        domains = forming_of(value)
        fired = result.flag(value) == 1
        is_found = False
        for domain in domains:
            frame = _timeframe(result, domain)
            places = np.flatnonzero(fired & _incomplete(result, frame) & counted)
            if len(places):
                words = f"`{output.name}` fired while the {frame} bar that it reads was forming, and may have gone by its close"
                made.append(finding(FindingKind.FORMING, words, len(places), panel, int(places[-1]), output.line))
                is_found = True
        if not is_found:
            on_complete = other.flag(other.output("signal", output.name).roles["value"]) == 1
            places = np.flatnonzero((fired != on_complete) & counted)
            if len(places):
                words = f"`{output.name}` is otherwise on complete bars: it was decided by one that was still forming"
                made.append(finding(FindingKind.FORMING, words, len(places), panel, int(places[-1]), output.line))
    if program.plan.trading is not None:
        made += _trades(program, complete, ground, settings, context)
    if not made:
        words = f"{told} reads a bar that is still forming; no signal and no trade here was decided by it"
        line = reads[0].span.line if reads else 0
        made.append(finding(FindingKind.FORMING, words, max(len(reads), 1), panel, panel.size - 1, line))
    return made


def _trades(
    program: Program, complete: Program, ground: TrialData, settings: Mapping[str, object] | None, context: RunContext
) -> list[Finding]:
    """Trades that would have been made otherwise, or not at all, on complete bars."""
    mine, theirs = (
        trades_from(find_trades(one, ground.panel, settings, context=context), ground) for one in (program, complete)
    )

    def told(trades: Trades) -> list[tuple[float, ...]]:
        parts = (trades.rule, trades.entered, trades.entry, trades.left, trades.exit)
        return [tuple(-1.0 if x != x else float(x) for x in row) for row in zip(*parts, strict=True)]

    known = set(told(theirs))
    places = [int(row[1]) for row in told(mine) if row not in known]
    if not places:
        return []
    words = (
        f"{count_words(len(places), 'trade')} would be otherwise on complete bars: one that was still forming decided"
    )
    return [finding(FindingKind.FORMING, words, len(places), ground.panel, max(places))]


def _timeframe(result: Result, domain: Domain) -> Timeframe:
    op = domain.timeframe
    if op is None:
        return result.panel.timeframe
    value = result.fixed.get(op, op.attr)
    return Timeframe.parse(str(value))


def _incomplete(result: Result, frame: Timeframe) -> np.ndarray:
    """On which bars a longer bar was not complete: another bar of it follows."""
    panel = result.panel
    periods = panel.timeline.by_symbol(lambda calendar, times: calendar.periods(times, frame))
    symbols = np.repeat(np.arange(len(panel)), panel.timeline.sizes)
    made = np.zeros(panel.size, dtype=bool)
    made[:-1] = (periods[1:] == periods[:-1]) & (symbols[1:] == symbols[:-1])
    return made
