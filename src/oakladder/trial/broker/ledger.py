"""The book of an account, event by event: what is bought with which money, and what finds none.

One run of rows is one account. The code is written in the terms of `docs/trials.md` and runs where scripts run, so that
hundreds of accounts are gone through in milliseconds.
"""

from __future__ import annotations

from enum import IntEnum
from functools import lru_cache

from oakladder.engine.run.row_kernel import RowKernel
from oakladder.rung.lower.internal_codegen import own_writer
from oakladder.rung.lower.writer import Writer
from oakladder.rung.trade_log import Column
from oakladder.trial.broker.fills import (
    COSTS,
    PLAIN,
    Model,
    cost_in,
    cost_out,
    of_trade,
    pushed,
    read_entry,
    read_exit,
    read_trade,
)


class Sizing(IntEnum):
    """What the size of an entry is reckoned from."""

    SHARE = 0
    MONEY = 1
    UNITS = 2
    RISK = 3


class Taken(IntEnum):
    """What became of an entry: it was taken, or why not."""

    YES = 0
    NO_ROOM = 1
    NO_MONEY = 2
    TOO_SMALL = 3
    NO_STOP = 4


#: Of each event: twice the number of its trade, 1 more where it is the exit, and its moment.
INPUTS = ("event", "moment")
#: ``places`` are the symbols that the account may hold; moments are places in a grid that has ``stride`` of them.
SETTINGS = ("money", "sizing", "size", "lot", "most", "power", "places", "stride", *COSTS)
#: How much more than it has an account may spend for the last digits of its arithmetic.
_ROUNDING = 1e-9
#: How many units an entry has before they are cut down to the lot; as many as said where it is units that are said.
_RAW = {
    Sizing.SHARE: "size * equity / paid",
    Sizing.MONEY: "size / paid",
    Sizing.RISK: "size * equity / risk",
}
#: What is held, side by side: units with the sign of the side, the symbol's place in the account, where its closes begin,
#: and what it was worth at the last close.
_HELD = ("units_of", "place_of_held", "closes_of", "value_of")


@lru_cache(maxsize=8)
def ledger(model: Model = PLAIN) -> RowKernel:
    """The code of an account: for each event the units and, of an entry, what became of it. It reads `fills`, and
    ``closes``, those of each symbol at the moments of the grid; ``clock`` where holding costs something, and of each trade
    ``tied`` and ``tied_unit`` where a position ties up a share of its value, and a sum for each unit."""
    w = own_writer(INPUTS, SETTINGS)
    begin(w, model)
    w.keep("last_moment")
    w.fresh("units", "none")
    w.fresh("taken", "0")
    with w.when("not known(last_moment) or moment != last_moment"):
        w.set("last_moment", "moment")
        reckon(w, "moment - 1", model)
    read_event(w)
    with w.when("event == 2 * trade"):
        buy(w, model)
    with w.otherwise():
        sell(w, model)
    return RowKernel.of(w, ("units", "taken"))


def held_tables(model: Model) -> tuple[str, ...]:
    """The names of what is kept of each position."""
    return _HELD + ("rate_of", "since_of") * model.carry + ("tied_of", "tied_unit_of") * model.margin


def begin(w: Writer, model: Model = PLAIN) -> None:
    """The account before anything has happened."""
    for name in (*held_tables(model), "held_at"):
        w.table(name, w.names["places"])  # type: ignore[arg-type]
    w.keep("cash")
    w.keep("held", 0.0)
    w.keep("equity")
    w.keep("invested", 0.0)
    with w.when("not known(cash)"):
        w.set("cash", "money")
        w.set("equity", "money")


def read_event(w: Writer) -> None:
    """Finds the trade that an event is of, and the place of its symbol in the account."""
    w.let("trade", "floor(event * 0.5)")
    read_trade(w, "trade")
    w.let("place", "if places > 1 then symbol else 0")


