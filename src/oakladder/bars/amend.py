"""Changing what is known of symbols that are in the library: names, groups, ticks, time zone and hours."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

from .errors import DataProblem
from .library import BarLibrary, SymbolInfo
from .series import Bars
from .sessions import Calendar
from .timeframes import ONE_DAY


@dataclass(frozen=True, slots=True)
class Change:
    """What shall be otherwise; None stays as it is. Hours are minutes of the day in the market's zone."""

    name: str | None = None
    sector: str | None = None
    kind: str | None = None
    tick: float | None = None
    zone: str | None = None
    #: Regular hours, first and last minute.
    hours: tuple[int, int] | None = None
    #: The earliest and the latest minute of all trading.
    all_hours: tuple[int, int] | None = None
    weekend: bool | None = None

    def calendar(self, old: Calendar) -> Calendar:
        """The calendar as it would be. Raises `DataProblem` for hours that make no sense."""
        start, end = self.hours or (old.start, old.end)
        early, late = self.all_hours or (min(old.early, start), max(old.late, end))
        if not 0 <= early <= start < end <= late <= 1440:
            raise DataProblem("Regular hours lie within all hours, and both within the day, as in 09:00-15:30.")
        return replace(
            old,
            zone=self.zone or old.zone,
            start=start,
            end=end,
            early=early,
            late=late,
            weekend=old.weekend if self.weekend is None else self.weekend,
        )

    def info(self, old: SymbolInfo) -> SymbolInfo:
        """What would be known of a symbol. Raises `DataProblem`."""
        if self.tick is not None and not 0 < self.tick < 1e9:
            raise DataProblem("The smallest step of a price is a number above 0, as in 0.01.")
        return replace(
            old,
            name=old.name if self.name is None else self.name,
            sector=old.sector if self.sector is None else self.sector,
            kind=old.kind if self.kind is None else self.kind,
            tick=old.tick if self.tick is None else self.tick,
            calendar=self.calendar(old.calendar),
        )


def amend(
    library: BarLibrary,
    symbols: Iterable[str],
    change: Change,
    *,
    progress: Callable[[float], None] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> int:
    """Changes symbols; gives how many are otherwise now. Raises `DataProblem` before anything is changed, or where a
    file cannot be written: each symbol is changed whole or not at all.

    A daily bar belongs to a day of its market and carries the time at which that day's session opens, so daily
    bars are stamped anew where zone or hours change. Minutes are moments and stay.
    """
    names = list(symbols)
    made = {s: change.info(library.infos[s]) for s in names}
    done = 0
    for k, symbol in enumerate(names):
        if cancelled is not None and cancelled():
            break
        old, new = library.infos[symbol], made[symbol]
        if new != old:
            _change(library, old, new)
            done += 1
        if progress is not None:
            progress((k + 1) / len(names))
    library.settle()
    return done


def _change(library: BarLibrary, old: SymbolInfo, new: SymbolInfo) -> None:
    """Where the bars cannot be written, the catalogue goes back to what it said."""
    stamped = None
    if old.calendar != new.calendar and library.path(old.symbol, ONE_DAY).exists():
        bars = library.base(old.symbol, ONE_DAY)
        days = old.calendar.days(bars.times)
        stamped = Bars(old.symbol, ONE_DAY, new.calendar, new.calendar.day_open(days), bars.columns)
    library.add_symbols([new])
    if stamped is not None:
        try:
            library.write(stamped)
        except DataProblem:
            library.add_symbols([old])
            raise
    library.forget(old.symbol)
