"""Cache of the first pass's results. Variants of a rule that differ only in how they handle a
position share their signals, and values that depend on no varying setting are computed once for all of them."""

from __future__ import annotations

import threading
from collections.abc import Iterable, Mapping

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.buffers import BufferStore
from oakladder.rung.plan.ops import Op
from oakladder.rung.program import Program

#: No more bytes than this are kept.
_MOST_BYTES = 256_000_000
#: A part of a panel: the numbers of its first symbol, and of the one after its last.
Part = tuple[int, int]
_Stamp = tuple[object, ...]


class SignalCache:
    """Values of one program over one panel; may be asked from several threads. ``varying`` names the settings that are
    expected to be another from one variant to the next."""

    def __init__(self, varying: Iterable[str] = ()) -> None:
        self.varying = frozenset(varying)
        self._lock = threading.Lock()
        self._of: tuple[Program, Panel] | None = None
        #: Values computed together, and the settings that each depends on.
        self._shares: list[tuple[tuple[Op, ...], tuple[str, ...]]] = []
        #: With which settings a share of a part was worked out last, and what is kept of it.
        self._last: dict[tuple[Part, int], _Stamp] = {}
        self._values: dict[tuple[Part, int], tuple[_Stamp, dict[Op, np.ndarray]]] = {}
        self._bytes = 0
        #: What each thread works values out in, for one variant after the other.
        self.buffers = BufferStore()

    def shares(self, program: Program, panel: Panel) -> list[tuple[Op, ...]]:
        """The values that the second run is given, those apart that rest on nothing that varies."""
        with self._lock:
            if not self._is_of(program, panel):
                assert program.split is not None
                self._of, self._bytes = (program, panel), 0
                self._last, self._values = {}, {}
                names = {op: program.settings_under(op) for op in program.split.values}
                still = tuple(op for op in names if not names[op] & self.varying)
                moving = tuple(op for op in names if names[op] & self.varying)
                if not self.varying:
                    still, moving = (), still
                self._shares = [
                    (ops, tuple(sorted(frozenset().union(*(names[op] for op in ops))))) for ops in (still, moving)
                ]
            return [ops for ops, _ in self._shares]

    def known(
        self, program: Program, panel: Panel, part: Part, share: int, settings: Mapping[str, object] | None
    ) -> dict[Op, np.ndarray] | None:
        """A share of the values of a part with some settings, if it is kept; they must not be written to. Each: shape
        (bars,), float64, or int8 for a flag."""
        with self._lock:
            if not self._is_of(program, panel):
                return None
            stamp, values = self._values.get((part, share), ((), None))
            return values if values is not None and stamp == self._stamp(share, settings) else None

    def seen(
        self,
        program: Program,
        panel: Panel,
        part: Part,
        share: int,
        settings: Mapping[str, object] | None,
        values: Mapping[Op, np.ndarray],
    ) -> None:
        """Takes what a share of the values was found to be. What is expected to vary is kept when it comes a second
        time with the same settings: to copy what changes with each variant would cost time for nothing. Each: shape
        (bars,), float64, or int8 for a flag."""
        with self._lock:
            if not self._is_of(program, panel):
                return
            key, stamp = (part, share), self._stamp(share, settings)
            again, self._last[key] = self._last.get(key) == stamp, stamp
            if share and not again:
                return
            if key in self._values:
                self._bytes -= _size(self._values.pop(key)[1])
            if self._bytes + _size(values) <= _MOST_BYTES:
                self._bytes += _size(values)
                self._values[key] = stamp, {op: array.copy() for op, array in values.items()}

    def _is_of(self, program: Program, panel: Panel) -> bool:
        return self._of is not None and self._of[0] is program and self._of[1] is panel

    def _stamp(self, share: int, settings: Mapping[str, object] | None) -> _Stamp:
        return tuple(map((settings or {}).get, self._shares[share][1]))


def _size(values: Mapping[Op, np.ndarray]) -> int:
    return sum(array.nbytes for array in values.values())
