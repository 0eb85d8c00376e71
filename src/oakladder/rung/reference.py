"""The reference runner: plain Python over the same plan, slow and easy to trust.

It defines what every operation means. The native runner must agree with it bit for bit, and it takes the
native runner's place where that cannot work.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

import numpy as np

from oakladder.rung.plan import ops
from oakladder.rung.plan.inputs import Input, IntrabarColumn, Merge
from oakladder.rung.plan.layout import StateLayout
from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import (
    SORTED,
    Append,
    Branch,
    Domain,
    Item,
    Loop,
    Op,
    Put,
    Ring,
    RollingAggregate,
    Save,
    Slot,
    Store,
)
from oakladder.rung.plan.semantics import MEANING
from oakladder.rung.plan.state import StateMap

_NAN = float("nan")


def turn(cells: np.ndarray, how: Callable[..., object]) -> None:
    """Makes each cell the fold of itself and all before it, eight at a time, so that few steps wait for others. Shape
    (cells,), float64, changed in place."""
    for k in range(1, len(cells), 8):
        before = float(cells[k - 1])
        a, b, c, d, e, f, g, h = (float(x) for x in cells[k : k + 8])
        ab, cd, ef, gh = how(b, a), how(d, c), how(f, e), how(h, g)
        abcd = how(cd, ab)
        last = (how(e, abcd), how(ef, abcd), how(how(g, ef), abcd), how(how(gh, ef), abcd))
        cells[k : k + 8] = [how(x, before) for x in (a, ab, how(c, ab), abcd, *last)]


class _Left(Exception):
    """A loop was left with ``stop``."""


class Stepper:
    """Runs one domain bar by bar on one symbol's state row."""

    def __init__(self, runner: Runner, domain: Domain):
        self.runner, self.domain = runner, domain
        self.body = domain.body
        self.values: dict[Op, object] = {}
        self.inputs: dict[Input, float] = {}
        self.scratch: dict[Slot, object] = {}
        #: What the sorted windows were before this bar, and what came into them.
        self._lately: dict[RollingAggregate, tuple[int, int, float, list[float], bool]] = {}
        #: Where this domain's scalars are read and written; a forming bar runs on the shadow.
        self.shift = 0
        #: Whether this bar is only tried and will be run again: then cells that later bars need stay as they are.
        self.trying = False

    def step(self, inputs: Mapping[Input, float]) -> None:
        self.inputs = dict(inputs)
        self.values = {}
        self.scratch = {}
        self._block(self.domain.body)
        self._block(self.domain.tail)
        self._store(("bar", self.domain), self._load(("bar", self.domain)) + 1)

    # --- state ------------------------------------------------------------------------------------

    def _load(self, key: object) -> float:
        return float(self.runner.row[self.runner.state.place(key) + self.shift])

    def _store(self, key: object, value: float) -> None:
        self.runner.row[self.runner.state.place(key) + self.shift] = value

    def _read(self, slot: Slot) -> object:
        if not slot.lasting:
            return self.scratch.get(slot, None if slot.flag else _NAN)
        raw = self._load(slot)
        return MEANING["to_flag"](raw) if slot.flag else raw

    def _write(self, slot: Slot, value: object) -> None:
        if not slot.lasting:
            self.scratch[slot] = value
        else:
            self._store(slot, float(MEANING["to_number"](value)) if slot.flag else float(value))  # type: ignore[arg-type]

    # --- items ------------------------------------------------------------------------------------

    def _block(self, block: list[Item]) -> None:
        live = self.runner.live
        for item in block:
            if not live.needs(item):
                continue
            match item:
                case Op():
                    self.values[item] = self._op(item)
                case Put():
                    self._write(item.slot, self.value(item.value))
                case Save():
                    self._save(item.ring, self.value(item.value))
                case Store():
                    self.runner.row[self._cell(item.table, item.place)] = self.value(item.value)
                case Append():
                    self.runner.append(item, [float(self.value(v)) for v in item.values])  # type: ignore[arg-type]
                case Branch():
                    self._block(item.then if self.value(item.condition) is True else item.otherwise)
                case Loop():
                    self._loop(item)
                case _:
                    raise _Left

    def _loop(self, loop: Loop) -> None:
        k, last = float(self.value(loop.first)), float(self.value(loop.last))  # type: ignore[arg-type]
        try:
            while k <= last:
                self.scratch[loop.counter] = k
                self._block(loop.body)
                k += 1
        except _Left:
            pass

    def value(self, op: Op) -> object:
        """A fixed value, or one made earlier on this bar."""
        return self.runner.fixed[op] if op.fixed else self.values[op]

    def _op(self, op: Op) -> object:
        match op.code:
            case "input":
                assert isinstance(op.attr, Input)
                return self.inputs[op.attr]
            case ops.CELL:
                assert isinstance(op.attr, ops.Table)
                return float(self.runner.row[self._cell(op.attr, op.args[0])])
            case "fine":
                return float(self.runner.columns[op.attr][int(float(self.value(op.args[0])))])  # type: ignore[arg-type,index]
            case ops.LOG_ROWS:
                return _NAN
            case ops.PLACE:
                return float(self.runner.place)
            case "bar":
                return self._load(("bar", self.domain))
            case "get" | "prev":
                assert isinstance(op.attr, Slot)
                return self._read(op.attr)
            case "past":
                assert isinstance(op.attr, Ring)
                return self._past(op.attr, float(self.value(op.args[0])))  # type: ignore[arg-type]
            case "fold":
                assert isinstance(op.attr, RollingAggregate)
                step = self._sort if op.attr.how == SORTED else self._fold
                return step(op.attr, float(self.value(op.args[0])))  # type: ignore[arg-type]
            case "ranked":
                assert isinstance(op.attr, RollingAggregate)
                return self._ranked(op.attr, float(self.value(op.args[1])))  # type: ignore[arg-type]
            case "export":
                assert isinstance(op.attr, Slot)
                return self.runner.exported(op.attr)
        return MEANING[op.code](*(self.value(a) for a in op.args))

    def _cell(self, table: ops.Table, place: Op) -> int:
        first = int(self.runner.layout.table[self.runner.state.cells_row(table)])
        return first + int(float(self.value(place)))  # type: ignore[arg-type]

    def _save(self, ring: Ring, value: object) -> None:
        offset, mask = self._ring_place(ring)
        at = int(self._load(("bar", self.domain)))
        self.runner.row[offset + (at & mask)] = MEANING["to_number"](value) if ring.flag else value

    def _past(self, ring: Ring, lag: float) -> object:
        offset, mask = self._ring_place(ring)
        at = int(self._load(("bar", self.domain))) - int(lag)
        raw = float(self.runner.row[offset + (at & mask)])
        return MEANING["to_flag"](raw) if ring.flag else raw

    def _ring_place(self, ring: Ring) -> tuple[int, int]:
        row = self.runner.state.ring_row(ring)
        return int(self.runner.layout.table[row]), int(self.runner.layout.table[row + 1])

    def _fold(self, fold: RollingAggregate, x: float) -> float:
        row = self.runner.state.fold_row(fold)
        cells_at, length = (int(v) for v in self.runner.layout.table[row : row + 2])
        how = MEANING[{"sum": "add", "highest": "max", "lowest": "min"}[fold.how]]
        cells = self.runner.row[cells_at : cells_at + fold.cells(length)]
        phase = int(self._load(("phase", fold)))
        total = float(how(self._load(fold.total), x))  # type: ignore[arg-type]
        cells[phase] = x
        if phase > 0:
            self._store(fold.total, total)
            self._store(("phase", fold), phase - 1.0)
            return float(how(float(cells[phase - 1]), total))  # type: ignore[arg-type]
        if not self.trying:
            turn(cells, how)
        self._store(fold.total, fold.identity)
        self._store(("phase", fold), length - 1.0)
        return total

    def _sort(self, fold: RollingAggregate, x: float) -> float:
        """Puts a value in order among the last ones; gives how many of those are smaller, once all are known."""
        row = self.runner.state.fold_row(fold)
        at, length = (int(v) for v in self.runner.layout.table[row : row + 2])
        came, ordered = self.runner.row[at : at + length], self.runner.row[at + length : at + 2 * length]
        x = x + 0.0  # both zeros are one
        phase, known = int(self._load(("phase", fold))), int(self._load(fold.total))
        old = float(came[phase])
        hole = int(np.searchsorted(ordered[:known], old)) if old == old else known
        place = int(np.searchsorted(ordered[:known], x)) if x == x else known
        now = known - (old == old) + (x == x)
        self._lately[fold] = (hole, place, x, ordered[:known].tolist(), now == length)
        if not self.trying:
            if hole < place:
                ordered[hole : place - 1] = ordered[hole + 1 : place].copy()
                ordered[place - 1] = x
            else:
                ordered[place + 1 : hole + 1] = ordered[place:hole].copy()
                ordered[place] = x
            came[phase] = x
        self._store(fold.total, float(now))
        self._store(("phase", fold), float(phase - 1 if phase else length - 1))
        return float(place - (hole < place)) if now == length else _NAN

    def _ranked(self, fold: RollingAggregate, k: float) -> float:
        """A value by its place among the last ones, this bar's among them."""
        hole, _, x, before, full = self._lately[fold]
        if not full or not 1 <= k <= len(before) + 1:
            return _NAN
        now = sorted([*before[:hole], *before[hole + 1 :], x])
        return now[int(k) - 1] if int(k) <= len(now) else _NAN


