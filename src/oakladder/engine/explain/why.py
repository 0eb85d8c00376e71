"""Why a signal is or is not true on a bar: every part's value and verdict, and its near misses."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.execute import Result, run
from oakladder.engine.sealed import OPEN, SealedDays, tells_result
from oakladder.rung.plan.ops import Op
from oakladder.rung.program import Program
from oakladder.rung.service.conditions import ConditionPart, condition
from oakladder.rung.texts import CLOCK, count_words, write_value

#: What a plain flag that is not true, and what is not known, count beside a comparison that misses by its usual distance.
_FLAG_MISS, _NONE_MISS = 1.0, 4.0
#: Nearly true places closer together than this are one place.
_APART = 3


@dataclass(frozen=True, slots=True)
class Verdict:
    """A part of a condition on one bar. ``holds`` is None where it is not known.

    ``missing`` is by how much a comparison fails (in units of its operands). ``decisive`` marks the first
    part that keeps the whole from being true.
    """

    text: str
    how: str
    holds: bool | None
    values: tuple[tuple[str, float], ...]
    relation: str
    missing: float
    decisive: bool
    parts: tuple[Verdict, ...]
    #: Whether the values are times of day.
    timed: bool = False

    def value_words(self) -> list[str]:
        """The values as they are read: times of day as such."""
        return [write_value(v, CLOCK) if self.timed else number_text(v) for _, v in self.values]

    def words(self) -> str:
        """The verdict in a few words."""
        if self.holds is None:
            return "not known"
        if self.holds:
            return "yes"
        if self.how != "compare" or self.missing != self.missing:
            return "no"
        if self.timed and self.missing:
            return f"no, {_SIDES.get(self.relation, 'off')} by {count_words(round(self.missing), 'minute')}"
        return f"no, {missed_by(self.relation, self.missing, self.values[1][1])}"


@dataclass(frozen=True, slots=True)
class NearMiss:
    """A bar on which a signal was nearly true: how far it was (1 is a usual distance), and what prevented it."""

    bar: int
    distance: float
    kept_by: str


_SIDES = {">": "short", ">=": "short", "<": "over", "<=": "over"}


def missed_by(relation: str, missing: float, against: float) -> str:
    """By how much a comparison fails, in units and as a share of what it is compared with."""
    if not missing:
        return "equal"
    share = missing / abs(against) if against else float("nan")
    percent = f" ({share:.1%})" if share == share and share < 10 else ""
    return f"{_SIDES.get(relation, 'off')} by {number_text(missing)}{percent}"


def number_text(value: float) -> str:
    """A number with as many digits as are worth reading."""
    if value != value:
        return "–"
    return f"{value:,.0f}" if abs(value) >= 10_000 else f"{value:.4g}"


class Why:
    """A signal's condition, worked out on every bar of one symbol."""

    def __init__(
        self,
        program: Program,
        panel: Panel,
        signal: str,
        settings: Mapping[str, object] | None = None,
        *,
        misses: bool = True,
        sealed: SealedDays = OPEN,
        context: RunContext = PLAIN,
    ):
        """Without ``misses`` the near misses, which take longer than the rest, are not looked for. Results of a
        position are none on ``sealed`` days.

        Raises `RunProblem` where the script cannot run (`UnknownName` without such a signal), `Cancelled`.
        """
        self.part = condition(program.trace, signal)
        self.signal = signal
        ops = {op for part in self.part.walk() for op in (part.op, *(o.op for o in part.operands))}
        self.result: Result = run(program, panel, settings, outputs=[], extra=list(ops), context=context)
        self._count = panel.size
        self._opened = int(sealed.opened(panel)[0]) if len(panel) else 0
        #: Where it came nearest to being true without being it; worked out with the rest, away from the window.
        self.misses = self._near(context) if misses else []

    def at(self, bar: int) -> Verdict:
        """The verdicts on one bar."""
        return self._verdict(self.part, bar, self.result.at(self.part.op, bar) is not True)

    def _verdict(self, part: ConditionPart, bar: int, blame: bool) -> Verdict:
        found = self.result.at(part.op, bar)
        holds = found if isinstance(found, bool) else None
        blamed = blame and holds is not True
        parts: list[Verdict] = []
        if part.how == "lag" and bar < part.lag:  # there was no such bar
            return Verdict(part.text, part.how, None, (), "", float("nan"), blame, ())
        for inner in part.parts:
            made = self._verdict(inner, bar - part.lag, blamed and part.how in ("and", "or", "lag"))
            # In a chain of `and` the first part that fails decides; in an `or` all of them do.
            if part.how == "and" and blamed and made.holds is not True:
                blamed = False
            parts.append(made)
        values = tuple((o.text, self._number(o.op, bar)) for o in part.operands)
        missing = float("nan")
        if part.how == "compare" and holds is False:
            missing = abs(values[0][1] - values[1][1])
        below = any(v.decisive for p in parts for v in everything(p))
        decisive = blame and holds is not True and not below
        timed = any(o.timed for o in part.operands)
        return Verdict(part.text, part.how, holds, values, part.relation, missing, decisive, tuple(parts), timed)

    def _number(self, op: Op, bar: int) -> float:
        if bar >= self._opened and tells_result(self.result.program, op):
            return float("nan")
        value = self.result.at(op, bar)
        return float(value) if isinstance(value, int | float) else float("nan")

    def distances(self) -> np.ndarray:
        """How far the condition is from true on each bar, float64: 0 where it is; comparisons count in their usual
        distance. Shape (bars,)."""
        return self._distance(self.part, True)

    def _distance(self, part: ConditionPart, wanted: bool) -> np.ndarray:
        if part.how == "not":
            return self._distance(part.parts[0], not wanted)
        if part.how == "lag":
            before = self._distance(part.parts[0], wanted)
            return np.concatenate([np.full(part.lag, _NONE_MISS), before])[: len(before)]
        if part.how in ("and", "or"):
            inner = np.array([self._distance(p, wanted) for p in part.parts])
            return np.asarray(inner.sum(axis=0) if (part.how == "and") == wanted else inner.min(axis=0))
        flags = self.result.flag(part.op)
        made = np.where(flags == (1 if wanted else 0), 0.0, np.where(flags < 0, _NONE_MISS, _FLAG_MISS))
        if part.how == "compare":
            gap = np.abs(self._value(part.operands[0].op) - self._value(part.operands[1].op))
            known = gap[np.isfinite(gap) & (gap > 0)]
            usual = float(np.median(known)) if len(known) else 1.0
            missed = (made == _FLAG_MISS) & np.isfinite(gap)
            made = np.where(missed, np.maximum(gap / usual, 1e-9), made)
        return made

    def _value(self, op: Op) -> np.ndarray:
        return self.result.number(op)

    def _near(self, context: RunContext, most: int = 8) -> list[NearMiss]:
        """The places where the signal came nearest to being true without being it, newest first."""
        distances = self.distances()
        fired = np.flatnonzero(distances == 0)
        taken = np.zeros(self._count, dtype=bool)
        for bar in fired.tolist():
            taken[max(bar - _APART, 0) : bar + _APART + 1] = True
        chosen: list[NearMiss] = []
        for k, bar in enumerate(np.argsort(distances, kind="stable").tolist()):
            if k % 4096 == 0:
                context.check()
            if len(chosen) == most or distances[bar] >= _NONE_MISS:
                break
            if taken[bar]:
                continue
            taken[max(bar - _APART, 0) : bar + _APART + 1] = True
            chosen.append(NearMiss(bar, float(distances[bar]), kept_by(self.at(bar))))
        return sorted(chosen, key=lambda n: -n.bar)


def kept_by(verdict: Verdict) -> str:
    """The first decisive part that cannot be taken apart, with its words."""
    for part in verdict.parts:
        if part.decisive or any(p.decisive for p in everything(part)):
            return kept_by(part)
    return f"{verdict.text}: {verdict.words()}" if verdict.holds is not True else ""


def everything(verdict: Verdict) -> list[Verdict]:
    """A verdict and all below it, outermost first."""
    return [verdict, *(v for p in verdict.parts for v in everything(p))]
