"""Why a scan finds a symbol, or does not: what each of its conditions says, and by how much one fails."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.bar_selection import DAYS, BarSelection
from oakladder.engine.explain.why import Why, kept_by, missed_by, number_text
from oakladder.engine.scan.condition_flags import (
    ConditionBars,
    asked_of,
    average_volume,
    compared,
    evaluate,
    frames_of,
    source,
)
from oakladder.engine.scan.conditions import (
    Condition,
    Field,
    FieldFilter,
    Group,
    Join,
    Relation,
    Rule,
    TriggerMode,
    check,
    rules_of,
)
from oakladder.engine.scan.funnel import parts_of
from oakladder.engine.sealed import OPEN, SEALED, SealedDays, tells_result
from oakladder.engine.signal_ages import last_true
from oakladder.engine.universe.bars import UniverseView
from oakladder.engine.universe.map import UniverseTask, map_universe
from oakladder.rung.texts import count_words


@dataclass(frozen=True, slots=True)
class Answer:
    """What one condition says of a symbol: whether it holds now, and what it comes to."""

    holds: bool
    words: str


@dataclass(frozen=True, slots=True)
class WhyNot:
    """What a scan says of a symbol: whether it is found, and each condition in order.

    ``first`` is the number of the first condition that keeps it out; None where it is found, or where it is out
    because not one of several holds.
    """

    found: bool
    answers: tuple[Answer, ...]
    first: int | None


def why_not(
    condition: Condition, library: BarSource, symbol: str, timeframe: Timeframe, sealed: SealedDays = OPEN
) -> WhyNot:
    """Looks at the last bar of a symbol as `run_scan` does; results of positions on ``sealed`` days are hidden.

    Raises `KeyError`, `RunProblem`, or `DataProblem` where there are no such bars.
    """
    check(condition)
    frame, asked = BarSelection(timeframe), asked_of(rules_of(condition))
    how, parts = parts_of(condition)

    def look(view: UniverseView) -> list[Answer]:
        bars = ConditionBars(view, library, asked)
        panel = bars.panel(frame)
        return [
            Answer(bool(evaluate(part, bars, frame)[-1]), _words(part, bars, library, symbol, panel, sealed))
            for part in parts
        ]

    done = map_universe(library, [symbol], UniverseTask(frames_of(condition, frame), look))
    if not done.made:
        raise DataProblem(f"{symbol} is left out: {done.skipped[0].reason}")
    answers = done.made[0]
    held = [a.holds for a in answers]
    found = {Join.ALL: all(held), Join.ANY: any(held), Join.NONE: not any(held)}[how]
    bad = how is Join.NONE  # what a condition must not be
    first = next((k for k, h in enumerate(held) if h is bad), None) if how is not Join.ANY else None
    return WhyNot(found, tuple(answers), None if found else first)


def _words(
    part: Condition, bars: ConditionBars, library: BarSource, symbol: str, panel: Panel, sealed: SealedDays
) -> str:
    match part:
        case Rule():
            return _rule_words(part, bars, sealed)
        case FieldFilter():
            return _plain_words(part, bars, library, symbol, panel)
        case Group():
            inner = [_words(p, bars, library, symbol, panel, sealed) for p in part.parts]
            return "; ".join(inner)
    raise AssertionError(part)


def _rule_words(rule: Rule, bars: ConditionBars, sealed: SealedDays) -> str:
    panel, flags = bars.all_of(rule)
    if rule.relation is not None:
        result = bars.view.run(rule.program, rule.frame, rule.settings, bars.asked[source(rule)])
        if sealed.hides_now(result.panel).any() and tells_result(rule.program, rule.op()):
            return f"{rule.name} is {SEALED}"
        value = float(result.number(rule.op())[-1])
        lately = "" if rule.fresh is TriggerMode.TRUE else f", {_lately(panel, flags)}"
        return f"{rule.name} is {number_text(value)}{lately or _apart(value, rule.relation, rule.number)}"
    words = _lately(panel, flags)
    if any(s.name == rule.name for s in rule.program.signals) and not flags[-1]:
        why = Why(rule.program, panel, rule.name, rule.settings, misses=False, sealed=sealed)
        kept = kept_by(why.at(panel.size - 1))
        return f"{words}; {kept}" if kept else words
    return words


def _lately(panel: Panel, flags: np.ndarray) -> str:
    """Since when a flag is true, or when it last was."""
    age = int(last_true(panel, flags.astype(np.int8))[0])
    if age < 0:
        return "never true"
    if age:
        return f"last true {count_words(age, 'bar')} ago"
    quiet = np.flatnonzero(~flags)
    lasting = len(flags) - (int(quiet[-1]) + 1 if len(quiet) else 0)
    return f"true for {count_words(lasting, 'bar')}"


def _plain_words(plain: FieldFilter, bars: ConditionBars, library: BarSource, symbol: str, panel: Panel) -> str:
    info = library.infos[symbol]
    closes = panel.column("close")
    match plain.field:
        case Field.SECTOR:
            return f"it is in {info.sector}"
        case Field.SYMBOLS:
            return f"{symbol} {'stands' if symbol in plain.words else 'does not stand'} there"
        case Field.PRICE:
            value, words = float(closes[-1]), f"it is {closes[-1]:,.{info.decimals}f}"
        case Field.CHANGE:
            value = float(closes[-1] / closes[-2] - 1) if len(closes) > 1 else float("nan")
            return f"it is {value:+.2%}"
        case Field.VOLUME:
            value = float(average_volume(bars.panel(DAYS))[-1])
            words = f"it is {value:,.0f}" if value == value else "there are not enough days for it"
    return words + _apart(value, plain.relation, plain.number)


def _apart(value: float, relation: Relation, number: float) -> str:
    """By how much a value misses a number; empty where it does not."""
    if value != value or compared(np.array([value]), relation, number)[0]:
        return ""
    return f", {missed_by(relation, abs(number - value), number)}"
