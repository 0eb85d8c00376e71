"""Calls: arguments by parameters, and the body of a function walked once for each combination of their types."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cache, reduce

from oakladder.rung import library, values
from oakladder.rung import tree as t
from oakladder.rung.arguments import arrange, holds_state, signature
from oakladder.rung.check.call_fixes import CallFixes, Edits
from oakladder.rung.check.context import TOO_FAR, Context
from oakladder.rung.check.expressions import Expressions
from oakladder.rung.check.scope import Binding, Function, Scope, later_names
from oakladder.rung.check.suggestions import function_for, surest
from oakladder.rung.kinds import UNKNOWN, Kind, Type, Unit, blend, common_unit
from oakladder.rung.other_scripts import is_taken
from oakladder.rung.problems import Span, did_you_mean

MAX_CALL_DEPTH = 40


@cache
def _of_library(name: str) -> Function | None:
    found = library.function(name)
    if found is None:
        return None
    parts = (found.lengths, found.kinds, found.series, found.counts, found.bounds)
    return Function(found.define, None, found.unit, True, *parts)


class Calls:
    """Types calls. ``walk`` is set by the checker: the body of a function is made of statements."""

    walk: Callable[[Sequence[t.Statement], Scope], tuple[t.Expr, ...] | None]

    def __init__(self, context: Context, expressions: Expressions):
        self.context, self.expressions, self.names = context, expressions, expressions.names
        self.edits = CallFixes(context)

    def function(self, name: str) -> Function | None:
        # The library calls the library only, and a function of another script what it makes or takes there.
        if name in self.context.functions and (not self.context.reporter.blame or is_taken(name)):
            return self.context.functions[name]
        return _of_library(name)

    def call(self, expr: t.Call, scope: Scope) -> Type:
        if expr.name in values.PRIMITIVES:
            return self._primitive(expr, values.PRIMITIVES[expr.name], scope)
        if (
            expr.name in self.context.defined
            and expr.name not in self.context.functions
            and not self.context.reporter.blame
        ):
            self.expressions.too_early(expr)
            return UNKNOWN
        function = self.function(expr.name)
        if function is None and expr.name in self.context.lost:
            for argument in (*expr.arguments, *(v for _, v in expr.named)):
                self.expressions.single(argument, scope)
            return UNKNOWN
        if function is None:
            for argument in (*expr.arguments, *(v for _, v in expr.named)):
                self.expressions.single(argument, scope)
            self._unknown_function(expr, scope)
            return UNKNOWN
        self.context.called.add(expr.name)
        if expr.name in self.context.hiding and not self.context.reporter.blame:
            self.context.hiding[expr.name].append(Span(expr.span.line, expr.span.column, len(expr.name)))
        if expr.name in self.context.stack and not function.of_library:
            self.context.reporter.report(
                "R209", expr.span, f"`{expr.name}` calls itself.", "Use `keep` to carry a value from bar to bar."
            )
            return UNKNOWN
        if scope.blocks and self._function_holds(function):
            self._in_block(expr, scope)
        arguments = arrange(expr, function.define)
        if isinstance(arguments, str):
            edit = (
                self.edits.left_out(expr, function)
                or self.edits.decimal_comma(expr, function)
                or self.edits.series_too_many(expr, function)
                or self.edits.other_parameter(expr, function)
            )
            self.context.reporter.report(
                "R205", expr.span, arguments, f"It is called as {signature(function.define)}.", also=edit
            )
            for argument in expr.arguments:
                self.expressions.single(argument, scope)
            return UNKNOWN
        if self._wrong_way_round(expr, function, scope):
            return UNKNOWN
        if edit := self.edits.left_out(expr, function):
            self.context.reporter.report(
                "R404",
                expr.arguments[0].span,
                f"`{expr.name}` looks at a series first, and this number is the same on every bar.",
                f"It is called as {signature(function.define)}.",
                also=edit,
            )
        types = []
        for parameter, (argument, inside) in zip(function.define.parameters, arguments, strict=True):
            where = scope if inside else Scope()
            name = parameter.name.name
            if name in function.lengths:
                types.append(self._length(argument, where, expr.name))
            elif name in function.kinds:
                kind = function.kinds[name]
                types.append(
                    self.expressions.wanted(argument, where, kind, f"`{name}` of `{self.outermost(expr.name)}`")
                )
            else:
                types.append(self.expressions.single(argument, where))
            if name in function.counts and not self._counted(argument, types[-1], f"`{name}` of `{expr.name}`", where):
                return UNKNOWN
            if name in function.bounds:
                self._bounded(argument, types[-1], function.bounds[name], f"`{name}` of `{expr.name}`")
        if any(type_.of_zone for type_ in types) and not _is_plain(function.define.body):
            self._zone_has_no_past(expr)
            return UNKNOWN
        spans = [self._span_quiet(a, scope) if inside else expr.span for a, inside in arguments]
        return self.body(function, types, expr.span, spans)

    def _zone_has_no_past(self, expr: t.Call) -> None:
        self.context.reporter.report(
            "R304",
            expr.span,
            f"`{expr.name}` goes through the bars, and a zone's own values have no past.",
            "Compare them with signs, as in `close < bottom`, or use `min` and `max`.",
        )

    def _unknown_function(self, expr: t.Call, scope: Scope) -> None:
        span = Span(expr.span.line, expr.span.column, len(expr.name))
        what = f"There is no function `{self.context.written(span) or expr.name}`."
        if scope.find(expr.name) or expr.name in self.context.base:
            (inner, *more) = [self.context.written(a.span) for a in expr.arguments] or [""]
            edit = f"{expr.name}[{inner}]" if inner and not more and not expr.named else None
            hint = f"`{expr.name}` is a value; look back with square brackets: `{expr.name}[1]`."
            self.context.reporter.report("R204", span if edit is None else expr.span, what, hint, edit)
            return
        names = [*values.PRIMITIVES, *library.names(), *self.context.functions]
        meant = function_for(expr.name) or surest(expr.name, names)
        hint = f"Did you mean `{meant}`?" if meant else did_you_mean(expr.name, names) or "Make it above with `define`."
        self.context.reporter.report("R204", span, what, hint, meant)

    def _in_block(self, expr: t.Call, scope: Scope) -> None:
        """Reports a function with memory inside a block, and shows how to compute it above the block."""
        name, block, written = f"{expr.name}_now", self.context.block, self.context.written(expr.span)
        words = re.findall(r"[a-z_]\w*", written)
        free = scope.find(name) is None and not any((b := scope.find(w)) is not None and b.in_block for w in words)
        edit: tuple[str | None, Edits] = (None, ())
        if free and written.endswith(")") and block is not None and block.line <= expr.span.line:
            indent = " " * (block.column - 1)
            edit = name, ((Span(block.line, block.column, 0), f"let {name} = {written}\n{indent}"),)
        self.context.reporter.report(
            "R304",
            expr.span,
            f"`{expr.name}` looks back over bars, so it must run on every bar, not inside `if` or `for`.",
            "Compute it above the block with `let`, and use the name here.",
            *edit,
        )

    def _wrong_way_round(self, expr: t.Call, function: Function, scope: Scope) -> bool:
        """Whether a length and a series have changed places: `sma(9, close)`."""
        parameters = [p.name.name for p in function.define.parameters[:2]]
        if len(parameters) < 2 or len(expr.arguments) < 2 or self.context.reporter.blame:
            return False
        first, second = expr.arguments[:2]
        if parameters[0] not in function.series or parameters[1] not in function.lengths:
            return False
        if not isinstance(first, t.Literal) or first.kind != Kind.NUMBER.value:
            return False
        if not self.expressions.single(second, scope).moving:
            return False
        one, two = self.context.written(first.span), self.context.written(second.span)
        self.context.reporter.report(
            "R302",
            second.span,
            f"The length for `{expr.name}` must be fixed, and this one moves.",
            f"The series comes first: `{expr.name}({two}, {one})`.",
            one,
            ((first.span, two),),
        )
        return True

    def _counted(self, argument: t.Expr, type_: Type, what: str, scope: Scope) -> bool:
        """Whether a number of bars is fixed and whole, as far as that is known."""
        if type_.moving or type_.per_symbol:
            span = self.expressions.span_of(argument, scope)
            self.context.reporter.report(
                "R302", span, f"{what} must be fixed, and this one moves.", "Use a number or a setting."
            )
            return False
        return self._bounded(argument, type_, (0, TOO_FAR), what)

    def _bounded(self, argument: t.Expr, type_: Type, bounds: tuple[float, float], what: str) -> bool:
        low, high = bounds
        value = type_.value
        if not isinstance(value, float) or (low <= value <= high and value.is_integer()):
            return True
        self.context.reporter.report(
            "R305",
            argument.span,
            f"{what} is a whole number from {low:g} to {high:,.0f}, and this is {value:g}.",
            f"Use {low:g} to {high:,.0f}.",
        )
        return False

    def _span_quiet(self, expr: t.Expr, scope: Scope) -> Span:
        if isinstance(expr, t.Name) and (binding := scope.find(expr.name)) is not None and binding.argument is not None:
            return binding.argument
        return expr.span

    def body(self, function: Function, types: Sequence[Type], span: Span, spans: Sequence[Span] = ()) -> Type:
        define = function.define
        key = (id(define), tuple(types))
        if key in self.context.checked:
            return self.context.checked[key]
        if len(self.context.stack) >= MAX_CALL_DEPTH:
            self.context.reporter.report(
                "R601", span, f"Functions call functions more than {MAX_CALL_DEPTH} deep.", "Use fewer layers."
            )
            return UNKNOWN
        before = len(self.context.reporter.found)
        self.context.stack.append(define.name.name)
        self.context.results.append(frozenset(_given_names(define)))
        if function.of_library:
            self.context.reporter.blame.append(self.context.reporter.blame[-1] if self.context.reporter.blame else span)
        scope = Scope(function.scope, later=later_names(define.body))
        for k, (parameter, type_) in enumerate(zip(define.parameters, types, strict=True)):
            argument = spans[k] if function.of_library and spans else None
            scope.names[parameter.name.name] = Binding(
                "parameter", type_, parameter.name.span, read=True, argument=argument
            )
        given = self.walk(define.body, scope)
        results: list[tuple[str, Type]] = []
        for k, value in enumerate(given or ()):
            name = value.name if isinstance(value, t.Name) else str(k + 1)
            results.append((name, self.expressions.single(value, scope)))
        if function.of_library:
            self.context.reporter.blame.pop()
        self.context.stack.pop()
        self.context.results.pop()
        if not function.of_library and given is not None:
            for name, binding in scope.names.items():
                if not binding.read:
                    self.context.reporter.report(
                        "R701", binding.span, f"Nothing reads `{name}`.", "Use it, or take it out."
                    )
        made = UNKNOWN
        if len(results) == 1:
            made = results[0][1]
            if function.unit is not None:
                made = replace(made, unit=function.unit)
        elif results:
            made = Type(Kind.BUNDLE, results=tuple(results))
        if len(self.context.reporter.found) == before:
            self.context.checked[key] = made
        return made

    def _primitive(self, expr: t.Call, primitive: values.Primitive, scope: Scope) -> Type:
        if primitive.variadic and expr.arguments and not expr.named:
            flags = [self.expressions.flag(a, scope, f"What `{expr.name}` counts") for a in expr.arguments]
            return blend(*flags, kind=primitive.gives)
        names = [name for name, _ in primitive.parameters]
        if expr.named or len(expr.arguments) != len(names):
            parts = [self.context.written(a.span) for a in expr.arguments]
            nested = None
            if expr.name in ("min", "max") and len(parts) > 2 and all(parts) and not expr.named:
                nested = reduce(lambda a, b: f"{expr.name}({a}, {b})", parts)
            series = {"highest": "high", "lowest": "low", "sum": "volume"}.get(expr.name)
            alone = len(expr.arguments) == 1 and isinstance(expr.arguments[0], t.Literal) and not expr.named
            also = (
                ((Span(expr.arguments[0].span.line, expr.arguments[0].span.column, 0), f"{series}, "),)
                if alone and series
                else ()
            )
            self.context.reporter.report(
                "R205",
                expr.span,
                f"`{expr.name}` takes {len(names)} value{'s' if len(names) > 1 else ''}, not {len(expr.arguments)}.",
                f"It is called as {expr.name}({', '.join(names)}).",
                nested,
                also,
            )
            for argument in expr.arguments:
                self.expressions.single(argument, scope)
            return Type(primitive.gives)
        if primitive.holds and scope.blocks:
            self._in_block(expr, scope)
        types: list[Type] = []
        for argument, (name, wants) in zip(expr.arguments, primitive.parameters, strict=True):
            if wants == values.Wants.ANY:
                types.append(self.expressions.single(argument, scope))
            elif wants == values.Wants.TIMEFRAME:
                types.append(self.expressions.wanted(argument, scope, Kind.TIMEFRAME, f"`{name}` of `{expr.name}`"))
            elif wants == values.Wants.COLOUR:
                types.append(self.expressions.wanted(argument, scope, Kind.COLOUR, f"`{name}` of `{expr.name}`"))
            elif wants == values.Wants.LENGTH:
                types.append(self._length(argument, scope, expr.name))
            else:
                types.append(self.expressions.number(argument, scope, f"`{name}` of `{expr.name}`"))
        self.expressions.value_lints.extreme(expr, types)
        if primitive.holds and any(type_.of_zone for type_ in types):
            self._zone_has_no_past(expr)
            return Type(primitive.gives)
        unit = Unit.PLAIN
        if primitive.unit == "same":
            unit = types[0].unit
            if expr.name in ("min", "max"):
                unit = common_unit(types[0].unit, types[1].unit)
            elif expr.name == "sqrt":
                unit = types[0].unit if types[0].unit in (Unit.PLAIN, Unit.RATIO) else Unit.UNKNOWN
        made = blend(*types, kind=primitive.gives, unit=unit)
        return replace(made, moving=True, counter=False) if primitive.holds else made

    def _length(self, expr: t.Expr, scope: Scope, name: str) -> Type:
        """A window length: fixed, a whole number, at least 1."""
        type_ = self.expressions.number(expr, scope, "A length")
        if type_.moving or type_.per_symbol:
            self.context.reporter.report(
                "R302",
                self.expressions.span_of(expr, scope),
                f"The length for `{self.outermost(name)}` must be fixed, and this one moves.",
                "Use a number or a setting.",
            )
        elif isinstance(type_.value, float) and (
            type_.value < 1 or type_.value != int(type_.value) or type_.value > TOO_FAR
        ):
            self.context.reporter.report(
                "R305",
                self.expressions.span_of(expr, scope),
                f"A length is a whole number of bars from 1 to {TOO_FAR:,}, and this is {type_.value:g}.",
                "Use 1 or more.",
            )
        return type_

    def outermost(self, name: str) -> str:
        return self.context.stack[0] if self.context.stack and self.context.reporter.blame else name

    def _function_holds(self, function: Function) -> bool:
        """Whether a function keeps anything from bar to bar, directly or in what it calls."""
        key = id(function.define)
        if key not in self.context.holds:
            self.context.holds[key] = False
            self.context.holds[key] = holds_state(function.define.body, self._name_holds)
        return self.context.holds[key]

    def _name_holds(self, name: str) -> bool:
        if name in values.PRIMITIVES:
            return values.PRIMITIVES[name].holds
        function = self.function(name)
        return function is not None and self._function_holds(function)


def _is_plain(body: Sequence[t.Statement]) -> bool:
    """Whether a function is made of names and results alone, each from the bar itself."""
    return all(isinstance(s, t.Let | t.Give) for s in body)


def _given_names(define: t.Define) -> list[str]:
    """The names under which a function gives its results."""
    return [v.name for s in define.body if isinstance(s, t.Give) for v in s.values if isinstance(v, t.Name)]
