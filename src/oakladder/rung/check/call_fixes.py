"""Fixes for a call that does not fit its function: a series added or removed, a comma, another name."""

from __future__ import annotations

import re
from itertools import pairwise

from oakladder.rung import tree as t
from oakladder.rung.arguments import arrange
from oakladder.rung.check.context import Context
from oakladder.rung.check.scope import Function
from oakladder.rung.check.suggestions import surest
from oakladder.rung.kinds import Kind
from oakladder.rung.problems import Span

Edits = tuple[tuple[Span, str], ...]


class CallFixes:
    """Finds what a call most likely means. Each gives the places that change, none where it is not that slip."""

    def __init__(self, context: Context):
        self.context = context

    def left_out(self, expr: t.Call, function: Function) -> Edits:
        """Adds the series to a call that begins with a length: `rsi(14)`, `bollinger(20, 2)`."""
        parameters, first = function.define.parameters, expr.arguments[0] if expr.arguments else None
        if not function.of_library or not parameters or parameters[0].name.name not in function.series:
            return ()
        if not isinstance(first, t.Literal) or first.kind != Kind.NUMBER.value or len(parameters) < 2:
            return ()
        if parameters[1].name.name not in function.lengths or not float(str(first.value)).is_integer():
            return ()
        if len(expr.arguments) > 1 and not isinstance(expr.arguments[1], t.Literal):
            return ()
        shifted = t.Call(expr.name, (t.Name("close", first.span), *expr.arguments), expr.named, expr.span)
        if isinstance(arrange(shifted, function.define), str):
            return ()
        return ((Span(first.span.line, first.span.column, 0), "close, "),)

    def decimal_comma(self, expr: t.Call, function: Function) -> Edits:
        """A point in place of the comma in `sma(close, 10,5)`, where there is one value too many."""
        if len(expr.arguments) != len(function.define.parameters) + 1:
            return ()
        for a, b in pairwise(expr.arguments):
            between = Span(a.span.line, a.span.column + a.span.length, 1)
            close = (between.line, between.column + 1) == (b.span.line, b.span.column)
            if close and isinstance(a, t.Literal) and isinstance(b, t.Literal) and self.context.written(between) == ",":
                return ((between, "."),)
        return ()

    def series_too_many(self, expr: t.Call, function: Function) -> Edits:
        """A series taken out of a call that takes none: `atr(close, 14)`."""
        if len(expr.arguments) != len(function.define.parameters) + 1 or not isinstance(expr.arguments[0], t.Name):
            return ()
        first, second = expr.arguments[0].span, expr.arguments[1].span if len(expr.arguments) > 1 else None
        if expr.arguments[0].name not in self.context.base or function.series:
            return ()
        if second is None:
            return ((first, ""),)
        return (
            ((Span(first.line, first.column, second.column - first.column), ""),) if second.line == first.line else ()
        )

    def other_parameter(self, expr: t.Call, function: Function) -> Edits:
        """The name of the one remaining parameter, for an unknown name: `sma(close, length = 9)`."""
        parameters = [p.name.name for p in function.define.parameters]
        given = set(parameters[: len(expr.arguments)]) | {n for n, _ in expr.named}
        wrong = [(name, value) for name, value in expr.named if name not in parameters]
        left = [p.name.name for p in function.define.parameters if p.name.name not in given]
        if len(wrong) != 1 or not left:
            return ()
        (name, value), line = wrong[0], self.context.lines[wrong[0][1].span.line - 1]
        found = re.search(rf"\b{name}\s*=\s*$", line[: value.span.column - 1], re.IGNORECASE)
        meant = surest(name, left) or left[0]
        return ((Span(value.span.line, found.start() + 1, len(name)), meant),) if found is not None else ()
