"""The past, other timeframes and other symbols: what may be asked of them, and where."""

from __future__ import annotations

from dataclasses import replace

from oakladder.rung import tree as t
from oakladder.rung.check.context import TOO_FAR, Context
from oakladder.rung.check.expressions import Expressions
from oakladder.rung.check.scope import Scope
from oakladder.rung.check.suggestions import timeframe_for
from oakladder.rung.kinds import Kind, Type


class Past:
    """Types lags, `on` and `of`."""

    def __init__(self, context: Context, expressions: Expressions):
        self.context, self.expressions = context, expressions

    def lag(self, expr: t.Lag, scope: Scope) -> Type:
        value = self.expressions.single(expr.value, scope)
        lag = self.expressions.number(expr.lag, scope, "A lag")
        if value.of_zone:
            self.context.reporter.report(
                "R304",
                expr.span,
                "A zone's own values have no past: they are the same from its first bar on.",
                "Look back at the prices instead, as in `close[1] > top`.",
            )
        if scope.blocks and not self._recorded(expr.value, scope):
            self.context.reporter.report(
                "R304",
                expr.span,
                "Inside `if` and `for`, only names made above the block can be looked back at.",
                "Make it above with `let`, and use `name[n]` here.",
            )
        if isinstance(lag.value, float) and lag.value < 0:
            self.context.reporter.report(
                "R501",
                self.expressions.span_of(expr.lag, scope),
                "A script cannot see the future: a lag counts bars back, from 0.",
                "Use a number of bars back.",
                f"{-lag.value:g}" if isinstance(expr.lag, t.Unary) and isinstance(expr.lag.value, t.Literal) else None,
            )
        elif isinstance(lag.value, float) and (lag.value != int(lag.value) or lag.value > TOO_FAR):
            self.context.reporter.report(
                "R305",
                self.expressions.span_of(expr.lag, scope),
                f"A lag is a whole number of bars, at most {TOO_FAR:,}.",
                "Change it.",
            )
        if (lag.moving and not lag.counter) or lag.per_symbol:
            self.context.reporter.report(
                "R502",
                self.expressions.span_of(expr.lag, scope),
                "A lag must be fixed, and this one moves.",
                "Hold the value in a `keep` instead.",
            )
        if value.kind in (Kind.TEXT, Kind.COLOUR, Kind.TIMEFRAME):
            self.context.reporter.report(
                "R301",
                expr.value.span,
                f"A lag takes a number or a flag, and this is {value.kind.with_article}.",
                "Look back at the values it is made of.",
            )
        return replace(value, moving=True, value=None, counter=False)

    def _recorded(self, expr: t.Expr, scope: Scope) -> bool:
        """Whether the past of an expression is on record although the block may not run."""
        if not isinstance(expr, t.Name):
            return False
        binding = scope.find(expr.name)
        return binding is None or not binding.in_block

    def on_timeframe(self, expr: t.OnTimeframe, scope: Scope) -> Type:
        if scope.blocks:
            self.context.reporter.report(
                "R304",
                expr.span,
                "Another timeframe cannot be read inside `if` or `for`.",
                "Compute it above the block with `let`, and use the name here.",
            )
        value = self.expressions.type_of(expr.value, scope)
        if isinstance(expr.timeframe, t.Name) and (meant := timeframe_for(expr.timeframe.name)) is not None:
            binding = scope.find(expr.timeframe.name)
            if binding is None or binding.type.kind is not Kind.TIMEFRAME:
                self.context.reporter.report(
                    "R301",
                    expr.timeframe.span,
                    "A timeframe is written with its number: 1h, 1d, 1w, 1mo.",
                    f"Write `{meant}`.",
                    meant,
                )
                return replace(value, moving=True, value=None, counter=False)
        timeframe = self.expressions.wanted(expr.timeframe, scope, Kind.TIMEFRAME, "What follows `on`")
        if timeframe.moving:
            self.context.reporter.report(
                "R302",
                expr.timeframe.span,
                "A timeframe must be fixed, and this one moves.",
                "Use 1d, say, or a setting.",
            )
        if value.of_zone:
            self._of_zone(expr, "on")
        self._of_position(expr, value, "on")
        if value.kind in (Kind.TEXT, Kind.COLOUR):
            self.context.reporter.report(
                "R301",
                expr.value.span,
                f"`on` takes numbers and flags, and this is {value.kind.with_article}.",
                "Read the values it is made of on the other timeframe.",
            )
        return replace(value, moving=True, value=None, counter=False)

    def of_symbol(self, expr: t.OfSymbol, scope: Scope) -> Type:
        if scope.blocks:
            self.context.reporter.report(
                "R304",
                expr.span,
                "Another symbol cannot be read inside `if` or `for`.",
                "Compute it above the block with `let`, and use the name here.",
            )
        value = self.expressions.type_of(expr.value, scope)
        if isinstance(expr.symbol, t.Name) and self.expressions.is_unknown(expr.symbol, scope):
            written = self.context.written(expr.symbol.span) or expr.symbol.name.upper()
            self.context.reporter.report(
                "R201",
                expr.symbol.span,
                f"There is no `{written}`; a symbol is in quotes.",
                f'Write "{written}".',
                f'"{written}"',
            )
            return replace(value, moving=True, value=None, counter=False, per_symbol=False)
        symbol = self.expressions.wanted(expr.symbol, scope, Kind.TEXT, "What follows `of`")
        if isinstance(expr.symbol, t.Text) and isinstance(symbol.value, str) and not self.context.reporter.blame:
            self.context.foreign.append((symbol.value, expr.symbol.span))
        if isinstance(expr.symbol, t.Name) and not self.context.reporter.blame:
            self.context.foreign += self.context.texts.get(expr.symbol.name, [])
        if symbol.moving or symbol.per_symbol:
            self.context.reporter.report(
                "R302",
                expr.symbol.span,
                "The other symbol must be the same on every bar.",
                'Write its name in quotes, as in `close of "TIDE"`, or use a setting.',
            )
        if value.of_zone:
            self._of_zone(expr, "of")
        self._of_position(expr, value, "of")
        if value.kind in (Kind.TEXT, Kind.COLOUR):
            self.context.reporter.report(
                "R301",
                expr.value.span,
                f"`of` takes numbers and flags, and this is {value.kind.with_article}.",
                "Read the values it is made of from the other symbol.",
            )
        return replace(value, moving=True, value=None, counter=False, per_symbol=False)

    def _of_position(self, expr: t.Expr, value: Type, word: str) -> None:
        if value.of_position:
            self.context.reporter.report(
                "R504",
                expr.span,
                f"The position belongs to the bars on which the script runs; `{word}` reads others.",
                f"Put `{word}` behind the other side of the comparison.",
            )

    def _of_zone(self, expr: t.Expr, word: str) -> None:
        self.context.reporter.report(
            "R304",
            expr.span,
            f"A zone's own values cannot be read with `{word}`: a zone is on the bars of the chart.",
            f"Put `{word}` behind the other side of the comparison.",
        )