class Runner:
    """Runs a program for one symbol at a time; the counterpart of the native entry point."""

    def __init__(
        self, live: Live, state: StateMap, layout: StateLayout, fixed: Mapping[Op, object], leaves: Sequence[Op]
    ):
        self.live, self.state, self.layout, self.fixed = live, state, layout, fixed
        self.leaves = leaves
        self.columns: Mapping[Input | IntrabarColumn, np.ndarray] = {}
        self._rows: dict[ops.Log, int] = {}
        self._open: dict[ops.Log, bool] = {}
        self.place = 0
        self._logs: dict[object, np.ndarray] = {}
        self.row = layout.template.copy()
        self.steppers = {d: Stepper(self, d) for d in live.domains}

    def exported(self, slot: Slot) -> object:
        """A value of another domain as it stands: of its forming bar where the domain forms."""
        place = self.state.place(slot)
        if slot.domain.forming:
            first, _ = self.state.regions[slot.domain]
            place += self.state.shadows[slot.domain] - first
        raw = float(self.row[place])
        return MEANING["to_flag"](raw) if slot.flag else raw

    def run(
        self,
        row: np.ndarray,
        start: int,
        end: int,
        columns: Mapping[Input | IntrabarColumn, np.ndarray],
        steps: Sequence[np.ndarray],
        outs: Sequence[np.ndarray],
        *,
        commit: bool,
        before: Sequence[tuple[Mapping[Input | IntrabarColumn, np.ndarray], int, int]] = (),
    ) -> None:
        """Bars ``start`` to ``end`` of one symbol; ``row`` is its state and is changed only with ``commit``. Row: shape
        (cells,), float64; columns: shape (bars,), float64; steps: shape (bars,), uint8; outs: shape (bars,), float64 or
        int8."""
        self.row = row if commit else row.copy()
        base, *others = self.live.domains
        self.columns = columns
        self._rows = dict.fromkeys(self.live.logs, ops.ROWS_A_BAR * start)
        self._open = dict.fromkeys(self.live.logs, False)
        self._logs = {op.attr: out for op, out in zip(self.leaves, outs, strict=True) if op.code == ops.LOG_ROWS}
        for domain, (cols, first, last) in zip(others, before, strict=False):
            for j in range(first, last):
                for what in self.state.inputs[domain]:
                    self._put_input(what, domain, float(cols[what][j]))
                self._close(domain)
        main = self.steppers[base]
        for i in range(start, end):
            for domain, marks in zip(others, steps, strict=True):
                self._advance(domain, int(marks[i]), columns, i)
            self.place = i
            main.trying = not commit and i == end - 1
            main.step({what: float(columns[what][i]) for what in self.state.inputs[base]})
            for out, op in zip(outs, self.leaves, strict=True):
                if op.code != ops.LOG_ROWS:
                    out[i] = _encoded(op, main.value(op))
        for log, rows in self._logs.items():
            rows[self._rows[log] + self._open[log], 0] = 0.0  # type: ignore[index]

    def append(self, item: ops.Append, values: list[float]) -> None:
        """Writes a row of a log behind the last one that is not open."""
        self._logs[item.log][self._rows[item.log]] = values
        self._rows[item.log] += not item.open
        self._open[item.log] = item.open

    def _put_input(self, what: Input, domain: Domain, value: float) -> None:
        self.row[self.state.place((what, domain))] = value

    def _close(self, domain: Domain) -> None:
        """Runs a domain on the bar that it has gathered, for good."""
        stepper = self.steppers[domain]
        stepper.shift, stepper.trying = 0, False
        stepper.step({n: float(self.row[self.state.place((n, domain))]) for n in self.state.inputs[domain]})

    def _advance(self, domain: Domain, mark: int, columns: Mapping[Input | IntrabarColumn, np.ndarray], i: int) -> None:
        """Gathers a bar into the longer bar; ``mark`` has bit 0 for a new longer bar, 1 for its end, 2 for a late end."""
        if mark & 4:
            self._close(domain)
        for what in self.state.inputs[domain]:
            x = float(columns[what][i])
            old = _NAN if mark & 1 else float(self.row[self.state.place((what, domain))])
            self._put_input(what, domain, _merged(what.merge, old, x))
        if domain.forming:
            first, size = self.state.regions[domain]
            shadow = self.state.shadows[domain]
            self.row[shadow : shadow + size] = self.row[first : first + size]
            stepper = self.steppers[domain]
            stepper.shift, stepper.trying = shadow - first, True
            stepper.step({n: float(self.row[self.state.place((n, domain))]) for n in self.state.inputs[domain]})
        if mark & 2:
            self._close(domain)


def _merged(how: Merge, old: float, x: float) -> float:
    """A longer bar's value with one more bar in it."""
    if how is Merge.NEWEST:
        return x
    if x != x:
        return old
    if old != old:
        return x
    match how:
        case Merge.LAST:
            return x
        case Merge.HIGHEST:
            return x if x > old else old
        case Merge.LOWEST:
            return x if x < old else old
        case Merge.SUM:
            return old + x
    return old


def _encoded(op: Op, value: object) -> float:
    """Flags leave the run as 1, 0 and -1 for none."""
    if op.is_flag:
        return -1 if value is None else int(bool(value))
    return float(value)  # type: ignore[arg-type]
