"""The lowered form of a script: flat operations on explicit state, in plain data.

Both runners (`native`, `reference`) read this and nothing else. A value is an `Op`; what runs on every bar
is in blocks of items; state from bar to bar is in `Slot`, `Ring` and `RollingAggregate`. Operations that
are the same on every bar are *fixed*: they are worked out once before a run and passed in as numbers, so
that a changed setting needs no new code.

Numbers are floats with NaN for none. Flags are three-valued. Texts and colours never reach the bar loop:
they are *shells* over numbers and flags that are read out afterwards.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from oakladder.rung.trade_words import Side
from oakladder.rung.words import Shown, Tone

#: Magnitudes are tracked as powers of two; a number that could pass this is checked and becomes none.
TAME_EXPONENT = 332
TAME_LIMIT = 2.0**TAME_EXPONENT
#: A fixed divisor smaller than two to the minus this is taken for zero, so that quotients need no check.
DIVISOR_EXPONENT = 300
#: The name under which the timeframe of the chart is passed among the settings.
CHART_TIMEFRAME = "$timeframe"
#: What the data can hold: `bars` turns anything larger into none.
DATA_EXPONENT = 60


#: A price that is not farther from a price step than this share of it lies on it.
NEAR_TICK = 1e-6


#: The code of a zone's own value: its ``top``, ``bottom`` or ``age``.
ZONE = "zone"


class Op:
    """One value. ``code`` says how it is made of ``args``; ``kind`` is number, flag, text, colour or timeframe."""

    __slots__ = ("args", "attr", "bound", "code", "domain", "fixed", "kind", "of_zone")

    def __init__(
        self,
        code: str,
        args: tuple[Op, ...] = (),
        attr: object = None,
        kind: str = "number",
        fixed: bool = False,
        bound: float = TAME_EXPONENT,
        domain: Domain | None = None,
    ):
        self.code, self.args, self.attr, self.kind = code, args, attr, kind
        self.fixed, self.bound, self.domain = fixed, bound, domain
        #: Whether it is made of a zone's own values: it is read out for each zone after the run.
        self.of_zone: bool = code == ZONE or any(a.of_zone for a in args)

    @property
    def is_flag(self) -> bool:
        return self.kind == "flag"

    @property
    def is_shell(self) -> bool:
        """Whether this is read out after the run instead of computed in it."""
        return self.kind not in ("number", "flag")

    @property
    def is_read_out(self) -> bool:
        """Whether this is computed after the run, from its results."""
        return self.is_shell or self.of_zone

    def __repr__(self) -> str:
        # One level deep: parts are shared, so that all of a value written out grows exponentially.
        attr = f"<{self.attr}>" if isinstance(self.attr, str | int | float) else ""
        return f"{self.code}{attr}({', '.join(a.code for a in self.args)})"


class Slot:
    """A value that can be changed. Lasting slots live from bar to bar and start as ``start`` (a float).

    A ``cold`` one is read and changed on few bars: it stays in memory, so that slots used on every bar have
    the registers.
    """

    __slots__ = ("cold", "domain", "flag", "lasting", "start")

    def __init__(
        self, domain: Domain, lasting: bool, flag: bool = False, start: float = float("nan"), cold: bool = False
    ):
        self.domain, self.lasting, self.flag, self.start, self.cold = domain, lasting, flag, start, cold


class Ring:
    """The past of a value, for lags: a ring buffer as long as the longest lag asks, rounded up to a power of two."""

    __slots__ = ("domain", "flag", "lags")

    def __init__(self, domain: Domain, flag: bool):
        self.domain, self.flag = domain, flag
        self.lags: list[Op] = []


class Log:
    """Rows that are written in the course of a run, at most `ROWS_A_BAR` on a bar, each of `width` numbers."""

    __slots__ = ("domain", "width")

    def __init__(self, domain: Domain, width: int):
        self.domain, self.width = domain, width


class Table:
    """Numbers that live from bar to bar and are read and changed at any place from 0 to ``size`` - 1; all start as 0."""

    __slots__ = ("domain", "size")

    def __init__(self, domain: Domain, size: Op):
        self.domain, self.size = domain, size


#: The code of what is read of a table.
CELL = "cell"
#: Max number of rows a bar, more than are ever written: a row of 0 ends the rows of a run.
ROWS_A_BAR = 5
#: The code of what is read of a log, its rows; and of the place of a bar in what is run, which only a log asks for.
LOG_ROWS, PLACE = "log rows", "place"
#: Lengths of windows, lags and bounds of loops are at most so many.
LONGEST = 100_000
#: The kind of fold that keeps its values in order.
SORTED = "sorted"


class RollingAggregate:
    """Something about the last ``length`` bars: their sum, maximum or minimum, or (``sorted``) their values in order.

    Sorted values are also kept in order of arrival, the oldest dropped first; ``total`` counts the ones
    are known. One search and one shift a bar, whatever the length. The others are worked out like this:

    Time is cut into blocks of ``length`` bars. A window is the last part of the block before, folded with
    the beginning of this one. Values of a block are written into cells from the last to the first
    (``phase`` counts down); when the block is full its cells are turned, in place, into the folds of its
    last parts, and ``total``, the fold of the block so far, starts again. No value is ever taken off, so
    nothing drifts and a none is gone as soon as it leaves the window. Two steps a bar on average.
    """

    __slots__ = ("domain", "how", "length", "total")

    def __init__(self, domain: Domain, how: str, length: Op):
        self.domain, self.how, self.length = domain, how, length
        self.total = Slot(domain, lasting=True, start=self.identity)

    @property
    def identity(self) -> float:
        """What changes nothing when folded with: minus zero for a sum, so that even the sign of zero stays."""
        return {"sum": -0.0, "highest": -math.inf, "lowest": math.inf, SORTED: 0.0}[self.how]

    def cells(self, length: int) -> int:
        """How many cells a window of that length takes."""
        if self.how == SORTED:
            return 2 * length
        return 1 + -(-(length - 1) // 8) * 8  # padded, so that they can be rotated eight at a time from the second on


@dataclass(slots=True)
class Put:
    """Changes a slot."""

    slot: Slot
    value: Op


@dataclass(slots=True)
class Save:
    """Writes this bar's value into a ring."""

    ring: Ring
    value: Op


