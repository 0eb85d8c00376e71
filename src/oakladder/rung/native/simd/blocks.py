"""What one bar does for several symbols side by side: a symbol is a lane of vectors.

The same operations in the same order as for one symbol, so the same bits. What is the same for all lanes (counters,
settings, what is made of them) stays a single number. A condition becomes a mask: both of its sides are done, and each
lane keeps what its own side gave.
"""

from __future__ import annotations

import weakref
from collections.abc import Sequence

from oakladder.rung.native.blocks import Blocks
from oakladder.rung.native.ops import OPERATIONS, choice
from oakladder.rung.native.registers import Registers, SharedCode
from oakladder.rung.native.scalars import Single
from oakladder.rung.native.simd.division import divided, reciprocal
from oakladder.rung.native.simd.eligibility import leaves_loop
from oakladder.rung.native.text import STATE, Bits, hex_of, scalar_call
from oakladder.rung.plan.ops import Branch, Domain, Item, Loop, Op, Ring, Save, Slot, Store, Table, items_of

#: A side of a condition with more operations than this is passed over where no lane takes it.
_WORTH_PASSING = 6
#: From so many lanes on a division takes longer than the multiplications that come to the same.
_SLOW_TO_DIVIDE = 8


class UniformValues(Single):
    """Writes what is the same for all lanes, as single numbers."""

    def __init__(self, lanes: Registers):
        super().__init__()
        self._lanes: Registers = weakref.proxy(lanes)  # no circle, so that what was written is freed at once

    def __contains__(self, op: Op) -> bool:
        return op.fixed or op in self.numbers or op in self.flags

    def new(self, text: str) -> str:
        return self._lanes.new(text)

    def fixed(self, op: Op) -> str:
        return self._lanes.fixed(op)

    def fixed_flag(self, op: Op) -> Bits:
        return self._lanes.fixed_flag(op)


