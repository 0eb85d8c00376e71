"""Lints: scripts that pass the check and do something that nobody means, each with a fix.

They look at what stands in the script itself, never inside the library, and at what is plain from its form: a lint that
fires where all is well costs more than it helps.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import fields, is_dataclass
from typing import Any

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.check.scope import Scope
from oakladder.rung.check.traps import Traps
from oakladder.rung.kinds import Kind, Type, Unit
from oakladder.rung.problems import Span
from oakladder.rung.teach.writing import written
from oakladder.rung.trade_words import POSITION, TradeWord
from oakladder.rung.words import ZONE_VALUES, Shown

#: The bar's own prices.
_PRICES = frozenset(["open", "high", "low", "close", "hl2", "hlc3", "ohlc4"])
#: Library functions that give a price of a price, and names of results that are prices.
_OF_PRICES = frozenset(
    [
        "sma",
        "avg",
        "ema",
        "wma",
        "wilder",
        "hull",
        "double_ema",
        "triple_ema",
        "adaptive",
        "variable",
        "linear",
        "volume_weighted",
        "median",
        "highest",
        "lowest",
        "ranked",
        "latch",
        "highest_since",
        "lowest_since",
        "min",
        "max",
        "floor",
        "ceil",
        "round",
    ]
)
_PRICES_THEMSELVES = frozenset(["previous_close", "session_high", "session_low", "swing_high", "swing_low", "vwap"])
_PRICE_RESULTS = frozenset(["upper", "mid", "lower", "stop"])


#: Functions of numbers that keep nothing: none where one of their values is, and only there.
_PURE = frozenset(["abs", "min", "max", "floor", "ceil", "round", "exp", "sign", "clamp"])
#: Functions that are known from the first bar on.
ALWAYS_KNOWN = frozenset(["true_range", "streak", "obv", "accumulation", "session_high", "session_low"])
#: A share of a price from which on a per cent is meant more likely: for the change of a bar, and for any other.
_MUCH_FOR_A_BAR, _MUCH = 0.25, 1.0
_PER_CENT = re.compile(r"per\s?cent|%", re.IGNORECASE)
#: Names of a bar's place: a condition on them keeps the first bars out.
_PLACES = frozenset(["bar", "session_bar"])


class Lints:
    """Reports what a script most likely does not mean."""

    def __init__(self, context: Context, traps: Traps):
        self.context, self._traps = context, traps
        #: Names of zones that have been reported: each once.
        self._zone_names: set[str] = set()

    # --- what is told apart -------------------------------------------------------------------------

    def _plain(self, expr: t.Expr) -> t.Expr:
        """An expression, or what a name was made from."""
        for _ in range(20):
            if not isinstance(expr, t.Name):
                return expr
            made = self.context.judge.made_from(expr.name)
            if made is None or made is expr:
                return expr
            expr = made
        return expr

    def _is_price(self, expr: t.Expr) -> bool:
        """Whether an expression is a price, and not a distance between prices, as far as its form says."""
        match self._plain(expr):
            case t.Name(name=name):
                return name in _PRICES or (name in self.context.price_settings)
            case t.Lag(value=value) | t.OnTimeframe(value=value) | t.OfSymbol(value=value):
                return self._is_price(value)
            case t.Call(name=name, arguments=arguments):
                if name in _PRICES_THEMSELVES:
                    return True
                at = 1 if name in ("latch", "highest_since", "lowest_since") else 0
                return name in _OF_PRICES and len(arguments) > at and self._is_price(arguments[at])
            case t.Pick(value=value, name=name):
                base = self._plain(value)
                if isinstance(base, t.Name) and base.name == POSITION:
                    return name in ("entry", "best", "stop")
                return isinstance(base, t.Call) and name in _PRICE_RESULTS
            case t.Binary(op="+" | "-", left=left, right=right):
                return self._is_price(left) and not self._is_price(right)
            case t.Binary(op="else", left=left, right=right):
                return self._is_price(left) or self._is_price(right)
            case t.Choice(yes_value=yes, no_value=no):
                return self._is_price(yes) and self._is_price(no)
        return False

    def _is_distance(self, expr: t.Expr) -> bool:
        """Whether an expression is a difference of two prices, as far as its form says."""
        match self._plain(expr):
            case t.Name(name=name):
                return name in ("range", "body")
            case t.Binary(op="-", left=left, right=right):
                return self._is_price(left) and self._is_price(right)
            case t.Call(name="abs", arguments=(inner,)):
                return self._is_distance(inner)
            case t.Call(name="change" | "momentum", arguments=(inner, *_)):
                return self._is_price(inner)
            case t.Call(name=name):
                return name in ("atr", "true_range")
            case t.Lag(value=value) | t.OnTimeframe(value=value):
                return self._is_distance(value)
        return False

    def _is_same(self, a: t.Expr, b: t.Expr) -> bool:
        return self.context.judge.is_same(self._plain(a), self._plain(b))

    def _is_whole(self, expr: t.Expr) -> bool:
        """Whether the place of an expression holds all of it: it may go on in the next line."""
        there = self.context.written(expr.span)
        return bool(there) and _bare(there) == _bare(written(expr))

    def _report(
        self,
        code: str,
        span: Span,
        message: str,
        fix: str,
        new: str | None = None,
        also: tuple[tuple[Span, str], ...] = (),
    ) -> None:
        self.context.reporter.report(code, span, message, fix, new, also)

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
            if not (isinstance(inner, t.Lag) or isinstance(other, t.Lag)) or not self._is_same(
                _now(inner), _now(other)
            ):
                continue
            left, right = (other, inner) if on is b else (inner, other)
            fixed = f"({written(left)} {op} {written(right)}) on {written(on.timeframe)}"
            alone = not isinstance(whole, t.Compare) or len(whole.values) == 2
            self._report(
                "R505",
                on.span,
                f"`on` belongs to `{written(inner)}` alone: `{written(other)}` is read on the script's own bars.",
                f"Write `{fixed}` for both.",
                None,
                ((whole.span, fixed),) if alone and self._is_whole(whole) else (),
            )
            return True
        return False

    def _lagged_reading(self, now: t.Expr, lag: t.Expr) -> None:
        """`w > w[1]` where `w` is a value of a longer timeframe: yesterday's reading of it, not its bar before."""
        if not isinstance(lag, t.Lag) or not self._is_same(now, lag.value):
            return
        on = self._plain(lag.value)
        if not isinstance(on, t.OnTimeframe) or on.forming:
            return
        inner = on.value if isinstance(on.value, t.Name | t.Call | t.Lag | t.Pick) else None
        text = written(on.value) if inner is not None else f"({written(on.value)})"
        fixed = f"{text}[{written(lag.lag)}] on {written(on.timeframe)}"
        self._report(
            "R506",
            lag.span,
            f"`{written(lag)}` is the {written(on.timeframe)} value as it was read a bar of the script ago: the same one, "
            "but on the first bar of each.",
            f"Write `{fixed}` for its bar before.",
            fixed if self._is_whole(lag) else None,
        )

    # --- totals -------------------------------------------------------------------------------------

    def totals(self, statements: Sequence[t.Statement]) -> None:
        """`set total = total + (close - close[1])`: none on the first bar, and so on every later one."""
        for s in statements:
            if isinstance(s, t.Define):
                self.totals(s.body)
        kept = {
            s.name.name
            for s in statements
            if isinstance(s, t.Keep) and not s.fresh and not (isinstance(s.start, t.Literal) and s.start.kind == "none")
        }
        sets = [(s, guards) for s, guards in _sets_in(statements, ()) if s.name.name in kept]
        for name in kept:
            own = [(s, guards) for s, guards in sets if s.name.name == name]
            if any(not _reads(s.value, name) for s, _ in own):
                continue  # it begins again from time to time
            for s, guards in own:
                if not any(self._keeps_out(g) for g in guards):
                    self._total(s, name)

    def _keeps_out(self, condition: t.Expr) -> bool:
        """Whether a condition is not true where values are none, most likely."""
        return self._may_be_none(condition) or any(
            (isinstance(node, t.Name) and node.name in _PLACES)
            or (isinstance(node, t.Call) and node.name in ("known", "new"))
            for node in _nodes(condition)
        )

    def _total(self, statement: t.Set, name: str) -> None:
        found = self._unknown_part(statement.value, name)
        if found is None:
            return
        part, op = found
        neutral = "1" if op in "*/" else "0"
        there = self.context.written(part.span)
        text = written(part)
        simple = isinstance(part, t.Name | t.Call | t.Lag | t.Pick)
        inner = f"{text} else {neutral}" if simple else f"({text}) else {neutral}"
        around = self.context.written(Span(part.span.line, part.span.column - 1, part.span.length + 2))
        in_brackets = part.span.column > 1 and around[:1] == "(" and around[-1:] == ")"
        fixed = inner if in_brackets else f"({inner})"
        self._report(
            "R707",
            part.span,
            f"`{text}` is none on the first bars, and a `{name}` that is none once stays none for ever.",
            f"Write `({inner})`.",
            fixed if there and self._is_whole(part) else None,
        )

    def _unknown_part(self, expr: t.Expr, name: str) -> tuple[t.Expr, str] | None:
        """The part of an expression that may be none and is reckoned with a name, and how; None for no such part."""
        match expr:
            case t.Binary(op="+" | "-" | "*" | "/" as op, left=left, right=right):
                for one, other in ((left, right), (right, left)):
                    if _reads(one, name):
                        if not _reads(other, name) and self._may_be_none(other):
                            return other, op
                        return self._unknown_part(one, name)
            case t.Unary(op="-", value=value):
                return self._unknown_part(value, name)
            case t.Choice(condition=condition, yes_value=yes, no_value=no):
                if self._keeps_out(condition):
                    return None
                return self._unknown_part(yes, name) or self._unknown_part(no, name)
        return None

    def _may_be_none(self, expr: t.Expr) -> bool:
        """Whether an expression may be none on the first bars."""
        match expr:
            case t.Call(name=name, arguments=arguments):
                if name in ALWAYS_KNOWN:
                    return False
                if name in _PURE:
                    return any(map(self._may_be_none, arguments))
                return self._traps.may_be_none(expr)
            case t.Name():
                made = self._plain(expr)
                return made is not expr and self._may_be_none(made)
            case t.Unary(value=value):
                return self._may_be_none(value)
            case t.Binary(op="else", right=right):
                return self._may_be_none(right)
            case t.Binary(left=left, right=right):
                return self._may_be_none(left) or self._may_be_none(right)
            case t.Compare(values=values):
                return any(map(self._may_be_none, values))
            case t.Choice(condition=condition, yes_value=yes, no_value=no):
                # A condition that is none counts as no.
                return (self._may_be_none(yes) and not self._keeps_out(condition)) or self._may_be_none(no)
        return self._traps.may_be_none(expr)

    def counted(self, expr: t.Binary) -> None:
        """`(if a then 1 else 0) + (if b then 1 else 0)`: a flag that is none counts as 0."""
        if self.context.reporter.blame or expr in self.context.summed:
            return
        parts = list(_summands(expr, self.context.summed))
        conditions = [c for part in parts if (c := _counts(part)) is not None]
        if len(conditions) < 2 or not any(map(self._may_be_none, conditions)):
            return
        fixed = f"how_many({', '.join(map(written, conditions))})"
        self._report(
            "R709",
            expr.span,
            "A condition that is none, as on the first bars of an average, counts as 0 here, as if it were no.",
            f"Write `{fixed}`, which is none until all of them are known.",
            fixed if len(conditions) == len(parts) and self._is_whole(expr) else None,
        )

    # --- per cent -------------------------------------------------------------------------------------

    def share(self, ratio: t.Expr, type_: Type, other: t.Expr, scope: Scope) -> None:
        """`change(close) / close > 2`, where 2 % is meant."""
        if self.context.reporter.blame or type_.unit is not Unit.RATIO or type_.kind is not Kind.NUMBER:
            return
        most = self._most_of(ratio)
        if isinstance(other, t.Name) and (setting := self.context.settings.get(other.name)) is not None:
            if scope.find(other.name) is self.context.bindings.get(other.name):
                self._share_setting(setting, other, most)
            return
        inner = other.value if isinstance(other, t.Unary) and other.op == "-" else other
        if most is None or not isinstance(inner, t.Literal) or inner.percent or not isinstance(inner.value, float):
            return
        if abs(inner.value) >= most:
            self._report(
                "R409",
                inner.span,
                f"The other side is a share of the price, and {inner.value:g} is {inner.value:.0%} of it.",
                f"Write {inner.value:g}% if per cent is meant.",
                f"{inner.value:g}%",
            )

    def _share_setting(self, setting: t.Setting, place: t.Expr, most: float | None) -> None:
        default = setting.default.value if isinstance(setting.default, t.Unary) else setting.default
        if not isinstance(default, t.Literal) or default.percent or not isinstance(default.value, float):
            return
        if not _PER_CENT.search(setting.text) and (most is None or abs(default.value) < most):
            return
        numbers = [e.value if isinstance(e, t.Unary) else e for e in (setting.low, setting.high, setting.step)]
        literals = [default, *(n for n in numbers if isinstance(n, t.Literal) and not n.percent)]
        self._report(
            "R409",
            place.span,
            f"The other side is a share, and the setting `{setting.name.name}` is the plain number {default.value:g}: "
            f"{default.value:.0%}.",
            f"Write its numbers with a per cent sign, as in {default.value:g}%.",
            None,
            tuple((n.span, f"{self.context.written(n.span)}%") for n in literals),
        )

    def _most_of(self, expr: t.Expr) -> float | None:
        """The share from which on a per cent is meant, for the relative change of a price; None for any other ratio."""
        made = self._plain(expr)
        match made:
            case t.Unary(op="-", value=value) | t.Call(name="abs", arguments=(value,)):
                return self._most_of(value)
            case t.Binary(op="/", left=left, right=right) if self._is_distance(left) and self._is_price(right):
                return _MUCH_FOR_A_BAR if self._is_of_one_bar(left) else _MUCH
            case t.Binary(op="-", left=t.Binary(op="/", left=left, right=right), right=t.Literal(value=1.0)):
                return _MUCH if self._is_price(left) and self._is_price(right) else None
            case t.Pick(value=t.Name(name=name), name="gain") if name == POSITION:
                return _MUCH
        return None

    def _is_of_one_bar(self, expr: t.Expr) -> bool:
        match self._plain(expr):
            case t.Call(name="change" | "momentum", arguments=(_,)) | t.Name():
                return True
            case t.Call(name="change" | "momentum", arguments=(_, t.Literal(value=1.0))):
                return True
            case t.Binary(left=left, right=right):
                return _lag_of(left) <= 1 and _lag_of(right) <= 1
        return False

    # --- trades -----------------------------------------------------------------------------------------

    def distance(self, line: t.TradeClause, word: str, has_stop: bool) -> bool:
        """`stop low[1]`: a price where a distance is meant; whether that was so."""
        value = line.values[0]
        if not self._is_price(value):
            return False
        text = written(value)
        at = {TradeWord.STOP: "stop at", TradeWord.TARGET: "target at", TradeWord.TRAIL: "stop at"}.get(line.what)
        begin = Span(line.span.line, line.span.column, len(word))
        sure = (
            at is not None and self.context.written(begin) == word and not (line.what is TradeWord.TRAIL and has_stop)
        )
        fix = f"Write `{at} {text}` for the price itself." if at else "Say how far, as in `protect after 2 * atr(14)`."
        self._report(
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
            if not isinstance(price, t.Name) or price.name not in _PRICES or not isinstance(lag, t.Literal | t.Name):
                continue
            if isinstance(lag, t.Literal) and lag.value == 0.0:
                continue
            if isinstance(lag, t.Name) and lag.name not in self.context.settings:
                continue
            fixed = f"{price.name}[{written(lag)}]"
            self._report(
                "R507",
                price.span,
                f"`{price.name}` is the price of the bar on which it is drawn first, and `ago` moves the drawing only.",
                f"Write `{fixed}` for the price of that bar.",
                fixed,
            )

    def zone_names(self, statement: t.Show, statements: Sequence[t.Statement]) -> None:
        """A zone's `until` that reads `top` where the script has a `top` of its own: the zone's edge is read."""
        until = statement.clause("until")
        if until is None or until.value is None or isinstance(until.value, str):
            return
        for node in _nodes(until.value):
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
        self._report(
            "R708",
            node.span,
            f"Within `until`, `{name}` is the zone's own {what}, not the `{name}` of line {made.line}.",
            f"Give yours another name, such as `{new}`.",
            None,
            tuple((span, new) for span in dict.fromkeys([made, *places])),
        )


def _bare(text: str) -> str:
    """A text without spaces and brackets, for comparing."""
    return re.sub(r"[\s()]", "", text)


def _now(expr: t.Expr) -> t.Expr:
    """A value without its lags."""
    while isinstance(expr, t.Lag):
        expr = expr.value
    return expr


def _lag_of(expr: t.Expr) -> float:
    """How many bars back a value is read, as far as that is a number."""
    if isinstance(expr, t.Lag):
        return float(expr.lag.value) if isinstance(expr.lag, t.Literal) and isinstance(expr.lag.value, float) else 99.0
    return 0.0


def _nodes(node: Any) -> Iterator[Any]:
    """A piece of tree and everything in it."""
    if isinstance(node, tuple | list):
        for part in node:
            yield from _nodes(part)
    elif is_dataclass(node) and not isinstance(node, type):
        yield node
        for slot in fields(node):
            if slot.name != "span":
                yield from _nodes(getattr(node, slot.name))


def _has_other_bars(expr: t.Expr) -> bool:
    return any(isinstance(node, t.OnTimeframe | t.OfSymbol) for node in _nodes(expr))


def _reads(expr: t.Expr, name: str) -> bool:
    """Whether an expression reads a name as it is now."""
    return any(isinstance(node, t.Name) and node.name == name for node in _nodes(expr))


def _sets_in(
    statements: Sequence[t.Statement], guards: tuple[t.Expr, ...]
) -> Iterator[tuple[t.Set, tuple[t.Expr, ...]]]:
    """Every `set` of some statements, with the conditions that it stands under."""
    for s in statements:
        match s:
            case t.Set():
                yield s, guards
            case t.If(branches=branches):
                for condition, body in branches:
                    yield from _sets_in(body, (*guards, condition) if condition is not None else guards)
            case t.For(body=body):
                yield from _sets_in(body, guards)


def _summands(expr: t.Expr, sums: set[t.Expr]) -> Iterator[t.Expr]:
    """The parts of a sum, from left to right; the sums in it are added to ``sums``."""
    if isinstance(expr, t.Binary) and expr.op == "+":
        sums.add(expr)
        yield from _summands(expr.left, sums)
        yield from _summands(expr.right, sums)
    else:
        yield expr


def _counts(expr: t.Expr) -> t.Expr | None:
    """The condition of `if c then 1 else 0`; None for anything else."""
    match expr:
        case t.Choice(condition=condition, yes_value=t.Literal(value=1.0), no_value=t.Literal(value=0.0)):
            return condition
    return None


def _names_outside_until(statement: t.Statement) -> Iterator[t.Name]:
    """The names of a statement, but for those in the `until` of a zone."""
    if isinstance(statement, t.Show) and statement.what == Shown.ZONE:
        yield from (n for n in _nodes(statement.operands) if isinstance(n, t.Name))
        for clause in statement.clauses:
            if clause.word != "until":
                yield from (n for n in _nodes(clause.value) if isinstance(n, t.Name))
    else:
        yield from (n for n in _nodes(statement) if isinstance(n, t.Name))
