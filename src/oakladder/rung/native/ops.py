"""Operations without state: how each is written, in one table. The counterpart of `plan.meaning`.

The same table writes code for one symbol and for many side by side: only the types differ.
"""

from __future__ import annotations

from collections.abc import Callable

from oakladder.rung.native.text import Bits, Writer
from oakladder.rung.plan.ops import NEAR_TICK, TAME_LIMIT, Op

Writing = Callable[[Writer, Op], None]
_NONE = float("nan")


def _arithmetic(instruction: str) -> Writing:
    def write(w: Writer, op: Op) -> None:
        w.numbers[op] = w.new(f"{instruction} {w.real} {w.number(op.args[0])}, {w.number(op.args[1])}")

    return write


def _comparison(yes: str, no: str) -> Writing:
    def write(w: Writer, op: Op) -> None:
        a, b = w.number(op.args[0]), w.number(op.args[1])
        w.flags[op] = (w.new(f"fcmp {yes} {w.real} {a}, {b}"), w.new(f"fcmp {no} {w.real} {a}, {b}"))

    return write


def _function(name: str, within: str = "") -> Writing:
    """A call; where the argument is not ``within`` (a comparison with 0) it gives none."""

    def write(w: Writer, op: Op) -> None:
        args = [w.number(a) for a in op.args]
        made = w.call(name, *args)
        if within:
            test = w.new(f"fcmp {within} {w.real} {args[0]}, {w.constant(0.0)}")
            made = choice(w, test, made, w.constant(_NONE))
        w.numbers[op] = made

    return write


def _extreme(how: str) -> Writing:
    def write(w: Writer, op: Op) -> None:
        w.numbers[op] = extreme(w, how, w.number(op.args[0]), w.number(op.args[1]))

    return write


def extreme(w: Writer, code: str, a: str, b: str) -> str:
    """The larger (``max``) or smaller of two numbers; the first if it is NaN."""
    test = w.new(f"fcmp {'ogt' if code == 'max' else 'olt'} {w.real} {a}, {b}")
    lost = w.new(f"fcmp uno {w.real} {a}, {a}")
    return choice(w, w.new(f"or {w.bit} {test}, {lost}"), a, b)


def choice(w: Writer, test: str, yes: str, no: str) -> str:
    """One of two numbers."""
    return w.new(f"select {w.bit} {test}, {w.real} {yes}, {w.real} {no}")


def _on_tick(how: str) -> Writing:
    """Bar after bar waits for this: what tells one kind of step from the other is the same on all bars of a symbol."""

    def write(w: Writer, op: Op) -> None:
        price, count, size = (w.number(a) for a in op.args)
        one, known = w.constant(1.0), w.new(f"fcmp ord {w.real} {count}, {count}")
        by, over = choice(w, known, count, one), choice(w, known, one, size)
        steps = w.new(f"fdiv {w.real} {w.new(f'fmul {w.real} {price}, {by}')}, {over}")
        nearest = w.call("llvm.floor", w.new(f"fadd {w.real} {steps}, {w.constant(0.5)}"))
        away = w.call("llvm.fabs", w.new(f"fsub {w.real} {steps}, {nearest}"))
        near = w.new(f"fcmp ole {w.real} {away}, {w.constant(NEAR_TICK)}")
        taken = choice(w, near, nearest, w.call(how, steps))
        w.numbers[op] = w.new(f"fdiv {w.real} {w.new(f'fmul {w.real} {taken}, {over}')}, {by}")

    return write


def _neg(w: Writer, op: Op) -> None:
    w.numbers[op] = w.new(f"fneg {w.real} {w.number(op.args[0])}")


def _mod(w: Writer, op: Op) -> None:
    a, b = w.number(op.args[0]), w.number(op.args[1])
    zero = w.constant(0.0)
    rest = w.call("oak_fmod", a, b)
    below, divisor_below = w.new(f"fcmp olt {w.real} {rest}, {zero}"), w.new(f"fcmp olt {w.real} {b}, {zero}")
    signs = w.new(f"xor {w.bit} {below}, {divisor_below}")
    move = w.new(f"and {w.bit} {signs}, {w.new(f'fcmp one {w.real} {rest}, {zero}')}")
    moved = choice(w, move, w.new(f"fadd {w.real} {rest}, {b}"), rest)
    w.numbers[op] = choice(w, w.new(f"fcmp oeq {w.real} {b}, {zero}"), w.constant(_NONE), moved)


