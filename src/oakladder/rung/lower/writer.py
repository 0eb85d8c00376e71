"""Code that the compiler itself writes: statements with expressions in Rung, over private names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import NAN, CallFrame, Instance, Value
from oakladder.rung.plan.inputs import IntrabarColumn
from oakladder.rung.plan.ops import (
    CELL,
    DATA_EXPONENT,
    TAME_EXPONENT,
    Append,
    Branch,
    Domain,
    Item,
    Log,
    Loop,
    Op,
    Slot,
    Store,
    Table,
)


class Writer:
    """Writes into the outermost block that is open on a domain."""

    def __init__(self, expressions: Expressions, domain: Domain):
        self.expressions, self.emitter, self.domain = expressions, expressions.emitter, domain
        self.names: dict[str, Value | Slot] = {}
        self.tables: dict[str, Table] = {}
        self._frame = CallFrame(Instance((), is_own=True), domain, self.names)

    def keep(self, name: str, start: float = NAN, *, cold: bool = False) -> None:
        """Makes a number that lives from bar to bar; a ``cold`` one is used on few of them."""
        self.names[name] = Slot(self.domain, lasting=True, start=start, cold=cold)

    def fresh(self, name: str, start: str) -> None:
        """Makes a number of this bar alone."""
        self.names.setdefault(name, Slot(self.domain, lasting=False))
        self.set(name, start)

    def let(self, name: str, value: Op | str) -> None:
        """Names a value."""
        self.names[name] = self.value(value) if isinstance(value, str) else value

    def value(self, text: str) -> Op:
        """The value of an expression at this point."""
        return self.emitter.one(self.expressions.value(self.expressions.written(text), self._frame))

    def on_tick(self, price: str, *, up: bool) -> Op:
        """A price whose real price is a whole number of the symbol's price steps: the next one up or down, unless it is on one.
        An adjusted price is made of that as bars are, to the last bit, so that a price that touches it is equal to it."""
        emit, factor = self.emitter.emit, self.value("adjusted_by")
        op = self.emitter.guard_overflow(self.value(price), self.domain, TAME_EXPONENT)
        real = emit("div", op, factor, domain=self.domain)
        steps = self.value("tick_count"), self.value("tick_size")
        whole = emit("tick_up" if up else "tick_down", real, *steps, domain=self.domain)
        return emit("mul", whole, factor, domain=self.domain)

    def set(self, name: str, text: str) -> None:
        """Changes a number."""
        slot = self.names[name]
        assert isinstance(slot, Slot)
        self.emitter.put(slot, self.value(text))

    def set_all(self, values: Mapping[str, str]) -> None:
        """Changes several numbers, one after the other."""
        for name, text in values.items():
            self.set(name, text)

    def table(self, name: str, size: Op) -> None:
        """Makes a table of numbers."""
        self.tables[name] = Table(self.domain, size)

    def cell(self, table: str, place: str) -> Op:
        """The value of a table at an index."""
        at = self.value(place)
        # It may have been changed meanwhile: nothing is shared.
        op = Op(CELL, (at,), self.tables[table], domain=self.domain)
        self.emitter.blocks[self.domain][-1].append(op)
        return op

    def store(self, table: str, place: str, value: str) -> None:
        """Changes a table at a place."""
        made = Store(self.tables[table], self.value(place), self.emitter.number(self.value(value), self.domain))
        self.emitter.blocks[self.domain][-1].append(made)

    def column(self, name: str, place: str) -> Op:
        """The value of a column that is read at any index."""
        return self.emitter.emit(
            "fine", self.value(place), attr=IntrabarColumn(name), bound=DATA_EXPONENT, domain=self.domain
        )

    def append(self, log: Log, *values: str, is_open: bool = False) -> None:
        """Writes a row of a log; one that is open gives way to the next."""
        row = tuple(self.emitter.number(self.value(text), self.domain) for text in values)
        row += (self.emitter.const(NAN),) * (log.width - len(row))
        self.emitter.blocks[self.domain][-1].append(Append(log, row, is_open))

    @contextmanager
    def when(self, condition: str) -> Iterator[None]:
        """What is written within is done where the condition is yes."""
        test = self.emitter.flag(self.value(condition), self.domain)
        with self._block() as block:
            yield
        self._add(Branch(test, block, []))

    @contextmanager
    def otherwise(self) -> Iterator[None]:
        """What is written within is done where the condition of the `when` just above is not yes."""
        above = self.emitter.blocks[self.domain][-1].pop()
        assert isinstance(above, Branch)
        with self._block() as block:
            yield
        above.otherwise.extend(block)
        self._add(above)  # after its inputs and loop-invariant code

    @contextmanager
    def rounds(self, counter: str, first: str, last: str, most: int) -> Iterator[None]:
        """What is written within is done for each whole number; any of the numbers may change from round to round."""
        slot = Slot(self.domain, lasting=False)
        bounds = self.value(first), self.value(last)
        self.names[counter] = slot
        self._changed()
        with self._block() as block:
            yield
        self._add(Loop(slot, *bounds, block, most=most))
        self._changed()

    def _changed(self) -> None:
        for slot in self.names.values():
            if isinstance(slot, Slot):
                self.emitter.versions[slot] = self.emitter.versions.get(slot, 0) + 1

    @contextmanager
    def _block(self) -> Iterator[list[Item]]:
        block: list[Item] = []
        self.emitter.blocks[self.domain].append(block)
        self.emitter.shared[self.domain].append({})
        try:
            yield block
        finally:
            self.emitter.blocks[self.domain].pop()
            self.emitter.shared[self.domain].pop()

    def _add(self, item: Item) -> None:
        self.emitter.blocks[self.domain][-1].append(item)