@dataclass(slots=True)
class Store:
    """Changes a table at a place."""

    table: Table
    place: Op
    value: Op


@dataclass(slots=True)
class Append:
    """Writes a row of a log; one that is ``open`` gives way to the next."""

    log: Log
    values: tuple[Op, ...]
    open: bool = False


@dataclass(slots=True)
class LeaveLoop:
    """Leaves the innermost loop."""


@dataclass(slots=True)
class Branch:
    condition: Op
    then: list[Item]
    otherwise: list[Item]


@dataclass(slots=True)
class Loop:
    """``counter`` runs from ``first`` to ``last``, both included, by one."""

    counter: Slot
    first: Op
    last: Op
    body: list[Item]
    #: The line of the script that it comes from.
    line: int = 0
    #: How many rounds there can be at most, where the bounds come with the bars; 0 where they are fixed.
    most: int = 0


Item = Op | Put | Save | Store | Append | LeaveLoop | Branch | Loop


class Domain:
    """The bars that a part of the program runs on: the chart's own, or those of a longer timeframe.

    ``forming`` marks a domain whose values are read on its bar in progress; ``foreign`` says whose bars these
    are where they are not those of the chart's symbol.
    """

    __slots__ = ("body", "foreign", "forming", "tail", "timeframe")

    def __init__(self, timeframe: Op | None = None, forming: bool = False, foreign: Foreign | None = None):
        self.timeframe, self.forming, self.foreign = timeframe, forming, foreign
        self.body: list[Item] = []
        self.tail: list[Item] = []


