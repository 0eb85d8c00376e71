"""What the form of an expression reveals: prices, distances between prices, and whether two are the same."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import fields, is_dataclass
from typing import Any

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.problems import Span
from oakladder.rung.service.unparse import unparse
from oakladder.rung.trade_words import POSITION

#: The bar's own prices.
PRICES = frozenset(["open", "high", "low", "close", "hl2", "hlc3", "ohlc4"])
#: Library functions that give a price of a price, and names of results that are prices.
_OF_PRICES = frozenset(
    [
        "sma",
        "avg",
        "ema",
        "wma",
        "wilder",
        "hull",
        "double_ema",
        "triple_ema",
        "adaptive",
        "variable",
        "linear",
        "volume_weighted",
        "median",
        "highest",
        "lowest",
        "ranked",
        "latch",
        "highest_since",
        "lowest_since",
        "min",
        "max",
        "floor",
        "ceil",
        "round",
    ]
)
_PRICES_THEMSELVES = frozenset(["previous_close", "session_high", "session_low", "swing_high", "swing_low", "vwap"])
_PRICE_RESULTS = frozenset(["upper", "mid", "lower", "stop"])


class Forms:
    """Reads the forms of expressions of one script, with names replaced by their definitions."""

    def __init__(self, context: Context):
        self.context = context

    def plain(self, expr: t.Expr) -> t.Expr:
        """An expression, or what a name was made from."""
        for _ in range(20):
            if not isinstance(expr, t.Name):
                return expr
            made = self.context.judge.made_from(expr.name)
            if made is None or made is expr:
                return expr
            expr = made
        return expr

    def is_price(self, expr: t.Expr) -> bool:
        """Whether an expression is a price, and not a distance between prices, as far as its form says."""
        match self.plain(expr):
            case t.Name(name=name):
                return name in PRICES or (name in self.context.price_settings)
            case t.Lag(value=value) | t.OnTimeframe(value=value) | t.OfSymbol(value=value):
                return self.is_price(value)
            case t.Call(name=name, arguments=arguments):
                if name in _PRICES_THEMSELVES:
                    return True
                at = 1 if name in ("latch", "highest_since", "lowest_since") else 0
                return name in _OF_PRICES and len(arguments) > at and self.is_price(arguments[at])
            case t.Pick(value=value, name=name):
                base = self.plain(value)
                if isinstance(base, t.Name) and base.name == POSITION:
                    return name in ("entry", "best", "stop")
                return isinstance(base, t.Call) and name in _PRICE_RESULTS
            case t.Binary(op="+" | "-", left=left, right=right):
                return self.is_price(left) and not self.is_price(right)
            case t.Binary(op="else", left=left, right=right):
                return self.is_price(left) or self.is_price(right)
            case t.Choice(yes_value=yes, no_value=no):
                return self.is_price(yes) and self.is_price(no)
        return False

    def is_distance(self, expr: t.Expr) -> bool:
        """Whether an expression is a difference of two prices, as far as its form says."""
        match self.plain(expr):
            case t.Name(name=name):
                return name in ("range", "body")
            case t.Binary(op="-", left=left, right=right):
                return self.is_price(left) and self.is_price(right)
            case t.Call(name="abs", arguments=(inner,)):
                return self.is_distance(inner)
            case t.Call(name="change" | "momentum", arguments=(inner, *_)):
                return self.is_price(inner)
            case t.Call(name=name):
                return name in ("atr", "true_range")
            case t.Lag(value=value) | t.OnTimeframe(value=value):
                return self.is_distance(value)
        return False

    def is_same(self, a: t.Expr, b: t.Expr) -> bool:
        return self.context.judge.is_same(self.plain(a), self.plain(b))

    def is_whole(self, expr: t.Expr) -> bool:
        """Whether the place of an expression holds all of it: it may go on in the next line."""
        there = self.context.written(expr.span)
        return bool(there) and _bare(there) == _bare(unparse(expr))

    def report(
        self,
        code: str,
        span: Span,
        message: str,
        fix: str,
        new: str | None = None,
        also: tuple[tuple[Span, str], ...] = (),
    ) -> None:
        self.context.reporter.report(code, span, message, fix, new, also)


def _bare(text: str) -> str:
    """A text without spaces and brackets, for comparing."""
    return re.sub(r"[\s()]", "", text)


def nodes(node: Any) -> Iterator[Any]:
    """A piece of tree and everything in it."""
    if isinstance(node, tuple | list):
        for part in node:
            yield from nodes(part)
    elif is_dataclass(node) and not isinstance(node, type):
        yield node
        for slot in fields(node):
            if slot.name != "span":
                yield from nodes(getattr(node, slot.name))


def reads(expr: t.Expr, name: str) -> bool:
    """Whether an expression reads a name as it is now."""
    return any(isinstance(node, t.Name) and node.name == name for node in nodes(expr))
