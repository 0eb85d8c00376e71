"""Sessions, daylight saving, and where longer bars begin and end."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from itertools import pairwise
from zoneinfo import ZoneInfo

import numpy as np
import pytest

from oakladder.bars.bars import Bars
from oakladder.bars.resample import resample
from oakladder.bars.sessions import DAY, Calendar
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.demo.companies import EXCHANGE


def tf(text: str) -> Timeframe:
    return Timeframe.parse(text)


def day(text: str) -> int:
    return int(np.datetime64(text).astype("datetime64[D]").astype(np.int64))


def minutes_of(calendar: Calendar, days: list[str]) -> Bars:
    """Every regular minute of some days; the close counts up from 0."""
    clock = np.concatenate([day(d) * DAY + np.arange(calendar.start, calendar.end) * 60 for d in days])
    x = np.arange(len(clock), dtype=float)
    return Bars(
        "T",
        ONE_MINUTE,
        calendar,
        calendar.utc(clock),
        {"open": x, "high": x + 1, "low": x - 1, "close": x, "volume": x * 0 + 2},
    )


@pytest.mark.parametrize(
    ("text", "order"), [("1m", 1), ("90m", 90), ("2h", 120), ("1d", 10_000), ("1w", 70_000), ("1mo", 300_000)]
)
def test_timeframes_are_read_and_written(text: str, order: int) -> None:
    assert tf(text).order == order
    assert tf(str(tf(text))) == tf(text)


@pytest.mark.parametrize("text", ["", "5", "0m", "2d", "m5", "25h", "1y", "-5m"])
def test_what_is_no_timeframe_is_refused_in_words(text: str) -> None:
    with pytest.raises(ValueError, match="no timeframe"):
        tf(text)


def test_the_session_keeps_its_clock_when_daylight_saving_begins() -> None:
    # The clocks of the zone go forward on 2026-03-29.
    opens = EXCHANGE.day_open(np.array([day("2026-03-27"), day("2026-03-30")]))
    assert opens[1] - opens[0] == 3 * DAY - 3600
    assert EXCHANGE.minutes(opens).tolist() == [540, 540]


def test_local_and_utc_times_are_inverse() -> None:
    times = np.arange(day("2026-01-01") * DAY, day("2026-12-31") * DAY, 3571, dtype=np.int64)
    local = EXCHANGE.local(times)
    back = EXCHANGE.utc(local)
    ambiguous = np.abs(back - times) == 3600
    assert ((back == times) | ambiguous).all()
    assert ambiguous.mean() < 0.001


def test_four_hour_bars_give_a_full_and_a_short_bar() -> None:
    bars = resample(minutes_of(EXCHANGE, ["2026-03-27", "2026-03-30"]), tf("4h"))
    assert EXCHANGE.minutes(bars.times).tolist() == [540, 780, 540, 780]
    assert bars["volume"].tolist() == [480, 300, 480, 300]
    ends = EXCHANGE.closes(bars.times, tf("4h"))
    assert ((ends - bars.times) // 60).tolist() == [240, 150, 240, 150]


@pytest.mark.parametrize("text", ["3m", "45m", "1h", "1d"])
def test_resampling_is_first_highest_lowest_last_and_sum(text: str) -> None:
    base = minutes_of(EXCHANGE, ["2026-03-26", "2026-03-27"])
    made = resample(base, tf(text))
    edges = np.searchsorted(base.times, made.times)
    for k, (a, b) in enumerate(zip(edges, [*edges[1:], len(base)], strict=True)):
        assert made["open"][k] == base["open"][a]
        assert made["high"][k] == base["high"][a:b].max()
        assert made["low"][k] == base["low"][a:b].min()
        assert made["close"][k] == base["close"][b - 1]
        assert made["volume"][k] == base["volume"][a:b].sum()


def test_weeks_end_with_their_last_scheduled_session() -> None:
    # 2026-06-24 is a holiday of the exchange; the week of 2026-06-22 still ends on Friday.
    friday = EXCHANGE.day_close(np.array([day("2026-06-26")]))
    opens = EXCHANGE.day_open(np.array([day("2026-06-22"), day("2026-06-25")]))
    assert EXCHANGE.closes(opens, tf("1w")).tolist() == [friday[0]] * 2
    # Christmas 2026 is a Friday: that week ends on Thursday.
    thursday = EXCHANGE.day_close(np.array([day("2026-12-24")]))
    assert EXCHANGE.closes(EXCHANGE.day_open(np.array([day("2026-12-21")])), tf("1w"))[0] == thursday[0]


def test_marks_say_where_longer_bars_begin_and_are_complete() -> None:
    calendar = Calendar()
    days = np.array([day(d) for d in ("2026-06-04", "2026-06-05", "2026-06-08", "2026-06-09", "2026-06-15")])
    marks = calendar.marks(calendar.day_open(days), ONE_DAY, tf("1w"))
    assert marks.tolist() == [1, 2, 1, 0, 5]  # the second week has no Friday bar, so it ends late


def test_nones_are_passed_over_in_longer_bars() -> None:
    base = minutes_of(EXCHANGE, ["2026-03-26"])
    columns = {k: v.copy() for k, v in base.columns.items()}
    for column in columns.values():
        column[:5] = np.nan
        column[-3:] = np.nan
    made = resample(Bars("T", ONE_MINUTE, EXCHANGE, base.times, columns), ONE_DAY)
    assert (made["open"][0], made["close"][0], made["volume"][0]) == (5, 386, 2 * (390 - 8))


#: Zones with the days on which their clocks go forward and back; one of them moves by half an hour only.
CHANGES = [
    ("WET", ("2026-03-29", "2026-10-25")),
    ("EST5EDT", ("2026-03-08", "2026-11-01")),
    ("Australia/Lord_Howe", ("2026-10-04", "2026-04-05")),
]


def midnight(zone: str, text: str, after: int = 0) -> int:
    """The first moment of a day by the zone's clock, by way of the standard library."""
    date = datetime.fromisoformat(text) + timedelta(days=after)
    return int(date.replace(tzinfo=ZoneInfo(zone)).astimezone(UTC).timestamp())


