"""Closed days and half days that are plain from bars, and that nothing else is taken for one."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from helpers import daily_bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.intake.closed_days import closed_every_year, closed_for_all, ended_early, missing_days, recognise

CALENDAR = Calendar("UTC", 540, 960, 540, 960)
#: 2019-01-01 to 2022-12-30, weekdays alone.
EVERY = np.arange(np.datetime64("2019-01-01").astype(np.int64), np.datetime64("2022-12-31").astype(np.int64))
DAYS = EVERY[CALENDAR.trades_on(EVERY)]


def day(text: str) -> int:
    return int(np.datetime64(text).astype(np.int64))


def without(*texts: str) -> np.ndarray:
    return np.setdiff1d(DAYS, [day(t) for t in texts])


def test_missing_days_are_scheduled_ones_between_the_first_and_the_last() -> None:
    assert missing_days(DAYS, CALENDAR).tolist() == []
    assert missing_days(without("2020-03-04", "2020-03-06"), CALENDAR).tolist() == [
        day("2020-03-04"),
        day("2020-03-06"),
    ]
    # What lies before the first and behind the last bar is not missing, and a weekend is not scheduled.
    assert missing_days(DAYS[10:-10], CALENDAR).tolist() == []
    assert missing_days(DAYS[:1], CALENDAR).tolist() == missing_days(DAYS[:0], CALENDAR).tolist() == []


def test_a_date_that_is_missed_year_after_year_is_a_holiday() -> None:
    # The first of May falls on weekdays in 2019 and 2020 alone; the sixth in three of four years.
    fixed = [f"{year}-05-06" for year in (2019, 2020, 2021, 2022)]
    assert closed_every_year(without(*fixed), CALENDAR) == {day(t) for t in fixed}
    assert closed_every_year(without(*fixed[:3]), CALENDAR) == frozenset()  # in 2022 it traded
    assert closed_every_year(without("2019-05-01", "2020-05-01"), CALENDAR) == frozenset()  # two years are too few
    three = [f"{year}-07-05" for year in (2019, 2021, 2022)]  # in 2020 that was a Sunday
    assert closed_every_year(without(*three), CALENDAR) == {day(t) for t in three}
    assert closed_every_year(DAYS, CALENDAR) == frozenset()


def test_a_day_that_all_of_several_symbols_lack_is_closed() -> None:
    five = [without("2021-03-09", "2021-03-10") for _ in range(4)] + [without("2021-03-09", "2021-03-11")]
    assert closed_for_all(five, CALENDAR) == {day("2021-03-09")}
    assert closed_for_all(five[:4], CALENDAR) == frozenset()  # four symbols are too few
    # Before the last of them had begun, and after the first had ended, nothing is known.
    late = [without("2019-02-05", "2022-11-08") for _ in range(5)]
    assert closed_for_all(late, CALENDAR) == {day("2019-02-05"), day("2022-11-08")}
    late[2] = late[2][(late[2] > day("2019-03-01")) & (late[2] < day("2022-10-01"))]
    assert closed_for_all(late, CALENDAR) == frozenset()


def minutes_of(ends: dict[int, int], days: list[int]) -> np.ndarray:
    """Bars of half an hour from 09:00 on, up to 16:00 or the minute that a day ends at."""
    made = [day * 86_400 + minute * 60 for day in days for minute in range(540, ends.get(day, 960), 30)]
    return np.array(made, dtype=np.int64)


def test_a_session_that_ends_early_for_all_is_a_half_day() -> None:
    days = [day("2021-03-08"), day("2021-03-09"), day("2021-03-10")]
    half, short = days[1], days[2]
    series = [minutes_of({half: 780, short: 930}, days) for _ in range(5)]
    assert ended_early(series, CALENDAR, 30) == {(half, 780)}  # half an hour early is none
    assert ended_early(series[:4], CALENDAR, 30) == frozenset()
    series[0] = minutes_of({half: 810}, days)
    assert ended_early(series, CALENDAR, 30) == {(half, 810)}  # the latest of them counts
    series[0] = minutes_of({}, days)
    assert ended_early(series, CALENDAR, 30) == frozenset()
    # An hour early is a half day; bars outside regular hours say nothing of its end.
    hour = [minutes_of({half: 900}, days) for _ in range(5)]
    assert ended_early(hour, CALENDAR, 30) == {(half, 900)}
    after = [np.append(one, half * 86_400 + 1_000 * 60) for one in hour]
    assert ended_early(after, CALENDAR, 30) == {(half, 900)}


def test_closed_days_go_into_the_calendars_that_nobody_has_set(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path)
    closed = 15_100 + next(k for k in range(7) if Calendar().trades_on(np.array([15_100 + k]))[0])
    for k in range(6):
        bars = daily_bars(np.arange(1.0, 200.0), symbol=f"S{k}")
        kept = bars.calendar.days(bars.times) != closed
        part = {name: column[kept] for name, column in bars.columns.items()}
        library.write(
            type(bars)(bars.symbol, bars.timeframe, bars.calendar, bars.times[kept], part),
            SymbolInfo(
                f"S{k}",
                f"S{k}",
                "My data",
                "share",
                0.01,
                Calendar(),
                by_hand=frozenset({"calendar"}) if k == 5 else frozenset(),
            ),
        )
    assert recognise(library, [f"S{k}" for k in range(6)]) == {f"S{k}": 1 for k in range(5)}
    infos = BarLibrary(tmp_path).infos
    assert all(infos[f"S{k}"].calendar.holidays == {closed} for k in range(5)) and not infos["S5"].calendar.holidays
    assert recognise(BarLibrary(tmp_path), [f"S{k}" for k in range(6)]) == {}
