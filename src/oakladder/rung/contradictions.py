"""Finds conditions that can never be true: parts that exclude one another, and values beyond what they can be.

A condition is read as a list of alternatives (``or``), each a list of parts that must all hold (``and``).
An alternative is impossible where the bounds that its comparisons put on one expression leave nothing, or
where it asks for something and its opposite. What is not understood counts as possible.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from . import library
from . import tree as t
from .writing import written

#: What the bar's own values can be.
_NATURAL: dict[str, tuple[float, float]] = {
    "volume": (0, math.inf),
    "range": (0, math.inf),
    "body": (0, math.inf),
    "bar": (0, math.inf),
    "session_bar": (0, math.inf),
    "weekday": (1, 7),
    "day": (1, 31),
    "month": (1, 12),
    "clock": (0, 1439),
}
_MOST_ALTERNATIVES = 64
_MIRRORED = {"<": ">", "<=": ">=", ">": "<", ">=": "<=", "==": "==", "!=": "!="}


@dataclass(slots=True)
class Bounds:
    """What an expression may still be: from ``low`` to ``high``, each included unless open."""

    low: float = -math.inf
    high: float = math.inf
    low_open: bool = False
    high_open: bool = False

    def narrow(self, op: str, value: float) -> None:
        if op in (">", ">=", "==") and (value > self.low or (value == self.low and op == ">")):
            self.low, self.low_open = value, op == ">"
        if op in ("<", "<=", "==") and (value < self.high or (value == self.high and op == "<")):
            self.high, self.high_open = value, op == "<"

    @property
    def empty(self) -> bool:
        return self.low > self.high or (self.low == self.high and (self.low_open or self.high_open))


class Judge:
    """Judges conditions of one script. ``meaning`` gives what a name was made from, or None."""

    def __init__(self, meaning: Callable[[str], t.Expr | None]):
        self._meaning = meaning

    def never(self, condition: t.Expr) -> str:
        """Why a condition can never be true, in a few words; empty where it may be."""
        alternatives = self._alternatives(condition, True)
        if not alternatives or len(alternatives) > _MOST_ALTERNATIVES:
            return ""
        reasons = [self._impossible(parts) for parts in alternatives]
        return reasons[0] if all(reasons) else ""

    def _alternatives(self, expr: t.Expr, wanted: bool) -> list[list[tuple[t.Expr, bool]]]:
        """The ways in which an expression can be yes (or no, if that is wanted)."""
        expr = self._plain(expr)
        match expr:
            case t.Unary(op="not"):
                return self._alternatives(expr.value, not wanted)
            case t.Binary(op="and" | "or"):
                left, right = (self._alternatives(e, wanted) for e in (expr.left, expr.right))
                if (expr.op == "or") == wanted:
                    return [*left, *right][: _MOST_ALTERNATIVES + 1]
                return [a + b for a in left for b in right][: _MOST_ALTERNATIVES + 1]
        return [[(expr, wanted)]]

    def _plain(self, expr: t.Expr) -> t.Expr:
        """What a name was made from, as far as that is a condition."""
        for _ in range(20):
            if not isinstance(expr, t.Name):
                break
            made = self._meaning(expr.name)
            if made is None:
                break
            expr = made
        return expr

    def _impossible(self, parts: list[tuple[t.Expr, bool]]) -> str:
        bounds: dict[str, Bounds] = {}
        asked: dict[str, bool] = {}
        for expr, wanted in parts:
            words = self._words(expr)
            if asked.setdefault(words, wanted) != wanted:
                return f"it asks for `{words}` and for its opposite"
            if isinstance(expr, t.Literal) and expr.kind == "flag" and bool(expr.value) is not wanted:
                return f"`{'yes' if expr.value else 'no'}` is one of its parts"
            if isinstance(expr, t.Compare) and (wanted or len(expr.ops) == 1):
                for k, op in enumerate(expr.ops):
                    reason = self._compare(expr.values[k], op if wanted else _opposite(op), expr.values[k + 1], bounds)
                    if reason:
                        return reason
        return ""

    def _compare(self, left: t.Expr, op: str, right: t.Expr, bounds: dict[str, Bounds]) -> str:
        if not op or op == "!=":
            return ""
        a, b = self._number(left), self._number(right)
        if a is not None and b is not None:
            return ""  # settings and the like are another matter
        if a is not None:
            left, op, b = right, _MIRRORED[op], a
        if b is None:  # two moving values: their order is what is bounded
            one, two = self._words(left), self._words(right)
            if one > two:
                one, two, op = two, one, _MIRRORED[op]
            words, natural, value = f"{one} against {two}", (-math.inf, math.inf), 0.0
        else:
            words, natural, value = self._words(left), self._natural(left), b
        kept = bounds.setdefault(words, Bounds(*natural))
        kept.narrow(op, value)
        if not kept.empty:
            return ""
        low, high = natural
        beyond = Bounds(low, high)
        beyond.narrow(op, value)
        if beyond.empty:
            return f"`{words}` is never {op} {value:g}"
        return f"its parts leave nothing that `{words}` could be"

    def _natural(self, expr: t.Expr) -> tuple[float, float]:
        """From where to where a value can be at all."""
        expr = self._plain(expr)
        if isinstance(expr, t.Name):
            return _NATURAL.get(expr.name, (-math.inf, math.inf))
        name = expr.name if isinstance(expr, t.Call) else ""
        if isinstance(expr, t.Pick) and isinstance(expr.value, t.Call):
            name = expr.value.name
        found = library.function(name)
        return found.range if found is not None else (-math.inf, math.inf)

    def _number(self, expr: t.Expr) -> float | None:
        expr = self._plain(expr)
        if isinstance(expr, t.Unary) and expr.op == "-":
            inner = self._number(expr.value)
            return -inner if inner is not None else None
        if isinstance(expr, t.Literal) and expr.kind in ("number", "clock"):
            return float(expr.value)  # type: ignore[arg-type]
        return None

    def _words(self, expr: t.Expr) -> str:
        """An expression written in one way, so that equal ones are equal."""
        return written(expr, self._plain)


def _opposite(op: str) -> str:
    """What holds where a comparison of known values does not."""
    return {"<": ">=", "<=": ">", ">": "<=", ">=": "<", "==": "!=", "!=": "=="}[op]
