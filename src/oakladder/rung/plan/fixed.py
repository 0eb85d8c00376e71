"""Fixed values: the same on every bar, so computed once before a run."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from oakladder.rung.plan.ops import Op
from oakladder.rung.plan.semantics import MEANING
from oakladder.rung.texts import mixture, write_text


def evaluate_fixed(ops: Sequence[Op], settings: Mapping[str, object]) -> dict[Op, object]:
    """Works out fixed values (and all that they are made of) for the given settings."""
    return evaluate_in_order(in_order(ops), settings)


def in_order(ops: Iterable[Op]) -> tuple[Op, ...]:
    """Values and all that they are made of, each behind what it is made of."""
    done: dict[Op, None] = {}
    todo = list(ops)[::-1]
    while todo:
        op = todo[-1]
        missing = [arg for arg in op.args if arg not in done] if op not in done else []
        if missing:
            todo.extend(missing)
            continue
        done.setdefault(todo.pop())
    return tuple(done)


def evaluate_in_order(ops: Sequence[Op], settings: Mapping[str, object]) -> dict[Op, object]:
    """Works out fixed values that stand behind what they are made of."""
    done: dict[Op, object] = {}
    for op in ops:
        done[op] = _fixed_value(op, [done[a] for a in op.args], settings)
    return done


def _fixed_value(op: Op, args: list[object], settings: Mapping[str, object]) -> object:
    if op.code in ("const", "flag", "literal"):
        return op.attr
    if op.code == "setting":
        return settings[str(op.attr)]
    if op.code == "text":
        assert isinstance(op.attr, tuple)
        return write_text(op.attr, args)
    if op.code in ("fade", "blend"):
        return mixture(op.code, args)
    if op.code in ("eq", "ne") and op.args[0].is_shell:
        return (args[0] == args[1]) == (op.code == "eq")
    return MEANING[op.code](*args)
