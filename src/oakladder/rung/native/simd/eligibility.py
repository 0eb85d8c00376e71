"""Which programs run on lanes, and how many lanes a machine has."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import SORTED, Branch, Item, LeaveLoop, Loop, Op, RollingAggregate, items_of

#: Symbols side by side, by what a processor has: the widest that fits is taken.
_WIDTHS = (("avx512f", 8), ("avx2", 4))
_LEAST = 2


def width_of(features: Mapping[str, bool]) -> int:
    """How many symbols a machine with such features runs side by side."""
    return next((width for name, width in _WIDTHS if features.get(name)), _LEAST)


def why_not(live: Live) -> str:
    """Why the live part of a plan cannot run on lanes; empty where it can."""
    if live.logs:
        return "rows of a log stand one after the other, symbol by symbol"
    folds = [op for op in live.ops if isinstance(op.attr, RollingAggregate)]
    if any(op.attr.how == SORTED for op in folds if isinstance(op.attr, RollingAggregate)):
        return "a window in order is searched and shifted by each symbol at another place"
    nested = {item for domain in live.domains for item in _nested([*domain.body, *domain.tail])}
    if any(op in nested for op in folds):
        return "a window under a condition moves on for some symbols only"
    return ""


def _nested(block: Sequence[Item]) -> list[Op]:
    """The operations under conditions and in loops."""
    made: list[Op] = []
    for item in block:
        inside = (
            [*item.then, *item.otherwise] if isinstance(item, Branch) else item.body if isinstance(item, Loop) else []
        )
        made += [part for part in items_of(inside) if isinstance(part, Op)]
    return made


def leaves_loop(block: Sequence[Item]) -> bool:
    """Whether a block may leave its enclosing loop."""
    return any(
        isinstance(item, LeaveLoop)
        or (isinstance(item, Branch) and (leaves_loop(item.then) or leaves_loop(item.otherwise)))
        for item in block
    )
