"""Trades: each clause once and of its kind, distances that are meant, trades that can be reached at all."""

from __future__ import annotations

from collections.abc import Sequence

from oakladder.rung import tree as t
from oakladder.rung.check.context import TOO_FAR, Context
from oakladder.rung.check.expressions import Expressions
from oakladder.rung.check.scope import Binding, Scope
from oakladder.rung.kinds import UNKNOWN, Kind, Type, Unit
from oakladder.rung.trade_words import FORMS, TRADE, TradeWord

_W = TradeWord
#: Clauses whose first value is how far something is from the fill price.
DISTANCES = frozenset({_W.STOP, _W.TRAIL, _W.TARGET, _W.PROTECT})
#: Clauses with a number of bars, which of their values that is, and the least that makes sense.
_COUNTS = {_W.MOST: (0, 1), _W.PAUSE: (0, 0), _W.ENTER_AT: (2, 1)}
_PRICES = frozenset({_W.STOP_AT, _W.TARGET_AT, _W.ENTER_AT})
_STOPS = frozenset({_W.STOP, _W.STOP_AT, _W.TRAIL})
_IN_RISKS = frozenset({_W.PROTECT_RISKS, _W.TARGET_RISKS})


class Trades:
    """Checks `trade` blocks; records in `context.ratios` which distances are ratios."""

    def __init__(self, context: Context, expressions: Expressions):
        self.context, self.expressions = context, expressions
        #: Whether the trade at hand has a stop besides a trailing one.
        self._has_stop = False

    def trade(self, statement: t.Trade, scope: Scope) -> None:
        """One trade with its lines."""
        self.expressions.names.bind(statement.name, Binding(TRADE, UNKNOWN, statement.name.span, read=True), scope)
        said: dict[str, t.TradeClause] = {}
        self._has_stop = any(w in statement.clauses for w in (_W.STOP, _W.STOP_AT))
        for line in statement.body:
            if not isinstance(line, t.TradeClause):
                self._stranger(line)
                continue
            first = said.setdefault(FORMS[line.what].part, line)
            if first is not line:
                word = FORMS[line.what].said
                self._report("R114", line, f"`{word}` is said twice in this trade.", "Keep one of them.", "")
            self._clause(line, scope)
        lost = any(isinstance(line, t.Lost) for line in statement.body)
        if "enter" not in said and not lost and statement.body:
            self.context.reporter.report(
                "R120",
                statement.span,
                f"The trade `{statement.name.name}` is never entered.",
                "Say when, with `enter when …` under it.",
            )
        if not lost:
            self._risks(statement)

    def _stranger(self, line: t.Statement) -> None:
        """A line in a trade that is no clause of it."""
        if isinstance(line, t.Lost):
            return
        if isinstance(line, t.Stop):
            what, fix = "This `stop` does not say where.", "Write how far, as in `stop 2 * atr(14)`."
        else:
            what = "A trade's block holds only clauses of the trade."
            fix = "Move this line above it."
        self.context.reporter.report("R113", line.span, what, fix)

    def _report(self, code: str, line: t.TradeClause, message: str, fix: str, replacement: str | None = None) -> None:
        self.context.reporter.report(code, line.span, message, fix, replacement)

    def _clause(self, line: t.TradeClause, scope: Scope) -> None:
        form, values = FORMS[line.what], line.values
        types = [
            self.expressions.wanted(value, scope, kind, f"What `{form.said}` asks for")
            if kind is not Kind.CLOCK
            else self._clock(value, scope)
            for value, kind in zip(values, form.kinds, strict=False)
        ]
        if line.what in DISTANCES:
            self._distance(line, types[0])
        elif line.what in _IN_RISKS:
            self._above_zero(line, types[0], "A number of risks")
        elif line.what in _PRICES:
            self._price(line, types[0])
        if line.what in _COUNTS:
            at, least = _COUNTS[line.what]
            if at < len(types):
                self._count(line.values[at], types[at], least, "for" if line.what is _W.ENTER_AT else form.said)
        if line.what in (_W.ENTER, _W.LEAVE, _W.ENTER_AT):
            flag = 1 if line.what is _W.ENTER_AT else 0
            self._never(line, line.values[flag], types[flag])

    def _clock(self, value: t.Expr, scope: Scope) -> Type:
        type_ = self.expressions.single(value, scope)
        if type_.known_kind and type_.kind is not Kind.CLOCK:
            self.context.reporter.report(
                "R301",
                value.span,
                f"`flat by` takes a clock, and this is {type_.kind.with_article}.",
                "Write 15:00, say.",
            )
        elif type_.moving:
            self.context.reporter.report(
                "R302", value.span, "The time of `flat by` must be fixed, and this moves.", "Write 15:00, or a setting."
            )
        return type_

    def _distance(self, line: t.TradeClause, type_: Type) -> None:
        """How far something is: a ratio of the fill price, or a distance in price."""
        word = FORMS[line.what].word
        if self.expressions.lints.distance(line, word, self._has_stop):
            return
        if type_.unit is Unit.RATIO:
            self.context.ratios.add(line.values[0])
        elif type_.kind is Kind.NUMBER and type_.unit not in (Unit.PRICE, Unit.UNKNOWN):
            what = "a plain number" if type_.unit is Unit.PLAIN else f"in {type_.unit.value}"
            self.context.reporter.report(
                "R407",
                line.values[0].span,
                f"How far `{word}` is, is {what}; it counts as a distance in price.",
                "Write 5% for a share of the price, or make it of prices, as in `2 * atr(14)`.",
            )
        self._above_zero(line, type_, f"The distance of `{word}`")

    def _above_zero(self, line: t.TradeClause, type_: Type, what: str) -> None:
        if isinstance(type_.value, float) and type_.value <= 0:
            self.context.reporter.report(
                "R305",
                line.values[0].span,
                f"{what} must be above 0, and this is {type_.value:g}: the trade could never be entered.",
                "Use a larger one.",
            )

    def _price(self, line: t.TradeClause, type_: Type) -> None:
        word = FORMS[line.what].word
        if type_.kind is Kind.NUMBER and type_.unit not in (Unit.PRICE, Unit.UNKNOWN, Unit.PLAIN):
            self.context.reporter.report(
                "R401",
                line.values[0].span,
                f"`{word} at` takes a price, and this is in {type_.unit.value}.",
                f"Write `{word} at close - …`, or leave out `at` for a distance."
                if line.what is not _W.ENTER_AT
                else "Make it of prices, as in `low - tick_size`.",
            )

    def _count(self, value: t.Expr, type_: Type, least: int, word: str) -> None:
        if type_.moving or type_.per_symbol:
            self.context.reporter.report(
                "R302", value.span, f"The bars of `{word}` must be fixed, and this moves.", "Use a number or a setting."
            )
        elif isinstance(type_.value, float) and (
            type_.value < least or not type_.value.is_integer() or type_.value > TOO_FAR
        ):
            self.context.reporter.report(
                "R305",
                value.span,
                f"The bars of `{word}` are a whole number from {least} to {TOO_FAR:,}, and this is {type_.value:g}.",
                "Change it.",
            )

    def _never(self, line: t.TradeClause, value: t.Expr, type_: Type) -> None:
        reason = self.context.judge.never(value)
        if type_.value is False or reason:
            word = FORMS[line.what].word
            self.context.reporter.report(
                "R703",
                line.span,
                f"This `{word}` can never be true{': ' * bool(reason)}{reason}.",
                "Change or take out one of the parts.",
            )

    def _risks(self, statement: t.Trade) -> None:
        """Reports a risk without a stop: a risk is the distance to the stop."""
        clauses = statement.clauses
        if _STOPS & clauses.keys():
            return
        for what in _IN_RISKS & clauses.keys():
            self._report(
                "R306",
                clauses[what],
                "A risk is the distance from the fill to the stop, and this trade has no stop.",
                "Add a `stop` or a `trail`, or say the distance itself.",
            )

    def together(self, statements: Sequence[t.Statement]) -> None:
        """All trades of a script: which of them can never be reached because of another."""
        trades = [s for s in statements if isinstance(s, t.Trade)]
        for k, later in enumerate(trades):
            for first in trades[:k]:
                self._pair(first, later)

    def _pair(self, first: t.Trade, later: t.Trade) -> None:
        one, other = _entered_when(first), _entered_when(later)
        if one is None or other is None:
            return
        if first.side is later.side and not _rests(first) and self._implies(other, one):
            self.context.reporter.report(
                "R706",
                later.span,
                f"Whenever `{later.name.name}` could be entered, `{first.name.name}` is, which stands first.",
                f"Put `{later.name.name}` above it, or change one of the conditions.",
            )
        elif first.side is not later.side and self._implies(one, other) and self._implies(other, one):
            self.context.reporter.report(
                "R706",
                later.span,
                f"`{first.name.name}` and `{later.name.name}` are decided on the same bars, and then neither is entered.",
                "Change one of the conditions.",
            )

    def _implies(self, one: t.Expr, other: t.Expr) -> bool:
        """Whether the second condition holds wherever the first does, as far as can be seen."""
        return bool(self.context.judge.never(t.Binary("and", one, t.Unary("not", other, other.span), one.span)))


def _entered_when(trade: t.Trade) -> t.Expr | None:
    clause = trade.clauses.get(_W.ENTER)
    return clause.values[0] if clause is not None else None


def _rests(trade: t.Trade) -> bool:
    """Whether there are bars on which a trade is not entered though its condition holds."""
    return bool({_W.PAUSE, _W.FLAT_BY, _W.FLAT_AT_END} & trade.clauses.keys())
