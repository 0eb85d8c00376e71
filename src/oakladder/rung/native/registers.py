"""Where values stand while a bar is run: registers, cells of the state, rows of the size table, inputs."""

from __future__ import annotations

from abc import abstractmethod

from oakladder.rung.native.ops import to_flag, to_number
from oakladder.rung.native.scalars import Single
from oakladder.rung.native.text import IN, STATE, Bits, FunctionText
from oakladder.rung.plan.inputs import ADJUSTED_BY, Input, IntrabarColumn
from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import Append, Domain, Op, Ring, RollingAggregate, Slot
from oakladder.rung.plan.state import StateMap


def _is_count(key: object) -> bool:
    """Whether a scalar counts something: it lives in registers as an integer, in the state as a float."""
    return isinstance(key, tuple) and key[0] in ("bar", "phase", "k", "rows", "open")


class SharedCode:
    """What the functions of one program share: fixed values by place, columns of the input, where state lives."""

    def __init__(self, live: Live, state: StateMap, *, adjusted: bool = False):
        self.live, self.state = live, state
        #: Whether prices are adjusted; where not, the factor that made them of real ones is 1 and not read.
        self.adjusted = adjusted
        self.fixed: list[Op] = []
        self._places: dict[Op, int] = {}
        #: Whether windows are kept in order anywhere.
        self.sorts = False
        #: The table of columns: inputs with a value for each bar, then tables that are read at any index.
        self.inputs: list[Input | IntrabarColumn] = [*state.all_inputs, *state.tables]

    def fixed_place(self, op: Op) -> int:
        """The place of a fixed value in the array that a run is given."""
        if op not in self._places:
            self._places[op] = len(self.fixed)
            self.fixed.append(op)
        return self._places[op]

    def export_place(self, slot: Slot) -> int:
        place = self.state.place(slot)
        if slot.domain.forming:
            first, _ = self.state.regions[slot.domain]
            place += self.state.shadows[slot.domain] - first
        return place


