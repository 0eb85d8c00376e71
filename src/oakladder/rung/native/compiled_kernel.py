"""The part of a program that some outputs need, as code."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np

from oakladder.rung.native import compile as native
from oakladder.rung.native.simd.eligibility import why_not
from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import Op
from oakladder.rung.plan.part import Part
from oakladder.rung.plan.state import StateMap


@dataclass(frozen=True, slots=True)
class CompiledKernel:
    """The part of a program that some outputs need, ready to run."""

    live: Live
    state: StateMap
    leaves: tuple[Op, ...]
    fixed: tuple[Op, ...]
    code: native.Compiled
    adjusted: bool = False
    #: What was written for lanes so far, by how many there are; None where it cannot run on them.
    _lanes: dict[int, native.SimdCode | None] = field(default_factory=dict, compare=False, repr=False)

    def lanes(self, width: int) -> native.SimdCode | None:
        """The code for so many symbols side by side; None where they must be run one by one."""
        if width not in self._lanes:
            fits = not why_not(self.live)
            self._lanes[width] = (
                native.build_simd(self.live, self.state, self.leaves, width, adjusted=self.adjusted) if fits else None
            )
        return self._lanes[width]


def make_kernel(part: Part, plain: Sequence[Op], *, adjusted: bool = False) -> CompiledKernel:
    """The code for a part of a plan, which gives some values; ``adjusted`` for adjusted prices."""
    out = tuple(dict.fromkeys(op for op in plain if not op.fixed))
    code = native.build(part.live, part.state, out, adjusted=adjusted)
    return CompiledKernel(part.live, part.state, out, code.fixed, code, adjusted)


def fixed_array(code: native.Compiled | native.SimdCode, values: Mapping[Op, object]) -> np.ndarray:
    """Fixed values as the native code reads them. Shape (values,), float64."""
    made = [values[op] for op in code.fixed]
    return np.array([np.nan if v is None else float(v) for v in made] or [0.0])  # type: ignore[arg-type]
