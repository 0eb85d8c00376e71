"""What one run leaves for the next over the same bars: arrays to write into, and code that is bound to them."""

from __future__ import annotations

import threading
from collections.abc import Sequence

import numpy as np

from oakladder.engine.run.setup import BoundKernel, RunSetup, empty_out
from oakladder.rung.plan.ops import LOG_ROWS, Op


class RunBuffers:
    """Reusable buffers of one thread for repeated runs: allocating memory and binding code to it takes longer
    than many a run. Whatever a run gave is written over by the next."""

    def __init__(self) -> None:
        #: The capacity in bars, and the arrays themselves.
        self._arrays: dict[Op, tuple[int, np.ndarray]] = {}
        self._parts: dict[Op, tuple[int, np.ndarray]] = {}
        #: Other reusable objects, by owner.
        self.facts: dict[object, object] = {}

    def arrays(self, job: RunSetup) -> list[np.ndarray]:
        """An array for the values of a run; its content is undefined. Shapes and dtypes as `empty_out` makes them:
        (bars,), float64, or int8 for a flag."""
        return [self._array(op, job.panel.size) for op in job.variant.leaves]

    def _array(self, op: Op, size: int) -> np.ndarray:
        last, part = self._parts.get(op, (-1, None))
        if part is None or last != size:
            room, array = self._arrays.get(op, (-1, None))
            if array is None or room < size:
                array = empty_out(op, size)
                self._arrays[op] = size, array
            part = array if op.code == LOG_ROWS else array[:size]
            self._parts[op] = size, part
        return part

    def bound(self, job: RunSetup, outs: Sequence[np.ndarray]) -> BoundKernel:
        """The thoroughly compiled code of a job, bound to its arrays. Arrays as `empty_out` makes them: shape (bars,),
        float64, or int8 for flags."""
        known = self.facts.get((BoundKernel, id(job.variant)))
        if not isinstance(known, BoundKernel) or not known.takes(job, outs):
            known = self.facts[BoundKernel, id(job.variant)] = BoundKernel(job, outs, thorough=True)
        return known


class BufferStore(threading.local):
    """Buffers for each thread."""

    def __init__(self) -> None:
        self.mine = RunBuffers()
