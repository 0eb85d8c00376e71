"""What a script may say, and most likely does not mean: shares for percent points, numbers for times of day."""

from __future__ import annotations

import re
from collections.abc import Sequence

from oakladder.rung import library, values
from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.kinds import Kind, Type, Unit

#: The longest window that is taken for one in a call of `max`, where it makes no sense as a price.
_LONGEST_WINDOW = 500


class ValueLints:
    """Warns of what would silently give another answer than is expected."""

    def __init__(self, context: Context):
        self.context = context

    def comparison(self, a: t.Expr, b: t.Expr, types: tuple[Type, Type]) -> None:
        """Looks at one comparison, from both sides."""
        if self.context.reporter.blame:
            return
        for one, other, type_ in ((a, b, types[0]), (b, a, types[1])):
            if type_.unit is Unit.PERCENT:
                self._share(other)
            elif type_.kind is Kind.CLOCK and not isinstance(one, t.Literal):
                self._time_of_day(other)

    def _share(self, expr: t.Expr) -> None:
        """`rsi(close, 14) < 30%`: the oscillator goes from 0 to 100, and 30% is 0.3."""
        written = self.context.written(expr.span)
        if isinstance(expr, t.Literal) and written.endswith("%") and expr.kind == Kind.NUMBER.value:
            plain = written[:-1].strip()
            self.context.reporter.report(
                "R402",
                expr.span,
                f"{written} is {expr.value:g}, and the other side is counted in percent points: {plain} is meant.",
                f"Write {plain}.",
                plain,
            )

    def _time_of_day(self, expr: t.Expr) -> None:
        """`clock > 0930`: a clock counts minutes, so that this is half past three in the afternoon."""
        if not isinstance(expr, t.Literal) or expr.kind != Kind.NUMBER.value:
            return
        written, number = self.context.written(expr.span), float(str(expr.value))
        found = re.fullmatch(r"(\d{1,2})\.?(\d\d)", written)
        edit = None
        if found is not None and int(found[1]) < 24 and int(found[2]) < 60 and (number >= 100 or "." in written):
            edit = f"{int(found[1]):02}:{found[2]}"
        minutes = int(number)
        says = f"{minutes // 60:02}:{minutes % 60:02}" if number.is_integer() and minutes < 1440 else "no time of day"
        self.context.reporter.report(
            "R403",
            expr.span,
            f"A clock counts minutes from midnight, so {written or f'{number:g}'} is {says}.",
            f"Write {edit}." if edit else "Write a time of day, as in 09:30.",
            edit,
        )

    def joined_text(self, expr: t.Binary, pieces: Sequence[t.Expr]) -> None:
        """Texts joined with `+`, where Rung uses braces."""
        written = [self.context.written(piece.span) for piece in pieces]
        parts = [w[1:-1] if isinstance(p, t.Text) else f"{{{w}}}" for p, w in zip(pieces, written, strict=True)]
        fits = all(w and '"' not in w for p, w in zip(pieces, written, strict=True) if not isinstance(p, t.Text))
        self.context.reporter.report(
            "R301",
            expr.span,
            "Texts are not added; put a value in braces within the text.",
            'Write "Close {close}".',
            f'"{"".join(parts)}"' if fits else None,
        )

    def division(self, expr: t.Binary, divisor: Type) -> None:
        if divisor.value == 0.0 and not self.context.reporter.blame:
            self.context.reporter.report(
                "R405", expr.span, "A division by zero is none on every bar.", "Divide by something else."
            )

    def extreme(self, expr: t.Call, types: list[Type]) -> None:
        """`max(close, 20)`: the larger of the two, where the highest of so many bars is meant."""
        if expr.name not in ("max", "min") or len(expr.arguments) != 2 or self.context.reporter.blame:
            return
        first, second = expr.arguments
        window = types[1].value if isinstance(second, t.Literal) else None
        if types[0].unit not in (Unit.PRICE, Unit.VOLUME) or not isinstance(window, float):
            return
        if not window.is_integer() or not 2 <= window <= _LONGEST_WINDOW:
            return
        name = "highest" if expr.name == "max" else "lowest"
        written = self.context.written(first.span)
        edit = f"{name}({written}, {window:g})" if written else None
        self.context.reporter.report(
            "R705",
            expr.span,
            f"`{expr.name}` takes the {'larger' if name == 'highest' else 'smaller'} of two values, "
            f"and {window:g} is the same on every bar.",
            f"The {name} of {window:g} bars is `{name}(x, {window:g})`.",
            edit,
        )

    def stays(self, statement: t.Keep, below: Sequence[t.Statement]) -> None:
        """`fresh calm = yes` that is only set to no under conditions: it stays yes where those are none."""
        start, name = statement.start, statement.name.name
        if not statement.fresh or not isinstance(start, t.Literal) or start.value is not True:
            return
        conditions: list[t.Expr] = []
        for other in below:
            if isinstance(other, t.Set) and other.name.name == name:
                return
            if isinstance(other, t.If):
                setting = [_sets(body, name) for _, body in other.branches]
                if all(setting) and other.branches[-1][0] is None:
                    return  # it is set on every way
                tests = [c for (c, _), sets in zip(other.branches, setting, strict=True) if sets and c is not None]
                conditions += tests
        unsure = [c for c in conditions if self.may_be_none(c)]
        if not unsure:
            return
        written = [self.context.written(c.span) for c in unsure]
        edit = " and ".join(f"known({w})" for w in written) if all(written) else None
        self.context.reporter.report(
            "R704",
            statement.start.span,
            f"`{statement.name.name}` stays yes where its conditions are none, as on the first bars of an average.",
            f"Start with `{edit}`." if edit else "Start with none, and set it where the values are known.",
            edit,
        )

    def may_be_none(self, expr: t.Expr) -> bool:
        """Whether a condition can be none on the first bars: it looks back, directly or in what it calls."""
        match expr:
            case t.Call():
                return expr.name != "known" and (
                    library.function(expr.name) is not None or expr.name in values.PRIMITIVES
                )
            case t.Lag() | t.OnTimeframe() | t.OfSymbol():
                return True
            case t.Name():
                made = self.context.judge.made_from(expr.name)
                return made is not None and made is not expr and self.may_be_none(made)
            case t.Unary() | t.Pick():
                return self.may_be_none(expr.value)
            case t.Binary(op="else"):
                return self.may_be_none(expr.right)
            case t.Binary():
                return self.may_be_none(expr.left) or self.may_be_none(expr.right)
            case t.Compare():
                return any(map(self.may_be_none, expr.values))
            case t.Choice():
                return any(map(self.may_be_none, (expr.condition, expr.yes_value, expr.no_value)))
        return False


def _sets(body: Sequence[t.Statement], name: str) -> bool:
    """Whether a block sets a name."""
    for statement in body:
        match statement:
            case t.Set() if statement.name.name == name:
                return True
            case t.If():
                if any(_sets(inner, name) for _, inner in statement.branches):
                    return True
            case t.For() if _sets(statement.body, name):
                return True
    return False
