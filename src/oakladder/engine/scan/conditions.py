"""The conditions of a scan: rules of scripts, field filters, and groups of them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.rung.plan.ops import Op
from oakladder.rung.problems import RunProblem, UnknownName, did_you_mean
from oakladder.rung.program import Program
from oakladder.rung.words import Shown


class Relation(StrEnum):
    """How a number must stand to another."""

    ABOVE = ">"
    AT_LEAST = ">="
    BELOW = "<"
    AT_MOST = "<="


#: Days over which the average volume is taken.
VOLUME_DAYS = 20


class TriggerMode(StrEnum):
    """When a rule must hold on its timeframe. ``bars`` belongs to the two modes that count."""

    FIRES = "fires"
    WITHIN = "within"
    TRUE = "is true"
    LASTING = "true for"


@dataclass(frozen=True, slots=True)
class Rule:
    """A signal of a script, or (with a relation) one of its named values against a number."""

    program: Program
    name: str
    timeframe: Timeframe = ONE_DAY
    settings: Mapping[str, object] = field(default_factory=dict)
    relation: Relation | None = None
    number: float = 0.0
    fresh: TriggerMode = TriggerMode.TRUE
    bars: int = 1
    extended: bool = False

    @property
    def frame(self) -> BarSelection:
        """The bars that it reads."""
        return BarSelection(self.timeframe, self.extended)

    def op(self) -> Op:
        """The operation of the requested value. Raises `UnknownName`."""
        found = named_values(self.program)
        if self.name not in found:
            hint = did_you_mean(self.name, found) or (f"It has {', '.join(found)}." if found else "It has none.")
            raise UnknownName(f"The script has nothing called `{self.name}`. {hint}")
        op = found[self.name]
        if not op.is_flag and not self.relation:
            raise UnknownName(f"`{self.name}` is a number. Compare it with something, as in > 0.")
        return op


class Field(StrEnum):
    """What a plain filter looks at."""

    PRICE = "price"
    CHANGE = "change"
    VOLUME = "average volume"
    SECTOR = "sector"
    SYMBOLS = "list"


@dataclass(frozen=True, slots=True)
class FieldFilter:
    """A filter without a script: last price, change (a ratio), average volume of 20 days, sector, or a list."""

    field: Field
    relation: Relation = Relation.AT_LEAST
    number: float = 0.0
    words: frozenset[str] = frozenset()


class Join(StrEnum):
    """How the parts of a group go together."""

    ALL = "all"
    ANY = "any"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class Group:
    """Several conditions of which all, any or none must hold."""

    how: Join
    parts: tuple[Condition, ...]


Condition = Rule | FieldFilter | Group


def named_values(program: Program) -> dict[str, Op]:
    """The values of a script that a condition can use: signals, columns and lines by name, top-level values."""
    made: dict[str, Op] = {o.name: o.roles["value"] for o in program.signals}
    for output in program.outputs:
        if output.what in (Shown.COLUMN, Shown.LINE, Shown.HISTOGRAM) and output.name:
            op = output.roles["value"]
            if not op.is_shell:
                made.setdefault(output.name, op)
    for name, op in program.plan.values.items():
        if not op.is_shell:
            made.setdefault(name, op)
    return made


def rules_of(condition: Condition) -> list[Rule]:
    """Every rule of a condition, in order."""
    match condition:
        case Rule():
            return [condition]
        case Group():
            return [rule for part in condition.parts for rule in rules_of(part)]
    return []


def uses_volume(condition: Condition) -> bool:
    match condition:
        case FieldFilter():
            return condition.field is Field.VOLUME
        case Group():
            return any(uses_volume(p) for p in condition.parts)
    return False


def check(condition: Condition) -> None:
    """Raises `RunProblem` for what can be known to be wrong before anything is read."""
    for rule in rules_of(condition):
        rule.op()
        rule.program.values_of(rule.settings)
        if rule.bars < 1:
            raise RunProblem("A number of bars is 1 or more.")
    _check_groups(condition)


def _check_groups(condition: Condition) -> None:
    if isinstance(condition, Group):
        if not condition.parts:
            raise RunProblem("The scan, or a group in it, has no condition yet. Add one.")
        for part in condition.parts:
            _check_groups(part)
