"""Operations without state: how each is written, in one table. The counterpart of `plan.meaning`."""

from __future__ import annotations

from collections.abc import Callable

from oakladder.rung.native.registers import Registers
from oakladder.rung.native.text import NONE, hex_of
from oakladder.rung.plan.ops import TAME_LIMIT, Op

Writing = Callable[[Registers, Op], None]


def _arithmetic(instruction: str) -> Writing:
    def write(w: Registers, op: Op) -> None:
        w.numbers[op] = w.new(f"{instruction} double {w.number(op.args[0])}, {w.number(op.args[1])}")

    return write


def _comparison(yes: str, no: str) -> Writing:
    def write(w: Registers, op: Op) -> None:
        a, b = w.number(op.args[0]), w.number(op.args[1])
        w.flags[op] = (w.new(f"fcmp {yes} double {a}, {b}"), w.new(f"fcmp {no} double {a}, {b}"))

    return write


def _function(name: str, within: str = "") -> Writing:
    """A call; where the argument is not ``within`` (a comparison with 0) it gives none."""

    def write(w: Registers, op: Op) -> None:
        args = [w.number(a) for a in op.args]
        made = w.new(f"call double @{name}({', '.join(f'double {a}' for a in args)})")
        if within:
            test = w.new(f"fcmp {within} double {args[0]}, 0.0")
            made = w.new(f"select i1 {test}, double {made}, double {NONE}")
        w.numbers[op] = made

    return write


def _extreme(how: str) -> Writing:
    def write(w: Registers, op: Op) -> None:
        w.numbers[op] = extreme(w, how, w.number(op.args[0]), w.number(op.args[1]))

    return write


def extreme(w: Registers, code: str, a: str, b: str) -> str:
    """The larger (``max``) or smaller of two numbers; the first where it is none."""
    test = w.new(f"fcmp {'ogt' if code == 'max' else 'olt'} double {a}, {b}")
    lost = w.new(f"fcmp uno double {a}, {a}")
    return w.new(f"select i1 {w.new(f'or i1 {test}, {lost}')}, double {a}, double {b}")


def _neg(w: Registers, op: Op) -> None:
    w.numbers[op] = w.new(f"fneg double {w.number(op.args[0])}")


def _mod(w: Registers, op: Op) -> None:
    a, b = w.number(op.args[0]), w.number(op.args[1])
    rest = w.new(f"call double @oak_fmod(double {a}, double {b})")
    signs = w.new(f"xor i1 {w.new(f'fcmp olt double {rest}, 0.0')}, {w.new(f'fcmp olt double {b}, 0.0')}")
    move = w.new(f"and i1 {signs}, {w.new(f'fcmp one double {rest}, 0.0')}")
    moved = w.new(f"select i1 {move}, double {w.new(f'fadd double {rest}, {b}')}, double {rest}")
    zero = w.new(f"fcmp oeq double {b}, 0.0")
    w.numbers[op] = w.new(f"select i1 {zero}, double {NONE}, double {moved}")


def _tame(w: Registers, op: Op) -> None:
    x = w.number(op.args[0])
    size = w.new(f"call double @llvm.fabs.f64(double {x})")
    test = w.new(f"fcmp olt double {size}, {hex_of(TAME_LIMIT)}")
    w.numbers[op] = w.new(f"select i1 {test}, double {x}, double {NONE}")


def _and(w: Registers, op: Op) -> None:
    a, b = w.flag(op.args[0]), w.flag(op.args[1])
    w.flags[op] = (w.new(f"and i1 {a[0]}, {b[0]}"), w.new(f"or i1 {a[1]}, {b[1]}"))


def _or(w: Registers, op: Op) -> None:
    a, b = w.flag(op.args[0]), w.flag(op.args[1])
    w.flags[op] = (w.new(f"or i1 {a[0]}, {b[0]}"), w.new(f"and i1 {a[1]}, {b[1]}"))


def _not(w: Registers, op: Op) -> None:
    yes, no = w.flag(op.args[0])
    w.flags[op] = (no, yes)


def _known(w: Registers, op: Op) -> None:
    if op.args[0].is_flag:
        yes = w.new(f"or i1 {w.flag(op.args[0])[0]}, {w.flag(op.args[0])[1]}")
    else:
        x = w.number(op.args[0])
        yes = w.new(f"fcmp ord double {x}, {x}")
    w.flags[op] = (yes, w.new(f"xor i1 {yes}, true"))


def _choose(w: Registers, op: Op) -> None:
    test = w.flag(op.args[0])[0]
    _either(w, op, test, op.args[1], op.args[2])


def _otherwise(w: Registers, op: Op) -> None:
    if op.is_flag:
        yes, no = w.flag(op.args[0])
        test = w.new(f"or i1 {yes}, {no}")
    else:
        x = w.number(op.args[0])
        test = w.new(f"fcmp ord double {x}, {x}")
    _either(w, op, test, op.args[0], op.args[1])


def _either(w: Registers, op: Op, test: str, left: Op, right: Op) -> None:
    if op.is_flag:
        a, b = w.flag(left), w.flag(right)
        w.flags[op] = (
            w.new(f"select i1 {test}, i1 {a[0]}, i1 {b[0]}"),
            w.new(f"select i1 {test}, i1 {a[1]}, i1 {b[1]}"),
        )
    else:
        w.numbers[op] = w.new(f"select i1 {test}, double {w.number(left)}, double {w.number(right)}")


def _to_number(w: Registers, op: Op) -> None:
    w.numbers[op] = w.to_number(w.flag(op.args[0]))


def _to_flag(w: Registers, op: Op) -> None:
    w.flags[op] = w.to_flag(w.number(op.args[0]))


OPERATIONS: dict[str, Writing] = {
    "add": _arithmetic("fadd"),
    "sub": _arithmetic("fsub"),
    "mul": _arithmetic("fmul"),
    "div": _arithmetic("fdiv"),
    "mod": _mod,
    "neg": _neg,
    "lt": _comparison("olt", "oge"),
    "le": _comparison("ole", "ogt"),
    "gt": _comparison("ogt", "ole"),
    "ge": _comparison("oge", "olt"),
    "eq": _comparison("oeq", "one"),
    "ne": _comparison("one", "oeq"),
    "abs": _function("llvm.fabs.f64"),
    "floor": _function("llvm.floor.f64"),
    "ceil": _function("llvm.ceil.f64"),
    "sqrt": _function("llvm.sqrt.f64", within="oge"),
    "pow": _function("oak_pow"),
    "exp": _function("oak_exp"),
    "log": _function("oak_log", within="ogt"),
    "min": _extreme("min"),
    "max": _extreme("max"),
    "tame": _tame,
    "and": _and,
    "or": _or,
    "not": _not,
    "known": _known,
    "choose": _choose,
    "otherwise": _otherwise,
    "to_number": _to_number,
    "to_flag": _to_flag,
}
