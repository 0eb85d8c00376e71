"""Settings: a fixed default, within its range or among its choices."""

from __future__ import annotations

from dataclasses import replace

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.check.expressions import Expressions
from oakladder.rung.check.scope import Binding, Scope
from oakladder.rung.kinds import Kind, Unit
from oakladder.rung.values import PALETTE


class Settings:
    """Checks `setting` lines."""

    def __init__(self, context: Context, expressions: Expressions):
        self.context, self.expressions, self.names = context, expressions, expressions.names

    def setting(self, statement: t.Setting, scope: Scope) -> None:
        default = self.expressions.single(statement.default, scope)
        name = statement.name.name
        self.context.settings[name] = statement
        series = bool(statement.choices) and default.moving
        if series and default.unit is Unit.PRICE:
            self.context.price_settings.add(name)
        if not series:
            ends = (e for e in (statement.low, statement.high, statement.step) if e is not None)
            for value in (statement.default, *ends, *statement.choices):
                self._plain(value, name, scope)
        if isinstance(statement.default, t.Text):
            texts = [e for e in (statement.default, *statement.choices) if isinstance(e, t.Text)]
            self.context.texts[name] = [("".join(map(str, e.parts)), e.span) for e in texts]
        numeric = all(isinstance(x, int | float) for x in (default.value, *self._limits(statement, scope)))
        limits = self._limits(statement, scope)
        if limits and default.kind is not Kind.NUMBER and default.known_kind:
            self.context.reporter.report(
                "R303",
                statement.default.span,
                f"`range` goes with numbers, and `{name}` is {default.kind.with_article}.",
                "Use `choose` for other kinds.",
            )
        elif limits and numeric:
            low, high = float(limits[0]), float(limits[1])  # type: ignore[arg-type]
            if low > high:
                self.context.reporter.report(
                    "R303",
                    statement.span,
                    f"The range of `{name}` ends below its start.",
                    "Put the smaller number first.",
                )
            elif not low <= float(default.value) <= high:  # type: ignore[arg-type]
                self.context.reporter.report(
                    "R303",
                    statement.default.span,
                    f"The default of `{name}` is outside its range {low:g}..{high:g}.",
                    "Change the default or the range.",
                )
            elif len(limits) > 2 and float(limits[2]) <= 0:  # type: ignore[arg-type]
                self.context.reporter.report(
                    "R303", statement.span, f"The step of `{name}` must be above 0.", "Use a larger one, or none."
                )
        if statement.choices:
            options = [self.expressions.single(c, scope) for c in statement.choices]
            if any(o.kind is not default.kind for o in options if o.known_kind and default.known_kind):
                self.context.reporter.report(
                    "R303",
                    statement.span,
                    f"The choices of `{name}` are not all of one kind.",
                    "Offer values of one kind.",
                )
            elif (
                default.value is not None
                and all(o.value is not None for o in options)
                and default.value not in [o.value for o in options]
            ):
                self.context.reporter.report(
                    "R303",
                    statement.default.span,
                    f"The default of `{name}` is not among its choices.",
                    "Put it among them.",
                )
            if any(o.moving for o in options):
                self._series_setting(statement)
                default = replace(default, moving=True)
        self.names.bind(statement.name, Binding("setting", replace(default, value=None), statement.name.span), scope)

    def _plain(self, expr: t.Expr, name: str, scope: Scope) -> None:
        """Reports a computed value of a setting: it must be a literal, so that it can be changed."""
        match expr:
            case t.Literal() if expr.kind != Kind.NONE.value:
                return
            case t.Unary(op="-", value=t.Literal(kind="number")):
                return
            case t.Text() if all(isinstance(p, str) for p in expr.parts):
                return
            case t.Name() if expr.name in PALETTE or self.expressions.is_unknown(expr, scope):
                return
        value = self.expressions.single(expr, scope).value
        self.context.reporter.report(
            "R302",
            expr.span,
            f"The values of the setting `{name}` must be written as numbers or words, not computed.",
            "Use a number, text, colour, timeframe or clock time.",
            f"{value:g}" if isinstance(value, float) else None,
        )

    def _series_setting(self, statement: t.Setting) -> None:
        """A setting that chooses between series: each choice is a name, so that it can be offered."""
        names = [c.name if isinstance(c, t.Name) else "" for c in statement.choices]
        if not all(names):
            self.context.reporter.report(
                "R302",
                statement.span,
                "Choices that move must be plain names, such as `close` or `hl2`.",
                "Make the others above with `let`, and offer their names.",
            )
        elif not isinstance(statement.default, t.Name) or statement.default.name not in names:
            self.context.reporter.report(
                "R303",
                statement.default.span,
                f"The default of `{statement.name.name}` is not among its choices.",
                "Put it among them.",
            )

    def _limits(self, statement: t.Setting, scope: Scope) -> list[object]:
        ends = [statement.low, statement.high] + ([statement.step] if statement.step else [])
        return [self.expressions.single(e, scope).value for e in ends if e is not None]