def _guard(w: Writer, op: Op) -> None:
    x = w.number(op.args[0])
    test = w.new(f"fcmp olt {w.real} {w.call('llvm.fabs', x)}, {w.constant(TAME_LIMIT)}")
    w.numbers[op] = choice(w, test, x, w.constant(_NONE))


def _and(w: Writer, op: Op) -> None:
    a, b = w.flag(op.args[0]), w.flag(op.args[1])
    w.flags[op] = (w.new(f"and {w.bit} {a[0]}, {b[0]}"), w.new(f"or {w.bit} {a[1]}, {b[1]}"))


def _or(w: Writer, op: Op) -> None:
    a, b = w.flag(op.args[0]), w.flag(op.args[1])
    w.flags[op] = (w.new(f"or {w.bit} {a[0]}, {b[0]}"), w.new(f"and {w.bit} {a[1]}, {b[1]}"))


def _not(w: Writer, op: Op) -> None:
    yes, no = w.flag(op.args[0])
    w.flags[op] = (no, yes)


def _known(w: Writer, op: Op) -> None:
    if op.args[0].is_flag:
        yes = w.new(f"or {w.bit} {w.flag(op.args[0])[0]}, {w.flag(op.args[0])[1]}")
    else:
        x = w.number(op.args[0])
        yes = w.new(f"fcmp ord {w.real} {x}, {x}")
    w.flags[op] = (yes, w.new(f"xor {w.bit} {yes}, {w.sure(True)}"))


def _choose(w: Writer, op: Op) -> None:
    test = w.flag(op.args[0])[0]
    _either(w, op, test, op.args[1], op.args[2])


def _otherwise(w: Writer, op: Op) -> None:
    if op.is_flag:
        yes, no = w.flag(op.args[0])
        test = w.new(f"or {w.bit} {yes}, {no}")
    else:
        x = w.number(op.args[0])
        test = w.new(f"fcmp ord {w.real} {x}, {x}")
    _either(w, op, test, op.args[0], op.args[1])


def _either(w: Writer, op: Op, test: str, left: Op, right: Op) -> None:
    if op.is_flag:
        a, b = w.flag(left), w.flag(right)
        w.flags[op] = (
            w.new(f"select {w.bit} {test}, {w.bit} {a[0]}, {w.bit} {b[0]}"),
            w.new(f"select {w.bit} {test}, {w.bit} {a[1]}, {w.bit} {b[1]}"),
        )
    else:
        w.numbers[op] = choice(w, test, w.number(left), w.number(right))


def to_flag(w: Writer, raw: str) -> Bits:
    """Yes and no of a number: 1, 0, and none for anything else."""
    yes, no = w.constant(1.0), w.constant(0.0)
    return w.new(f"fcmp oeq {w.real} {raw}, {yes}"), w.new(f"fcmp oeq {w.real} {raw}, {no}")


def to_number(w: Writer, bits: Bits) -> str:
    """A flag as 1, 0 and none."""
    low = choice(w, bits[1], w.constant(0.0), w.constant(_NONE))
    return choice(w, bits[0], w.constant(1.0), low)


def _to_number(w: Writer, op: Op) -> None:
    w.numbers[op] = to_number(w, w.flag(op.args[0]))


def _to_flag(w: Writer, op: Op) -> None:
    w.flags[op] = to_flag(w, w.number(op.args[0]))


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
    "abs": _function("llvm.fabs"),
    "floor": _function("llvm.floor"),
    "ceil": _function("llvm.ceil"),
    "tick_down": _on_tick("llvm.floor"),
    "tick_up": _on_tick("llvm.ceil"),
    "sqrt": _function("llvm.sqrt", within="oge"),
    "pow": _function("oak_pow"),
    "exp": _function("oak_exp"),
    "log": _function("oak_log", within="ogt"),
    "min": _extreme("min"),
    "max": _extreme("max"),
    "guard": _guard,
    "and": _and,
    "or": _or,
    "not": _not,
    "known": _known,
    "choose": _choose,
    "otherwise": _otherwise,
    "to_number": _to_number,
    "to_flag": _to_flag,
}
