"""Longer bars that are read before they are complete."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.execute import Result
from oakladder.rung import tree as t
from oakladder.rung.plan.ops import Domain, Op, Slot, under
from oakladder.rung.program import Program
from oakladder.rung.service.unparse import unparse
from oakladder.rung.words import Shown
from oakladder.trial.judge.look_ahead.finding import Finding, FindingKind, finding


def reads_of(program: Program) -> list[t.OnTimeframe]:
    """Every `on … forming` of a script, in the order of its text."""
    return [one for one in _walk(program.trace.root.statements) if isinstance(one, t.OnTimeframe) and one.forming]


def _walk(node: Any) -> Iterator[Any]:
    if is_dataclass(node) and not isinstance(node, type):
        yield node
        for slot in fields(node):
            yield from _walk(getattr(node, slot.name))
    elif isinstance(node, tuple | list):
        for part in node:
            yield from _walk(part)


def forming_of(op: Op) -> set[Domain]:
    """The longer bars that a value reads while they form."""
    return {part.attr.domain for part in under(op) if isinstance(part.attr, Slot) and part.attr.domain.forming}


def read_while_forming(result: Result, counted: np.ndarray) -> list[Finding]:
    """Signals of a result that a bar decided which was not complete yet; and reads that decide nothing. ``counted``
    says which bars of the panel are checked; bool. Shape (bars,)."""
    program, panel = result.program, result.panel
    reads = reads_of(program)
    if not reads or not panel.size:
        return []
    told = "; ".join(f"`{unparse(r)}`" for r in reads[:3])
    made = []
    for output in (o for o in result.outputs if o.what is Shown.SIGNAL):
        value = output.roles["value"]
        domains = forming_of(value)
        fired = result.flag(value) == 1
        for domain in domains:
            frame = _timeframe(result, domain)
            places = np.flatnonzero(fired & _incomplete(result, frame) & counted)
            if len(places):
                words = f"`{output.name}` fired while the {frame} bar that it reads was forming, and may have gone by its close"
                made.append(finding(FindingKind.FORMING, words, len(places), panel, int(places[-1]), output.line))
    if not made:
        place = panel.size - 1
        words = f"{told} reads a bar that is still forming; no signal here was decided by it"
        made.append(finding(FindingKind.FORMING, words, len(reads), panel, place, reads[0].span.line))
    return made


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
