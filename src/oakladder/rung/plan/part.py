"""The part of a plan that some values need, and where it keeps its state."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from oakladder.rung.plan.liveness import Idle, Live, live
from oakladder.rung.plan.ops import Op, Plan
from oakladder.rung.plan.state import StateMap, map_state


@dataclass(frozen=True, slots=True)
class Part:
    """What is needed of a plan, and the places of its state."""

    live: Live
    state: StateMap


def part_of(plan: Plan, plain: Sequence[Op], given: frozenset[Op] = frozenset(), idle: Idle | None = None) -> Part:
    """What some values need that are read out as they are, where those in ``given`` are known already."""
    # All values of a run belong to one symbol: the chart's, or another one that the script names.
    home = next((op.domain for op in plain if op.domain is not None), plan.domains[0])
    needed = live(home.foreign.domains if home.foreign else plan.domains, list(plain), given, idle)
    return Part(needed, map_state(needed))


def settings_of(part: Part) -> frozenset[str]:
    """The settings that a part of a plan rests on."""
    live, state = part.live, part.state
    todo = [*live.ops, *(fold.length for fold in state.folds), *(cells.size for cells in state.cells)]
    todo += [lag for ring in state.rings for lag in ring.lags]
    todo += [domain.timeframe for domain in live.domains if domain.timeframe is not None]
    todo += [op for what in state.all_inputs for op in what.fixed]
    found: set[Op] = set()
    while todo:
        op = todo.pop()
        if op not in found:
            found.add(op)
            todo.extend(op.args)
    return frozenset(str(op.attr) for op in found if op.code == "setting")
