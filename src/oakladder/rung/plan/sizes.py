"""The size of a program's state with given settings, and its limits."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import Branch, Item, Loop, Op, Plan, RuntimeConstraint, Slot
from oakladder.rung.plan.semantics import MEANING
from oakladder.rung.plan.state import StateMap
from oakladder.rung.problems import RunProblem

#: The most cells of state that one symbol may need.
MAX_CELLS = 2_000_000
#: The most loop steps that one bar may need.
MAX_STEPS = 20_000
_NAN = float("nan")


@dataclass(frozen=True, slots=True)
class Sizes:
    """The table of buffer offsets and sizes, the cells of a symbol's state row, and about how many operations a bar costs."""

    table: tuple[int, ...]
    cells: int
    cost: float = 1.0


def sizes_of(plan: Plan, live: Live, state: StateMap, fixed: Mapping[Op, object]) -> Sizes:
    """Sizes the buffers for the given fixed values.

    Raises `RunProblem` where a length or lag makes no sense or the whole would be too large.
    """
    for demand in plan.demands:
        if demand.value in fixed:
            _check(demand, fixed[demand.value])
    extents = _Extents(fixed, {loop.counter: loop for loop in live.loops})
    table: list[int] = []
    at = len(state.starts)
    for ring in state.rings:
        low, high = 0.0, 1.0
        for lag in ring.lags:
            if lag not in fixed and lag not in live.ops:
                continue
            a, b = extents.of(lag)
            low, high = min(low, a), max(high, b)
        if low < 0:
            raise RunProblem("A lag looks into the future with these settings: it counts bars back, from 0.")
        _guard(high, plan, fixed)
        capacity = 1 << max(int(high), 1).bit_length()
        table += [at, capacity - 1]
        at += capacity
        _guard(at, plan, fixed)
    for fold in state.folds:
        length = int(_as_float(fixed[fold.length]))
        table += [at, length]
        at += fold.cells(length)
        _guard(at, plan, fixed)
    for cells in state.cells:
        size = int(_as_float(fixed[cells.size]))
        table += [at, size]
        at += size
        _guard(at, plan, fixed)
    steps = _count_steps(live, extents)
    return Sizes(tuple(table), at, len(live.ops) + steps)


def _guard(cells: float, plan: Plan, fixed: Mapping[Op, object]) -> None:
    if cells <= MAX_CELLS or plan.is_own:
        return
    known = [d for d in plan.demands if d.value in fixed]
    longest = max(known, key=lambda d: _as_float(fixed[d.value]), default=None)
    raise RunProblem(
        f"With these settings the script needs more than {MAX_CELLS:,} values of memory for each symbol. "
        "Use shorter lengths.",
        longest.line if longest is not None else 0,
    )


def _check(demand: RuntimeConstraint, value: object) -> None:
    number, what = _as_float(value), demand.what
    if math.isnan(number):
        raise RunProblem(f"{what} is none with these settings.", demand.line)
    if number != math.floor(number):
        raise RunProblem(f"{what} must be a whole number, and is {number:g} with these settings.", demand.line)
    if not demand.low <= number <= demand.high:
        raise RunProblem(
            f"{what} must be from {demand.low:,.0f} to {demand.high:,.0f}, and is {number:g} with these settings.",
            demand.line,
        )


def _as_float(value: object) -> float:
    return _NAN if value is None else float(value)  # type: ignore[arg-type]


def _count_steps(live: Live, extents: _Extents) -> float:
    """How many steps the loops take on a bar. Raises `RunProblem` where those are too many."""
    count = sum(_steps(d.body, live, extents) for d in live.domains) if live.loops else 0.0
    if count > MAX_STEPS:
        raise _too_many_steps(count, max((loop.line for loop in live.loops), default=0))
    return count


def _steps(block: list[Item], live: Live, extents: _Extents) -> float:
    total = 0.0
    for item in block:
        if isinstance(item, Loop) and live.needs(item):
            low, high = (1, 1) if item.most else (extents.of(item.first)[0], extents.of(item.last)[1])
            inner = max(high - low + 1, 0) * (1 + _steps(item.body, live, extents))
            if inner > MAX_STEPS:
                raise _too_many_steps(inner, item.line)
            total += inner
        elif isinstance(item, Branch):
            total += _steps(item.then, live, extents) + _steps(item.otherwise, live, extents)
    return total


def _too_many_steps(count: float, line: int) -> RunProblem:
    return RunProblem(
        f"With these settings the loops take {count:,.0f} steps on every bar; {MAX_STEPS:,} are allowed. "
        "Use shorter lengths.",
        line,
    )


class _Extents:
    """The smallest and the largest value of what is made of fixed values and loop counters, each worked out once."""

    def __init__(self, fixed: Mapping[Op, object], counters: Mapping[Slot, Loop]):
        self._fixed, self._counters = fixed, counters
        self._done: dict[Op, tuple[float, float]] = {}

    def of(self, op: Op) -> tuple[float, float]:
        """Raises `RunProblem` for what is made in another way."""
        todo = [op]
        while todo:
            at = todo[-1]
            missing = [other for other in self._needs(at) if other not in self._done] if at not in self._done else []
            if missing:
                todo.extend(missing)
                continue
            todo.pop()
            if at not in self._done:
                self._done[at] = self._work(at)
        return self._done[op]

    def _needs(self, op: Op) -> tuple[Op, ...]:
        if op in self._fixed or op.code == "const":
            return ()
        if op.code == "get" and op.attr in self._counters:
            loop = self._counters[op.attr]  # type: ignore[index]
            return loop.first, loop.last
        return op.args

    def _work(self, op: Op) -> tuple[float, float]:
        if op in self._fixed:
            value = _as_float(self._fixed[op])
            return value, value
        if op.code == "const":
            return float(op.attr), float(op.attr)  # type: ignore[arg-type]
        parts = [self._done[other] for other in self._needs(op)]
        if op.code == "get" and op.attr in self._counters:
            return parts[0][0], parts[1][1]
        if op.code == "neg":
            return -parts[0][1], -parts[0][0]
        if op.code == "add":
            return parts[0][0] + parts[1][0], parts[0][1] + parts[1][1]
        if op.code == "sub":
            return parts[0][0] - parts[1][1], parts[0][1] - parts[1][0]
        if op.code in ("mul", "min", "max"):
            how = MEANING[op.code]
            ends = [float(how(x, y)) for x in parts[0] for y in parts[1]]  # type: ignore[arg-type]
            return min(ends), max(ends)
        if op.code in ("floor", "ceil", "guard"):
            return math.floor(parts[0][0]), math.ceil(parts[0][1])
        raise RunProblem(
            "A lag or loop bound is made in a way whose size cannot be known before the run. "
            "Use +, -, *, min and max of counters and settings."
        )
