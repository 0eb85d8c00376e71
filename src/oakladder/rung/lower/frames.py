"""Instances of functions and their frames: bindings of names, their domain, and the value of each expression."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from oakladder.rung import tree as t
from oakladder.rung.plan.ops import Domain, Op, Slot

NAN = float("nan")


@dataclass(slots=True)
class Bundle:
    """Several results of a call, by name."""

    results: dict[str, Op]


Value = Op | Bundle


@dataclass(slots=True)
class Argument:
    """What a parameter stands for: an expression of the caller, lowered on whichever domain asks."""

    expr: t.Expr
    caller: Instance
    at: int


class Instance:
    """The script, or one call of a function."""

    __slots__ = ("arguments", "frames", "is_own", "parent", "parent_done", "statements")

    def __init__(
        self,
        statements: Sequence[t.Statement],
        parent: Instance | None = None,
        arguments: dict[str, Argument] | None = None,
        parent_done: int = 0,
        is_own: bool = False,
    ):
        self.statements, self.parent, self.parent_done = statements, parent, parent_done
        self.arguments = arguments or {}
        #: Whether the compiler itself writes here.
        self.is_own = is_own
        self.frames: dict[Domain, CallFrame] = {}


@dataclass(slots=True)
class CallFrame:
    """An instance on a domain: what its names stand for so far, and how many statements are done or begun."""

    instance: Instance
    domain: Domain
    names: dict[str, Value | Slot] = field(default_factory=dict)
    done: int = 0
    #: Whether the last of those is being lowered.
    begun: bool = False
    given: Value | None = None

    @property
    def seen(self) -> int:
        """How many statements stand above what is being lowered."""
        return self.done - self.begun


@dataclass(slots=True)
class Trace:
    """What each expression became on the chart's own bars, so that a condition can be taken apart afterwards."""

    root: Instance
    values: dict[tuple[Instance, t.Expr], Value] = field(default_factory=dict)
    callees: dict[tuple[Instance, t.Expr], Instance] = field(default_factory=dict)


#: Where the compiler's own expressions stand: no names are seen there.
NOWHERE = Instance(())


def each(value: Value, how: Callable[[Op], Op]) -> Value:
    """Does something with a value, or with each of several results."""
    return Bundle({k: how(op) for k, op in value.results.items()}) if isinstance(value, Bundle) else how(value)


def timeframe_of(domain: Domain) -> Op | None:
    """The timeframe of a domain's bars; None for the chart's."""
    return domain.timeframe or (domain.foreign.timeframe if domain.foreign else None)
