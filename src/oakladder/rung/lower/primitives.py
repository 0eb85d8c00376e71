"""Built-in functions: rolling aggregates, new bars, colours, plain arithmetic."""

from __future__ import annotations

import functools
import math

from oakladder.rung import tree as t
from oakladder.rung import values
from oakladder.rung.kinds import Kind
from oakladder.rung.lower.emit import Emitter
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.frames import NOWHERE, CallFrame
from oakladder.rung.plan.inputs import BarBegins
from oakladder.rung.plan.ops import LONGEST, SORTED, Domain, Op, RollingAggregate

_ONE_ZERO_NONE: tuple[tuple[str, object], ...] = (("number", 1.0), ("number", 0.0), ("none", None))


def _sum_of_flags(expr: t.Call) -> t.Expr:
    """`how_many(f, g)` in the terms of the language: each flag as 1, 0 or none, added up."""
    one, zero, none = (t.Literal(kind, value, expr.span) for kind, value in _ONE_ZERO_NONE)
    parts: list[t.Expr] = [
        t.Choice(f, one, t.Choice(t.Call("known", (f,), (), expr.span), zero, none, expr.span), expr.span)
        for f in expr.arguments
    ]
    return functools.reduce(lambda a, b: t.Binary("+", a, b, expr.span), parts)


class Primitives:
    """Lowers calls of primitives."""

    def __init__(self, emitter: Emitter, expressions: Expressions):
        self.emitter, self.expressions = emitter, expressions
        self._knowns: dict[Op, Op] = {}

    def primitive(self, expr: t.Call, frame: CallFrame) -> Op:
        domain = frame.domain
        if expr.name == "how_many":
            return self.emitter.one(self.expressions.value(_sum_of_flags(expr), frame))
        args = [self.emitter.one(self.expressions.value(a, frame)) for a in expr.arguments]
        if expr.name == "new":
            return self._new(args[0], frame)
        if values.PRIMITIVES[expr.name].gives is Kind.COLOUR:
            mixed = [a if a.is_shell else self.emitter.number(a, domain) for a in args]
            return self.emitter.emit(expr.name, *mixed, kind="colour", domain=domain)
        if expr.name == "known":
            return self._known(args[0], domain)
        numbers = [self.emitter.number(a, domain) for a in args]
        if expr.name in ("ranked", "rank_of"):
            return self._ranked(numbers, domain)
        if values.PRIMITIVES[expr.name].holds:
            return self._fold(expr.name, numbers[0], numbers[1], domain)
        bound = max(a.bound for a in numbers)
        if expr.name == "log":
            bound = 12
        if expr.name == "exp":
            return self.emitter.guard_overflow(
                self.emitter.emit("exp", numbers[0], bound=math.inf, domain=domain), domain
            )
        return self.emitter.emit(expr.name, *numbers, bound=bound, domain=domain)

    def _known(self, op: Op, domain: Domain) -> Op:
        """Whether a value is known: of a text or colour, whether the part that it takes is."""
        if not op.is_shell:
            return self.emitter.emit("known", op, kind="flag", domain=domain)
        if op not in self._knowns:
            if op.code == "choose":
                test, yes, no = op.args
                made = self.emitter.either("choose", (test,), self._known(yes, domain), self._known(no, domain), domain)
            elif op.code == "otherwise":
                made = self.emitter.emit(
                    "or", self._known(op.args[0], domain), self._known(op.args[1], domain), kind="flag", domain=domain
                )
            elif op.code in ("fade", "blend"):
                made = self._known(op.args[0], domain)
                for part in op.args[1:-1]:
                    made = self.emitter.emit("and", made, self._known(part, domain), kind="flag", domain=domain)
            else:  # a word, a template, a setting: always there
                made = self.emitter.flag_const(True)
            self._knowns[op] = made
        return self._knowns[op]

    def _new(self, timeframe: Op, frame: CallFrame) -> Op:
        """Whether a longer bar begins: days, weeks and months by the calendar, shorter ones by an input."""
        domain = frame.domain
        raw = self.emitter.emit("input", attr=BarBegins(timeframe), bound=1, domain=domain)
        made = self.emitter.flag(raw, domain)
        for word, period in values.PERIODS.items():
            test = self.emitter.emit(
                "eq",
                timeframe,
                self.emitter.emit("literal", attr=word, kind="timeframe", domain=domain),
                kind="flag",
                domain=domain,
            )
            changed = self.expressions.written(f"({period}) != (({period})[1] else -1)")
            begins = self.emitter.flag(self.expressions.value(changed, CallFrame(NOWHERE, domain)), domain)
            if timeframe.code == "literal":
                if timeframe.attr == word:
                    return begins
                continue
            made = self.emitter.between(test, begins, made, domain)
        return made

    def _fold(self, how: str, x: Op, length: Op, domain: Domain) -> Op:
        self.emitter.demand(length, 1, LONGEST, "a length" if how == SORTED else f"the length of `{how}`")
        key = ("fold", how, id(x), id(length), domain)
        if key not in self.emitter.fixed:
            fold = RollingAggregate(domain, how, length)
            bound = 18.0 if how == SORTED else x.bound + 17 if how == "sum" else x.bound
            self.emitter.fixed[key] = self.emitter.emit("fold", x, attr=fold, bound=bound, domain=domain)
        return self.emitter.guard_overflow(self.emitter.fixed[key], domain)

    def _ranked(self, numbers: list[Op], domain: Domain) -> Op:
        """The place of the newest value among the last ones, or (with a third number) the value of a place."""
        place = self._fold(SORTED, numbers[0], numbers[1], domain)
        if len(numbers) == 2:
            return place
        self.emitter.demand(numbers[2], 1, LONGEST, "the place for `ranked`")
        return self.emitter.emit("ranked", place, numbers[2], attr=place.attr, bound=numbers[0].bound, domain=domain)
