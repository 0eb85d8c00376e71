"""Finds conditions that can never be true: parts that exclude one another, and values beyond what they can be.

A condition is read as a list of alternatives (``or``), each a list of parts that must all hold (``and``).
An alternative is impossible where the bounds that its comparisons put on one expression leave nothing, or
where it asks for something and its opposite. What is not understood counts as possible.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

from oakladder.rung import library
from oakladder.rung import tree as t
from oakladder.rung.service.unparse import unparse

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
#: What lies between the low and the high of a bar.
_WITHIN = frozenset(["low", "open", "close", "hl2", "hlc3", "ohlc4", "high"])
#: Functions that count bars of a window, and how much more than its length they can be.
_WITHIN_WINDOW = {"count": 0, "highest_ago": -1, "lowest_ago": -1, "rank_of": -1}
#: Max number of alternatives, and of parts of one, that are followed: longer messages help no user.
_MOST_ALTERNATIVES, _MOST_PARTS = 64, 200
_MOST_LETTERS = 80
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


#: A condition that must hold, or must not: the number of its expression, and what is wanted of it.
_Part = tuple[int, bool]
#: The ways in which something can be true, each the parts that it asks for; None where there are too many to follow.
_Ways = tuple[tuple[_Part, ...], ...] | None


class UnsatisfiabilityChecker:
    """Judges conditions of one script.

    What a name was made from must be told (`learn`) before the name is met, in the order of the script: so each is
    looked at once, however often the name is used.
    """

    def __init__(self) -> None:
        #: Form of an expression → its number; equal expressions have equal numbers.
        self._numbers: dict[tuple[object, ...], int] = {}
        #: The number of each piece of the tree as it was when it was met: a `keep` in it may be set later.
        self._numbered: dict[t.Expr, int] = {}
        #: The first expression that had a number.
        self._said: list[t.Expr] = []
        self._names: dict[str, int] = {}
        self._made_of: dict[str, t.Expr] = {}
        self._ways: dict[tuple[str, bool], _Ways] = {}
        #: How often a `keep` or `fresh` has been set so far: before and after it is not the same value.
        self._sets: dict[str, int] = {}
        #: The extreme with which the last condition that was judged compares what is in it.
        self.looks_at_itself: t.Expr | None = None

    def learn(self, name: str, expr: t.Expr) -> None:
        """Takes in what a name is made from."""
        number = self._number_of(expr)
        ways = {wanted: self._alternatives(expr, wanted) for wanted in (True, False)}
        plain = self._plain(expr)
        self._names[name], self._made_of[name] = number, plain
        for wanted, found in ways.items():
            self._ways[name, wanted] = found

    def changed(self, name: str) -> None:
        """Takes in that a `keep` or `fresh` is set."""
        self._sets[name] = self._sets.get(name, 0) + 1

    def made_from(self, name: str) -> t.Expr | None:
        """What a name was made from, if that is known."""
        return self._made_of.get(name)

    def is_same(self, a: t.Expr, b: t.Expr) -> bool:
        """Whether two expressions are the same, with names replaced by their definitions."""
        return self._number_of(a) == self._number_of(b)

    def never(self, condition: t.Expr) -> str:
        """Why a condition can never be true, in a few words; empty where it may be."""
        self.looks_at_itself = None
        alternatives = self._alternatives(condition, True)
        if not alternatives:
            return ""
        reasons = [self._impossible(parts) for parts in alternatives]
        return reasons[0] if all(reasons) else ""

    def _alternatives(self, expr: t.Expr, wanted: bool) -> _Ways:
        """The ways in which an expression can be yes (or no, if that is wanted)."""
        match expr:
            case t.Name() if (expr.name, wanted) in self._ways:
                return self._ways[expr.name, wanted]
            case t.Unary(op="not"):
                return self._alternatives(expr.value, not wanted)
            case t.Binary(op="and" | "or"):
                left, right = (self._alternatives(e, wanted) for e in (expr.left, expr.right))
                return _either(left, right) if (expr.op == "or") == wanted else _both(left, right)
        return (((self._number_of(expr), wanted),),)

    def _plain(self, expr: t.Expr) -> t.Expr:
        """What a name was made from."""
        return self._made_of.get(expr.name, expr) if isinstance(expr, t.Name) else expr

    def _number_of(self, expr: t.Expr) -> int:
        """The number of an expression, with names replaced by their definitions."""
        if expr not in self._numbered:
            self._numbered[expr] = self._fresh_number(expr)
        return self._numbered[expr]

    def _fresh_number(self, expr: t.Expr) -> int:
        if isinstance(expr, t.Name) and expr.name in self._names:
            return self._names[expr.name]
        form = self._form(expr)
        if form not in self._numbers:
            self._numbers[form] = len(self._said)
            self._said.append(expr)
        return self._numbers[form]

    def _form(self, expr: t.Expr) -> tuple[object, ...]:
        number = self._number_of
        match expr:
            case t.Name():
                return "name", expr.name, self._sets.get(expr.name, 0)
            case t.Literal():
                return "literal", expr.kind, repr(expr.value)
            case t.Text():
                parts = [p if isinstance(p, str) else (number(p.value), p.form) for p in expr.parts]
                return "text", *parts
            case t.Unary():
                return expr.op, number(expr.value)
            case t.Binary():
                return expr.op, number(expr.left), number(expr.right)
            case t.Compare():
                return "compare", expr.ops, *map(number, expr.values)
            case t.Choice():
                return "if", number(expr.condition), number(expr.yes_value), number(expr.no_value)
            case t.Call():
                named = [(name, number(value)) for name, value in expr.named]
                return "call", expr.name, *map(number, expr.arguments), *named
            case t.Lag():
                return "lag", number(expr.value), number(expr.lag)
            case t.Pick():
                return "pick", expr.name, number(expr.value)
            case t.OnTimeframe():
                return "on", number(expr.value), number(expr.timeframe), expr.forming
            case t.OfSymbol():
                return "of", number(expr.value), number(expr.symbol)
        raise AssertionError(expr)

    def _impossible(self, parts: tuple[_Part, ...]) -> str:
        bounds: dict[object, Bounds] = {}
        asked: dict[int, bool] = {}
        for number, wanted in parts:
            expr = self._said[number]
            if asked.setdefault(number, wanted) != wanted:
                return f"it asks for `{_words(expr)}` and for its opposite"
            if isinstance(expr, t.Literal) and expr.kind == "flag" and bool(expr.value) is not wanted:
                return f"`{'yes' if expr.value else 'no'}` is one of its parts"
            if isinstance(expr, t.Compare) and (wanted or len(expr.ops) == 1):
                for k, op in enumerate(expr.ops):
                    reason = self._compare(expr.values[k], op if wanted else _opposite(op), expr.values[k + 1], bounds)
                    if reason:
                        return reason
        return ""

    def _compare(self, left: t.Expr, op: str, right: t.Expr, bounds: dict[object, Bounds]) -> str:
        if not op or op == "!=":
            return ""
        a, b = self._constant(left), self._constant(right)
        if a is not None and b is not None:
            return ""  # settings and the like are another matter
        if a is not None:
            left, op, b = right, _MIRRORED[op], a
        key: object
        if b is None:  # two moving values: their order is what is bounded
            one, two = self._number_of(left), self._number_of(right)
            if one == two:
                return f"`{_words(left)}` is on both sides" if op in ("<", ">") else ""
            reason = self._against_order(left, op, right)
            if reason:
                return reason
            if one > two:
                one, two, op = two, one, _MIRRORED[op]
            key, natural, value = (one, two), (-math.inf, math.inf), 0.0
            words = f"{_words(self._said[one])} against {_words(self._said[two])}"
        else:
            key, natural, value, words = self._number_of(left), self._natural(left), b, _words(left)
        kept = bounds.setdefault(key, Bounds(*natural))
        kept.narrow(op, value)
        if not kept.empty:
            return ""
        low, high = natural
        beyond = Bounds(low, high)
        beyond.narrow(op, value)
        if beyond.empty:
            return f"`{words}` is never {op} {value:g}"
        return f"its parts leave nothing that `{words}` could be"

    def _against_order(self, left: t.Expr, op: str, right: t.Expr) -> str:
        """Why two values can never stand so to each other: one of them is an extreme of the other."""
        small, large = (left, right) if op == ">" else (right, left)
        if op not in ("<", ">") or not self._at_most(small, large):
            return ""
        for side in (small, large):
            plain = self._plain(side)
            if isinstance(plain, t.Call) and plain.name in ("highest", "lowest"):
                self.looks_at_itself = plain if plain is side else None
                return f"`{_words(plain)}` has the bar itself in it, so look one bar back: `{_words(plain)}[1]`"
        return f"`{_words(left)}` is never {'above' if op == '>' else 'below'} `{_words(right)}`"

    def _at_most(self, a: t.Expr, b: t.Expr) -> bool:
        """Whether one value is known to be at most the other on every bar where both are known."""
        a, b = self._plain(a), self._plain(b)
        if self._number_of(a) == self._number_of(b):
            return True
        if isinstance(a, t.Name) and isinstance(b, t.Name):
            return (a.name == "low" and b.name in _WITHIN) or (b.name == "high" and a.name in _WITHIN)
        if isinstance(b, t.Call) and b.arguments:
            if b.name == "highest" and self._at_most(a, b.arguments[0]):
                return True
            if b.name == "max" and any(self._at_most(a, x) for x in b.arguments):
                return True
        if isinstance(a, t.Call) and a.arguments:
            if a.name == "lowest" and self._at_most(a.arguments[0], b):
                return True
            if a.name == "min" and any(self._at_most(x, b) for x in a.arguments):
                return True
        return False

    def _natural(self, expr: t.Expr) -> tuple[float, float]:
        """From where to where a value can be at all."""
        expr = self._plain(expr)
        if isinstance(expr, t.Name):
            return _NATURAL.get(expr.name, (-math.inf, math.inf))
        name = expr.name if isinstance(expr, t.Call) else ""
        if isinstance(expr, t.Call) and name in _WITHIN_WINDOW and len(expr.arguments) == 2:
            bars = self._constant(expr.arguments[1])
            if bars is not None:
                return 0, bars + _WITHIN_WINDOW[name]
        if isinstance(expr, t.Pick) and isinstance(expr.value, t.Call):
            name = expr.value.name
        found = library.function(name)
        return found.range if found is not None else (-math.inf, math.inf)

    def _constant(self, expr: t.Expr) -> float | None:
        expr = self._plain(expr)
        if isinstance(expr, t.Unary) and expr.op == "-":
            inner = self._constant(expr.value)
            return -inner if inner is not None else None
        if isinstance(expr, t.Literal) and expr.kind in ("number", "clock"):
            return float(expr.value)  # type: ignore[arg-type]
        return None


def _either(left: _Ways, right: _Ways) -> _Ways:
    """The ways of one and of the other."""
    if left is None or right is None:
        return None
    made = tuple(dict.fromkeys((*left, *right)))
    return made if len(made) <= _MOST_ALTERNATIVES else None


def _both(left: _Ways, right: _Ways) -> _Ways:
    """Every way of one together with every way of the other."""
    if left is None or right is None or len(left) * len(right) > _MOST_ALTERNATIVES:
        return None
    made = tuple(dict.fromkeys(tuple(dict.fromkeys((*a, *b))) for a in left for b in right))
    return made if all(len(way) <= _MOST_PARTS for way in made) else None


def _words(expr: t.Expr) -> str:
    """An expression as written, shortened if it is long."""
    text = unparse(expr)
    return text if len(text) <= _MOST_LETTERS else f"{text[: _MOST_LETTERS - 2]} …"


def _opposite(op: str) -> str:
    """What holds where a comparison of known values does not."""
    return {"<": ">=", "<=": ">", ">": "<=", ">=": "<", "==": "!=", "!=": "=="}[op]
