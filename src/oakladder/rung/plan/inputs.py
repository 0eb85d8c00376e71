"""What comes into a program with every bar."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, auto

from oakladder.rung.plan.ops import Op


class Merge(Enum):
    """How the values of an input on several bars become its value on the longer bar that they make."""

    FIRST = auto()
    HIGHEST = auto()
    LOWEST = auto()
    LAST = auto()
    SUM = auto()
    #: The value of the last of the bars, even if missing; the other merges skip missing values.
    NEWEST = auto()


_MERGES = {
    "high": Merge.HIGHEST,
    "low": Merge.LOWEST,
    "close": Merge.LAST,
    "last_of_session": Merge.HIGHEST,
    "volume": Merge.SUM,
}


@dataclass(frozen=True, slots=True)
class BarColumn:
    """A column of the bars, or what the calendar says of them."""

    name: str

    @property
    def merge(self) -> Merge:
        return _MERGES.get(self.name, Merge.FIRST)

    @property
    def fixed(self) -> tuple[Op, ...]:
        """The fixed values that must be known to find the input."""
        return ()


#: The factor that made adjusted prices of real ones: 1 throughout where prices are real.
ADJUSTED_BY = BarColumn("adjusted_by")


@dataclass(frozen=True, slots=True)
class BarBegins:
    """1 on bars with which a bar of a timeframe begins, else 0."""

    timeframe: Op
    merge = Merge.FIRST

    @property
    def fixed(self) -> tuple[Op, ...]:
        return (self.timeframe,)


@dataclass(frozen=True, slots=True)
class IsSymbol:
    """1 where the bars are those of a symbol, else 0."""

    symbol: Op
    merge = Merge.FIRST

    @property
    def fixed(self) -> tuple[Op, ...]:
        return (self.symbol,)


@dataclass(frozen=True, slots=True)
class OtherSymbol:
    """A value of another symbol, as of the last of its bars that was complete."""

    value: Op
    merge = Merge.NEWEST

    @property
    def fixed(self) -> tuple[Op, ...]:
        assert self.value.domain is not None and self.value.domain.foreign is not None
        foreign = self.value.domain.foreign
        return (foreign.symbol,) if foreign.timeframe is None else (foreign.symbol, foreign.timeframe)


@dataclass(frozen=True, slots=True)
class Given:
    """A value of the script itself that another run has worked out already."""

    value: Op
    merge = Merge.NEWEST

    @property
    def fixed(self) -> tuple[Op, ...]:
        return ()


@dataclass(frozen=True, slots=True)
class IntrabarBound:
    """Where the minutes of a bar begin (``first``) or end (``last``) in the tables of minutes; -1 where the bar is not
    made of minutes that are known."""

    end: str
    merge = Merge.FIRST

    @property
    def fixed(self) -> tuple[Op, ...]:
        return ()


@dataclass(frozen=True, slots=True)
class IntrabarColumn:
    """A column with separate values, read at any index: of the minutes that bars are made of, say."""

    name: str

    @property
    def fixed(self) -> tuple[Op, ...]:
        return ()


Input = BarColumn | IntrabarBound | BarBegins | IsSymbol | OtherSymbol | Given
