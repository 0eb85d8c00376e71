"""A plan as LLVM code, as text: one fused pass over the bars with the state in registers.

Writing the text directly is quicker than building it as objects. The entry point is

    run(symbols, starts, ends, columns, steps, outs, fixed, table, state, stride, template, size, mode, before)

where ``mode`` has bit 0 for "start from the template" and bit 1 for "keep the state afterwards".
Flags are pairs of bits (is yes, is no); neither set is none.
"""

from __future__ import annotations

import struct
from collections.abc import Sequence

from oakladder.rung.plan.ops import (
    SORTED,
    TAME_LIMIT,
    Branch,
    Domain,
    Fold,
    Item,
    Live,
    Loop,
    Op,
    Put,
    Ring,
    Save,
    Slot,
)
from oakladder.rung.plan.state import StateMap

_NONE = "0x7FF8000000000000"
_IN, _OUT, _STATE = "!alias.scope !4, !noalias !5", "!alias.scope !6, !noalias !7", "!alias.scope !8, !noalias !9"
_PRELUDE = """
declare double @llvm.fabs.f64(double)
declare double @llvm.sqrt.f64(double)
declare double @llvm.floor.f64(double)
declare double @llvm.ceil.f64(double)
declare void @llvm.memcpy.p0.p0.i64(ptr, ptr, i64, i1)
declare double @oak_pow(double, double)
declare double @oak_fmod(double, double)
declare double @oak_exp(double)
declare double @oak_log(double)
"""
#: Finding a value among some in order, and putting one in where another leaves a hole.
_SORTING = """
declare void @llvm.memmove.p0.p0.i64(ptr, ptr, i64, i1)
define internal i64 @oak_find(ptr %cells, i64 %count, double %x) {
entry:
  br label %head
head:
  %low = phi i64 [ 0, %entry ], [ %low2, %body ]
  %high = phi i64 [ %count, %entry ], [ %high2, %body ]
  %more = icmp slt i64 %low, %high
  br i1 %more, label %body, label %done
body:
  %sum = add i64 %low, %high
  %middle = lshr i64 %sum, 1
  %place = getelementptr double, ptr %cells, i64 %middle
  %value = load double, ptr %place
  %less = fcmp olt double %value, %x
  %after = add i64 %middle, 1
  %low2 = select i1 %less, i64 %after, i64 %low
  %high2 = select i1 %less, i64 %high, i64 %middle
  br label %head
done:
  ret i64 %low
}
define internal void @oak_put(ptr %cells, i64 %hole, i64 %place, double %x) {
entry:
  %up = icmp slt i64 %hole, %place
  br i1 %up, label %left, label %right
left:
  %next = add i64 %hole, 1
  %many = sub i64 %place, %next
  %bytes = mul i64 %many, 8
  %to = getelementptr double, ptr %cells, i64 %hole
  %from = getelementptr double, ptr %cells, i64 %next
  call void @llvm.memmove.p0.p0.i64(ptr %to, ptr %from, i64 %bytes, i1 false)
  %before = sub i64 %place, 1
  %own = getelementptr double, ptr %cells, i64 %before
  store double %x, ptr %own
  ret void
right:
  %count = sub i64 %hole, %place
  %size = mul i64 %count, 8
  %here = getelementptr double, ptr %cells, i64 %place
  %behind = getelementptr double, ptr %here, i64 1
  call void @llvm.memmove.p0.p0.i64(ptr %behind, ptr %here, i64 %size, i1 false)
  store double %x, ptr %here
  ret void
}
"""
_META = """
!0 = distinct !{!0}
!1 = distinct !{!1, !0}
!2 = distinct !{!2, !0}
!3 = distinct !{!3, !0}
!4 = !{!1}
!5 = !{!2, !3}
!6 = !{!2}
!7 = !{!1, !3}
!8 = !{!3}
!9 = !{!1, !2}
!10 = !{!"branch_weights", i32 100, i32 1}
"""
Bits = tuple[str, str]


def _is_count(key: object) -> bool:
    """Whether a scalar counts something: it lives in registers as an integer, in the state as a float."""
    return isinstance(key, tuple) and key[0] in ("bar", "phase", "k")


def _hex(value: float) -> str:
    return "0x" + struct.pack(">d", value).hex().upper()