def reckon(w: Writer, moment: str, model: Model = PLAIN) -> None:
    """Equity and what is invested, at the last closes of a moment."""
    if model.carry:
        w.let("now", w.column("clock", f"max({moment}, 0)"))
    w.set("equity", "cash")
    w.set("invested", "0")
    with w.rounds("k", "0", "held - 1", 1):
        w.let("k_units", w.cell("units_of", "k"))
        w.let("k_closes", w.cell("closes_of", "k"))
        w.let("k_price", w.column("closes", f"k_closes + {moment}"))
        w.let("k_value", "k_units * k_price")
        w.set("equity", "equity + k_value")
        if model.carry:
            w.let("k_rate", w.cell("rate_of", "k"))
            w.let("k_since", w.cell("since_of", "k"))
            w.set("equity", "equity - k_rate * (now - k_since)")
        w.let("k_ties", "abs(k_value)")
        if model.margin:
            w.let("k_tied", w.cell("tied_of", "k"))
            w.let("k_tied_unit", w.cell("tied_unit_of", "k"))
            w.let("k_ties", "k_ties * k_tied + abs(k_units) * k_tied_unit")
        w.set("invested", "invested + k_ties")
        w.store("value_of", "k", "k_ties")


def buy(w: Writer, model: Model = PLAIN) -> None:
    """An entry: its size, and whether the account has the money and a free position for it."""
    read_entry(w, model)
    w.let("risk", of_trade(w, Column.FIRST_RISK))
    w.fresh("raw", "size / real_in_now" if model.adjusted else "size")
    for kind, text in _RAW.items():
        with w.when(f"sizing == {kind.value}"):
            w.set("raw", text)
    w.let("one_lot", "lot / real_in_now" if model.adjusted else "lot")
    w.fresh("lots", f"floor(raw / one_lot + {_ROUNDING})")
    w.let("bought", "lots * one_lot")
    if model.by_bar:
        pushed(w, "bought", entry=True)
    w.let("value", "bought * paid")
    w.let("ties", "value")
    if model.margin:
        w.let("tied_now", w.column("tied", "trade"))
        w.let("tied_unit_now", w.column("tied_unit", "trade"))
        w.let("ties", "abs(value) * tied_now + bought * tied_unit_now")
    # What is not known is not enough: an entry is taken where each of these holds.
    for taken, needed in (
        (Taken.NO_MONEY, f"invested + ties <= power * equity * (1 + {_ROUNDING})"),
        (Taken.TOO_SMALL, "lots >= 1"),
        (Taken.NO_MONEY, "equity > 0"),
        (Taken.NO_ROOM, "held < most"),
        (Taken.NO_STOP, f"sizing != {Sizing.RISK.value} or risk > 0"),
    ):
        w.set("taken", f"if {needed} then taken else {taken.value}")
    with w.when("taken == 0"):
        w.set("units", "bought")
        w.set("cash", f"cash - side * value - {cost_in('bought', model)}")
        w.set("invested", "invested + ties")
        made = ["side * bought", "place", "symbol * stride", "ties"]
        if model.carry:
            w.let("since", w.column("clock", "moment"))
            made += ["(if side > 0 then carry_long else carry_short) * bought * abs(paid)", "since"]
        if model.margin:
            made += ["tied_now", "tied_unit_now"]
        for table, value in zip(held_tables(model), made, strict=True):
            w.store(table, "held", value)
        w.set("held", "held + 1")
        w.store("held_at", "place", "held")


def sell(w: Writer, model: Model = PLAIN) -> None:
    """An exit of what was taken; the last of what is held takes its place."""
    w.let("at_place", w.cell("held_at", "place"))
    read_exit(w, model)
    with w.when("at_place > 0"):
        w.let("at", "at_place - 1")
        w.let("signed", w.cell("units_of", "at"))
        w.let("was_worth", w.cell("value_of", "at"))
        w.let("sold", "abs(signed)")
        if model.by_bar:
            pushed(w, "sold", entry=False)
        if model.carry:
            w.let("rate", w.cell("rate_of", "at"))
            w.let("since", w.cell("since_of", "at"))
            w.let("until", w.column("clock", "moment"))
            w.set("cash", "cash - rate * (until - since)")
        w.set("units", "sold")
        w.set("cash", f"cash + signed * got - {cost_out('sold', model)}")
        w.set("invested", "invested - was_worth")
        w.set("held", "held - 1")
        w.let("other", w.cell("place_of_held", "held"))
        for table in held_tables(model):
            w.let("moved", w.cell(table, "held"))
            w.store(table, "at", "moved")
        w.store("held_at", "other", "at_place")
        w.store("held_at", "place", "0")
