"""Values as single numbers: of one symbol, or the same for several."""

from __future__ import annotations

from abc import ABC, abstractmethod

from oakladder.rung.native.text import Bits, hex_of, scalar_call
from oakladder.rung.plan.ops import Op


class Single(ABC):
    """Writes operations on single numbers; ``real`` and ``bit`` are the types of a number and of a bit."""

    real, bit = "double", "i1"

    def __init__(self) -> None:
        super().__init__()
        self.numbers: dict[Op, str] = {}
        self.flags: dict[Op, Bits] = {}

    @abstractmethod
    def new(self, text: str) -> str:
        """Writes an instruction that gives a value, and names it."""

    @abstractmethod
    def fixed(self, op: Op) -> str:
        """A fixed value as a single number, read before the bars."""

    @abstractmethod
    def fixed_flag(self, op: Op) -> Bits:
        """A fixed flag as single bits."""

    def call(self, name: str, *args: str) -> str:
        """Calls a function of numbers."""
        return self.new(scalar_call(name, args))

    def constant(self, value: float) -> str:
        """A number that is known."""
        return hex_of(value)

    def sure(self, value: bool) -> str:
        """A bit that is known."""
        return "true" if value else "false"

    def number(self, op: Op) -> str:
        """A value as a number."""
        if op.code == "const":
            return self.constant(float(op.attr))  # type: ignore[arg-type]
        return self.fixed(op) if op.fixed else self.numbers[op]

    def flag(self, op: Op) -> Bits:
        """A value as a flag."""
        if op.code == "flag":
            return self.sure(op.attr is True), self.sure(op.attr is False)
        return self.fixed_flag(op) if op.fixed else self.flags[op]