class Writer:
    """Writes one function: the part for the bars of one domain, with its slots in registers."""

    def __init__(self, unit: Unit, domain: Domain):
        self.unit, self.domain = unit, domain
        self.live, self.state = unit.live, unit.state
        self.entry: list[str] = []
        self.lines: list[str] = []
        self.numbers: dict[Op, str] = {}
        self.flags: dict[Op, Bits] = {}
        self._fixed: dict[Op, str] = {}
        self._fixed_flags: dict[Op, Bits] = {}
        self._table: dict[int, str] = {}
        self._slots: dict[object, str] = {}
        self._buffers: dict[int, str] = {}
        #: Written where the state of a symbol is first known.
        self.at_state: list[str] = []
        self._count = 0
        self._exits: list[str] = []
        #: What stands in the sorted windows on this bar: cells, hole, place of the newest, the newest, whether all are known.
        self._lately: dict[Fold, tuple[str, str, str, str, str]] = {}

    # --- text -------------------------------------------------------------------------------------

    def new(self, text: str) -> str:
        """Writes an instruction that gives a value, and names it."""
        self._count += 1
        name = f"%v{self._count}"
        self.lines.append(f"  {name} = {text}")
        return name

    def at_entry(self, text: str) -> str:
        """The same, once, before the bars."""
        self._count += 1
        name = f"%e{self._count}"
        self.entry.append(f"  {name} = {text}")
        return name

    def put(self, text: str) -> None:
        self.lines.append("  " + text)

    def label(self, stem: str) -> str:
        self._count += 1
        return f"{stem}{self._count}"

    def begin(self, label: str) -> None:
        self.lines.append(f"{label}:")

    # --- places -----------------------------------------------------------------------------------

    def scalar(self, key: object) -> str:
        """The register variable of a scalar of this domain; counters are kept as integers."""
        if key not in self._slots:
            name = f"%reg{len(self._slots)}"
            self._slots[key] = name
            self.entry.append(f"  {name} = alloca {'i64' if _is_count(key) else 'double'}")
        return self._slots[key]

    def load_count(self, key: object) -> str:
        return self.new(f"load i64, ptr {self.scalar(key)}")

    def store_count(self, key: object, value: str) -> None:
        self.put(f"store i64 {value}, ptr {self.scalar(key)}")

    def transfers(self, base: str, origin: int) -> tuple[list[str], list[str]]:
        """Instructions that load the lasting scalars from their places, and that store them back."""
        loads, stores = [], []
        for key, place in self.lasting():
            slot = self._slots[key]
            n = slot[4:]
            loads += [
                f"  %lp{n} = getelementptr double, ptr {base}, i64 {place - origin}",
                f"  %lv{n} = load double, ptr %lp{n}, {_STATE}",
            ]
            stores += [f"  %sp{n} = getelementptr double, ptr {base}, i64 {place - origin}"]
            if _is_count(key):
                loads += [f"  %li{n} = fptosi double %lv{n} to i64", f"  store i64 %li{n}, ptr {slot}"]
                stores += [f"  %si{n} = load i64, ptr {slot}", f"  %sv{n} = sitofp i64 %si{n} to double"]
            else:
                loads.append(f"  store double %lv{n}, ptr {slot}")
                stores.append(f"  %sv{n} = load double, ptr {slot}")
            stores.append(f"  store double %sv{n}, ptr %sp{n}, {_STATE}")
        return loads, stores

    def load_scalar(self, key: object) -> str:
        return self.new(f"load double, ptr {self.scalar(key)}")

    def store_scalar(self, key: object, value: str) -> None:
        self.put(f"store double {value}, ptr {self.scalar(key)}")

    def cell(self, index: str) -> str:
        return self.new(f"getelementptr double, ptr %state, i64 {index}")

    def load_cell(self, index: str) -> str:
        return self.new(f"load double, ptr {self.cell(index)}, {_STATE}")

    def store_cell(self, index: str, value: str) -> None:
        place = self.cell(index)
        self.put(f"store double {value}, ptr {place}, {_STATE}")

    def size(self, row: int) -> str:
        """An entry of the size table, read before the bars."""
        if row not in self._table:
            place = self.at_entry(f"getelementptr i64, ptr %table, i64 {row}")
            self._table[row] = self.at_entry(f"load i64, ptr {place}, {_IN}")
        return self._table[row]

    def pointer(self, row: int) -> str:
        """Where the buffer of a row of the size table begins, for the symbol at hand."""
        if row not in self._buffers:
            offset = self.size(row)
            name = f"%buffer{row}"
            self._buffers[row] = name
            self.at_state.append(f"  {name} = getelementptr double, ptr %state, i64 {offset}")
        return self._buffers[row]

    def counter(self) -> str:
        """The number of this domain's bar, as an integer."""
        return self.load_count(("bar", self.domain))

    def ring_place(self, ring: Ring, bar: str) -> str:
        """The cell of a ring for a bar."""
        row = self.state.ring_row(ring)
        start, mask = self.pointer(row), self.size(row + 1)
        slot = self.new(f"and i64 {bar}, {mask}")
        return self.new(f"getelementptr double, ptr {start}, i64 {slot}")

    # --- values -----------------------------------------------------------------------------------

    def number(self, op: Op) -> str:
        if op.code == "const":
            return _hex(float(op.attr)) if op.attr == op.attr else _NONE  # type: ignore[arg-type]
        if not op.fixed:
            return self.numbers[op]
        if op not in self._fixed:
            place = self.at_entry(f"getelementptr double, ptr %fixed, i64 {self.unit.fixed_place(op)}")
            self._fixed[op] = self.at_entry(f"load double, ptr {place}, {_IN}")
        return self._fixed[op]

    def flag(self, op: Op) -> Bits:
        if op.code == "flag":
            return ("true" if op.attr is True else "false", "true" if op.attr is False else "false")
        if not op.fixed:
            return self.flags[op]
        if op not in self._fixed_flags:
            raw = self.number(op)
            self._fixed_flags[op] = (
                self.at_entry(f"fcmp oeq double {raw}, 1.0"),
                self.at_entry(f"fcmp oeq double {raw}, 0.0"),
            )
        return self._fixed_flags[op]

    def to_flag(self, raw: str) -> Bits:
        return self.new(f"fcmp oeq double {raw}, 1.0"), self.new(f"fcmp oeq double {raw}, 0.0")

    def to_number(self, bits: Bits) -> str:
        low = self.new(f"select i1 {bits[1]}, double 0.0, double {_NONE}")
        return self.new(f"select i1 {bits[0]}, double 1.0, double {low}")

    def raw(self, op: Op) -> str:
        """A value as one float, flags as 1, 0 and none."""
        return self.to_number(self.flag(op)) if op.is_flag else self.number(op)

    def keep_raw(self, op: Op, raw: str) -> None:
        if op.is_flag:
            self.flags[op] = self.to_flag(raw)
        else:
            self.numbers[op] = raw

    # --- items ------------------------------------------------------------------------------------

    def block(self, block: Sequence[Item]) -> bool:
        """Writes the live items of a block; False if it ends by leaving a loop."""
        for item in block:
            if not self.live.needs(item):
                continue
            match item:
                case Op():
                    self.op(item)
                case Put():
                    self.store_scalar(item.slot, self.raw(item.value))
                case Save():
                    place = self.ring_place(item.ring, self.counter())
                    self.put(f"store double {self.raw(item.value)}, ptr {place}, {_STATE}")
                case Branch():
                    self.branch(item)
                case Loop():
                    self.loop(item)
                case _:
                    self.put(f"br label %{self._exits[-1]}")
                    return False
        return True

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

    def op(self, op: Op) -> None:
        match op.code:
            case "input":
                self.numbers[op] = self.read_input(str(op.attr))
            case "bar":
                self.numbers[op] = self.new(f"sitofp i64 {self.counter()} to double")
            case "get" | "prev":
                self.keep_raw(op, self.load_scalar(op.attr))
            case "past":
                assert isinstance(op.attr, Ring)
                lag = self.new(f"fptosi double {self.number(op.args[0])} to i64")
                place = self.ring_place(op.attr, self.new(f"sub i64 {self.counter()}, {lag}"))
                self.keep_raw(op, self.new(f"load double, ptr {place}, {_STATE}"))
            case "fold":
                assert isinstance(op.attr, Fold)
                step = self.sort if op.attr.how == SORTED else self.fold
                self.numbers[op] = step(op.attr, self.number(op.args[0]))
            case "ranked":
                assert isinstance(op.attr, Fold)
                self.numbers[op] = self.ranked(op.attr, self.number(op.args[1]))
            case "export":
                assert isinstance(op.attr, Slot)
                self.keep_raw(op, self.load_cell(str(self.unit.export_place(op.attr))))
            case _:
                self.plain(op)

    def read_input(self, name: str) -> str:
        raise NotImplementedError

    def going_on(self) -> str:
        """Whether this bar counts for good: a bit. False only for the last bar of a run that is not kept."""
        raise NotImplementedError

    def plain(self, op: Op) -> None:
        """An operation without state."""
        code, args = op.code, op.args
        if code in _ARITHMETIC:
            self.numbers[op] = self.new(f"{_ARITHMETIC[code]} double {self.number(args[0])}, {self.number(args[1])}")
        elif code in _COMPARISONS:
            a, b = self.number(args[0]), self.number(args[1])
            yes, no = _COMPARISONS[code]
            self.flags[op] = (self.new(f"fcmp {yes} double {a}, {b}"), self.new(f"fcmp {no} double {a}, {b}"))
        elif code in _CALLS:
            self.numbers[op] = self.call(code, [self.number(a) for a in args])
        elif code in ("min", "max"):
            self.numbers[op] = self.extreme(code, self.number(args[0]), self.number(args[1]))
        else:
            getattr(self, f"_{code}")(op, args)

    def call(self, code: str, args: list[str]) -> str:
        made = self.new(f"call double @{_CALLS[code]}({', '.join(f'double {a}' for a in args)})")
        if code in ("sqrt", "log"):
            test = self.new(f"fcmp {'oge' if code == 'sqrt' else 'ogt'} double {args[0]}, 0.0")
            return self.new(f"select i1 {test}, double {made}, double {_NONE}")
        return made

    def extreme(self, code: str, a: str, b: str) -> str:
        test = self.new(f"fcmp {'ogt' if code == 'max' else 'olt'} double {a}, {b}")
        lost = self.new(f"fcmp uno double {a}, {a}")
        return self.new(f"select i1 {self.new(f'or i1 {test}, {lost}')}, double {a}, double {b}")

    def _neg(self, op: Op, args: tuple[Op, ...]) -> None:
        self.numbers[op] = self.new(f"fneg double {self.number(args[0])}")

    def _mod(self, op: Op, args: tuple[Op, ...]) -> None:
        a, b = self.number(args[0]), self.number(args[1])
        rest = self.new(f"call double @oak_fmod(double {a}, double {b})")
        signs = self.new(f"xor i1 {self.new(f'fcmp olt double {rest}, 0.0')}, {self.new(f'fcmp olt double {b}, 0.0')}")
        move = self.new(f"and i1 {signs}, {self.new(f'fcmp one double {rest}, 0.0')}")
        moved = self.new(f"select i1 {move}, double {self.new(f'fadd double {rest}, {b}')}, double {rest}")
        zero = self.new(f"fcmp oeq double {b}, 0.0")
        self.numbers[op] = self.new(f"select i1 {zero}, double {_NONE}, double {moved}")

    def _tame(self, op: Op, args: tuple[Op, ...]) -> None:
        x = self.number(args[0])
        size = self.new(f"call double @llvm.fabs.f64(double {x})")
        test = self.new(f"fcmp olt double {size}, {_hex(TAME_LIMIT)}")
        self.numbers[op] = self.new(f"select i1 {test}, double {x}, double {_NONE}")

    def _and(self, op: Op, args: tuple[Op, ...]) -> None:
        a, b = self.flag(args[0]), self.flag(args[1])
        self.flags[op] = (self.new(f"and i1 {a[0]}, {b[0]}"), self.new(f"or i1 {a[1]}, {b[1]}"))

    def _or(self, op: Op, args: tuple[Op, ...]) -> None:
        a, b = self.flag(args[0]), self.flag(args[1])
        self.flags[op] = (self.new(f"or i1 {a[0]}, {b[0]}"), self.new(f"and i1 {a[1]}, {b[1]}"))

    def _not(self, op: Op, args: tuple[Op, ...]) -> None:
        yes, no = self.flag(args[0])
        self.flags[op] = (no, yes)

    def _known(self, op: Op, args: tuple[Op, ...]) -> None:
        if args[0].is_flag:
            yes = self.new(f"or i1 {self.flag(args[0])[0]}, {self.flag(args[0])[1]}")
        else:
            x = self.number(args[0])
            yes = self.new(f"fcmp ord double {x}, {x}")
        self.flags[op] = (yes, self.new(f"xor i1 {yes}, true"))

    def _choose(self, op: Op, args: tuple[Op, ...]) -> None:
        test = self.flag(args[0])[0]
        self._either(op, test, args[1], args[2])

    def _otherwise(self, op: Op, args: tuple[Op, ...]) -> None:
        if op.is_flag:
            yes, no = self.flag(args[0])
            test = self.new(f"or i1 {yes}, {no}")
        else:
            x = self.number(args[0])
            test = self.new(f"fcmp ord double {x}, {x}")
        self._either(op, test, args[0], args[1])

    def _either(self, op: Op, test: str, left: Op, right: Op) -> None:
        if op.is_flag:
            a, b = self.flag(left), self.flag(right)
            self.flags[op] = (
                self.new(f"select i1 {test}, i1 {a[0]}, i1 {b[0]}"),
                self.new(f"select i1 {test}, i1 {a[1]}, i1 {b[1]}"),
            )
        else:
            self.numbers[op] = self.new(f"select i1 {test}, double {self.number(left)}, double {self.number(right)}")

    def _to_number(self, op: Op, args: tuple[Op, ...]) -> None:
        self.numbers[op] = self.to_number(self.flag(args[0]))

    def _to_flag(self, op: Op, args: tuple[Op, ...]) -> None:
        self.flags[op] = self.to_flag(self.number(args[0]))

    def fold(self, fold: Fold, x: str) -> str:
        """One step of a sliding fold; see `plan.Fold`."""
        row = self.state.fold_row(fold)
        cells = self.pointer(row)
        held = self.scalar(("held", fold))
        phase = self.load_count(("phase", fold))
        total = self._join(fold, self.load_scalar(fold.total), x)
        place = self.new(f"getelementptr double, ptr {cells}, i64 {phase}")
        self.put(f"store double {x}, ptr {place}, {_STATE}")
        within, full, joined = self.label("within"), self.label("full"), self.label("window")
        self.put(f"br i1 {self.new(f'icmp sgt i64 {phase}, 0')}, label %{within}, label %{full}, !prof !10")
        self.begin(within)
        before = self.new(f"sub i64 {phase}, 1")
        tail_place = self.new(f"getelementptr double, ptr {cells}, i64 {before}")
        tail = self.new(f"load double, ptr {tail_place}, {_STATE}")
        self.put(f"store double {self._join(fold, tail, total)}, ptr {held}")
        self.store_scalar(fold.total, total)
        self.store_count(("phase", fold), before)
        self.put(f"br label %{joined}")
        self.begin(full)
        self.put(f"store double {total}, ptr {held}")
        self._turn(fold, cells, row)
        self.store_scalar(fold.total, _hex(fold.identity))
        self.store_count(("phase", fold), self.new(f"sub i64 {self.size(row + 1)}, 1"))
        self.put(f"br label %{joined}")
        self.begin(joined)
        return self.new(f"load double, ptr {held}")

    def _join(self, fold: Fold, a: str, b: str) -> str:
        if fold.how == "sum":
            return self.new(f"fadd double {a}, {b}")
        return self.extreme("max" if fold.how == "highest" else "min", a, b)

    def _turn(self, fold: Fold, cells: str, row: int) -> None:
        """Turns the cells of a full block into the folds of its last parts, unless this bar is only tried.

        The counterpart of `reference.turn`.
        """
        ready, head, body, exit_ = (self.label(stem) for stem in ("ready", "turn", "turning", "turned"))
        k_place, last = self.scalar(("k", fold)), self.scalar(("last", fold))
        self.put(f"br i1 {self.going_on()}, label %{ready}, label %{exit_}")
        self.begin(ready)
        newest = self.new(f"load double, ptr {cells}, {_STATE}")
        self.put(f"store double {newest}, ptr {last}")
        self.put(f"store i64 1, ptr {k_place}")
        self.put(f"br label %{head}")
        self.begin(head)
        k = self.new(f"load i64, ptr {k_place}")
        self.put(f"br i1 {self.new(f'icmp slt i64 {k}, {self.size(row + 1)}')}, label %{body}, label %{exit_}")
        self.begin(body)
        self._turn_eight(fold, cells, k, last)
        more = self.new(f"add i64 {k}, 8")
        self.put(f"store i64 {more}, ptr {k_place}")
        self.put(f"br label %{head}")
        self.begin(exit_)

    def _turn_eight(self, fold: Fold, cells: str, k: str, last: str) -> None:
        def how(x: str, y: str) -> str:
            return self._join(fold, x, y)

        places = [self.new(f"getelementptr double, ptr {cells}, i64 {self.new(f'add i64 {k}, {j}')}") for j in range(8)]
        a, b, c, d, e, f, g, h = (self.new(f"load double, ptr {place}, {_STATE}") for place in places)
        before = self.new(f"load double, ptr {last}")
        ab, cd, ef, gh = how(b, a), how(d, c), how(f, e), how(h, g)
        abcd = how(cd, ab)
        values = [a, ab, how(c, ab), abcd, how(e, abcd), how(ef, abcd), how(how(g, ef), abcd), how(how(gh, ef), abcd)]
        for place, value in zip(places, values, strict=True):
            made = how(value, before)
            self.put(f"store double {made}, ptr {place}, {_STATE}")
        self.put(f"store double {made}, ptr {last}")

    def sort(self, fold: Fold, x: str) -> str:
        """Puts a value in order among the last ones; the counterpart of `reference.Stepper._sort`."""
        row = self.state.fold_row(fold)
        came, length = self.pointer(row), self.size(row + 1)
        ordered = self.new(f"getelementptr double, ptr {came}, i64 {length}")
        x = self.new(f"fadd double {x}, 0.0")
        phase, known = (
            self.load_count(("phase", fold)),
            self.new(f"fptosi double {self.load_scalar(fold.total)} to i64"),
        )
        newest = self.new(f"getelementptr double, ptr {came}, i64 {phase}")
        old = self.new(f"load double, ptr {newest}, {_STATE}")
        is_old, is_new = self.new(f"fcmp ord double {old}, {old}"), self.new(f"fcmp ord double {x}, {x}")
        hole = self._found(ordered, known, old, is_old)
        place = self._found(ordered, known, x, is_new)
        less = self.new(f"sub i64 {known}, {self.new(f'zext i1 {is_old} to i64')}")
        now = self.new(f"add i64 {less}, {self.new(f'zext i1 {is_new} to i64')}")
        full = self.new(f"icmp eq i64 {now}, {length}")
        up = self.new(f"icmp slt i64 {hole}, {place}")
        mine = self.new(f"sub i64 {place}, {self.new(f'zext i1 {up} to i64')}")
        keep, after = self.label("keep"), self.label("sorted")
        self.put(f"br i1 {self.going_on()}, label %{keep}, label %{after}")
        self.begin(keep)
        self.put(f"call void @oak_put(ptr {ordered}, i64 {hole}, i64 {place}, double {x})")
        self.put(f"store double {x}, ptr {newest}, {_STATE}")
        self.put(f"br label %{after}")
        self.begin(after)
        self.store_scalar(fold.total, self.new(f"sitofp i64 {now} to double"))
        self._lately[fold] = (ordered, hole, mine, x, full)
        last = self.new(f"icmp eq i64 {phase}, 0")
        first = self.new(f"select i1 {last}, i64 {length}, i64 {phase}")
        self.store_count(("phase", fold), self.new(f"sub i64 {first}, 1"))
        return self.new(f"select i1 {full}, double {self.new(f'sitofp i64 {mine} to double')}, double {_NONE}")

    def _found(self, ordered: str, known: str, x: str, is_there: str) -> str:
        """Where a value stands among those in order; behind them where it is none."""
        self.unit.sorts = True
        at = self.new(f"call i64 @oak_find(ptr {ordered}, i64 {known}, double {x})")
        return self.new(f"select i1 {is_there}, i64 {at}, i64 {known}")

    def ranked(self, fold: Fold, k: str) -> str:
        """A value by its place among the last ones; where this bar is only tried they have not been changed."""
        ordered, hole, mine, x, full = self._lately[fold]
        length = self.size(self.state.fold_row(fold) + 1)
        wanted = self.new(f"sub i64 {self.new(f'fptosi double {k} to i64')}, 1")
        inside = self.new(f"and i1 {full}, {self.new(f'icmp ult i64 {wanted}, {length}')}")
        at = self.new(f"select i1 {inside}, i64 {wanted}, i64 0")
        above = self.new(f"icmp sgt i64 {at}, {mine}")
        later = self.new(f"sub i64 {at}, {self.new(f'zext i1 {above} to i64')}")
        past = self.new(f"zext i1 {self.new(f'icmp sge i64 {later}, {hole}')} to i64")
        before = self.new(f"add i64 {later}, {past}")
        top = self.new(f"icmp slt i64 {before}, {length}")
        tried = self.new(f"select i1 {top}, i64 {before}, i64 0")
        kept = self.going_on()
        place = self.new(f"select i1 {kept}, i64 {at}, i64 {tried}")
        raw = self.new(f"load double, ptr {self.new(f'getelementptr double, ptr {ordered}, i64 {place}')}, {_STATE}")
        own = self.new(f"and i1 {self.new(f'xor i1 {kept}, true')}, {self.new(f'icmp eq i64 {at}, {mine}')}")
        value = self.new(f"select i1 {own}, double {x}, double {raw}")
        return self.new(f"select i1 {inside}, double {value}, double {_NONE}")

    def bar(self) -> None:
        """Everything that one bar of this domain does."""
        self.block(self.domain.body)
        self.block(self.domain.tail)
        bar = ("bar", self.domain)
        self.store_count(bar, self.new(f"add i64 {self.load_count(bar)}, 1"))

    def lasting(self) -> list[tuple[object, int]]:
        """The scalars of this domain that live from bar to bar, with their places."""
        first, size = self.state.regions[self.domain]
        return [
            (key, place)
            for key, place in self.state.scalars.items()
            if key in self._slots and first <= place < first + size
        ]


