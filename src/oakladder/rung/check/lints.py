"""Lints: valid scripts that most likely do not do what was meant, each with a fix.

They look at the script itself, never inside the library, and at what is plain from its form: a lint that
fires where all is well costs more than it helps. Those about numbers are in `number_lints`.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.check.forms import PRICES, Forms, nodes
from oakladder.rung.problems import Span
from oakladder.rung.service.unparse import unparse
from oakladder.rung.trade_words import TradeWord
from oakladder.rung.words import ZONE_VALUES, Shown


class Lints(Forms):
    """Reports what a script most likely does not mean in its timeframes, trades and drawings."""

    def __init__(self, context: Context):
        super().__init__(context)
        #: Names of zones that have been reported: each once.
        self._zone_names: set[str] = set()

    # --- other timeframes -----------------------------------------------------------------------------

    def pair(self, whole: t.Compare | t.Binary, a: t.Expr, op: str, b: t.Expr) -> None:
        """Looks at two values that are compared, subtracted or divided."""
        if self.context.reporter.blame:
            return
        if not self._on_one_side(whole, a, op, b) and op not in ("==", "!="):
            self._lagged_reading(a, b)
            self._lagged_reading(b, a)

    def _on_one_side(self, whole: t.Compare | t.Binary, a: t.Expr, op: str, b: t.Expr) -> bool:
        """`m > m[1] on 1w`: `on` binds to `m[1]` alone."""
        for on, other in ((b, a), (a, b)):
            if not isinstance(on, t.OnTimeframe) or _has_other_bars(other):
                continue
            inner = on.value
            if not (isinstance(inner, t.Lag) or isinstance(other, t.Lag)) or not self.is_same(_now(inner), _now(other)):
                continue
            left, right = (other, inner) if on is b else (inner, other)
            fixed = f"({unparse(left)} {op} {unparse(right)}) on {unparse(on.timeframe)}"
            alone = not isinstance(whole, t.Compare) or len(whole.values) == 2
            self.report(
                "R505",
                on.span,
                f"`on` belongs to `{unparse(inner)}` alone: `{unparse(other)}` is read on the script's own bars.",
                f"Write `{fixed}` for both.",
                None,
                ((whole.span, fixed),) if alone and self.is_whole(whole) else (),
            )
            return True
        return False

    def _lagged_reading(self, now: t.Expr, lag: t.Expr) -> None:
        """`w > w[1]` where `w` is a value of a longer timeframe: yesterday's reading of it, not its bar before."""
        if not isinstance(lag, t.Lag) or not self.is_same(now, lag.value):
            return
        on = self.plain(lag.value)
        if not isinstance(on, t.OnTimeframe) or on.forming:
            return
        inner = on.value if isinstance(on.value, t.Name | t.Call | t.Lag | t.Pick) else None
        text = unparse(on.value) if inner is not None else f"({unparse(on.value)})"
        fixed = f"{text}[{unparse(lag.lag)}] on {unparse(on.timeframe)}"
        self.report(
            "R506",
            lag.span,
            f"`{unparse(lag)}` is the {unparse(on.timeframe)} value as it was read a bar of the script ago: the same one, "
            "but on the first bar of each.",
            f"Write `{fixed}` for its bar before.",
            fixed if self.is_whole(lag) else None,
        )

    # --- trades -----------------------------------------------------------------------------------------

    def distance(self, line: t.TradeClause, word: str, has_stop: bool) -> bool:
        """`stop low[1]`: a price where a distance is meant; whether that was so."""
        value = line.values[0]
        if not self.is_price(value):
            return False
        text = unparse(value)
        at = {TradeWord.STOP: "stop at", TradeWord.TARGET: "target at", TradeWord.TRAIL: "stop at"}.get(line.what)
        begin = Span(line.span.line, line.span.column, len(word))
        sure = (
            at is not None and self.context.written(begin) == word and not (line.what is TradeWord.TRAIL and has_stop)
        )
        fix = f"Write `{at} {text}` for the price itself." if at else "Say how far, as in `protect after 2 * atr(14)`."
        self.report(
            "R408",
            value.span,
            f"`{text}` is a price, and `{word}` takes a distance from the fill: it would never be reached.",
            fix,
            None,
            ((begin, str(at)),) if sure else (),
        )
        return True

    # --- drawings -----------------------------------------------------------------------------------------

    def drawn(self, statement: t.Show) -> None:
        """`link low ago 3 to low`: today's low, drawn at the bar three bars ago."""
        ends: list[tuple[t.Expr, str]] = []
        if statement.what == Shown.LINK:
            ends = [(statement.operands[0], "ago_start"), (statement.operands[1], "ago")]
        elif statement.what in (Shown.MARK, Shown.LABEL):
            at = statement.clause("at")
            if at is not None and at.value is not None and not isinstance(at.value, str):
                ends = [(at.value, "ago")]
        for price, word in ends:
            clause = statement.clause(word)
            lag = clause.value if clause is not None else None
            if not isinstance(price, t.Name) or price.name not in PRICES or not isinstance(lag, t.Literal | t.Name):
                continue
            if isinstance(lag, t.Literal) and lag.value == 0.0:
                continue
            if isinstance(lag, t.Name) and lag.name not in self.context.settings:
                continue
            fixed = f"{price.name}[{unparse(lag)}]"
            self.report(
                "R507",
                price.span,
                f"`{price.name}` is the price of the bar on which it is drawn first, and `ago` moves the drawing only.",
                f"Write `{fixed}` for the price of that bar.",
                fixed,
            )

    def zone_names(self, statement: t.Show, statements: Sequence[t.Statement]) -> None:
        """A zone's `until` that reads `top` where the script also defines a `top`: the zone's edge is read."""
        until = statement.clause("until")
        if until is None or until.value is None or isinstance(until.value, str):
            return
        for node in nodes(until.value):
            if not isinstance(node, t.Name) or node.name not in ZONE_VALUES or node.name in self._zone_names:
                continue
            if node.name in self.context.bindings:
                self._zone_names.add(node.name)
                self._zone_name(node, statements)

    def _zone_name(self, node: t.Name, statements: Sequence[t.Statement]) -> None:
        name, new = node.name, f"my_{node.name}"
        places = [n.span for s in statements for n in _names_outside_until(s) if n.name == name]
        made = self.context.bindings[name].span
        what = {"top": "upper edge", "bottom": "lower edge"}.get(name, name)
        self.report(
            "R708",
            node.span,
            f"Within `until`, `{name}` is the zone's own {what}, not the `{name}` of line {made.line}.",
            f"Give yours another name, such as `{new}`.",
            None,
            tuple((span, new) for span in dict.fromkeys([made, *places])),
        )


def _now(expr: t.Expr) -> t.Expr:
    """A value without its lags."""
    while isinstance(expr, t.Lag):
        expr = expr.value
    return expr


def _has_other_bars(expr: t.Expr) -> bool:
    return any(isinstance(node, t.OnTimeframe | t.OfSymbol) for node in nodes(expr))


def _names_outside_until(statement: t.Statement) -> Iterator[t.Name]:
    """The names of a statement, but for those in the `until` of a zone."""
    if isinstance(statement, t.Show) and statement.what == Shown.ZONE:
        yield from (n for n in nodes(statement.operands) if isinstance(n, t.Name))
        for clause in statement.clauses:
            if clause.word != "until":
                yield from (n for n in nodes(clause.value) if isinstance(n, t.Name))
    else:
        yield from (n for n in nodes(statement) if isinstance(n, t.Name))
