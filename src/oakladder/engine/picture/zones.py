"""Zones: on each bar on which ``when`` holds one opens, and each ends by what it says of itself."""

from __future__ import annotations

import heapq
from collections import OrderedDict
from itertools import pairwise

import numpy as np

from oakladder.engine.run.execute import Result
from oakladder.rung.plan.ops import Op, Output
from oakladder.rung.plan.vectors import VECTOR
from oakladder.rung.problems import RunProblem
from oakladder.tuning import TUNING

#: Number of bars after its opening that are searched first for the end of a zone, then twice as many, and so on.
_FIRST_BARS = 64
#: Where the oldest gives way, so many bars are gone along at a time.
_BLOCK = 128
#: The limit of bars of zones in all.
_MOST_BARS = 400_000_000


class Openings:
    """The zones of one statement over the bars of one symbol: where each opens, its edges and its end."""

    def __init__(self, result: Result, output: Output):
        self._result, self._output = result, output
        shown = result.is_true(output.roles.get("when"))
        a, b = (result.number(output.roles[role]) for role in ("value", "other"))
        self.starts = np.flatnonzero(shown & ~np.isnan(a + b))
        self.low, self.high = np.fmin(a, b)[self.starts], np.fmax(a, b)[self.starts]
        self._last = len(shown) - 1

    def ends(self) -> np.ndarray:
        """The last bar of each zone, itself included, int64; that of the data for one that is open.

        Raises `Cancelled`, and `RunProblem` where so many are open that it would take too long.

        Shape (zones,).
        """
        ends = np.full(len(self.starts), self._last, dtype=np.int64)
        if "lasting" in self._output.roles:
            lasting = self._result.number(self._output.roles["lasting"])[self.starts]
            whole = np.where(np.isnan(lasting), self._last, np.clip(lasting, 0, self._last))
            ends = np.minimum(ends, self.starts + whole.astype(np.int64))
        until, most = self._output.roles.get("until"), self._output.roles.get("most")
        if until is not None and not until.of_zone:
            holds = np.append(np.flatnonzero(self._result.is_true(until)), self._last)
            ends = np.minimum(ends, holds[np.minimum(np.searchsorted(holds, self.starts, "right"), len(holds) - 1)])
            until = None
        if most is not None:
            return self._giving_way(until, ends, int(self._result.number(most)[-1]))
        return ends if until is None else self._where_it_holds(until, ends)

    def _where_it_holds(self, until: Op, ends: np.ndarray) -> np.ndarray:
        """The first bar behind each opening on which the zone's own condition holds, or its end."""
        ends = ends.copy()
        open_, first, width, seen = np.arange(len(self.starts)), 1, _FIRST_BARS, 0
        while len(open_):
            still = []
            for k in range(0, len(open_), max(TUNING.zone_bars // width, 1)):
                self._result.go_on()
                some = open_[k : k + max(TUNING.zone_bars // width, 1)]
                seen = self._counted(seen, len(some) * width)
                bars = self.starts[some, None] + first + np.arange(width)
                held = (self._value(until, some, np.minimum(bars, self._last)) == 1) & (bars <= ends[some, None])
                found = held.any(axis=1)
                hits = some[found]
                ends[hits] = self.starts[hits] + first + held[found].argmax(axis=1)
                rest = some[~found]
                still.append(rest[self.starts[rest] + first + width <= ends[rest]])
            open_ = np.concatenate(still)
            first, width = first + width, 2 * width
        return ends

    def _value(self, op: Op, zones: np.ndarray, bars: np.ndarray) -> np.ndarray:
        """A value on some bars of some zones, shape (zones, bars)."""
        with np.errstate(all="ignore"):
            return np.broadcast_to(self._part(op, zones, bars, {}), bars.shape)

    def _part(self, op: Op, zones: np.ndarray, bars: np.ndarray, done: dict[Op, np.ndarray]) -> np.ndarray:
        """A part of such a value; ``done`` holds the known ones."""
        if op not in done:
            if not op.of_zone:
                done[op] = (self._result.flag(op) if op.is_flag else self._result.number(op))[bars]
            elif op.code == "zone":
                own = {"top": self.high, "bottom": self.low}.get(str(op.attr))
                age = bars - self.starts[zones, None]
                done[op] = age.astype(float) if own is None else own[zones, None]
            else:
                done[op] = VECTOR[op.code](*(self._part(a, zones, bars, done) for a in op.args))
        return done[op]

    def _giving_way(self, until: Op | None, ends: np.ndarray, most: int) -> np.ndarray:
        """The ends if at most so many zones may be open: the oldest gives way to one that opens.

        Goes along the bars with the zones that are open alone, so that `most` bounds what there is to look at.
        ``until`` is the zone's own condition, which ends it too.
        """
        ends, seen = ends.copy(), 0
        open_: OrderedDict[int, None] = OrderedDict()
        block = self._last + 1 if until is None else _BLOCK  # without it every end is known
        edges = range(0, self._last + 1 + block, block)
        for (bar, stop), (one, end) in zip(pairwise(edges), pairwise(np.searchsorted(self.starts, edges)), strict=True):
            self._result.go_on()
            zones = np.array([*open_, *range(one, end)], dtype=np.int64)
            if until is not None and len(zones):
                seen = self._counted(seen, len(zones) * block)
                bars = np.broadcast_to(np.minimum(np.arange(bar, stop), self._last), (len(zones), block))
                held = self._value(until, zones, bars) == 1
                held &= (bars > self.starts[zones, None]) & (bars <= ends[zones, None])
                found = held.any(axis=1)
                ends[zones[found]] = bar + held[found].argmax(axis=1)
            closing = [(int(ends[zone]), zone) for zone in open_]
            heapq.heapify(closing)
            for zone in range(one, end):
                start = int(self.starts[zone])
                while closing and closing[0][0] <= start:
                    open_.pop(heapq.heappop(closing)[1], None)
                while len(open_) >= most:
                    ends[open_.popitem(last=False)[0]] = start
                open_[zone] = None
                heapq.heappush(closing, (int(ends[zone]), zone))
            open_ = OrderedDict.fromkeys(zone for zone in open_ if ends[zone] >= stop)
        return ends

    def _counted(self, seen: int, more: int) -> int:
        """How many bars of zones have been looked at with some more; raises `RunProblem` where they are too many."""
        if seen + more > _MOST_BARS:
            raise RunProblem(
                "So many zones are open at the same time that looking after them takes too long. "
                "Let the oldest give way: `most 100`.",
                self._output.line,
            )
        return seen + more