class StepWriter(Writer):
    """A function that runs one bar of a longer timeframe; its scalars stand at ``%own``, its inputs too."""

    def read_input(self, name: str) -> str:
        first, _ = self.state.regions[self.domain]
        place = self.new(f"getelementptr double, ptr %own, i64 {self.state.place((name, self.domain)) - first}")
        return self.new(f"load double, ptr {place}, {_STATE}")

    def going_on(self) -> str:
        return "%going_on"

    def text(self, name: str) -> str:
        first, _ = self.state.regions[self.domain]
        self.bar()
        loads, stores = self.transfers("%own", first)
        body = [
            "entry:",
            *self.entry,
            *self.at_state,
            *loads,
            "  br label %go",
            "go:",
            *self.lines,
            *stores,
            "  ret void",
        ]
        return (
            f"define internal void @{name}(ptr %own, ptr %state, ptr %fixed, ptr %table, i1 %going_on) {{\n"
            + "\n".join(body)
            + "\n}\n"
        )


class MainWriter(Writer):
    """The entry point: symbols, then bars, with the chart's own domain in registers."""

    def read_input(self, name: str) -> str:
        place = self.new(f"getelementptr double, ptr {self.column(name)}, i64 %i")
        return self.new(f"load double, ptr {place}, {_IN}")

    def going_on(self) -> str:
        more = self.new(f"icmp slt i64 {self.new('add i64 %i, 1')}, %b1")
        return self.new(f"or i1 {more}, %is_kept")

    def column(self, name: str) -> str:
        return self._pointer("columns", self.unit.columns.index(name))

    def _pointer(self, table: str, k: int) -> str:
        key = (table, k)
        if key not in self._slots:
            place = self.at_entry(f"getelementptr ptr, ptr %{table}, i64 {k}")
            self._slots[key] = self.at_entry(f"load ptr, ptr {place}, {_IN}")
        return self._slots[key]

    def text(self, leaves: Sequence[Op]) -> str:
        for k, domain in enumerate(self.live.domains[1:]):
            self._advance(k, domain)
        self.bar()
        for k, op in enumerate(leaves):
            self._out(k, op)
        loads, stores = self.transfers("%state", 0)
        earlier = self._before()
        head = """define void @run(i64 %symbols, ptr %starts, ptr %ends, ptr %columns, ptr %steps, ptr %outs, ptr %fixed, ptr %table, ptr %all, i64 %stride, ptr %template, i64 %size, i64 %mode, ptr %before) {
entry:
  %is_fresh = trunc i64 %mode to i1
  %mode2 = lshr i64 %mode, 1
  %is_kept = trunc i64 %mode2 to i1
  %bytes = mul i64 %size, 8
"""
        symbols = f"""  br label %symbol
symbol:
  %s = phi i64 [ 0, %entry ], [ %s1, %symbol_end ]
  %s_more = icmp slt i64 %s, %symbols
  br i1 %s_more, label %symbol_begin, label %leave
symbol_begin:
  %shift = mul i64 %s, %stride
  %state = getelementptr double, ptr %all, i64 %shift
  %p0 = getelementptr i64, ptr %starts, i64 %s
  %b0 = load i64, ptr %p0, {_IN}
  %p1 = getelementptr i64, ptr %ends, i64 %s
  %b1 = load i64, ptr %p1, {_IN}
  br i1 %is_fresh, label %fresh, label %begin
fresh:
  call void @llvm.memcpy.p0.p0.i64(ptr %state, ptr %template, i64 %bytes, i1 false)
"""
        bars = """  br label %bar
bar:
  %i = phi i64 [ %b0, %begin ], [ %i1, %bar_end ]
  %i_more = icmp slt i64 %i, %b1
  br i1 %i_more, label %bar_begin, label %symbol_done
bar_begin:
"""
        ending = [
            "  br label %bar_end",
            "bar_end:",
            "  %i1 = add i64 %i, 1",
            "  br label %bar",
            "symbol_done:",
            "  br i1 %is_kept, label %keep, label %symbol_end",
            "keep:",
            *stores,
            "  br label %symbol_end",
            "symbol_end:",
            "  %s1 = add i64 %s, 1",
            "  br label %symbol",
            "leave:",
            "  ret void",
            "}",
        ]
        return (
            head
            + "\n".join(self.entry)
            + "\n"
            + symbols
            + "\n".join(earlier)
            + "\n  br label %begin\nbegin:\n"
            + "\n".join([*self.at_state, *loads])
            + "\n"
            + bars
            + "\n".join(self.lines)
            + "\n"
            + "\n".join(ending)
            + "\n"
        )

    def _out(self, k: int, op: Op) -> None:
        base = self._pointer("outs", k)
        if op.is_flag:
            yes, no = self.flag(op)
            low = self.new(f"select i1 {no}, i8 0, i8 -1")
            value = self.new(f"select i1 {yes}, i8 1, i8 {low}")
            place = self.new(f"getelementptr i8, ptr {base}, i64 %i")
            self.put(f"store i8 {value}, ptr {place}, {_OUT}")
        else:
            place = self.new(f"getelementptr double, ptr {base}, i64 %i")
            self.put(f"store double {self.number(op)}, ptr {place}, {_OUT}")

    # --- longer timeframes ------------------------------------------------------------------------

    def _own(self, domain: Domain, shadow: bool = False) -> str:
        first, _ = self.state.regions[domain]
        return self.cell(str(self.state.shadows[domain] if shadow else first))

    def _step(self, k: int, own: str, *, trying: bool = False) -> None:
        self.put(
            f"call void @step{k}(ptr {own}, ptr %state, ptr %fixed, ptr %table, i1 {'false' if trying else 'true'})"
        )

    def _advance(self, k: int, domain: Domain) -> None:
        """Gathers this bar into the longer bar and runs the longer domain where its bar ends."""
        marks = self._pointer("steps", k)
        mark_place = self.new(f"getelementptr i8, ptr {marks}, i64 %i")
        mark = self.new(f"load i8, ptr {mark_place}, {_IN}")
        within, special, after = self.label("within"), self.label("special"), self.label("after")
        self.put(f"br i1 {self.new(f'icmp eq i8 {mark}, 0')}, label %{within}, label %{special}")
        self.begin(within)
        self._gather(domain, None)
        if domain.forming:
            self._try(k, domain)
        self.put(f"br label %{after}")
        self.begin(special)
        self._step_where(k, domain, self._bit(mark, 2))
        self._gather(domain, self._bit(mark, 0))
        if domain.forming:
            self._try(k, domain)
        self._step_where(k, domain, self._bit(mark, 1))
        self.put(f"br label %{after}")
        self.begin(after)

    def _bit(self, mark: str, bit: int) -> str:
        shifted = self.new(f"lshr i8 {mark}, {bit}") if bit else mark
        return self.new(f"trunc i8 {shifted} to i1")

    def _step_where(self, k: int, domain: Domain, test: str) -> None:
        run, after = self.label("step"), self.label("stepped")
        self.put(f"br i1 {test}, label %{run}, label %{after}")
        self.begin(run)
        self._step(k, self._own(domain))
        self.put(f"br label %{after}")
        self.begin(after)

    def _try(self, k: int, domain: Domain) -> None:
        """Runs a forming domain on the bar so far, on a copy of its scalars."""
        _, size = self.state.regions[domain]
        shadow = self._own(domain, shadow=True)
        self.put(f"call void @llvm.memcpy.p0.p0.i64(ptr {shadow}, ptr {self._own(domain)}, i64 {size * 8}, i1 false)")
        self._step(k, shadow, trying=True)

    def _gather(self, domain: Domain, new: str | None) -> None:
        """Puts this bar's values into the longer bar; with ``new``, where that holds a longer bar begins."""
        for name in self.state.inputs[domain]:
            x = self.read_input(name)
            place = str(self.state.place((name, domain)))
            old = self.load_cell(place)
            if new is not None:
                old = self.new(f"select i1 {new}, double {_NONE}, double {old}")
            self.store_cell(place, self._merge(name, old, x))

    def _merge(self, name: str, old: str, x: str) -> str:
        """The counterpart of `reference._merged`."""
        if name.startswith("of "):
            return x
        if name not in ("high", "low", "close", "volume"):
            return self._pick(self.new(f"fcmp uno double {old}, {old}"), x, old)
        if name in ("high", "low"):
            beyond = self.new(f"fcmp {'ogt' if name == 'high' else 'olt'} double {x}, {old}")
            first = self.new(f"fcmp uno double {old}, {old}")
            return self._pick(self.new(f"or i1 {beyond}, {first}"), x, old)
        lost = self.new(f"fcmp uno double {x}, {x}")
        if name == "volume":
            first = self.new(f"fcmp uno double {old}, {old}")
            x = self._pick(first, x, self.new(f"fadd double {old}, {x}"))
        return self._pick(lost, old, x)

    def _pick(self, test: str, yes: str, no: str) -> str:
        return self.new(f"select i1 {test}, double {yes}, double {no}")

    def _before(self) -> list[str]:
        """Runs the longer domains over their own bars from before the first bar of the chart."""
        kept, self.lines = self.lines, []
        width = 2 + len(self.unit.columns)
        for k, domain in enumerate(self.live.domains[1:]):
            head, body, exit_ = self.label("earlier"), self.label("early"), self.label("ready")
            entry = self.label("enter")
            first = self._before_bound(k * width)
            last = self._before_bound(k * width + 1)
            self.put(f"br label %{entry}")
            self.begin(entry)
            self.put(f"br label %{head}")
            self.begin(head)
            j, after = f"%j{k}", f"%jn{k}"
            self.put(f"{j} = phi i64 [ {first}, %{entry} ], [ {after}, %{body} ]")
            self.put(f"br i1 {self.new(f'icmp slt i64 {j}, {last}')}, label %{body}, label %{exit_}")
            self.begin(body)
            for name in self.state.inputs[domain]:
                column = self._pointer("before", k * width + 2 + self.unit.columns.index(name))
                place = self.new(f"getelementptr double, ptr {column}, i64 {j}")
                self.store_cell(str(self.state.place((name, domain))), self.new(f"load double, ptr {place}, {_IN}"))
            self._step(k, self._own(domain))
            self.put(f"{after} = add i64 {j}, 1")
            self.put(f"br label %{head}")
            self.begin(exit_)
        made, self.lines = self.lines, kept
        return made

    def _before_bound(self, k: int) -> str:
        table = self._pointer("before", k)
        place = self.new(f"getelementptr i64, ptr {table}, i64 %s")
        return self.new(f"load i64, ptr {place}, {_IN}")


