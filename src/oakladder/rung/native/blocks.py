"""Blocks, branches and loops: what one bar of a domain does."""

from __future__ import annotations

from collections.abc import Sequence

from oakladder.rung.native.ops import OPERATIONS
from oakladder.rung.native.registers import Registers, SharedCode
from oakladder.rung.native.rolling import fold, ranked, sort
from oakladder.rung.native.text import OUT, STATE
from oakladder.rung.plan import ops
from oakladder.rung.plan.inputs import Input, IntrabarColumn
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
    Table,
)


class Blocks(Registers):
    """Writes the items of blocks."""

    def __init__(self, code: SharedCode, domain: Domain):
        super().__init__(code, domain)
        self._exits: list[str] = []

    def bar(self) -> None:
        """Everything that one bar of this domain does."""
        self.block(self.domain.body)
        self.block(self.domain.tail)
        bar = ("bar", self.domain)
        self.store_count(bar, self.new(f"add i64 {self.load_count(bar)}, 1"))

    def block(self, block: Sequence[Item]) -> bool:
        """Writes the live items of a block; False if it ends by leaving a loop."""
        for item in block:
            if not self.live.needs(item):
                continue
            match item:
                case Op():
                    self.op(item)
                case Put():
                    self.put_slot(item)
                case Save():
                    self.save(item)
                case Append():
                    self.append(item)
                case Store():
                    self.store(item)
                case Branch():
                    self.branch(item)
                case Loop():
                    self.loop(item)
                case _:
                    self.leave_loop()
                    return False
        return True

    def put_slot(self, item: Put) -> None:
        """Changes a slot."""
        self.store_scalar(item.slot, self.raw(item.value))

    def save(self, item: Save) -> None:
        """Writes this bar's value into a ring."""
        place = self.ring_place(item.ring, self.counter())
        self.put(f"store {self.real} {self.raw(item.value)}, ptr {place}, {STATE}")

    def store(self, item: Store) -> None:
        """Changes a cell of a table."""
        place = self.cell_place(item.table, item.place)
        self.put(f"store double {self.number(item.value)}, ptr {place}, {STATE}")

    def leave_loop(self) -> None:
        """Goes on behind the innermost loop."""
        self.put(f"br label %{self._exits[-1]}")

    def branch(self, item: Branch) -> None:
        then, other, after = self.label("then"), self.label("else"), self.label("fi")
        self.put(f"br i1 {self.flag(item.condition)[0]}, label %{then}, label %{other}")
        self.begin(then)
        if self.block(item.then):
            self.put(f"br label %{after}")
        self.begin(other)
        if self.block(item.otherwise):
            self.put(f"br label %{after}")
        self.begin(after)

    def loop(self, item: Loop) -> None:
        head, body, exit_ = self.label("for"), self.label("do"), self.label("done")
        first, last = self.number(item.first), self.number(item.last)
        self.store_scalar(item.counter, first)
        self.put(f"br label %{head}")
        self.begin(head)
        k = self.load_scalar(item.counter)
        test = self.new(f"fcmp ole double {k}, {last}")
        self.put(f"br i1 {test}, label %{body}, label %{exit_}")
        self.begin(body)
        self._exits.append(exit_)
        if self.block(item.body):
            again = self.load_scalar(item.counter)
            self.store_scalar(item.counter, self.new(f"fadd double {again}, 1.0"))
            self.put(f"br label %{head}")
        self._exits.pop()
        self.begin(exit_)

    def cell_place(self, table: Table, place: Op) -> str:
        """The cell of a table at a place."""
        first = self.pointer(self.state.cells_row(table))
        return self.new(
            f"getelementptr double, ptr {first}, i64 {self.new(f'fptosi double {self.number(place)} to i64')}"
        )

    def read_cell(self, table: Table, place: Op) -> str:
        """The value of a table at an index."""
        return self.new(f"load double, ptr {self.cell_place(table, place)}, {STATE}")

    def read_past(self, ring: Ring, lag: Op) -> str:
        """The value in a ring so many bars ago."""
        bars = self.new(f"fptosi double {self.number(lag)} to i64")
        return self.read_ring(ring, bars)

    def read_ring(self, ring: Ring, bars: str) -> str:
        """The same, for a whole number of bars."""
        place = self.ring_place(ring, self.new(f"sub i64 {self.counter()}, {bars}"))
        return self.new(f"load {self.real}, ptr {place}, {STATE}")

    def append(self, item: Append) -> None:
        """Writes a row of a log behind the last one."""
        place = self.row_place(item)
        for k, value in enumerate(item.values):
            cell = self.new(f"getelementptr double, ptr {place}, i64 {k}") if k else place
            self.put(f"store double {self.number(value)}, ptr {cell}, {OUT}")

    def take(self, op: Op) -> None:
        """Reads a value that is given."""
        raise AssertionError("only the main function of one symbol after the other is given values")

    def op(self, op: Op) -> None:
        if op in self.live.given:
            self.take(op)
            return
        match op.code:
            case ops.CELL:
                assert isinstance(op.attr, Table)
                self.numbers[op] = self.read_cell(op.attr, op.args[0])
            case "fine":
                assert isinstance(op.attr, IntrabarColumn)
                self.numbers[op] = self.read_table(op.attr, op.args[0])
            case ops.LOG_ROWS:
                pass  # written as it comes
            case ops.PLACE:
                self.numbers[op] = self.new("sitofp i64 %i to double")
            case "input":
                assert isinstance(op.attr, Input)
                self.numbers[op] = self.read_input(op.attr)
            case "bar":
                self.numbers[op] = self.new(f"sitofp i64 {self.counter()} to double")
            case "get" | "prev":
                self.keep_raw(op, self.load_scalar(op.attr))
            case "past":
                assert isinstance(op.attr, Ring)
                self.keep_raw(op, self.read_past(op.attr, op.args[0]))
            case "fold":
                assert isinstance(op.attr, RollingAggregate)
                step = sort if op.attr.how == SORTED else fold
                self.numbers[op] = step(self, op.attr, self.number(op.args[0]))
            case "ranked":
                assert isinstance(op.attr, RollingAggregate)
                self.numbers[op] = ranked(self, op.attr, self.number(op.args[1]))
            case "export":
                assert isinstance(op.attr, Slot)
                self.keep_raw(op, self.load_cell(str(self.code.export_place(op.attr))))
            case _:
                OPERATIONS[op.code](self, op)
