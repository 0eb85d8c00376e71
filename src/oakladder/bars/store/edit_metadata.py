"""Changing what is known of symbols that are in the library: names, groups, ticks, time zone and hours."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

from oakladder.bars.bars import Bars
from oakladder.bars.calendar_words import ClosedDays, with_hours
from oakladder.bars.contract import MOST, Contract
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import BY_HAND, SymbolInfo
from oakladder.bars.timeframes import ONE_DAY


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
    #: The days on which the market is closed or closes early; replaces the known ones.
    closed: ClosedDays | None = None
    #: The terms of a unit, each as in `Contract`; a margin is a share and money a unit.
    multiplier: float | None = None
    currency: str | None = None
    margin: tuple[float, float] | None = None

    def contract(self, old: Contract) -> Contract:
        """The terms of a unit as they would be. Raises `DataProblem` where they make no sense."""
        made = replace(
            old,
            multiplier=old.multiplier if self.multiplier is None else self.multiplier,
            currency=old.currency if self.currency is None else self.currency.strip(),
        )
        if self.margin is not None:
            made = replace(made, margin=self.margin[0], margin_money=self.margin[1])
        if not made.is_sound:
            raise DataProblem(
                f"A multiplier is a number above 0 and at most {MOST:,.0f}; a margin is up to 100% of the value, or money a unit."
            )
        return made

    def calendar(self, old: Calendar) -> Calendar:
        """The calendar as it would be. Raises `DataProblem` for hours that make no sense."""
        made = replace(old, zone=self.zone or old.zone, weekend=old.weekend if self.weekend is None else self.weekend)
        if self.hours is not None or self.all_hours is not None:
            made = with_hours(made, self.hours or (old.start, old.end), self.all_hours)
        return made if self.closed is None else self.closed.of(made)

    def info(self, old: SymbolInfo) -> SymbolInfo:
        """What would be known of a symbol. Raises `DataProblem`."""
        if self.tick is not None and not 0 < self.tick < 1e9:
            raise DataProblem("The smallest step of a price is a number above 0, as in 0.01.")
        made = replace(
            old,
            name=old.name if self.name is None else self.name,
            sector=old.sector if self.sector is None else self.sector,
            kind=old.kind if self.kind is None else self.kind,
            tick=old.tick if self.tick is None else self.tick,
            calendar=self.calendar(old.calendar),
            contract=self.contract(old.contract),
        )
        return replace(made, by_hand=old.by_hand | {p for p in BY_HAND if getattr(made, p) != getattr(old, p)})


def edit_symbols(
    library: BarLibrary,
    symbols: Iterable[str],
    change: Change,
    *,
    by_hand: bool = True,
    progress: Callable[[float], None] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> int:
    """Changes symbols; gives how many are otherwise now. What is changed ``by_hand`` stays whatever comes after. Raises `DataProblem` before anything is changed, or where a
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
        if not by_hand:
            new = replace(new, by_hand=old.by_hand)
        if new != old:
            _change(library, old, new)
            done += 1
        if progress is not None:
            progress((k + 1) / len(names))
    library.settle()
    return done


def _change(library: BarLibrary, old: SymbolInfo, new: SymbolInfo) -> None:
    with library.changing():
        stamped = None
        if old.calendar != new.calendar and library.path(old.symbol, ONE_DAY).exists():
            stamped = restamped(library.base(old.symbol, ONE_DAY), new.calendar)
        if stamped is not None:
            library.write(stamped, new)
        else:
            library.add_symbols([new])
        library.forget(old.symbol)


def restamped(bars: Bars, calendar: Calendar) -> Bars:
    """Daily bars of the same days, stamped by another calendar."""
    if bars.calendar == calendar:
        return bars
    days = bars.calendar.days(bars.times)
    return replace(bars, calendar=calendar, times=calendar.day_open(days))
