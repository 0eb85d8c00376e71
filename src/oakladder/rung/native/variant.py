"""The part of a program that some outputs need, as code."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from oakladder.rung.native import compile as native
from oakladder.rung.native.lanes.fitting import why_not
from oakladder.rung.plan.live import Idle, Live, live
from oakladder.rung.plan.ops import Op, Plan, leaves
from oakladder.rung.plan.state import StateMap, map_state


@dataclass(frozen=True, slots=True)
class Variant:
    """The part of a program that some outputs need, ready to run."""

    live: Live
    state: StateMap
    leaves: tuple[Op, ...]
    fixed: tuple[Op, ...]
    code: native.Compiled
    #: What was written for lanes so far, by how many there are; None where it cannot run on them.
    _lanes: dict[int, native.LaneCode | None] = field(default_factory=dict, compare=False, repr=False)

    def lanes(self, width: int) -> native.LaneCode | None:
        """The code for so many symbols side by side; None where they must be run one by one."""
        if width not in self._lanes:
            fits = not why_not(self.live)
            self._lanes[width] = native.build_lanes(self.live, self.state, self.leaves, width) if fits else None
        return self._lanes[width]


def make_variant(
    plan: Plan, roots: list[Op], wanted: set[Op], given: frozenset[Op] = frozenset(), idle: Idle | None = None
) -> Variant:
    """The part of a plan that some values need, ``wanted`` being what they are read out of, where those in ``given`` are
    known already."""
    plain = [leaf for root in roots for leaf in leaves(root)]
    # All values of a run belong to one symbol: the chart's, or the one that another part of the script asks for.
    home = next((op.domain for op in plain if op.domain is not None), plan.domains[0])
    needed = live(home.foreign.domains if home.foreign else plan.domains, plain, given, idle)
    state = map_state(needed)
    out = tuple(dict.fromkeys(op for op in plain if not op.fixed))
    code = native.build(needed, state, out)
    return Variant(needed, state, out, code.fixed, code)


def fixed_array(code: native.Compiled | native.LaneCode, values: Mapping[Op, object]) -> np.ndarray:
    """Fixed values as the native code reads them."""
    made = [values[op] for op in code.fixed]
    return np.array([np.nan if v is None else float(v) for v in made] or [0.0])  # type: ignore[arg-type]
