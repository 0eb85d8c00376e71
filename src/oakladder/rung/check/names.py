"""Names as they are made: none twice, none that belongs to the language."""

from __future__ import annotations

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.check.scope import Binding, Scope
from oakladder.rung.problems import Span


class Names:
    """Puts names into scopes."""

    def __init__(self, context: Context):
        self.context = context

    def bind(self, name: t.Name, binding: Binding, scope: Scope) -> None:
        old = scope.find(name.name)
        if old is not None and (name.name in scope.names or scope.blocks):
            self.context.reporter.report(
                "R202",
                name.span,
                f"`{name.name}` is already made in line {old.span.line}.",
                "Choose another name; to change a value, make it with `keep` or `fresh` and use `set`.",
            )
        elif self.context.results and name.name in self.context.results[-1]:
            pass  # a function may name its results as the bar's own: `open`, `high`
        elif name.name in self.context.base:  # functions are called with brackets, so their names stay free
            first = self.context.taken.setdefault(name.name, name.span)
            self.context.met.setdefault(name.name, []).extend([name.span] if first != name.span else [])
        scope.names[name.name] = binding
        if scope.parent is None and not self.context.stack:
            self.context.bindings[name.name] = binding

    def too_early(self, expr: t.Name | t.Call) -> None:
        self.context.reporter.report(
            "R207",
            Span(expr.span.line, expr.span.column, len(expr.name)),
            f"`{expr.name}` is used before it is made.",
            "Move the line that makes it above this one.",
        )
