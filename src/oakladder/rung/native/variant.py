"""The part of a program that some outputs need, as code."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from oakladder.rung.native import compile as native
from oakladder.rung.plan.live import Live, live
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


def make_variant(plan: Plan, roots: list[Op], wanted: set[Op]) -> Variant:
    """The part of a plan that some values need, ``wanted`` being what they are read out of."""
    plain = [leaf for root in roots for leaf in leaves(root)]
    # All values of a run belong to one symbol: the chart's, or the one that another part of the script asks for.
    home = next((op.domain for op in plain if op.domain is not None), plan.domains[0])
    needed = live(home.foreign.domains if home.foreign else plan.domains, plain)
    state = map_state(needed)
    out = tuple(dict.fromkeys(op for op in plain if not op.fixed))
    code = native.build(needed, state, out)
    return Variant(needed, state, out, code.fixed, code)


def fixed_array(variant: Variant, values: Mapping[Op, object]) -> np.ndarray:
    """Fixed values as the native code reads them."""
    made = [values[op] for op in variant.fixed]
    return np.array([np.nan if v is None else float(v) for v in made] or [0.0])  # type: ignore[arg-type]
