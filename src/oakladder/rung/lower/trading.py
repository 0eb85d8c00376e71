"""Trades of a script: what is decided at a close, and the orders and the position that follow from it.

Fills stand before the script's own lines and decisions behind them; a trade's own line is where its values are worked
out and where they move its stop and target.
"""

from __future__ import annotations

from collections.abc import Sequence

from oakladder.rung import tree as t
from oakladder.rung.lower.expressions import Expressions
from oakladder.rung.lower.fills import Fills
from oakladder.rung.lower.forward_values import ForwardValues
from oakladder.rung.lower.frames import NAN, CallFrame
from oakladder.rung.lower.prices import either
from oakladder.rung.lower.writer import Writer
from oakladder.rung.plan.ops import (
    LOG_ROWS,
    LONGEST,
    Domain,
    Log,
    Op,
    TradePlan,
    TradingPlan,
)
from oakladder.rung.trade_log import WIDTH, Event, Order
from oakladder.rung.trade_words import FORMS, POSITION_VALUES, Reason, Side, TradeWord

_W = TradeWord
#: The share of a tick by which prices may differ and be the same.
_SAME = "0.000001"
#: What each clause gives an order to carry: as a distance, and where the distance is a ratio.
_INTO: dict[TradeWord, tuple[str, str]] = {
    _W.STOP: ("o_stop_d", "o_stop_r"),
    _W.STOP_AT: ("o_stop_p", "o_stop_p"),
    _W.TRAIL: ("o_trail_d", "o_trail_r"),
    _W.TARGET: ("o_target_d", "o_target_r"),
    _W.TARGET_AT: ("o_target_p", "o_target_p"),
    _W.TARGET_RISKS: ("o_target_n", "o_target_n"),
    _W.PROTECT: ("o_guard_d", "o_guard_r"),
    _W.PROTECT_RISKS: ("o_guard_n", "o_guard_n"),
    _W.MOST: ("o_most", "o_most"),
    _W.FLAT_BY: ("o_by", "o_by"),
    _W.PAUSE: ("o_pause", "o_pause"),
    _W.RANK: ("o_rank", "o_rank"),
}
_MOVES = frozenset({_W.STOP_AT, _W.TRAIL, _W.TARGET_AT})
_COUNTED = {_W.MOST: 1, _W.PAUSE: 0}