_ARITHMETIC = {"add": "fadd", "sub": "fsub", "mul": "fmul", "div": "fdiv"}
_COMPARISONS = {
    "lt": ("olt", "oge"),
    "le": ("ole", "ogt"),
    "gt": ("ogt", "ole"),
    "ge": ("oge", "olt"),
    "eq": ("oeq", "one"),
    "ne": ("one", "oeq"),
}
_CALLS = {
    "abs": "llvm.fabs.f64",
    "floor": "llvm.floor.f64",
    "ceil": "llvm.ceil.f64",
    "sqrt": "llvm.sqrt.f64",
    "pow": "oak_pow",
    "exp": "oak_exp",
    "log": "oak_log",
}


class Unit:
    """One program's code: the main function and a step function for each longer domain."""

    def __init__(self, live: Live, state: StateMap):
        self.live, self.state = live, state
        self.fixed: list[Op] = []
        self._places: dict[Op, int] = {}
        #: Whether windows are kept in order anywhere.
        self.sorts = False
        self.columns = sorted({name for names in state.inputs.values() for name in names})

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

    def text(self, leaves: Sequence[Op]) -> str:
        """The whole module."""
        steps = [StepWriter(self, d).text(f"step{k}") for k, d in enumerate(self.live.domains[1:])]
        main = MainWriter(self, self.live.domains[0]).text(leaves)
        return _PRELUDE + (_SORTING if self.sorts else "") + "\n".join(steps) + main + _META
