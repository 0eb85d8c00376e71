"""Sessions, daylight saving, and where longer bars begin and end."""

from __future__ import annotations

import numpy as np
import pytest

from oakladder.bars.demo import EXCHANGE
from oakladder.bars.series import Bars, resample
from oakladder.bars.sessions import DAY, Calendar
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe


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