class Trading:
    """Lowers the trades of one script."""

    def __init__(
        self,
        trades: Sequence[t.Trade],
        expressions: Expressions,
        ratios: frozenset[t.Expr],
        *,
        finer: bool,
        through: bool,
    ):
        self.trades, self.expressions, self.emitter = list(trades), expressions, expressions.emitter
        self.base = self.emitter.base
        self.log = Log(self.base, WIDTH)
        self.w = Writer(expressions, self.base)
        self.used = frozenset(what for trade in self.trades for what in trade.clauses)
        self.fills_of = Fills(
            self.w, self.log, self.used, [trade.side for trade in self.trades], finer=finer, through=through
        )
        self._ratios = {
            trade: frozenset(w for w, c in trade.clauses.items() if c.values and c.values[0] in ratios)
            for trade in self.trades
        }
        self._plans: list[TradePlan] = []
        self._moved: set[t.Trade] = set()
        #: What the script's lines have read of the position, by its name.
        self._reads: dict[str, set[Op]] = {}
        self._early = ForwardValues(expressions)
        self._root: CallFrame | None = None

    # --- before the script's lines ----------------------------------------------------------------

    def fills(self) -> None:
        """What happens on the bar before its values are worked out."""
        self.fills_of.bar()

    # --- the script's lines -----------------------------------------------------------------------

    def trade(self, statement: t.Trade, frame: CallFrame) -> None:
        """A trade's own place: its values are worked out, and move what they move."""
        self._root = frame
        k = self.trades.index(statement) + 1
        for what, clause in statement.clauses.items():
            for j, (kind_word, value) in enumerate(zip(_ROLES[what], clause.values, strict=False)):
                op = self.emitter.one(self.expressions.value(value, frame))
                as_flag = kind_word in ("enter", "leave")
                made = self.emitter.flag(op, self.base) if as_flag else self.emitter.number(op, self.base)
                self.w.let(f"{kind_word}_{k}", made)
                if what in _COUNTED and j == 0:
                    self.emitter.demand(made, _COUNTED[what], LONGEST, f"the bars of `{FORMS[what].said}`")
                if what is _W.ENTER_AT and kind_word == "wait":
                    self.emitter.demand(made, 1, LONGEST, "the bars of `for`")
        self._move(statement)
        leave = self.w.names.get(f"leave_{k}")
        within = [c for w, c in statement.clauses.items() if w in (_W.FLAT_BY, _W.FLAT_AT_END)]
        enter = self.w.names[f"enter_{k}"]
        assert isinstance(enter, Op) and (leave is None or isinstance(leave, Op))
        self._plans.append(
            TradePlan(
                statement.name.name,
                statement.side,
                enter,
                leave,
                statement.span.line,
                within[0].span.line if within else 0,
                _W.RANK in statement.clauses,
                _W.ENTER_AT in statement.clauses,
            )
        )

    def _move(self, statement: t.Trade) -> None:
        """Moves the stop and target of a trade by the values of this bar, once."""
        if statement in self._moved:
            return
        self._moved.add(statement)
        k = self.trades.index(statement) + 1
        values = {what: f"{_ROLES[what][0]}_{k}" for what in statement.clauses if _ROLES[what]}
        self.fills_of.move_stops(k, values, self._ratios[statement])

    def position(self, name: str, domain: Domain) -> Op:
        """A value of the position; none on other bars than the script's own."""
        if domain is not self.base:
            return self.emitter.const(NAN)
        if name == "stop":
            self._move_early()
        formula = {"bars": "held", "gain": "side * (close / entry - 1)"}.get(name, name)
        made = self.w.value(formula)
        if not made.fixed:
            self._reads.setdefault(name, set()).add(made)
        return made

    def _move_early(self) -> None:
        """Moves the stops of trades further down, as far as what they are made of can be worked out here: so that the
        stop is that for the next bar wherever it is read."""
        if len(self.emitter.blocks[self.base]) > 1:
            return
        for statement in self.trades:
            if statement in self._moved:
                continue
            k = self.trades.index(statement) + 1
            moving = {w: c.values[0] for w, c in statement.clauses.items() if w in _MOVES}
            made = self._early.values(list(moving.values()))
            if made is None:
                continue
            for what, op in zip(moving, made, strict=True):
                self.w.let(f"{_ROLES[what][0]}_{k}", self.emitter.number(op, self.base))
            self._move(statement)

    # --- behind the script's lines ----------------------------------------------------------------

    def decisions(self) -> None:
        """What is decided at the close, for the next bar."""
        w = self.w
        leaving = {k: trade for k, trade in enumerate(self.trades, 1) if _W.LEAVE in trade.clauses}
        if leaving:
            with w.when("side != 0"):
                for k, trade in leaving.items():
                    # Nothing is decided once the clock or the session's end takes the position out anyway.
                    in_time = " and (not known(by) or close_clock < by)" if _W.FLAT_BY in trade.clauses else ""
                    in_time += " and not last_of_session" if _W.FLAT_AT_END in trade.clauses else ""
                    with w.when(f"active == {k} and leave_{k}{in_time}"):
                        w.set("leaving", str(Reason.LEAVE.number))
        if len(self.trades) == 1:
            with w.when(self._can_enter(1, self.trades[0])):
                self._decide(1, self.trades[0])
        else:
            self._choose()
        if _W.PAUSE in self.used:
            for k in range(1, len(self.trades) + 1):
                w.set(f"rest_{k}", f"max(rest_{k} - 1, 0)")
        if self.fills_of.has_flat:
            w.set("last_day", "day_number")

    def _choose(self) -> None:
        """Makes the order of the first trade that can be entered; of none where both sides want to."""
        w = self.w
        w.fresh("want_long", "0")
        w.fresh("want_short", "0")
        for k, trade in enumerate(self.trades, 1):
            want = f"want_{trade.side.word}"
            w.set(want, either(str(k), f"{want} == 0 and {self._can_enter(k, trade)}", want))
        with w.when("want_long + want_short > 0"):
            with w.when("want_long > 0 and want_short > 0"):
                w.append(self.log, str(Event.CONTRADICTION.value), "place")
            with w.otherwise():
                for k, trade in enumerate(self.trades, 1):
                    with w.when(f"want_{trade.side.word} == {k}"):
                        self._decide(k, trade)

    def _can_enter(self, k: int, trade: t.Trade) -> str:
        """Whether a trade can be decided on this bar."""
        parts = [f"enter_{k}"]
        if _W.ENTER_AT in trade.clauses:
            parts += ["side == 0", f"known(price_{k})", "known(close)"]  # without a close it is neither limit nor stop
        else:
            parts.append(f"side != {trade.side:d}" if trade.side is Side.LONG else "side != -1")
        if _W.FLAT_BY in trade.clauses:
            parts.append(f"close_clock < by_{k}")
        if _W.FLAT_AT_END in trade.clauses:
            parts.append("not last_of_session")
        if _W.PAUSE in trade.clauses:
            parts.append(f"rest_{k} == 0")
        return " and ".join(parts)

    def _decide(self, k: int, trade: t.Trade) -> None:
        """Makes the order of a trade."""
        w, side = self.w, f"{trade.side:d}"
        made = dict.fromkeys(self.fills_of.carried, "none")
        for what in trade.clauses:
            if what in _INTO:
                value = f"{_ROLES[what][0]}_{k}"
                if what in (_W.STOP_AT, _W.TARGET_AT):
                    value = self.fills_of.rounded(value, "yes" if trade.side is Side.SHORT else "no")
                made[_INTO[what][what in self._ratios[trade]]] = value
            elif what is _W.FLAT_AT_END:
                made["o_at_end"] = "1"
        w.set_all(made | {"o_trade": str(k), "o_side": f"({side})", "o_bar": "bar"})
        if _W.ENTER_AT not in trade.clauses:
            w.set("order", str(Order.MARKET.value))
            with w.when("side != 0"):
                w.set("leaving", str(Reason.REVERSE.number))
            return
        # A price within a millionth of a tick of the close is the close: what tells them apart is rounding error.
        is_long = trade.side is Side.LONG
        near = f"price_{k} <= close + {_SAME} * tick_size" if is_long else f"price_{k} >= close - {_SAME} * tick_size"
        w.set("o_price", self.fills_of.rounded(f"price_{k}", "yes" if is_long else "no"))
        w.set("o_left", f"wait_{k}" if f"wait_{k}" in w.names else "1")
        w.set("order", either(str(Order.LIMIT.value), near, str(Order.STOP.value)))

    def plan(self) -> TradingPlan:
        """What a run can be asked for."""
        rows = Op(LOG_ROWS, attr=self.log, domain=self.base)
        reads = {name: frozenset(ops) for name, ops in self._reads.items()}
        position = {name: self.position(name, self.base) for name in POSITION_VALUES}
        return TradingPlan(
            tuple(self._plans), rows, position, reads, self.fills_of.slots, self.fills_of.idle, self.fills_of.entered
        )


#: What the values of each clause are called, in order.
_ROLES: dict[TradeWord, tuple[str, ...]] = {
    _W.ENTER: ("enter",),
    _W.ENTER_AT: ("price", "enter", "wait"),
    _W.LEAVE: ("leave",),
    _W.STOP: ("stop_d",),
    _W.STOP_AT: ("stop_p",),
    _W.TRAIL: ("trail",),
    _W.PROTECT: ("guard",),
    _W.PROTECT_RISKS: ("guard",),
    _W.TARGET: ("target_d",),
    _W.TARGET_AT: ("target_p",),
    _W.TARGET_RISKS: ("target_n",),
    _W.MOST: ("most",),
    _W.FLAT_BY: ("by",),
    _W.FLAT_AT_END: (),
    _W.PAUSE: ("pause",),
    _W.RANK: ("rank",),
}
