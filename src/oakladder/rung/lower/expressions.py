"""Expressions: each becomes operations on the domain that asks for it."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any, Protocol

from oakladder.rung import tree as t
from oakladder.rung import values
from oakladder.rung.lower.emit import Emitter
from oakladder.rung.lower.frames import NAN, NOWHERE, Bundle, CallFrame, Instance, Trace, Value, timeframe_of
from oakladder.rung.plan.inputs import BarColumn, IsSymbol
from oakladder.rung.plan.ops import (
    CHART_TIMEFRAME,
    DATA_EXPONENT,
    DIVISOR_EXPONENT,
    PLACE,
    TAME_EXPONENT,
    Domain,
    Op,
    Slot,
)
from oakladder.rung.read.blocks import parse
from oakladder.rung.texts import CLOCK
from oakladder.rung.trade_words import POSITION, POSITION_VALUES


class PositionReader(Protocol):
    """What expressions ask of the part that trades."""

    def position(self, name: str, domain: Domain) -> Op: ...


@lru_cache(maxsize=2048)
def _written(text: str) -> t.Expr:
    """An expression of the compiler's own, read once."""
    statement = parse(f"let x = {text}")[0].statements[0]
    assert isinstance(statement, t.Let), text
    return statement.value


class Expressions:
    """Lowers expressions. ``parts`` (calls, the past, elsewhere) and ``frame`` are set by the lowerer."""

    parts: Mapping[type[t.Expr], Callable[[Any, CallFrame], Value]]
    frame: Callable[[Instance, Domain, int], CallFrame]
    #: What trades the script, if it does.
    trading: PositionReader | None = None

    def __init__(self, emitter: Emitter, trace: Trace, clocks: frozenset[t.TextPart]):
        self.emitter, self.trace, self.clocks = emitter, trace, clocks
        #: The slots of loop counters, with their bounds.
        self.bounds: dict[Slot, tuple[Op, Op]] = {}

    def seen_from(self, instance: Instance, domain: Domain, at: int) -> CallFrame:
        """An instance on a domain as it is seen from behind its first ``at`` statements, though more may be lowered."""
        frame = self.frame(instance, domain, at)
        return frame if frame.seen == at else CallFrame(instance, domain, frame.names, at)

    def value(self, expr: t.Expr, frame: CallFrame) -> Value:
        made = self._lowered(expr, frame)
        if frame.domain is self.emitter.base:
            self.trace.values[frame.instance, expr] = made
        return made

    def _lowered(self, expr: t.Expr, frame: CallFrame) -> Value:
        domain = frame.domain
        match expr:
            case t.Literal():
                return self._literal(expr)
            case t.Text():
                return self._text(expr, frame)
            case t.Name():
                return self.name_of(expr, frame)
            case t.Unary(op="-"):
                inner = self.emitter.number(self.value(expr.value, frame), domain)
                if inner.code == "const":
                    return self.emitter.const(-float(inner.attr))  # type: ignore[arg-type]
                return self.emitter.emit("neg", inner, bound=inner.bound, domain=domain)
            case t.Unary():
                return self.emitter.emit(
                    "not", self.emitter.flag(self.value(expr.value, frame), domain), kind="flag", domain=domain
                )
            case t.Binary(op="and" | "or"):
                left = self.emitter.flag(self.value(expr.left, frame), domain)
                right = self.emitter.flag(self.value(expr.right, frame), domain)
                return self.emitter.emit(expr.op, left, right, kind="flag", domain=domain)
            case t.Binary(op="else"):
                return self._pair("otherwise", (), expr.left, expr.right, frame)
            case t.Binary():
                left = self.emitter.number(self.value(expr.left, frame), domain)
                right = self.emitter.number(self.value(expr.right, frame), domain)
                return self._arithmetic(expr.op, left, right, domain)
            case t.Compare():
                return self._compare(expr, frame)
            case t.Choice():
                test = self.emitter.flag(self.value(expr.condition, frame), domain)
                return self._pair("choose", (test,), expr.yes_value, expr.no_value, frame)
            case t.Pick(value=t.Name(name="position")) if self.find(POSITION, frame) is None:
                assert self.trading is not None
                return self.trading.position(expr.name, domain)
            case t.Pick():
                bundle = self.value(expr.value, frame)
                assert isinstance(bundle, Bundle)
                return bundle.results[expr.name]
            case _:
                return self.parts[type(expr)](expr, frame)

    def _literal(self, expr: t.Literal) -> Op:
        match expr.kind:
            case "number" | "clock":
                return self.emitter.const(float(expr.value))  # type: ignore[arg-type]
            case "flag":
                return self.emitter.flag_const(bool(expr.value))
            case "none":
                return self.emitter.const(NAN)
        return self.emitter.emit("literal", attr=expr.value, kind=expr.kind, domain=self.emitter.base)

    def _text(self, expr: t.Text, frame: CallFrame) -> Op:
        parts: list[str | tuple[int, str]] = []
        args: list[Op] = []
        for part in expr.parts:
            if isinstance(part, str):
                parts.append(part)
            else:
                parts.append((len(args), CLOCK if part in self.clocks else part.form))
                args.append(self.emitter.one(self.value(part.value, frame)))
        return self.emitter.emit("text", *args, attr=tuple(parts), kind="text", domain=frame.domain)

    def find(self, name: str, frame: CallFrame) -> Value | Slot | None:
        if name in frame.names:
            return frame.names[name]
        instance = frame.instance
        if name in instance.arguments:
            argument = instance.arguments[name]
            caller = self.seen_from(argument.caller, frame.domain, argument.at)
            value = self.value(argument.expr, caller)
            frame.names[name] = value
            return value
        if instance.parent is not None:
            return self.find(name, self.frame(instance.parent, frame.domain, instance.parent_done))
        return None

    def name_of(self, expr: t.Name, frame: CallFrame) -> Value:
        found = self.find(expr.name, frame)
        if isinstance(found, Slot):
            bound = 18.0 if found in self.bounds else TAME_EXPONENT
            return self.emitter.emit(
                "get", attr=found, kind="flag" if found.flag else "number", bound=bound, domain=found.domain
            )
        if found is not None:
            return found
        if expr.name == POSITION:
            assert self.trading is not None
            return Bundle({name: self.trading.position(name, frame.domain) for name in POSITION_VALUES})
        if expr.name in values.COLUMNS:
            return self.emitter.emit("input", attr=BarColumn(expr.name), bound=DATA_EXPONENT, domain=frame.domain)
        if expr.name in values.DERIVED:
            return self.value(_written(values.DERIVED[expr.name]), CallFrame(NOWHERE, frame.domain))
        if expr.name == PLACE and frame.instance.is_own:
            return self.emitter.emit(PLACE, bound=40, domain=frame.domain)
        if expr.name == "bar":
            return self.emitter.emit("bar", bound=40, domain=frame.domain)
        if expr.name in values.TIME_INPUTS or (expr.name in values.TRADE_INPUTS and frame.instance.is_own):
            raw = self.emitter.emit("input", attr=BarColumn(expr.name), bound=DATA_EXPONENT, domain=frame.domain)
            return self.emitter.flag(raw, frame.domain) if expr.name in values.FLAG_INPUTS else raw
        if expr.name == "symbol":
            return self.emitter.emit("symbol", kind="text", domain=frame.domain)
        if expr.name == "timeframe":
            return timeframe_of(frame.domain) or self.emitter.emit(
                "setting", attr=CHART_TIMEFRAME, kind="timeframe", domain=frame.domain
            )
        if expr.name in values.PALETTE:
            return self.emitter.emit("literal", attr=expr.name, kind="colour", domain=frame.domain)
        return self.parts[t.Call](t.Call(expr.name, (), (), expr.span), frame)

    @staticmethod
    def written(text: str) -> t.Expr:
        """An expression that the compiler itself writes in Rung."""
        return _written(text)

    def _pair(self, code: str, before: tuple[Op, ...], left: t.Expr, right: t.Expr, frame: CallFrame) -> Op:
        """A value that is one of two, of whichever kind they are."""
        domain = frame.domain
        a, b = self.emitter.one(self.value(left, frame)), self.emitter.one(self.value(right, frame))
        return self.emitter.either(code, before, a, b, domain)

    def _arithmetic(self, op: str, a: Op, b: Op, domain: Domain) -> Op:
        match op:
            case "+" | "-":
                code = "add" if op == "+" else "sub"
                return self.emitter.guard_overflow(
                    self.emitter.emit(code, a, b, bound=max(a.bound, b.bound) + 1, domain=domain), domain
                )
            case "*":
                return self.emitter.guard_overflow(
                    self.emitter.emit("mul", a, b, bound=a.bound + b.bound, domain=domain), domain
                )
            case "/" if b.fixed:
                divisor = self.emitter.emit("divisor", b, domain=domain)
                return self.emitter.guard_overflow(
                    self.emitter.emit("div", a, divisor, bound=a.bound + DIVISOR_EXPONENT, domain=domain), domain
                )
            case "/":
                return self.emitter.guard_overflow(
                    self.emitter.emit("div", a, b, bound=math.inf, domain=domain), domain
                )
            case "mod":
                return self.emitter.emit("mod", a, b, bound=max(a.bound, b.bound), domain=domain)
        if b.code == "const" and b.attr == 2.0:
            return self._arithmetic("*", a, a, domain)
        if b.code == "const" and b.attr == 0.5:
            return self.emitter.emit("sqrt", a, bound=a.bound, domain=domain)
        return self.emitter.guard_overflow(self.emitter.emit("pow", a, b, bound=math.inf, domain=domain), domain)

    def _compare(self, expr: t.Compare, frame: CallFrame) -> Op:
        domain = frame.domain
        values = [self.emitter.one(self.value(v, frame)) for v in expr.values]
        names = {"<": "lt", "<=": "le", ">": "gt", ">=": "ge", "==": "eq", "!=": "ne"}
        result: Op | None = None
        for k, op in enumerate(expr.ops):
            a, b = values[k], values[k + 1]
            if "symbol" in (a.code, b.code):
                made = self._is_symbol(a if b.code == "symbol" else b, op, domain)
            elif a.is_shell or b.is_shell:
                made = self.emitter.emit(names[op], a, b, kind="flag", domain=domain)
            else:
                made = self.emitter.emit(
                    names[op],
                    self.emitter.number(a, domain),
                    self.emitter.number(b, domain),
                    kind="flag",
                    domain=domain,
                )
            result = made if result is None else self.emitter.emit("and", result, made, kind="flag", domain=domain)
        assert result is not None
        return result

    def _is_symbol(self, text: Op, op: str, domain: Domain) -> Op:
        """Whether the symbol equals a fixed text: a separate input for each text."""
        raw = self.emitter.emit("input", attr=IsSymbol(text), bound=1, domain=domain)
        same = self.emitter.flag(raw, domain)
        return same if op == "==" else self.emitter.emit("not", same, kind="flag", domain=domain)
