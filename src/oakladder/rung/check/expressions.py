"""Expressions: the type of each, from the types of its parts."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any, Protocol

from oakladder.rung import library, values
from oakladder.rung import tree as t
from oakladder.rung.arguments import arrange
from oakladder.rung.check.context import Context, Missing
from oakladder.rung.check.lints import Lints
from oakladder.rung.check.names import Names
from oakladder.rung.check.number_lints import NumberLints
from oakladder.rung.check.positions import no_position, trade_is_no_value
from oakladder.rung.check.scope import Function, Scope
from oakladder.rung.check.suggestions import explanation_of, result_for, surest, unquoted, word_for
from oakladder.rung.check.value_lints import ValueLints
from oakladder.rung.kinds import (
    UNKNOWN,
    Kind,
    Type,
    Unit,
    blend,
    common_unit,
    joined,
    product_unit,
    quotient_unit,
    unlike,
)
from oakladder.rung.problems import Span, did_you_mean
from oakladder.rung.trade_words import POSITION, TRADE

#: Max number of comparisons between an unknown name and the known ones, for suggestions.
_MOST_GUESSES = 25


class CallTyper(Protocol):
    """What expressions ask of calls."""

    def call(self, expr: t.Call, scope: Scope) -> Type: ...

    def function(self, name: str) -> Function | None: ...


class Expressions:
    """Types expressions. ``calls`` and ``past`` are set by the checker: a call walks statements, which hold expressions."""

    calls: CallTyper
    past: Mapping[type[t.Expr], Callable[[Any, Scope], Type]]

    def __init__(self, context: Context):
        self.context, self.names, self.value_lints = context, Names(context), ValueLints(context)
        self.lints, self.number_lints = Lints(context), NumberLints(context, self.value_lints)

    def single(self, expr: t.Expr, scope: Scope) -> Type:
        """The type of an expression that must be one value."""
        type_ = self.type_of(expr, scope)
        if type_.kind is Kind.BUNDLE:
            names = ", ".join(f".{name}" for name, _ in type_.results)
            self.context.reporter.report(
                "R213", expr.span, "This gives several results, and one is needed.", f"Pick one of {names}."
            )
            return UNKNOWN
        return type_

    def number(self, expr: t.Expr, scope: Scope, what: str) -> Type:
        return self.wanted(expr, scope, Kind.NUMBER, what)

    def flag(self, expr: t.Expr, scope: Scope, what: str) -> Type:
        return self.wanted(expr, scope, Kind.FLAG, what)

    def wanted(self, expr: t.Expr, scope: Scope, kind: Kind, what: str) -> Type:
        type_ = self.single(expr, scope)
        if kind is Kind.NUMBER and type_.kind is Kind.CLOCK:
            return replace(type_, kind=Kind.NUMBER, value=None)  # a clock time counts its minutes
        if type_.known_kind and type_.kind is not kind:
            fix = "Compare it with something, as in `> 0`." if kind is Kind.FLAG and type_.kind is Kind.NUMBER else ""
            if kind is Kind.NUMBER and type_.kind is Kind.FLAG:
                fix = "Write `if … then 1 else 0` to count a condition."
            plain = unquoted(expr, kind)
            self.context.reporter.report(
                "R301",
                self.span_of(expr, scope),
                f"{what} must be {kind.with_article}, and this is {type_.kind.with_article}.",
                f"Write `{plain}` without quotes." if plain else fix,
                plain,
            )
            return replace(type_, kind=kind, value=None)
        return type_

    def span_of(self, expr: t.Expr, scope: Scope) -> Span:
        """Where to point for an expression: at the argument, if it is a parameter."""
        if isinstance(expr, t.Name) and (binding := scope.find(expr.name)) is not None and binding.argument is not None:
            if self.context.reporter.blame:
                self.context.reporter.blame[-1] = binding.argument
            return binding.argument
        return expr.span

    def type_of(self, expr: t.Expr, scope: Scope) -> Type:
        """The type of an expression; reports what is wrong in it."""
        match expr:
            case t.Literal():
                return self._literal(expr)
            case t.Text():
                templates = [p for p in expr.parts if isinstance(p, t.TextPart)]
                parts = [self.single(p.value, scope) for p in templates]
                timed = {
                    p for p, type_ in zip(templates, parts, strict=True) if type_.kind is Kind.CLOCK and not p.form
                }
                self.context.clocks |= timed
                value = "".join(str(p) for p in expr.parts) if not parts else None
                return blend(*parts, kind=Kind.TEXT, value=value)
            case t.Name():
                return self._name(expr, scope)
            case t.Unary(op="-"):
                inner = self.number(expr.value, scope, "What follows `-`")
                return replace(inner, value=-inner.value if isinstance(inner.value, float) else None)
            case t.Unary():
                inner = self.flag(expr.value, scope, "What follows `not`")
                return replace(inner, kind=Kind.FLAG, value=not inner.value if isinstance(inner.value, bool) else None)
            case t.Binary(op="+") if (pieces := _pieces(expr)) is not None:
                types = [self.single(piece, scope) for piece in pieces]
                self.value_lints.joined_text(expr, pieces)
                return blend(*types, kind=Kind.TEXT)
            case t.Binary(op="else"):
                left, right = self.single(expr.left, scope), self.single(expr.right, scope)
                self._same_kind(left, right, expr.right.span)
                return joined(left, right)
            case t.Binary(op="and" | "or"):
                return self._logic(expr, scope)
            case t.Binary():
                return self._arithmetic(expr, scope)
            case t.Compare():
                return self._compare(expr, scope)
            case t.Choice():
                condition = self.flag(expr.condition, scope, "What follows `if`")
                yes, no = self.single(expr.yes_value, scope), self.single(expr.no_value, scope)
                self._same_kind(yes, no, expr.no_value.span)
                either = joined(yes, no)
                return blend(condition, either, kind=either.kind, unit=either.unit)
            case t.Pick():
                return self._pick(expr, scope)
            case t.Call():
                return self.calls.call(expr, scope)
            case _:
                return self.past[type(expr)](expr, scope)

    def _literal(self, expr: t.Literal) -> Type:
        kind = Kind(expr.kind)
        unit = Unit.RATIO if expr.percent else Unit.PLAIN
        return Type(kind, moving=False, unit=unit, value=expr.value)

    def _name(self, expr: t.Name, scope: Scope) -> Type:
        binding = scope.find(expr.name)
        if binding is not None:
            binding.read = True
            if expr.name in self.context.taken and not self.context.reporter.blame:
                self.context.met.setdefault(expr.name, []).append(expr.span)
            if binding.what == TRADE:
                trade_is_no_value(self.context, expr)
            return binding.type
        if expr.name == POSITION and not self.context.trades:
            no_position(self.context, expr)
            return UNKNOWN
        if expr.name in self.context.base:
            return self.context.base[expr.name]
        if (
            expr.name in self.context.defined
            and expr.name not in self.context.functions
            and not self.context.reporter.blame
        ):
            self.too_early(expr)
            return UNKNOWN
        function = self.calls.function(expr.name)
        if function is not None and not isinstance(arrange(t.Call(expr.name, (), (), expr.span), function.define), str):
            return self.calls.call(t.Call(expr.name, (), (), expr.span), scope)
        self.unknown_name(expr, scope)
        return UNKNOWN

    def is_unknown(self, expr: t.Name, scope: Scope) -> bool:
        """Whether nothing is called so, neither a value nor a function, above or below."""
        if scope.find(expr.name) or expr.name in self.context.base or expr.name in self.context.defined:
            return False
        root = scope
        while root.parent is not None:
            root = root.parent
        later = expr.name in root.later or expr.name in values.PRIMITIVES
        return not later and self.calls.function(expr.name) is None and expr.name not in self.context.lost

    def unknown_name(self, expr: t.Name, scope: Scope) -> None:
        root = scope
        while root.parent is not None:
            root = root.parent
        if expr.name in root.later or expr.name in scope.later:
            self.too_early(expr)
            return
        if expr.name in values.PRIMITIVES or self.calls.function(expr.name) is not None:
            call = library.call_of(expr.name)
            self.context.reporter.report(
                "R205",
                expr.span,
                f"`{expr.name}` is a function.",
                f"Call it with brackets: `{call or f'{expr.name}(…)'}`.",
                call,
            )
            return
        if expr.name in self.context.missing and not self.context.reporter.blame:  # one cause, one problem
            self.context.missing[expr.name].places.append(expr.span)
            return
        written = self.context.written(expr.span) or expr.name
        words = f"There is no `{written}`."
        if (explained := explanation_of(expr.name)) is not None:
            self._miss(expr, words, explained, None)
            return
        if (meant := word_for(expr.name)) is not None:
            self._miss(expr, words, f"Write `{meant}`.", meant)
            return
        known = self._known(scope)
        sure = surest(expr.name, known)
        hint = (f"Did you mean `{sure}`?" if sure else did_you_mean(expr.name, known)) or "Make it above with `let`."
        self._miss(expr, words, hint, sure)

    def _miss(self, expr: t.Name, message: str, fix: str, replacement: str | None) -> None:
        if self.context.reporter.blame:
            self.context.reporter.report("R201", expr.span, message, fix)
            return
        self.context.missing[expr.name] = Missing(message, fix, replacement, [expr.span])

    def _known(self, scope: Scope) -> set[str]:
        """The names that may have been meant by one that is nowhere; none for the hundredth of those."""
        self.context.guesses += 1
        if self.context.guesses > _MOST_GUESSES:
            return set()
        names: set[str] = (
            set(self.context.base) | set(values.PRIMITIVES) | set(library.names()) | set(self.context.functions)
        )
        at: Scope | None = scope
        while at is not None:
            names |= set(at.names)
            at = at.parent
        return names

    def too_early(self, expr: t.Name | t.Call) -> None:
        self.context.reporter.report(
            "R207",
            Span(expr.span.line, expr.span.column, len(expr.name)),
            f"`{expr.name}` is used before it is made.",
            "Move the line that makes it above this one.",
        )

    def _same_kind(self, a: Type, b: Type, span: Span) -> None:
        if a.known_kind and b.known_kind and a.kind is not b.kind and {a.kind, b.kind} != {Kind.CLOCK, Kind.NUMBER}:
            self.context.reporter.report(
                "R301",
                span,
                f"One side is {a.kind.with_article}, the other {b.kind.with_article}.",
                "Both must be of one kind.",
            )

    def _logic(self, expr: t.Binary, scope: Scope) -> Type:
        left = self.flag(expr.left, scope, f"What stands left of `{expr.op}`")
        right = self.flag(expr.right, scope, f"What stands right of `{expr.op}`")
        decisive = expr.op == "or"
        value = (
            decisive
            if decisive in (left.value, right.value)
            and isinstance(decisive, bool)
            and (left.value is decisive or right.value is decisive)
            else None
        )
        if value is None and isinstance(left.value, bool) and isinstance(right.value, bool):
            value = not decisive
        return blend(left, right, kind=Kind.FLAG, value=value)

    def _arithmetic(self, expr: t.Binary, scope: Scope) -> Type:
        if expr.op == "+":
            self.number_lints.counted(expr)
        left = self.number(expr.left, scope, f"What stands left of `{expr.op}`")
        right = self.number(expr.right, scope, f"What stands right of `{expr.op}`")
        if expr.op in "-/":
            self.lints.pair(expr, expr.left, expr.op, expr.right)
        if expr.op in "+-":
            if unlike(left.unit, right.unit):
                self.context.reporter.report(
                    "R401",
                    expr.span,
                    f"This mixes {left.unit.value} and {right.unit.value}.",
                    "Bring both to one unit, or check that the right value is meant.",
                )
            unit = common_unit(left.unit, right.unit)
        elif expr.op == "*":
            unit = product_unit(left.unit, right.unit)
        elif expr.op == "/":
            self.value_lints.division(expr, right)
            unit = quotient_unit(left.unit, right.unit)
        elif expr.op == "mod":
            unit = left.unit
        else:
            unit = left.unit if left.unit in (Unit.PLAIN, Unit.RATIO) else Unit.UNKNOWN
        return blend(left, right, kind=Kind.NUMBER, unit=unit, value=_fold(expr.op, left.value, right.value))

    def _compare(self, expr: t.Compare, scope: Scope) -> Type:
        types = [self.single(v, scope) for v in expr.values]
        for k, op in enumerate(expr.ops):
            a, b = types[k], types[k + 1]
            span = expr.values[k + 1].span
            timed = {a.kind, b.kind} == {Kind.CLOCK, Kind.NUMBER}
            if a.known_kind and b.known_kind and a.kind is not b.kind and not timed:
                plain = unquoted(expr.values[k + 1], a.kind)
                self.context.reporter.report(
                    "R301",
                    span,
                    f"{a.kind.with_article.capitalize()} is compared with {b.kind.with_article}.",
                    f"Write `{plain}` without quotes." if plain else "Compare values of one kind.",
                    plain,
                )
            elif op not in ("==", "!=") and (a.known_kind and a.kind not in (Kind.NUMBER, Kind.CLOCK)):
                self.context.reporter.report(
                    "R301", span, f"`{op}` needs numbers, and this is {a.kind.with_article}.", "Use `==` or `!=`."
                )
            elif a.kind in (Kind.TEXT, Kind.COLOUR) and (a.moving or b.moving):
                self.context.reporter.report(
                    "R302",
                    span,
                    "Texts and colours that move cannot be compared.",
                    "Compare the values they are made of.",
                )
            elif _is_none(expr.values[k]) or _is_none(expr.values[k + 1]):
                self._with_none(expr, k)
            elif unlike(a.unit, b.unit):
                self.context.reporter.report(
                    "R401",
                    expr.span,
                    f"This compares {a.unit.value} with {b.unit.value}.",
                    "Bring both to one unit, or check that the right value is meant.",
                )
            self.value_lints.comparison(expr.values[k], expr.values[k + 1], (a, b))
            self.lints.pair(expr, expr.values[k], op, expr.values[k + 1])
            self.number_lints.share(expr.values[k], a, expr.values[k + 1], scope)
            self.number_lints.share(expr.values[k + 1], b, expr.values[k], scope)
        return blend(*types, kind=Kind.FLAG)

    def _pick(self, expr: t.Pick, scope: Scope) -> Type:
        type_ = self.type_of(expr.value, scope)
        if type_.kind is Kind.UNKNOWN:
            return UNKNOWN
        for name, result in type_.results:
            if name == expr.name:
                return result
        names = [name for name, _ in type_.results]
        meant = result_for(expr.name, names)
        hint = (f"Did you mean `{meant}`? " if meant else "") + (
            f"It gives {', '.join(names)}." if names else "It gives one value; leave the point out."
        )
        if not names:  # the point and the name are taken out
            self.context.reporter.report(
                "R206",
                Span(expr.span.line, expr.span.column - 1, expr.span.length + 1),
                f"There is no result `{expr.name}` here.",
                hint,
                "",
            )
            return UNKNOWN
        self.context.reporter.report("R206", expr.span, f"There is no result `{expr.name}` here.", hint, meant)
        return UNKNOWN

    def _with_none(self, expr: t.Compare, k: int) -> None:
        """A comparison with `none`, which is never true."""
        other = expr.values[k] if _is_none(expr.values[k + 1]) else expr.values[k + 1]
        written, edit = self.context.written(other.span), None
        if len(expr.ops) == 1 and written and expr.ops[0] in ("==", "!="):
            edit = f"{'not ' if expr.ops[0] == '==' else ''}known({written})"
        self.context.reporter.report(
            "R301",
            expr.span if edit else expr.values[k + 1].span,
            "A comparison with none is never true.",
            f"Write `{edit}`." if edit else "Write `known(x)` or `not known(x)`.",
            edit,
        )


def _is_none(expr: t.Expr) -> bool:
    """Whether an expression is the word `none` itself."""
    return isinstance(expr, t.Literal) and expr.kind == Kind.NONE.value


def _pieces(expr: t.Binary) -> list[t.Expr] | None:
    """The operands of a `+` from left to right, if a text is among them; else None."""
    made: list[t.Expr] = []
    at: t.Expr = expr
    while isinstance(at, t.Binary) and at.op == "+":
        made.append(at.right)
        at = at.left
    made.append(at)
    return made[::-1] if any(isinstance(p, t.Text) for p in made) else None


def _fold(op: str, a: object, b: object) -> float | None:
    """The value of arithmetic on two known numbers, if it has one."""
    if not isinstance(a, float) or not isinstance(b, float):
        return None
    if op == "+":
        return a + b
    if op == "-":
        return a - b
    if op == "*":
        return a * b
    if op == "/":
        return a / b if b else None
    return None
