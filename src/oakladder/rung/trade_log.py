"""The log of what became of a script's trades, row by row: what a run writes and `trial` reads."""

from __future__ import annotations

from enum import IntEnum


class Event(IntEnum):
    """What a row of the log says. A row of 0 ends the log of a run."""

    #: A trade that is still open at the end of the run: its exit fields are none.
    OPEN = 1
    #: A trade that was left.
    CLOSED = 2
    #: An entry that was not made, since its stop or target was reached already at the fill price.
    TOUCHED = 3
    #: A long and a short trade were decided on the same bar.
    CONTRADICTION = 4


class Column(IntEnum):
    """The columns of a row; a row of a skipped entry holds the bar only. Bars are indices in the run's panel."""

    EVENT = 0
    #: The bar of the entry.
    ENTERED = 1
    #: How many bars before that it was decided.
    AGO = 2
    #: Which of the script's trades, numbered from 1 in the order of the text.
    TRADE = 3
    ENTRY = 4
    #: Its `Order`, and `INSIDE` more where it was filled inside the bar.
    ORDER = 5
    #: What entries of one moment are ranked by.
    RANK = 6
    #: The distance from the fill to the first stop, none without one: as far as it was known at the fill, and later.
    FIRST_RISK = 7
    RISK = 8
    #: The bar of the exit.
    LEFT = 9
    EXIT = 10
    #: Its `Reason` by number.
    REASON = 11
    #: Its `Moment`, and `UNDECIDED` more where the stop and the target were both reached.
    MOMENT = 12
    #: The best and the worst price for the trader at the closes of its bars.
    BEST = 13
    AGAINST = 14
    #: Which symbol: left free by a run.
    SYMBOL = 15


WIDTH = len(Column)


class Order(IntEnum):
    """How an entry is ordered."""

    MARKET = 1
    LIMIT = 2
    STOP = 3


class Moment(IntEnum):
    """When in its bar something is filled."""

    OPEN = 0
    INSIDE = 1
    CLOSE = 2


#: What the columns `ORDER` and `MOMENT` have more.
INSIDE = UNDECIDED = 4
