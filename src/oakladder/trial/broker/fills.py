"""What a trade's fills come to with slippage and costs, as code that the account and its results share.

``rows`` are those of the trades' log, ``sides`` those of the script's trades, ``ticks`` the price steps of the symbols.
"""

from __future__ import annotations

from typing import NamedTuple

from oakladder.rung.lower.writer import Writer
from oakladder.rung.plan.ops import Op
from oakladder.rung.trade_log import INSIDE, WIDTH, Column, Event, Order
from oakladder.rung.trade_words import Reason

#: What fills cost: the names of the settings. ``carry_long`` and ``carry_short`` are what holding costs a second, as ratios of
#: what was paid.
COSTS = ("fee", "fee_unit", "fee_ratio", "slip", "slip_ratio", "carry_long", "carry_short")


class Model(NamedTuple):
    """What an account reckons with beside its plain costs; code for it is written only where it is needed."""

    #: Slippage depends on the bars of fills.
    by_bar: bool = False
    #: Holding a position costs something.
    carry: bool = False
    #: A position ties up another share of its value than all of it.
    margin: bool = False
    #: Prices are adjusted for dividends and splits. Units count as adjusted ones then: a real unit is worth several of them
    #: before a dividend, and one after the last.
    adjusted: bool = False


#: Neither of it.
PLAIN = Model()


def of_trade(w: Writer, column: Column) -> Op:
    """The log's fields of the current trade."""
    return w.column("rows", f"first_cell + {column.value}")


def read_trade(w: Writer, trade: str) -> None:
    """Finds a trade by its number, with its symbol, its side and the symbol's price step."""
    w.let("first_cell", f"{trade} * {WIDTH}")
    w.let("symbol", of_trade(w, Column.SYMBOL))
    w.let("rule", of_trade(w, Column.TRADE))
    w.let("side", w.column("sides", "rule - 1"))
    w.let("tick", w.column("ticks", "symbol"))


def read_entry(w: Writer, model: Model = PLAIN) -> None:
    """The price of the entry, and what is paid: a limit is not worsened. What grows with the units comes later
    (`pushed`)."""
    w.let("entry", of_trade(w, Column.ENTRY))
    w.let("order", of_trade(w, Column.ORDER))
    limits = f"order == {Order.LIMIT.value} or order == {Order.LIMIT.value + INSIDE}"
    w.let("paid", f"if {limits} then entry else entry + side * (slip * tick + slip_ratio * entry)")
    if model.by_bar:
        _worsen(w, "paid", "in", "side")
    if model.adjusted:
        w.let("real_in_now", w.column("real_in", "trade"))


def read_exit(w: Writer, model: Model = PLAIN) -> None:
    """The price of the exit, and what is got: a target is not worsened. The rest as in `read_entry`."""
    w.let("event_now", of_trade(w, Column.EVENT))
    w.let("closed", f"event_now == {Event.CLOSED.value}")
    w.let("exit", of_trade(w, Column.EXIT))
    w.let("reason", of_trade(w, Column.REASON))
    at_target = f"reason == {Reason.TARGET.number}"
    w.let("got", f"if {at_target} then exit else exit - side * (slip * tick + slip_ratio * exit)")
    if model.by_bar:
        _worsen(w, "got", "out", "(-side)")
    if model.adjusted:
        w.let("real_out_now", w.column("real_out", "trade"))


def carried(units: str, since: str, until: str) -> str:
    """What it has cost to hold some units between two moments' closes (UTC seconds)."""
    return f"((if side > 0 then carry_long else carry_short) * {units} * abs(paid) * ({until} - {since}))"


def _worsen(w: Writer, price: str, way: str, side: str) -> None:
    w.let(f"slip_{way}_now", w.column(f"slip_{way}", "trade"))
    w.let(f"push_{way}_now", w.column(f"push_{way}", "trade"))
    w.let(f"share_{way}_now", w.column(f"share_{way}", "trade"))
    w.let(price, f"{price} + {side} * slip_{way}_now")


def pushed(w: Writer, units: str, *, entry: bool) -> None:
    """What is paid, or got, once the units are known that move the price. Read the entry or the exit first."""
    if entry:
        w.let("paid", f"paid + side * push_in_now * min(1, share_in_now * {units})")
    else:
        w.let("got", f"got - side * push_out_now * min(1, share_out_now * {units})")


def brought(
    w: Writer, got: str, exit_: str, out_cost: str, last_bar: str, carry: str = "0", model: Model = PLAIN
) -> None:
    """What a trade brings with its ``units``: after all costs, before them, for what it was entered for, in risks; and how
    long it took. ``carry`` is what holding it cost, which is no cost of a fill. Read the trade and its entry first."""
    w.let("risk", of_trade(w, Column.RISK))
    w.let("signed", "side * units")
    w.let("in_cost", cost_in("units", model))
    w.let("out_cost", out_cost)
    w.let("costs", "in_cost + out_cost")
    w.let("net", f"signed * (({got}) - paid) - costs" + (f" - {carry}" if carry != "0" else ""))
    w.let("gross", f"signed * (({exit_}) - entry)")
    w.let("ratio", "if units * paid > 0 then net / (units * paid) else none")
    w.let("risks", "if units * risk > 0 then net / (units * risk) else none")
    w.let("first_bar", of_trade(w, Column.ENTERED))
    w.let("last_bar", of_trade(w, Column.LEFT))
    w.let("bars", f"({last_bar}) - first_bar")


def cost_in(units: str, model: Model = PLAIN) -> str:
    """What the fill of an entry costs, slippage apart."""
    return _cost(units, "paid", "real_in_now", model)


def cost_out(units: str, model: Model = PLAIN) -> str:
    """The same of an exit."""
    return _cost(units, "got", "real_out_now", model)


def _cost(units: str, price: str, real: str, model: Model) -> str:
    each = f"{units} * {real}" if model.adjusted else units
    return f"(fee + fee_unit * {each} + fee_ratio * {units} * {price})"
