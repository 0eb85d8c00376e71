"""Puts the demo market into a library and keeps it up to date: only ever its own symbols."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from functools import partial

import numpy as np

from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import BY_HAND, DEMO, SymbolInfo, with_hand
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.demo import companies, market

_FACT = "demo"


def prepare(library: BarLibrary) -> None:
    """Fills in the market's daily bars; minute bars follow when they are first asked for.

    A symbol of the same name that the user has imported stays unchanged, and what the user has set for a
    symbol of the market too. Raises `DataProblem` where it cannot be written.
    """
    library.maker = make
    if library.fact(_FACT) == companies.VERSION:
        _take_over(library)
        return
    with library.changing():
        library.fresh()
        infos = [info for info in map(partial(_renewed, library), companies.symbols()) if info is not None]
        library.write_all(infos, _days)
        for info in infos:
            library.remove(info.symbol, ONE_MINUTE)  # made again when they are asked for
        library.remember(_FACT, companies.VERSION)
    library.settle()


def make(info: SymbolInfo, base: Timeframe) -> Bars | None:
    """The stored bars of a symbol that is the market's own, by its calendar; None for another."""
    if info.origin != DEMO:
        return None
    try:
        made = market.make(info.symbol, base)
    except KeyError:
        return None
    if base == ONE_DAY and info.calendar != made.calendar:
        days = made.calendar.days(made.times)
        return Bars(info.symbol, base, info.calendar, info.calendar.day_open(days), made.columns)
    return Bars(info.symbol, base, info.calendar, made.times, made.columns, made.extended)


def _renewed(library: BarLibrary, info: SymbolInfo) -> SymbolInfo | None:
    """The catalogue entry of a symbol of the market; None if the user has one of that name."""
    known = library.infos.get(info.symbol)
    if known is not None and known.origin != DEMO:
        return None
    return info if known is None else with_hand(known, info)


def _days(info: SymbolInfo) -> Bars:
    bars = make(info, ONE_DAY)
    assert bars is not None
    return bars


def _take_over(library: BarLibrary) -> None:
    """Marks the market's symbols in a library from before it was written down whose they are: those whose bars are
    the market's to the last one."""
    if any(i.origin == DEMO for i in library.infos.values()):
        return
    own = []
    for info in companies.symbols():
        known = library.infos.get(info.symbol)
        if known is not None and _is_ours(library, known):
            by_hand = {p for p in BY_HAND if getattr(known, p) != getattr(info, p)}
            own.append(with_hand(replace(known, by_hand=frozenset(by_hand)), info))
    if own:
        library.add_symbols(own)


def _is_ours(library: BarLibrary, known: SymbolInfo) -> bool:
    with contextlib.suppress(DataProblem):
        found, made = library.base(known.symbol, ONE_DAY), market.daily(known.symbol)
        same_days = np.array_equal(known.calendar.days(found.times), made.calendar.days(made.times))
        return same_days and all(np.array_equal(found[n], made[n], equal_nan=True) for n in COLUMNS)
    return False
