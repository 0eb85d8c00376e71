"""The log of what became of a script's trades, row by row: what a run writes and `trial` reads."""

from __future__ import annotations

from enum import IntEnum


class Event(IntEnum):
    """What a row of the log says; the meaning of its columns depends on it. A row of 0 ends the log of a run."""

    ENTERED = 1
    LEFT = 2
    #: An entry that was not made, since its stop or target was reached already at the fill price.
    TOUCHED = 3
    #: A long and a short trade were decided on the same bar.
    CONTRADICTION = 4


class Column(IntEnum):
    """The columns of a row. Trades are numbered from 1 in the order of the text."""

    EVENT = 0
    #: The bar, as its place in what is run.
    PLACE = 1
    PRICE = 2
    #: Of an entry: the trade. Of an exit: the best price for it at the closes of its bars.
    TRADE = 3
    BEST = 3
    #: Of an entry: how many bars before this one it was decided. Of an exit: the worst price at the closes of its bars.
    AGO = 4
    AGAINST = 4
    #: The distance from the fill to the first stop, none without one: at an entry as far as it is known then.
    RISK = 5
    #: Of an entry: what entries of one moment are ranked by. Of an exit: its `Reason` by number.
    RANK = 6
    REASON = 6
    #: Of an entry: its `Order`, and `INSIDE` more where it was filled inside the bar. Of an exit: its `Moment`, and
    #: `UNDECIDED` more where the stop and the target were both reached.
    HOW = 7


WIDTH = 8


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


#: What the column `HOW` has more.
INSIDE = UNDECIDED = 4