class Registers(FunctionText, Single):
    """The part for the bars of one domain, with its slots in registers.

    ``cell_type`` is the type of a cell of the state.
    """

    cell_type = "double"
    #: How many symbols are run side by side.
    lanes = 1

    def __init__(self, code: SharedCode, domain: Domain):
        super().__init__()
        self.code, self.domain = code, domain
        self.live, self.state = code.live, code.state
        self._fixed: dict[Op, str] = {}
        self._fixed_flags: dict[Op, Bits] = {}
        self._table: dict[int, str] = {}
        self.slots: dict[object, str] = {}
        self._buffers: dict[int, str] = {}
        #: The sorted windows on this bar: cells, hole, index of the newest, the newest, whether all are known.
        self.lately: dict[RollingAggregate, tuple[str, str, str, str, str]] = {}
        #: Written where the state of a symbol is first known.
        self.at_state: list[str] = []

    def spread(self, x: str) -> str:
        """A single number wherever it is wanted."""
        return x

    def spread_bit(self, bit: str) -> str:
        """A single bit wherever it is wanted."""
        return bit

    def scalar(self, key: object) -> str:
        """The register variable of a scalar of this domain; counters are kept as integers."""
        if key not in self.slots:
            name = f"%reg{len(self.slots)}"
            self.slots[key] = name
            self.entry.append(f"  {name} = alloca {'i64' if _is_count(key) else self.real}")
        return self.slots[key]

    def load_count(self, key: object) -> str:
        return self.new(f"load i64, ptr {self.scalar(key)}")

    def store_count(self, key: object, value: str) -> None:
        self.put(f"store i64 {value}, ptr {self.scalar(key)}")

    def transfers(self, base: str, origin: int) -> tuple[list[str], list[str]]:
        """Instructions that load the lasting scalars from their places, and that store them back."""
        loads, stores = [], []
        for key, place in self.lasting():
            slot = self.slots[key]
            n = slot[4:]
            loads += [
                f"  %lp{n} = getelementptr {self.cell_type}, ptr {base}, i64 {place - origin}",
                f"  %lv{n} = load double, ptr %lp{n}, {STATE}"
                if _is_count(key)
                else f"  %lv{n} = load {self.real}, ptr %lp{n}, {STATE}",
            ]
            stores += [f"  %sp{n} = getelementptr {self.cell_type}, ptr {base}, i64 {place - origin}"]
            if _is_count(key):
                loads += [f"  %li{n} = fptosi double %lv{n} to i64", f"  store i64 %li{n}, ptr {slot}"]
                stores += [f"  %si{n} = load i64, ptr {slot}", f"  %sv{n} = sitofp i64 %si{n} to double"]
            else:
                loads.append(f"  store {self.real} %lv{n}, ptr {slot}")
                stores.append(f"  %sv{n} = load {self.real}, ptr {slot}")
            stores += self.kept(f"%sv{n}", f"%sp{n}", _is_count(key))
        return loads, stores

    def kept(self, value: str, place: str, is_count: bool) -> list[str]:
        """Instructions that write a scalar into its cell."""
        return [f"  store {self.real} {value}, ptr {place}, {STATE}"]

    def load_scalar(self, key: object) -> str:
        if isinstance(key, Slot) and key.cold:
            return self.load_cell(str(self.state.place(key)))
        return self.new(f"load {self.real}, ptr {self.scalar(key)}")

    def store_scalar(self, key: object, value: str) -> None:
        if isinstance(key, Slot) and key.cold:
            self.store_cell(str(self.state.place(key)), value)
            return
        self.put(f"store {self.real} {value}, ptr {self.scalar(key)}")

    def cell(self, index: str) -> str:
        return self.new(f"getelementptr {self.cell_type}, ptr %state, i64 {index}")

    def load_cell(self, index: str) -> str:
        return self.new(f"load {self.real}, ptr {self.cell(index)}, {STATE}")

    def store_cell(self, index: str, value: str) -> None:
        place = self.cell(index)
        self.put(f"store {self.real} {value}, ptr {place}, {STATE}")

    def size(self, row: int) -> str:
        """An entry of the size table, read before the bars."""
        if row not in self._table:
            place = self.at_entry(f"getelementptr i64, ptr %table, i64 {row}")
            self._table[row] = self.at_entry(f"load i64, ptr {place}, {IN}")
        return self._table[row]

    def pointer(self, row: int) -> str:
        """Where the buffer of a row of the size table begins, for the symbol at hand."""
        if row not in self._buffers:
            offset = self.size(row)
            name = f"%buffer{row}"
            self._buffers[row] = name
            self.at_state.append(f"  {name} = getelementptr {self.cell_type}, ptr %state, i64 {offset}")
        return self._buffers[row]

    def counter(self) -> str:
        """The number of this domain's bar, as an integer."""
        return self.load_count(("bar", self.domain))

    def ring_place(self, ring: Ring, bar: str) -> str:
        """The cell of a ring for a bar."""
        row = self.state.ring_row(ring)
        start, mask = self.pointer(row), self.size(row + 1)
        slot = self.new(f"and i64 {bar}, {mask}")
        return self.new(f"getelementptr {self.cell_type}, ptr {start}, i64 {slot}")

    def lasting(self) -> list[tuple[object, int]]:
        """The scalars of this domain that live from bar to bar, with their places."""
        first, size = self.state.regions[self.domain]
        return [
            (key, place)
            for key, place in self.state.scalars.items()
            if key in self.slots and first <= place < first + size
        ]

    def fixed(self, op: Op) -> str:
        """A fixed value as a single number, read before the bars."""
        if op not in self._fixed:
            place = self.at_entry(f"getelementptr double, ptr %fixed, i64 {self.code.fixed_place(op)}")
            self._fixed[op] = self.at_entry(f"load double, ptr {place}, {IN}")
        return self._fixed[op]

    def fixed_flag(self, op: Op) -> Bits:
        """A fixed flag as single bits."""
        if op not in self._fixed_flags:
            raw = self.fixed(op)
            self._fixed_flags[op] = (
                self.at_entry(f"fcmp oeq double {raw}, 1.0"),
                self.at_entry(f"fcmp oeq double {raw}, 0.0"),
            )
        return self._fixed_flags[op]

    def raw(self, op: Op) -> str:
        """A value as one float, flags as 1, 0 and none."""
        return to_number(self, self.flag(op)) if op.is_flag else self.number(op)

    def keep_raw(self, op: Op, raw: str) -> None:
        if op.is_flag:
            self.flags[op] = to_flag(self, raw)
        else:
            self.numbers[op] = raw

    def is_one(self, what: Input) -> bool:
        """Whether an input is known to be 1 on every bar."""
        return what == ADJUSTED_BY and not self.code.adjusted

    @abstractmethod
    def read_input(self, what: Input) -> str:
        """The value of an input on this bar."""

    @abstractmethod
    def read_table(self, what: IntrabarColumn, place: Op) -> str:
        """The value of a column of minutes at a place."""

    @abstractmethod
    def row_place(self, item: Append) -> str:
        """Where the next row of a log is written; it is counted unless it is open."""

    @abstractmethod
    def going_on(self) -> str:
        """Whether this bar counts for good: a bit. False only for the last bar of a run that is not kept."""
