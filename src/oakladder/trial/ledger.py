"""The book of an account, event by event: what is bought with which money, and what finds none.

One run of rows is one account. The code is written in the terms of `docs/trials.md` and runs where scripts run, so that
hundreds of accounts are gone through in milliseconds.
"""

from __future__ import annotations

from enum import IntEnum
from functools import lru_cache

from oakladder.engine.rows import RowCode
from oakladder.rung.lower.own import own_plan, own_writer
from oakladder.rung.lower.writer import Writer


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


#: Of each event: whether it is an entry (else an exit), its price with slippage, the side, the symbol's number in the
#: account, the moment by number, the place of that moment's last closes in the ``closes`` of each symbol (which stand
#: ``stride`` apart), and the risk.
INPUTS = ("is_entry", "price", "side", "symbol", "moment", "row", "risk")
SETTINGS = (
    "money",
    "sizing",
    "size",
    "lot",
    "most",
    "power",
    "fee",
    "fee_unit",
    "fee_ratio",
    "symbols",
    "stride",
)
#: How much more than it has an account may spend for the last digits of its arithmetic.
_ROUNDING = 1e-9


@lru_cache(maxsize=1)
def ledger() -> RowCode:
    """The code of an account: for each event the units and, of an entry, what became of it."""
    w = own_writer(INPUTS, SETTINGS)
    size = w.names["symbols"]
    for name in ("units_of", "side_of", "symbol_of", "value_of", "place_of"):
        w.table(name, size)  # type: ignore[arg-type]
    w.keep("cash")
    w.keep("held", 0.0)
    w.keep("last_moment")
    w.keep("equity")
    w.keep("invested", 0.0)
    w.fresh("units", "none")
    w.fresh("taken", "0")
    with w.when("not known(cash)"):
        w.set("cash", "money")
    with w.when("not known(last_moment) or moment != last_moment"):
        _reckon(w)
    with w.when("is_entry == 1"):
        _enter(w)
    with w.otherwise():
        _leave(w)
    plan, results = own_plan(w, ("units", "taken"))
    return RowCode.of(plan, results)


def _reckon(w: Writer) -> None:
    """Equity and what is invested, at the last closes before this moment."""
    w.set("last_moment", "moment")
    w.set("equity", "cash")
    w.set("invested", "0")
    with w.rounds("k", "0", "held - 1", 1):
        w.let("k_symbol", w.cell("symbol_of", "k"))
        w.let("k_units", w.cell("units_of", "k"))
        w.let("k_side", w.cell("side_of", "k"))
        w.let("k_value", w.column("closes", "k_symbol * stride + row"))
        w.set("equity", "equity + k_side * k_units * k_value")
        w.set("invested", "invested + k_units * k_value")
        w.store("value_of", "k", "k_units * k_value")


def _enter(w: Writer) -> None:
    """An entry: its size, and whether there is room and money for it."""
    raw = "size * equity / risk"
    for sizing, text in (("2", "size"), ("1", "size / price"), ("0", "size * equity / price")):
        raw = f"if sizing == {sizing} then {text} else {raw}"
    w.fresh("lots", f"floor(({raw}) / lot + {_ROUNDING})")
    w.let("bought", "lots * lot")
    w.let("paid", "bought * price")
    # What is not known is not enough: an entry is taken where each of these holds.
    for taken, needed in (
        (Taken.NO_MONEY, f"invested + paid <= power * equity * (1 + {_ROUNDING})"),
        (Taken.TOO_SMALL, "lots >= 1"),
        (Taken.NO_MONEY, "equity > 0"),
        (Taken.NO_ROOM, "held < most"),
        (Taken.NO_STOP, f"sizing != {Sizing.RISK.value} or risk > 0"),
    ):
        w.set("taken", f"if {needed} then taken else {taken.value}")
    with w.when("taken == 0"):
        w.set("units", "bought")
        w.set("cash", "cash - side * paid - (fee + fee_unit * bought + fee_ratio * paid)")
        w.set("invested", "invested + paid")
        for table, value in (
            ("units_of", "bought"),
            ("side_of", "side"),
            ("symbol_of", "symbol"),
            ("value_of", "paid"),
        ):
            w.store(table, "held", value)
        w.set("held", "held + 1")
        w.store("place_of", "symbol", "held")


def _leave(w: Writer) -> None:
    """An exit of what was taken; the last of what is held takes its place."""
    w.let("place", w.cell("place_of", "symbol"))
    with w.when("place > 0"):
        w.let("at", "place - 1")
        w.let("sold", w.cell("units_of", "at"))
        w.let("value", w.cell("value_of", "at"))
        w.set("units", "sold")
        w.let("got", "sold * price")
        w.set("cash", "cash + side * got - (fee + fee_unit * sold + fee_ratio * got)")
        w.set("invested", "invested - value")
        w.set("held", "held - 1")
        w.let("other", w.cell("symbol_of", "held"))
        for table in ("units_of", "side_of", "symbol_of", "value_of"):
            w.let("moved", w.cell(table, "held"))
            w.store(table, "at", "moved")
        w.store("place_of", "other", "place")
        w.store("place_of", "symbol", "0")