@pytest.mark.parametrize("text", ["1m", "3m", "5m", "15m", "30m", "45m", "1h", "2h", "4h", "7h", "24h"])
@pytest.mark.parametrize(("zone", "on"), [(z, d) for z, days in CHANGES for d in days])
def test_around_the_clock_bars_are_cut_by_the_time_that_passes(zone: str, on: str, text: str) -> None:
    calendar, frame = Calendar(zone, weekend=True), tf(text)
    expected = []
    for after in (-1, 0, 1):
        start, end = midnight(zone, on, after), midnight(zone, on, after + 1)
        step = 60 * frame.count
        expected += [(t, min(t + step, end)) for t in range(start, end, step)]
    times = np.arange(midnight(zone, on, -1), midnight(zone, on, 2), 60, dtype=np.int64)
    x = np.arange(len(times), dtype=float)
    columns = {"open": x, "high": x, "low": x, "close": x, "volume": x * 0 + 1}
    made = resample(Bars("T", ONE_MINUTE, calendar, times, columns), frame)
    assert made.times.tolist() == [a for a, _ in expected]
    assert made["volume"].tolist() == [(b - a) // 60 for a, b in expected]
    assert calendar.closes(made.times, frame).tolist() == [b for _, b in expected]
    assert (np.diff(calendar.periods(times, frame)) >= 0).all()
    completes = calendar.marks(times, ONE_MINUTE, frame) & 2 > 0
    assert times[completes].tolist() == [b - 60 for _, b in expected]


@pytest.mark.parametrize(("zone", "days"), CHANGES)
def test_days_weeks_and_months_are_the_zones_own_where_clocks_change(zone: str, days: tuple[str, str]) -> None:
    calendar = Calendar(zone, weekend=True)
    for on in days:
        times = np.arange(midnight(zone, on, -40), midnight(zone, on, 40), 1800, dtype=np.int64)
        local = [datetime.fromtimestamp(t, ZoneInfo(zone)) for t in times.tolist()]
        assert calendar.days(times).tolist() == [(d.date() - datetime(1970, 1, 1).date()).days for d in local]
        weeks = [d.isocalendar()[:2] for d in local]
        found = calendar.periods(times, tf("1w"))
        assert [a != b for a, b in pairwise(found)] == [a != b for a, b in pairwise(weeks)]
        assert calendar.opens(times, ONE_DAY).tolist() == [midnight(zone, f"{d:%Y-%m-%d}") for d in local]


@pytest.mark.parametrize(("zone", "days"), CHANGES)
def test_a_session_around_a_clock_change_ends_when_its_clock_says(zone: str, days: tuple[str, str]) -> None:
    calendar = Calendar(zone, start=-6 * 60, end=17 * 60, early=-6 * 60, late=17 * 60, weekend=True)
    for on in days:
        open_ = calendar.day_open(np.array([day(on)]))[0]
        close = calendar.day_close(np.array([day(on)]))[0]
        assert open_ == midnight(zone, on, -1) + 18 * 3600 and calendar.minutes(np.array([open_])) == [-360]
        assert datetime.fromtimestamp(close, ZoneInfo(zone)).strftime("%Y-%m-%d %H:%M") == f"{on} 17:00"
        times = np.arange(open_, close, 60)
        assert set(calendar.days(times).tolist()) == {day(on)}
        hours = calendar.opens(times, tf("1h"))
        assert np.unique(hours).tolist() == list(range(open_, close, 3600))


def test_a_session_over_midnight_belongs_to_the_day_on_which_it_ends() -> None:
    calendar = Calendar("UTC", start=-6 * 60, end=17 * 60, early=-6 * 60, late=17 * 60)
    sunday_evening, monday = day("2026-06-07") * DAY + 18 * 3600, day("2026-06-08")
    times = np.array([sunday_evening, sunday_evening + 23 * 3600 - 60])
    assert calendar.days(times).tolist() == [monday] * 2 and calendar.trades_on(calendar.days(times)).all()
    assert calendar.closes(times, ONE_DAY).tolist() == [monday * DAY + 17 * 3600] * 2
    assert calendar.closes(times[:1], tf("1w")).tolist() == [day("2026-06-12") * DAY + 17 * 3600]
    assert calendar.shown(times, ONE_DAY).tolist() == [monday * DAY] * 2


def test_late_hours_after_midnight_belong_to_the_day_before() -> None:
    calendar = Calendar("UTC", start=9 * 60, end=17 * 60, early=8 * 60, late=26 * 60)
    late = np.array([day("2026-06-10") * DAY + 3600])
    assert calendar.days(late).tolist() == [day("2026-06-09")] and not calendar.is_regular(late).any()


def test_a_half_day_ends_early_and_its_longer_bars_with_it() -> None:
    half = day("2026-06-05")  # a Friday
    calendar = Calendar("UTC", 540, 930, 540, 930, halves=frozenset([(half, 720)]))
    times = np.arange(540, 930) * 60 + half * DAY
    assert calendar.is_regular(times).sum() == 180
    assert calendar.closes(times[:1], tf("4h")).tolist() == [half * DAY + 720 * 60]
    assert calendar.closes(times[:1], ONE_DAY).tolist() == [half * DAY + 720 * 60]
    monday = np.array([(half - 4) * DAY + 540 * 60])
    assert calendar.closes(monday, tf("1w")).tolist() == [half * DAY + 720 * 60]
    assert calendar.closes(monday, ONE_DAY).tolist() == [(half - 4) * DAY + 930 * 60]


def test_days_that_lie_far_apart_cost_no_more_than_days_close_together() -> None:
    times = np.array([0, 10**13], dtype=np.int64)
    assert len(Calendar().closes(times, tf("1w"))) == 2
