"""Lints about numbers: totals that are none for ever, conditions that count as no, plain numbers for per cent."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.check.forms import Forms, nodes, reads
from oakladder.rung.check.scope import Scope
from oakladder.rung.check.value_lints import ValueLints
from oakladder.rung.kinds import Kind, Type, Unit
from oakladder.rung.problems import Span
from oakladder.rung.service.unparse import unparse
from oakladder.rung.trade_words import POSITION

#: Functions of numbers that keep nothing: none where one of their values is, and only there.
_PURE = frozenset(["abs", "min", "max", "floor", "ceil", "round", "exp", "sign", "clamp"])
#: Functions that are known from the first bar on.
ALWAYS_KNOWN = frozenset(["true_range", "streak", "obv", "accumulation", "session_high", "session_low"])
#: A share of a price from which on a per cent is meant more likely: for the change of a bar, and for any other.
_MUCH_FOR_A_BAR, _MUCH = 0.25, 1.0
_PER_CENT = re.compile(r"per\s?cent|%", re.IGNORECASE)
#: Names of a bar's place: a condition on them keeps the first bars out.
_PLACES = frozenset(["bar", "session_bar"])


class NumberLints(Forms):
    """Reports what a script most likely does not mean in its numbers."""

    def __init__(self, context: Context, value_lints: ValueLints):
        super().__init__(context)
        self._value_lints = value_lints

    # --- totals -------------------------------------------------------------------------------------

    def totals(self, statements: Sequence[t.Statement]) -> None:
        """`set total = total + (close - close[1])`: none on the first bar, and so on every later one."""
        for s in statements:
            if isinstance(s, t.Define):
                self.totals(s.body)
        kept = {
            s.name.name
            for s in statements
            if isinstance(s, t.Keep) and not s.fresh and not (isinstance(s.start, t.Literal) and s.start.kind == "none")
        }
        sets = [(s, guards) for s, guards in _sets_in(statements, ()) if s.name.name in kept]
        for name in kept:
            own = [(s, guards) for s, guards in sets if s.name.name == name]
            if any(not reads(s.value, name) for s, _ in own):
                continue  # it begins again from time to time
            for s, guards in own:
                if not any(self._keeps_out(g) for g in guards):
                    self._total(s, name)

    def _keeps_out(self, condition: t.Expr) -> bool:
        """Whether a condition is not true where values are none, most likely."""
        return self._may_be_none(condition) or any(
            (isinstance(node, t.Name) and node.name in _PLACES)
            or (isinstance(node, t.Call) and node.name in ("known", "new"))
            for node in nodes(condition)
        )

    def _total(self, statement: t.Set, name: str) -> None:
        found = self._unknown_part(statement.value, name)
        if found is None:
            return
        part, op = found
        neutral = "1" if op in "*/" else "0"
        there = self.context.written(part.span)
        text = unparse(part)
        simple = isinstance(part, t.Name | t.Call | t.Lag | t.Pick)
        inner = f"{text} else {neutral}" if simple else f"({text}) else {neutral}"
        around = self.context.written(Span(part.span.line, part.span.column - 1, part.span.length + 2))
        in_brackets = part.span.column > 1 and around[:1] == "(" and around[-1:] == ")"
        fixed = inner if in_brackets else f"({inner})"
        self.report(
            "R707",
            part.span,
            f"`{text}` is none on the first bars, and a `{name}` that is none once stays none for ever.",
            f"Write `({inner})`.",
            fixed if there and self.is_whole(part) else None,
        )

    def _unknown_part(self, expr: t.Expr, name: str) -> tuple[t.Expr, str] | None:
        """The part of an expression that may be none and is reckoned with a name, and how; None for no such part."""
        match expr:
            case t.Binary(op="+" | "-" | "*" | "/" as op, left=left, right=right):
                for one, other in ((left, right), (right, left)):
                    if reads(one, name):
                        if not reads(other, name) and self._may_be_none(other):
                            return other, op
                        return self._unknown_part(one, name)
            case t.Unary(op="-", value=value):
                return self._unknown_part(value, name)
            case t.Choice(condition=condition, yes_value=yes, no_value=no):
                if self._keeps_out(condition):
                    return None
                return self._unknown_part(yes, name) or self._unknown_part(no, name)
        return None

    def _may_be_none(self, expr: t.Expr) -> bool:
        """Whether an expression may be none on the first bars."""
        match expr:
            case t.Call(name=name, arguments=arguments):
                if name in ALWAYS_KNOWN:
                    return False
                if name in _PURE:
                    return any(map(self._may_be_none, arguments))
                return self._value_lints.may_be_none(expr)
            case t.Name():
                made = self.plain(expr)
                return made is not expr and self._may_be_none(made)
            case t.Unary(value=value):
                return self._may_be_none(value)
            case t.Binary(op="else", right=right):
                return self._may_be_none(right)
            case t.Binary(left=left, right=right):
                return self._may_be_none(left) or self._may_be_none(right)
            case t.Compare(values=values):
                return any(map(self._may_be_none, values))
            case t.Choice(condition=condition, yes_value=yes, no_value=no):
                # A condition that is none counts as no.
                return (self._may_be_none(yes) and not self._keeps_out(condition)) or self._may_be_none(no)
        return self._value_lints.may_be_none(expr)

    def counted(self, expr: t.Binary) -> None:
        """`(if a then 1 else 0) + (if b then 1 else 0)`: a flag that is none counts as 0."""
        if self.context.reporter.blame or expr in self.context.summed:
            return
        parts = list(_summands(expr, self.context.summed))
        conditions = [c for part in parts if (c := _counts(part)) is not None]
        if len(conditions) < 2 or not any(map(self._may_be_none, conditions)):
            return
        fixed = f"how_many({', '.join(map(unparse, conditions))})"
        self.report(
            "R709",
            expr.span,
            "A condition that is none, as on the first bars of an average, counts as 0 here, as if it were no.",
            f"Write `{fixed}`, which is none until all of them are known.",
            fixed if len(conditions) == len(parts) and self.is_whole(expr) else None,
        )

    # --- per cent -------------------------------------------------------------------------------------

    def share(self, ratio: t.Expr, type_: Type, other: t.Expr, scope: Scope) -> None:
        """`change(close) / close > 2`, where 2 % is meant."""
        if self.context.reporter.blame or type_.unit is not Unit.RATIO or type_.kind is not Kind.NUMBER:
            return
        most = self._most_of(ratio)
        if isinstance(other, t.Name) and (setting := self.context.settings.get(other.name)) is not None:
            if scope.find(other.name) is self.context.bindings.get(other.name):
                self._share_setting(setting, other, most)
            return
        inner = other.value if isinstance(other, t.Unary) and other.op == "-" else other
        if most is None or not isinstance(inner, t.Literal) or inner.percent or not isinstance(inner.value, float):
            return
        if abs(inner.value) >= most:
            self.report(
                "R409",
                inner.span,
                f"The other side is a share of the price, and {inner.value:g} is {inner.value:.0%} of it.",
                f"Write {inner.value:g}% if per cent is meant.",
                f"{inner.value:g}%",
            )

    def _share_setting(self, setting: t.Setting, place: t.Expr, most: float | None) -> None:
        default = setting.default.value if isinstance(setting.default, t.Unary) else setting.default
        if not isinstance(default, t.Literal) or default.percent or not isinstance(default.value, float):
            return
        if not _PER_CENT.search(setting.text) and (most is None or abs(default.value) < most):
            return
        numbers = [e.value if isinstance(e, t.Unary) else e for e in (setting.low, setting.high, setting.step)]
        literals = [default, *(n for n in numbers if isinstance(n, t.Literal) and not n.percent)]
        self.report(
            "R409",
            place.span,
            f"The other side is a share, and the setting `{setting.name.name}` is the plain number {default.value:g}: "
            f"{default.value:.0%}.",
            f"Write its numbers with a per cent sign, as in {default.value:g}%.",
            None,
            tuple((n.span, f"{self.context.written(n.span)}%") for n in literals),
        )

    def _most_of(self, expr: t.Expr) -> float | None:
        """The share from which on a per cent is meant, for the relative change of a price; None for any other ratio."""
        made = self.plain(expr)
        match made:
            case t.Unary(op="-", value=value) | t.Call(name="abs", arguments=(value,)):
                return self._most_of(value)
            case t.Binary(op="/", left=left, right=right) if self.is_distance(left) and self.is_price(right):
                return _MUCH_FOR_A_BAR if self._is_of_one_bar(left) else _MUCH
            case t.Binary(op="-", left=t.Binary(op="/", left=left, right=right), right=t.Literal(value=1.0)):
                return _MUCH if self.is_price(left) and self.is_price(right) else None
            case t.Pick(value=t.Name(name=name), name="gain") if name == POSITION:
                return _MUCH
        return None

    def _is_of_one_bar(self, expr: t.Expr) -> bool:
        match self.plain(expr):
            case t.Call(name="change" | "momentum", arguments=(_,)) | t.Name():
                return True
            case t.Call(name="change" | "momentum", arguments=(_, t.Literal(value=1.0))):
                return True
            case t.Binary(left=left, right=right):
                return _lag_of(left) <= 1 and _lag_of(right) <= 1
        return False


def _lag_of(expr: t.Expr) -> float:
    """How many bars back a value is read, as far as that is a number."""
    if isinstance(expr, t.Lag):
        return float(expr.lag.value) if isinstance(expr.lag, t.Literal) and isinstance(expr.lag.value, float) else 99.0
    return 0.0


def _sets_in(
    statements: Sequence[t.Statement], guards: tuple[t.Expr, ...]
) -> Iterator[tuple[t.Set, tuple[t.Expr, ...]]]:
    """Every `set` of some statements, with the conditions that it stands under."""
    for s in statements:
        match s:
            case t.Set():
                yield s, guards
            case t.If(branches=branches):
                for condition, body in branches:
                    yield from _sets_in(body, (*guards, condition) if condition is not None else guards)
            case t.For(body=body):
                yield from _sets_in(body, guards)


def _summands(expr: t.Expr, sums: set[t.Expr]) -> Iterator[t.Expr]:
    """The parts of a sum, from left to right; the sums in it are added to ``sums``."""
    if isinstance(expr, t.Binary) and expr.op == "+":
        sums.add(expr)
        yield from _summands(expr.left, sums)
        yield from _summands(expr.right, sums)
    else:
        yield expr


def _counts(expr: t.Expr) -> t.Expr | None:
    """The condition of `if c then 1 else 0`; None for anything else."""
    match expr:
        case t.Choice(condition=condition, yes_value=t.Literal(value=1.0), no_value=t.Literal(value=0.0)):
            return condition
    return None