class SimdBlocks(Blocks):
    """Writes the items of blocks for several lanes; ``mask`` holds the active lanes, all without a mask."""

    def __init__(self, code: SharedCode, domain: Domain, lanes: int):
        super().__init__(code, domain)
        self.lanes = lanes
        self.real, self.bit = f"<{lanes} x double>", f"<{lanes} x i1>"
        self.cell_type = self.real
        self.plain = UniformValues(self)
        self.mask: str | None = None
        #: Counters of loops whose bounds are the same for all lanes.
        self._counters: dict[Slot, str] = {}
        #: Where the lanes stand that are still in each of the loops around, if any may leave early.
        self._active: list[str | None] = []
        self._inverses: dict[Op, tuple[str, str, str]] = {}
        self._wide: dict[Op, str] = {}
        self._wide_flags: dict[Op, Bits] = {}

    # --- numbers and bits -------------------------------------------------------------------------

    def call(self, name: str, *args: str) -> str:
        if name.startswith("llvm."):
            given = ", ".join(f"{self.real} {a}" for a in args)
            return self.new(f"call {self.real} @{name}.v{self.lanes}f64({given})")
        made = "poison"
        for k in range(self.lanes):  # the system's functions take one number at a time
            one = self.new(scalar_call(name, tuple(self._lane(a, k) for a in args)))
            made = self._into(made, one, k)
        return made

    def _lane(self, x: str, k: int, of: str = "double") -> str:
        return self.new(f"extractelement <{self.lanes} x {of}> {x}, i64 {k}")

    def _into(self, x: str, value: str, k: int) -> str:
        return self.new(f"insertelement {self.real} {x}, double {value}, i64 {k}")

    def constant(self, value: float) -> str:
        return f"<{', '.join([f'double {hex_of(value)}'] * self.lanes)}>"

    def sure(self, value: bool) -> str:
        return f"<{', '.join([f'i1 {str(value).lower()}'] * self.lanes)}>"

    def spread(self, x: str) -> str:
        return self._spread(x, "double")

    def spread_bit(self, bit: str) -> str:
        return self._spread(bit, "i1")

    def _spread(self, x: str, of: str) -> str:
        first = self.new(f"insertelement <{self.lanes} x {of}> poison, {of} {x}, i64 0")
        return self.new(self._over(first, of))

    def _over(self, first: str, of: str) -> str:
        """The first lane of a vector in all lanes."""
        of = f"<{self.lanes} x {of}>"
        return f"shufflevector {of} {first}, {of} poison, <{self.lanes} x i32> zeroinitializer"

    def _at_entry(self, x: str, of: str) -> str:
        return self.at_entry(
            self._over(self.at_entry(f"insertelement <{self.lanes} x {of}> poison, {of} {x}, i64 0"), of)
        )

    def number(self, op: Op) -> str:
        if op.fixed and op.code != "const":
            if op not in self._wide:
                self._wide[op] = self._at_entry(self.fixed(op), "double")
            return self._wide[op]
        return self.spread(self.plain.numbers[op]) if op in self.plain.numbers else super().number(op)

    def flag(self, op: Op) -> Bits:
        if op.fixed and op.code != "flag":
            if op not in self._wide_flags:
                yes, no = self.fixed_flag(op)
                self._wide_flags[op] = self._at_entry(yes, "i1"), self._at_entry(no, "i1")
            return self._wide_flags[op]
        if op in self.plain.flags:
            yes, no = self.plain.flags[op]
            return self.spread_bit(yes), self.spread_bit(no)
        return super().flag(op)

    def op(self, op: Op) -> None:
        if op.code == "bar":
            self.plain.numbers[op] = self.new(f"sitofp i64 {self.counter()} to double")
        elif op.code == "get" and isinstance(op.attr, Slot) and op.attr in self._counters:
            self.plain.numbers[op] = self.new(f"load double, ptr {self._counters[op.attr]}")
        elif op.code == "div" and op.args[1].fixed and op.args[0] not in self.plain and self.lanes >= _SLOW_TO_DIVIDE:
            self.numbers[op] = self._divided(op.args[0], op.args[1])
        elif op.code in OPERATIONS and all(a in self.plain for a in op.args):
            OPERATIONS[op.code](self.plain, op)
        else:
            super().op(op)

    def _divided(self, number: Op, divisor: Op) -> str:
        if divisor not in self._inverses:
            one = self.plain.number(divisor)
            inverse, is_usable = reciprocal(self, one)
            self._inverses[divisor] = self._at_entry(one, "double"), self._at_entry(inverse, "double"), is_usable
        return divided(self, self.number(number), *self._inverses[divisor])

    # --- masks ------------------------------------------------------------------------------------

    def any(self, mask: str) -> str:
        """Whether a mask holds for any lane: a single bit."""
        bits = self.new(f"bitcast {self.bit} {mask} to i{self.lanes}")
        return self.new(f"icmp ne i{self.lanes} {bits}, 0")

    def _and(self, a: str | None, b: str) -> str:
        return b if a is None else self.new(f"and {self.bit} {a}, {b}")

    def _not(self, mask: str) -> str:
        return self.new(f"xor {self.bit} {mask}, {self.sure(True)}")

    def _under(self, mask: str, block: Sequence[Item]) -> None:
        """Does a block for some lanes."""
        items = [item for item in items_of(list(block)) if self.live.needs(item)]
        if not items:
            return
        pass_over = len(items) > _WORTH_PASSING
        inside, after = self.label("some"), self.label("fi")
        if pass_over:
            self.put(f"br i1 {self.any(mask)}, label %{inside}, label %{after}")
            self.begin(inside)
        self.mask = mask
        self.block(block)
        if pass_over:
            self.put(f"br label %{after}")
            self.begin(after)

    def branch(self, item: Branch) -> None:
        outer = self.mask
        if item.condition in self.plain:
            self._plain_branch(item)
        else:
            yes = self.flag(item.condition)[0]
            other = self._and(outer, self._not(yes))
            self._under(self._and(outer, yes), item.then)
            self._under(other, item.otherwise)
        self.mask = outer
        if self._active and self._active[-1] is not None and leaves_loop([item]):
            self.mask = self.new(f"load {self.bit}, ptr {self._active[-1]}")
            if outer is not None:
                self.mask = self._and(outer, self.mask)

    def _plain_branch(self, item: Branch) -> None:
        outer = self.mask
        then, other, after = self.label("then"), self.label("else"), self.label("fi")
        self.put(f"br i1 {self.plain.flag(item.condition)[0]}, label %{then}, label %{other}")
        for label, block in ((then, item.then), (other, item.otherwise)):
            self.begin(label)
            self.mask = outer
            self.block(block)
            self.put(f"br label %{after}")
        self.begin(after)

    def leave_loop(self) -> None:
        active = self._active[-1]
        mask = self.sure(True) if self.mask is None else self.mask
        still = self.new(f"load {self.bit}, ptr {active}")
        self.put(f"store {self.bit} {self.new(f'and {self.bit} {still}, {self._not(mask)}')}, ptr {active}")

    def _variable(self, of: str) -> str:
        return self.at_entry(f"alloca {of}")

    def loop(self, item: Loop) -> None:
        """All lanes loop in step; lanes that have left, or whose last round is over, are masked."""
        outer = self.mask
        plain = item.first in self.plain and item.last in self.plain
        active = self._variable(self.bit) if leaves_loop(item.body) or not plain else None
        head, body, exit_ = self.label("for"), self.label("do"), self.label("done")
        if plain:
            of, last = "double", self.plain.number(item.last)
            counter = self._counters[item.counter] = self._variable(of)
            self.put(f"store {of} {self.plain.number(item.first)}, ptr {counter}")
        else:
            of, last = self.real, self.number(item.last)
            counter = self.scalar(item.counter)
            self.put(f"store {of} {self.number(item.first)}, ptr {counter}")
        if active is not None:
            self.put(f"store {self.bit} {self.sure(True) if outer is None else outer}, ptr {active}")
        self.put(f"br label %{head}")
        self.begin(head)
        k = self.new(f"load {of}, ptr {counter}")
        test = self.new(f"fcmp ole {of} {k}, {last}")
        if active is not None:
            still = self.new(f"load {self.bit}, ptr {active}")
            if plain:
                test = self.new(f"and i1 {test}, {self.any(still)}")
            else:
                still = self._and(still, test)
                self.put(f"store {self.bit} {still}, ptr {active}")
                test = self.any(still)
        self.put(f"br i1 {test}, label %{body}, label %{exit_}")
        self.begin(body)
        if active is not None:
            self.mask = still
        self._active.append(active)
        self.block(item.body)
        self._active.pop()
        step = self.plain.constant(1.0) if plain else self.constant(1.0)
        again = self.new(f"load {of}, ptr {counter}")
        self.put(f"store {of} {self.new(f'fadd {of} {again}, {step}')}, ptr {counter}")
        self.put(f"br label %{head}")
        self.begin(exit_)
        self.mask = outer

    # --- what is kept -----------------------------------------------------------------------------

    def _kept(self, new: str, old: str) -> str:
        """The new value for the lanes that are at it, the old one for the others."""
        return new if self.mask is None else choice(self, self.mask, new, old)

    def store_scalar(self, key: object, value: str) -> None:
        if self.mask is not None:
            value = self._kept(value, self.load_scalar(key))
        super().store_scalar(key, value)

    def save(self, item: Save) -> None:
        place = self.ring_place(item.ring, self.counter())
        value = self.raw(item.value)
        if self.mask is not None:
            value = self._kept(value, self.new(f"load {self.real}, ptr {place}, {STATE}"))
        self.put(f"store {self.real} {value}, ptr {place}, {STATE}")

    def kept(self, value: str, place: str, is_count: bool) -> list[str]:
        if not is_count:
            return super().kept(value, place, is_count)
        one = f"insertelement {self.real} poison, double {value}, i64 0"
        return [
            f"  {value}f = {one}",
            f"  {value}w = {self._over(f'{value}f', 'double')}",
            *super().kept(f"{value}w", place, is_count),
        ]

    # --- gathers: each lane reads at a separate index -----------------------------------------------

    def whole(self, op: Op) -> list[str]:
        """A number as a whole one for each lane; 0 where the lane is not at it, and it may be none."""
        x = self._kept(self.number(op), self.constant(0.0))
        made = self.new(f"fptosi {self.real} {x} to <{self.lanes} x i64>")
        return [self._lane(made, k, "i64") for k in range(self.lanes)]

    def gathered(self, places: Sequence[str], scope: str) -> str:
        """The value at an index for each lane."""
        made = "poison"
        for k, place in enumerate(places):
            made = self._into(made, self.new(f"load double, ptr {place}, {scope}"), k)
        return made

    def _cell(self, first: str, index: str, k: int) -> str:
        return self.new(f"getelementptr [{self.lanes} x double], ptr {first}, i64 {index}, i64 {k}")

    def read_past(self, ring: Ring, lag: Op) -> str:
        if lag in self.plain:
            return self.read_ring(ring, self.new(f"fptosi double {self.plain.number(lag)} to i64"))
        row = self.state.ring_row(ring)
        first, mask, bar = self.pointer(row), self.size(row + 1), self.counter()
        places = []
        for k, bars in enumerate(self.whole(lag)):
            slot = self.new(f"and i64 {self.new(f'sub i64 {bar}, {bars}')}, {mask}")
            places.append(self._cell(first, slot, k))
        return self.gathered(places, STATE)

    def _cells(self, table: Table, place: Op) -> list[str]:
        first = self.pointer(self.state.cells_row(table))
        return [self._cell(first, at, k) for k, at in enumerate(self.whole(place))]

    def read_cell(self, table: Table, place: Op) -> str:
        return self.gathered(self._cells(table, place), STATE)

    def store(self, item: Store) -> None:
        cells = self._cells(item.table, item.place)
        value = self.number(item.value)
        if self.mask is not None:
            value = self._kept(value, self.gathered(cells, STATE))
        for k, cell in enumerate(cells):
            self.put(f"store double {self._lane(value, k)}, ptr {cell}, {STATE}")
