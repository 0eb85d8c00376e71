"""Which bars a computation reads."""

from __future__ import annotations

from dataclasses import dataclass

from oakladder.bars.store.library import stored_base
from oakladder.bars.timeframes import ONE_DAY, Timeframe


@dataclass(frozen=True, slots=True)
class BarSelection:
    """A timeframe, and whether hours outside the session belong to it; bars of a day and more know no hours."""

    timeframe: Timeframe
    extended: bool = False

    def __post_init__(self) -> None:
        if self.extended and not self.timeframe.intraday:
            object.__setattr__(self, "extended", False)

    @property
    def base(self) -> BarSelection:
        """The stored bars from which its bars are made."""
        return BarSelection(stored_base(self.timeframe), self.extended)


DAYS = BarSelection(ONE_DAY)
