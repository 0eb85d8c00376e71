"""Texts and colours: shells over numbers and flags, read out after a run, bar by bar or all at once."""

from __future__ import annotations

from collections.abc import Callable, Mapping

import numpy as np

from oakladder.rung.colours import mix
from oakladder.rung.plan.ops import Op
from oakladder.rung.texts import is_none, mixture, write_text

Leaf = Callable[[Op], object]
Fixed = Mapping[Op, object]


def read_at(op: Op, leaf: Leaf, fixed: Fixed) -> object:
    """The value of a shell (or plain value) on one bar, None for none; ``leaf`` reads numbers and flags there."""
    return _value_at(op, leaf, fixed, {})


# Functions that call one another from within a third one would be garbage in a circle, for each label of a chart.


def _value_at(op: Op, leaf: Leaf, fixed: Fixed, done: dict[Op, object]) -> object:
    if op not in done:
        made = _work_at(op, leaf, fixed, done)
        done[op] = None if is_none(made) else made
    return done[op]


def _work_at(op: Op, leaf: Leaf, fixed: Fixed, done: dict[Op, object]) -> object:
    if op in fixed:
        return fixed[op]
    if not op.is_shell or op.code == "symbol":
        return leaf(op)
    if op.code == "choose":
        holds = _value_at(op.args[0], leaf, fixed, done) is True
        return _value_at(op.args[1] if holds else op.args[2], leaf, fixed, done)
    if op.code == "otherwise":
        first = _value_at(op.args[0], leaf, fixed, done)
        return _value_at(op.args[1], leaf, fixed, done) if first is None else first
    args = [_value_at(a, leaf, fixed, done) for a in op.args]
    if op.code == "text":
        assert isinstance(op.attr, tuple)
        return write_text(op.attr, args)
    if op.code in ("fade", "blend"):
        return mixture(op.code, args)
    raise AssertionError(op)


def read_colours(
    op: Op, leaf: Callable[[Op], np.ndarray], fixed: Fixed, paint: Callable[[str], int], size: int
) -> np.ndarray:
    """A colour on every bar as packed 0xAARRGGBB, shape (size,), uint32, 0 for none; ``paint`` resolves a word. Each
    value of a leaf: shape (size,), float64."""
    return _Colours(leaf, fixed, paint, size).value(op)


class _Colours:
    """The colours on every bar that one is made of, each worked out once."""

    def __init__(self, leaf: Callable[[Op], np.ndarray], fixed: Fixed, paint: Callable[[str], int], size: int):
        self._leaf, self._fixed, self._paint, self._size = leaf, fixed, paint, size
        self._done: dict[Op, np.ndarray] = {}

    def _flags(self, op: Op) -> np.ndarray:
        return self._leaf(op) == 1 if op not in self._fixed else np.full(self._size, self._fixed[op] is True)

    def value(self, op: Op) -> np.ndarray:
        if op not in self._done:
            self._done[op] = self._work(op)
        return self._done[op]

    def _work(self, op: Op) -> np.ndarray:
        fixed, size = self._fixed, self._size
        if op in fixed:
            word = fixed[op]
            return np.full(size, 0 if is_none(word) else self._paint(str(word)), dtype=np.uint32)
        if op.code == "choose":
            return np.where(self._flags(op.args[0]), self.value(op.args[1]), self.value(op.args[2]))
        if op.code in ("fade", "blend"):
            *parts, amount = op.args
            share = np.full(size, fixed[amount], dtype=np.float64) if amount in fixed else self._leaf(amount)
            made = mix(op.code, [self.value(p) for p in parts], share)
            there = np.logical_and.reduce([self.value(p) != 0 for p in parts])
            return np.where(there, made, np.uint32(0))
        if op.code == "otherwise":
            first = self.value(op.args[0])
            return np.where(first != 0, first, self.value(op.args[1]))
        raise AssertionError(op)
