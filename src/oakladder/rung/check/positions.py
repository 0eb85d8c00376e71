"""Messages about names of positions without a trade, and about a trade used as a value."""

from __future__ import annotations

from oakladder.rung import tree as t
from oakladder.rung.check.context import Context
from oakladder.rung.trade_words import POSITION


def trade_is_no_value(context: Context, expr: t.Name) -> None:
    """The name of a trade is read as a value."""
    what = f"`{expr.name}` is a trade, not a value."
    context.reporter.report("R301", expr.span, what, f"Read `{POSITION}.side`, `{POSITION}.gain` and so on.")


def no_position(context: Context, expr: t.Name) -> None:
    """The position is read in a script that takes none."""
    what = "This script takes no position: it has no `trade`."
    context.reporter.report("R216", expr.span, what, "Add one, as in `trade ride long` with `enter when …` under it.")
