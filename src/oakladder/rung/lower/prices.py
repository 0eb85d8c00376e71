"""Prices of orders and positions: rounded to the symbol's steps, and compared the way of the side."""

from __future__ import annotations

from collections.abc import Sequence

from oakladder.rung.lower.writer import Writer
from oakladder.rung.trade_words import Side

#: What tells a side where it is known before the run.
_SURE = ("yes", "no")


def either(a: str, cond: str, b: str) -> str:
    """``a`` where a condition is yes, else ``b``."""
    return f"if {cond} then {a} else {b}"


class Prices:
    """Writes price arithmetic. ``way`` and ``o_way`` are 1 and -1 by the side of the position and of the order,
    ``long``, ``short`` and ``o_short`` tell it."""

    def __init__(self, writer: Writer, sides: Sequence[Side]):
        self.w = writer
        # Where all trades go one way, so do position and order: what depends on the side is known before the run.
        only = sides[0] if len(set(sides)) == 1 else None
        self.way, self.o_way = ("side", "o_side") if only is None else (f"({only:d})",) * 2
        self.long, self.short = ("side > 0", "side < 0") if only is None else _SURE[:: int(only)]
        self.o_short = "o_side < 0" if only is None else self.short

    def rounded(self, price: str, is_up: str) -> str:
        """The name of a price rounded to the symbol's tick, up where ``is_up`` says so, unless it is on a tick."""
        name = f"price_{len(self.w.names)}"
        if is_up in _SURE:
            self.w.let(name, self.w.on_tick(price, up=is_up == "yes"))
        else:
            for way, up in (("up", True), ("down", False)):
                self.w.let(f"{name}_{way}", self.w.on_tick(price, up=up))
            self.w.let(name, either(f"{name}_up", is_up, f"{name}_down"))
        return name

    def tighten(self, name: str, by: str, side: str) -> None:
        """Moves a stop to another if that is known and tighter."""
        self._move(name, by, self.beyond(by, name, side))

    def nearer(self, name: str, by: str, side: str) -> None:
        """Moves a target to another if that is known and nearer."""
        self._move(name, by, self.beyond(name, by, side))

    def _move(self, name: str, by: str, if_so: str) -> None:
        # Bar after bar waits for this: there are as few steps as can be between one value and the next.
        self.w.set(name, either(by, f"known({by}) and (({if_so}) else yes)", name))

    def beyond(self, one: str, other: str, side: str) -> str:
        """Whether a price lies farther on a side's way than another."""
        if self.long in _SURE:
            return f"{one} > {other}" if self.long == "yes" else f"{one} < {other}"
        return f"{side} * ({one} - {other}) > 0"
