"""Where a program's state lives: one row of floats for each symbol.

First the scalars (counters, slots, fold totals), at places known when the program is compiled; then the
buffers of rings and folds, whose sizes depend on the settings and are worked out before a run.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NoReturn

import numpy as np

from oakladder.rung.plan.meaning import MEANING
from oakladder.rung.plan.ops import Branch, Demand, Domain, Fold, Item, Live, Loop, Op, Plan, Ring, Slot, items_of
from oakladder.rung.problems import RunProblem

#: The most cells of state that one symbol may need.
MAX_CELLS = 2_000_000
#: The most loop steps that one bar may need.
MAX_STEPS = 20_000
_NAN = float("nan")


@dataclass(slots=True)
class StateMap:
    """Places of the scalars, in order of the domains, and the buffers in order of the size table."""

    scalars: dict[object, int] = field(default_factory=dict)
    starts: list[float] = field(default_factory=list)
    regions: dict[Domain, tuple[int, int]] = field(default_factory=dict)
    shadows: dict[Domain, int] = field(default_factory=dict)
    rings: list[Ring] = field(default_factory=list)
    folds: list[Fold] = field(default_factory=list)
    inputs: dict[Domain, list[str]] = field(default_factory=dict)
    _rows: dict[object, int] = field(default_factory=dict)

    def place(self, key: object) -> int:
        return self.scalars[key]

    def ring_row(self, ring: Ring) -> int:
        """First entry of a ring in the size table: its offset, then its mask."""
        return self._row(ring)

    def fold_row(self, fold: Fold) -> int:
        """First entry of a fold in the size table: the offset of its cells, then its length."""
        return self._row(fold)

    def _row(self, buffer: Ring | Fold) -> int:
        if not self._rows:
            self._rows = {b: 2 * k for k, b in enumerate([*self.rings, *self.folds])}
        return self._rows[buffer]


def map_state(live: Live) -> StateMap:
    """Gives every piece of live state its place."""
    made = StateMap()
    ordered = _ordered_ops(live)
    made.folds = list(dict.fromkeys(op.attr for op in ordered if isinstance(op.attr, Fold)))
    ring_order = {id(op.attr): k for k, op in enumerate(ordered) if isinstance(op.attr, Ring)}
    made.rings = sorted(live.rings, key=lambda r: ring_order[id(r)])
    slot_order: dict[int, int] = {}
    for k, op in enumerate(ordered):
        if isinstance(op.attr, Slot):
            slot_order.setdefault(id(op.attr), k)
    slots = sorted(live.slots, key=lambda s: slot_order.get(id(s), 1 << 40))
    for domain in live.domains:
        first = len(made.starts)
        _add(made, ("bar", domain), 0.0)
        for slot in slots:
            if slot.lasting and slot.domain is domain and slot not in made.scalars:
                _add(made, slot, slot.start)
        for fold in made.folds:
            if fold.domain is domain:
                _add(made, ("phase", fold), 0.0)
                if fold.total not in made.scalars:
                    _add(made, fold.total, fold.identity)
        made.inputs[domain] = sorted({str(op.attr) for op in live.ops if op.code == "input" and op.domain is domain})
        if domain.timeframe is not None:
            for name in made.inputs[domain]:
                _add(made, (name, domain), _NAN)
        size = len(made.starts) - first
        made.regions[domain] = (first, size)
        if domain.forming:
            made.shadows[domain] = len(made.starts)
            made.starts.extend([_NAN] * size)
    return made


def _ordered_ops(live: Live) -> list[Op]:
    """The live operations in the order they run, so that the layout does not depend on chance."""
    found: list[Op] = []
    for domain in live.domains:
        for block in (domain.body, domain.tail):
            for item in items_of(block):
                if isinstance(item, Op) and item in live.ops:
                    found.append(item)
                elif (slot := getattr(item, "slot", None)) is not None:
                    found.append(Op("get", attr=slot))
    return found


def _add(made: StateMap, key: object, start: float) -> None:
    made.scalars[key] = len(made.starts)
    made.starts.append(start)


@dataclass(frozen=True, slots=True)
class StateLayout:
    """The state row of a symbol before its first bar, the table of buffer offsets and sizes, and about how many
    operations a bar costs."""

    template: np.ndarray
    table: np.ndarray
    cost: float = 1.0


def lay_out(plan: Plan, live: Live, state: StateMap, fixed: Mapping[Op, object]) -> StateLayout:
    """Sizes the buffers for the given fixed values.

    Raises `RunProblem` where a length or lag makes no sense or the whole would be too large.
    """
    for demand in plan.demands:
        if demand.value in fixed:
            _check(demand, fixed[demand.value])
    counters = {item.counter: item for d in live.domains for item in items_of(d.body) if isinstance(item, Loop)}
    extents = _Extents(fixed, counters)
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
    steps = _count_steps(live, extents)
    template = np.full(at, _NAN)
    template[: len(state.starts)] = state.starts
    for fold in state.folds:
        template[state.place(("phase", fold))] = table[state.fold_row(fold) + 1] - 1
    return StateLayout(template, np.array(table or [0], dtype=np.int64), len(live.ops) + steps)


def _guard(cells: float, plan: Plan, fixed: Mapping[Op, object]) -> None:
    if cells <= MAX_CELLS:
        return
    known = [d for d in plan.demands if d.value in fixed]
    longest = max(known, key=lambda d: _as_float(fixed[d.value]), default=None)
    raise RunProblem(
        f"With these settings the script needs more than {MAX_CELLS:,} values of memory for each symbol. "
        "Use shorter lengths.",
        longest.line if longest is not None else 0,
    )


def _check(demand: Demand, value: object) -> None:
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

    def steps(block: list[Item]) -> float:
        total = 0.0
        for item in block:
            if isinstance(item, Loop) and live.needs(item):
                low, high = extents.of(item.first)[0], extents.of(item.last)[1]
                inner = max(high - low + 1, 0) * (1 + steps(item.body))
                if inner > MAX_STEPS:
                    refuse(inner, item.line)
                total += inner
            elif isinstance(item, Branch):
                total += steps(item.then) + steps(item.otherwise)
        return total

    def refuse(count: float, line: int) -> NoReturn:
        raise RunProblem(
            f"With these settings the loops take {count:,.0f} steps on every bar; {MAX_STEPS:,} are allowed. "
            "Use shorter lengths.",
            line,
        )

    count = sum(steps(d.body) for d in live.domains)
    if count > MAX_STEPS:
        refuse(count, max((i.line for d in live.domains for i in items_of(d.body) if isinstance(i, Loop)), default=0))
    return count


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
        if op.code in ("floor", "ceil", "tame"):
            return math.floor(parts[0][0]), math.ceil(parts[0][1])
        raise RunProblem(
            "A lag or loop bound is made in a way whose size cannot be known before the run. "
            "Use +, -, *, min and max of counters and settings."
        )
