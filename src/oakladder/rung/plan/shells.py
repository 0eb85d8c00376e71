"""Texts and colours: shells over numbers and flags, read out after a run, bar by bar or all at once."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np

from oakladder.rung.colours import mix
from oakladder.rung.plan.ops import Op
from oakladder.rung.texts import is_none, mixture, write_text


def read_at(op: Op, leaf: Callable[[Op], object], fixed: Mapping[Op, object]) -> object:
    """The value of a shell (or plain value) on one bar, None for none; ``leaf`` reads numbers and flags there."""
    done: dict[Op, object] = {}

    def value(op: Op) -> object:
        if op not in done:
            made = work(op)
            done[op] = None if is_none(made) else made
        return done[op]

    def work(op: Op) -> object:
        if op in fixed:
            return fixed[op]
        if not op.is_shell or op.code == "symbol":
            return leaf(op)
        if op.code == "choose":
            return value(op.args[1] if value(op.args[0]) is True else op.args[2])
        if op.code == "otherwise":
            first = value(op.args[0])
            return value(op.args[1]) if first is None else first
        args = [value(a) for a in op.args]
        if op.code == "text":
            assert isinstance(op.attr, tuple)
            return write_text(op.attr, args)
        if op.code in ("fade", "blend"):
            return mixture(op.code, args)
        raise AssertionError(op)

    return value(op)


def read_colours(
    op: Op, leaf: Callable[[Op], np.ndarray], fixed: Mapping[Op, object], paint: Callable[[str], int], size: int
) -> np.ndarray:
    """A colour on every bar as packed 0xAARRGGBB, shape (size,), uint32, 0 for none; ``paint`` resolves a word."""
    done: dict[Op, np.ndarray] = {}

    def flags(op: Op) -> np.ndarray:
        return leaf(op) == 1 if op not in fixed else np.full(size, fixed[op] is True)

    def value(op: Op) -> np.ndarray:
        if op not in done:
            done[op] = work(op)
        return done[op]

    def work(op: Op) -> np.ndarray:
        if op in fixed:
            word = fixed[op]
            return np.full(size, 0 if is_none(word) else paint(str(word)), dtype=np.uint32)
        if op.code == "choose":
            return np.where(flags(op.args[0]), value(op.args[1]), value(op.args[2]))
        if op.code in ("fade", "blend"):
            *parts, amount = op.args
            share = np.full(size, fixed[amount], dtype=np.float64) if amount in fixed else leaf(amount)
            made = mix(op.code, [value(p) for p in parts], share)
            there = np.logical_and.reduce([value(p) != 0 for p in parts])
            return np.where(there, made, np.uint32(0))
        if op.code == "otherwise":
            first = value(op.args[0])
            return np.where(first != 0, first, value(op.args[1]))
        raise AssertionError(op)

    return value(op)
