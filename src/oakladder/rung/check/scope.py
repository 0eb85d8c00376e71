"""Names in a script: what each stands for, and where it can be seen."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from oakladder.rung import tree as t
from oakladder.rung import values
from oakladder.rung.kinds import Kind, Type, Unit
from oakladder.rung.problems import Span
from oakladder.rung.trade_words import POSITION, POSITION_TYPE
from oakladder.rung.words import RESERVED


@dataclass(slots=True)
class Binding:
    """What a name stands for while the script is walked."""

    what: str  # let, keep, fresh, setting, parameter, counter, signal
    type: Type
    span: Span
    read: bool = False
    in_block: bool = False
    argument: Span | None = None


@dataclass(slots=True)
class Scope:
    """The names of a script or of one run of a function body; ``blocks`` counts open ifs and fors."""

    parent: Scope | None = None
    names: dict[str, Binding] = field(default_factory=dict)
    later: frozenset[str] = frozenset()
    blocks: int = 0
    loops: int = 0

    def find(self, name: str) -> Binding | None:
        scope: Scope | None = self
        while scope is not None:
            if name in scope.names:
                return scope.names[name]
            scope = scope.parent
        return None


@dataclass(frozen=True, slots=True)
class Function:
    """A function that can be called: the user's own or one of the library."""

    define: t.Define
    scope: Scope | None
    unit: Unit | None = None
    of_library: bool = False
    lengths: frozenset[str] = frozenset()
    #: Of a library function: parameters that take one kind of value, and parameters that take a series.
    kinds: Mapping[str, Kind] = field(default_factory=dict)
    series: frozenset[str] = frozenset()
    counts: frozenset[str] = frozenset()
    bounds: Mapping[str, tuple[float, float]] = field(default_factory=dict)


def base_scope() -> dict[str, Type]:
    """The built-in names that are values."""
    names = {name: value.type for name, value in values.BAR_VALUES.items()}
    names[POSITION] = POSITION_TYPE
    names.update({name: Type(Kind.COLOUR, moving=False) for name in values.PALETTE})
    return names


def later_names(statements: Sequence[t.Statement]) -> frozenset[str]:
    found: set[str] = set()
    for s in statements:
        if isinstance(s, t.Let):
            found |= {n.name for n in s.names}
        elif isinstance(s, t.Keep | t.Signal | t.Setting | t.Trade):
            found.add(s.name.name)
        elif isinstance(s, t.Lost):
            found.update(s.names)
    return frozenset(found - RESERVED)
