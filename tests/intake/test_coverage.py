"""What is told of a symbol's bars: the span, the holes in it, and what cannot be read."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from helpers import daily_bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY
from oakladder.intake.coverage import coverage_of


def test_holes_are_runs_of_sessions_without_a_bar(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path)
    info = SymbolInfo("REED", "Reed", "Reeds", "share", 0.01, Calendar())
    whole = daily_bars(np.arange(1.0, 61), "REED")
    days = whole.calendar.days(whole.times)
    kept = np.ones(60, dtype=bool)
    kept[[10, 11, 12, 13, 14, 15, 30]] = False  # a week and more, over a weekend; and one day
    library.write(_some(whole, kept), info)
    held = coverage_of(library, info)
    assert held.days is not None and held.minutes is None and not held.trouble
    assert (held.days.count, held.days.first, held.days.last) == (53, days[0], days[-1])
    assert held.days.holes == ((days[10], days[15]), (days[30], days[30]))
    assert "53 days" in held.words() and "7 sessions without a bar" in held.words()
    assert held.last == str(np.datetime64(int(days[-1]), "D")) and np.array_equal(held.closes, whole["close"][kept])


def test_what_is_not_there_or_broken_is_said(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path)
    info = SymbolInfo("REED", "Reed", "Reeds", "share", 0.01, Calendar())
    assert coverage_of(library, info).words() == "no bars yet"
    library.write(daily_bars(np.arange(1.0, 31), "REED"), info)
    library.path("REED", ONE_DAY).write_bytes(b"no bars at all")
    assert coverage_of(BarLibrary(tmp_path), info).trouble


def _some(bars, kept):  # type: ignore[no-untyped-def]
    columns = {n: bars[n][kept] for n in ("open", "high", "low", "close", "volume")}
    return type(bars)(bars.symbol, bars.timeframe, bars.calendar, bars.times[kept], columns)