class Foreign:
    """Another symbol's bars, which a part of the program runs on before the rest: ``domains[0]`` are its bars of
    ``timeframe`` (the chart's where it is None), the others longer ones made of them."""

    __slots__ = ("domains", "symbol", "timeframe")

    def __init__(self, symbol: Op, timeframe: Op | None):
        self.symbol, self.timeframe = symbol, timeframe
        self.domains = [Domain(foreign=self)]


@dataclass(slots=True)
class Output:
    """Something a script shows: its roles are values (``value``, ``color``, ``when`` …), its attributes plain words."""

    what: Shown
    name: str
    roles: dict[str, Op]
    attributes: dict[str, str] = field(default_factory=dict)
    line: int = 0
    unit: str = ""

    @property
    def tone(self) -> Tone:
        """Which way a signal points."""
        return Tone(self.attributes["tone"])


@dataclass(slots=True)
class Plan:
    """A whole lowered script. ``domains[0]`` is the chart's own; the others are listed longest need first."""

    domains: list[Domain]
    outputs: list[Output]
    #: Called lengths and lags with the place that asked for them, checked once the settings are known.
    demands: list[RuntimeConstraint]
    #: Every top-level `let` and `keep`, by name.
    values: dict[str, Op]
    #: The trades of a script that has some.
    trading: TradingPlan | None = None
    #: Whether the compiler wrote it itself: such code has no size limit.
    is_own: bool = False
    #: Whether it reads longer bars while they form, in functions that it uses too.
    reads_forming: bool = False


@dataclass(frozen=True, slots=True)
class TradePlan:
    """A trade: its name, its side, and the conditions and prices by which it is decided."""

    name: str
    side: Side
    enter: Op
    leave: Op | None
    line: int
    #: The line in which it asks for a moment of the day, which makes no sense on bars of a day and longer; 0 for none.
    within_day: int
    has_rank: bool
    #: Whether its orders wait at a price.
    is_resting: bool


@dataclass(frozen=True, slots=True)
class TradingPlan:
    """The trades of a script, the log of what happened (`trade_log`), and the position as each bar closed."""

    trades: tuple[TradePlan, ...]
    rows: Op
    position: dict[str, Op]
    #: Every place where the script reads a value of the position, by its name.
    reads: dict[str, frozenset[Op]]
    #: What orders and the position are kept in, and those of them that are all 0 where there is neither; none of the
    #: latter where even then a bar changes something.
    slots: frozenset[Slot]
    idle: tuple[Slot, ...]
    #: What the place of the bar of the entry is kept in, as what is run counts places.
    entered: Slot

    @property
    def roots(self) -> list[Op]:
        """What must be run for the log."""
        return [self.rows]


@dataclass(slots=True)
class RuntimeConstraint:
    """A fixed value that must be a whole number in a range when the settings are known."""

    value: Op
    low: float
    high: float
    what: str
    line: int


def items_of(block: list[Item]) -> Iterator[Item]:
    """Every item of a block, nested ones included."""
    for item in block:
        yield item
        if isinstance(item, Branch):
            yield from items_of(item.then)
            yield from items_of(item.otherwise)
        elif isinstance(item, Loop):
            yield from items_of(item.body)


def under(op: Op, into: Callable[[Op], bool] = lambda op: True) -> Iterator[Op]:
    """A value and all that it is made of, each once however often it is used; ``into`` says what to look into."""
    seen = {op}
    todo = [op]
    while todo:
        at = todo.pop()
        yield at
        if into(at):
            fresh = [arg for arg in at.args if arg not in seen]
            seen.update(fresh)
            todo.extend(reversed(fresh))


def leaves(op: Op) -> Iterator[Op]:
    """The numbers and flags that are run for a shell or a zone's value, each once; a plain value is its own leaf."""
    return (part for part in under(op, lambda part: part.is_read_out) if not part.is_read_out)
