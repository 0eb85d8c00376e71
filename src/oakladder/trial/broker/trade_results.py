"""What trades brought with the units that an account gave them, trade by trade, and what they add to its curve.

Like the account itself this is code that runs where scripts run (`ledger`): a sweep asks it for each variant.
"""

from __future__ import annotations

from functools import lru_cache

from oakladder.engine.run.row_kernel import RowKernel
from oakladder.rung.lower.internal_codegen import own_writer
from oakladder.trial.broker.fills import (
    COSTS,
    PLAIN,
    Model,
    brought,
    carried,
    cost_out,
    pushed,
    read_entry,
    read_exit,
    read_trade,
)

#: Of each trade: its units, none where it was not taken, and the moments of its entry and of its exit (the number of
#: moments where it is open). Moments are places in a grid that has ``stride`` of them.
INPUTS = ("units", "from", "to")
SETTINGS = ("stride", "cells", *COSTS)
#: What each trade comes to. What is open is reckoned at the last close, as if it were left there for nothing.
RESULTS = ("paid", "got", "costs", "net", "gross", "ratio", "risks", "bars")
#: The parts of the curve at each moment, one behind the other: how the money and the number of positions change, and what
#: is held at its close.
PARTS = 3


@lru_cache(maxsize=8)
def outcome(model: Model = PLAIN) -> RowKernel:
    """The code: for each trade its `RESULTS`, and the parts of the curve as a table. It reads `fills`, ``closes``, those of
    each symbol at the moments of the grid, and ``ends``, the last bar of each symbol; where slippage goes by the bar the
    columns of `slippage_columns` too, and ``clock`` where holding costs something."""
    w = own_writer(INPUTS, SETTINGS)
    w.table("curve", w.names["cells"])  # type: ignore[arg-type]
    w.let("trade", "bar")
    read_trade(w, "trade")
    read_entry(w, model)
    read_exit(w, model)
    if model.by_bar:
        pushed(w, "units", entry=True)
        pushed(w, "units", entry=False)
    w.let("first_close", "symbol * stride")
    w.let("last_close", w.column("closes", "first_close + max(stride - 1, 0)"))
    w.let("end_bar", w.column("ends", "symbol"))
    if model.carry:
        w.let("since", w.column("clock", "min(from, stride - 1)"))
        w.let("until", w.column("clock", "min(to, stride - 1)"))
        w.let("carry", carried("units", "since", "until"))
    brought(
        w,
        "if closed then got else last_close",
        "if closed then exit else last_close",
        f"if closed then {cost_out('units', model)} else 0",
        "if closed then last_bar else end_bar",
        "carry" if model.carry else "0",
        model,
    )
    spent = " - carry" if model.carry else ""
    with w.when("known(units)"):
        for at, change in (("from", "0 - signed * paid - in_cost"), ("to", f"signed * got - out_cost{spent}")):
            with w.when("yes" if at == "from" else "closed"):
                for part, by in enumerate((change, "1" if at == "from" else "(-1)")):
                    w.let("before", w.cell("curve", f"{at} + {part} * stride"))
                    w.store("curve", f"{at} + {part} * stride", f"before + {by}")
        with w.rounds("m", "from", "to - 1", 1):
            w.let("price", w.column("closes", "first_close + m"))
            w.let("worth", w.cell("curve", "m + 2 * stride"))
            w.let("now_worth", "signed * price")
            if model.carry:
                w.let("now", w.column("clock", "m"))
                w.let("now_worth", f"now_worth - {carried('units', 'since', 'now')}")
            w.store("curve", "m + 2 * stride", "worth + now_worth")
    return RowKernel.of(w, RESULTS, "curve")
