"""Rules that name the very history that they are tried on: dates and bar numbers that no other time has, and settings
whose best value was found there."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from oakladder.bars.panel import Panel
from oakladder.rung import tree as t
from oakladder.rung.program import Program
from oakladder.rung.service.unparse import unparse
from oakladder.trial.judge.look_ahead.finding import Finding, FindingKind, finding
from oakladder.trial.judge.look_ahead.forming_bars import walked
from oakladder.trial.metrics.metrics import METRICS

#: Values that single out a time of history when they are compared with a number.
_DATES = frozenset({"year"})
_BAR = "bar"
#: A bar number compared so only leaves out the beginning of history, where averages are not known yet.
_BEGINS = frozenset({">", ">="})


class BestValue(NamedTuple):
    """A setting with the value that came out best of all that were tried where it is used: of how many, and by which
    metric."""

    name: str
    value: str
    of: int
    metric: str


def named(program: Program, panel: Panel) -> list[Finding]:
    """Comparisons of a script with a fixed year or bar number, each a finding on the last bar."""
    if not panel.size:
        return []
    made = []
    for one in walked(program.trace.root.statements):
        if isinstance(one, t.Compare) and _names_history(one):
            words = f"`{unparse(one)}` names a time of this very history: it says nothing of any other"
            made.append(finding(FindingKind.OWN_HISTORY, words, 1, panel, panel.size - 1, one.span.line))
    return made


def chosen(program: Program, panel: Panel, best: Sequence[BestValue]) -> list[Finding]:
    """Settings whose value is the best of all that were tried on these bars, each a finding on the last bar."""
    if not panel.size:
        return []
    lines = {s.name: s.place.line for s in program.settings if s.place is not None}
    made = []
    for one in best:
        title = METRICS[one.metric].title
        words = f"`{one.name}` = {one.value} is the best of {one.of:,} values that were tried here, by {title}"
        line = lines.get(one.name, 0)
        made.append(finding(FindingKind.OWN_HISTORY, words, 1, panel, panel.size - 1, line))
    return made


def _names_history(compare: t.Compare) -> bool:
    values = compare.values
    for left, relation, right in zip(values, compare.ops, values[1:], strict=False):
        name, other, way = left, right, relation
        if isinstance(right, t.Name):
            name, other, way = right, left, relation.translate(str.maketrans("<>", "><"))
        if not isinstance(name, t.Name) or not isinstance(other, t.Literal) or other.kind != "number":
            continue
        if name.name in _DATES or (name.name == _BAR and way not in _BEGINS):
            return True
    return False
