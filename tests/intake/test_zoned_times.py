"""Times that name their zone, as text and in tables, are the moments that an independent reader finds."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as parquet
import pytest

from oakladder.bars.store.files import EARLIEST, LATEST
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_MINUTE
from oakladder.intake.importing import import_files
from oakladder.intake.times import TIME_FORMS, parse_times, stamped_times

ZONES = ["Z", "+05:30", "-03:30", "+0545", "-0930", "+01", "-08", "+00:00", "-00:15", "+14:00"]


@pytest.mark.parametrize("zone", ZONES)
def test_the_zone_that_a_text_says_counts(zone: str) -> None:
    plain = zone if ":" in zone or zone == "Z" else f"{zone[:3]}:{zone[3:] or '00'}"
    texts = [f"2026-03-02T09:30:15{zone}", f"2026-12-31 23:59{zone}"]
    expected = [datetime.fromisoformat(t.replace(zone, plain)).astimezone(UTC).timestamp() for t in texts]
    seconds, good = parse_times(texts, TIME_FORMS[0], "America/New_York")  # which is for times that say none
    assert good.all() and seconds.tolist() == expected


def test_times_with_and_without_a_zone_stand_side_by_side() -> None:
    texts = ["2026-03-02T09:30+05:30", "2026-03-02T09:30", "2026-03-02T09:30-03:30", "nothing"]
    seconds, good = parse_times(texts, TIME_FORMS[0], "Asia/Tokyo")
    assert good.tolist() == [True, True, True, False]
    assert seconds[3] == 0
    assert seconds[:3].tolist() == [
        datetime(2026, 3, 2, 4, 0, tzinfo=UTC).timestamp(),
        datetime(2026, 3, 2, 0, 30, tzinfo=UTC).timestamp(),
        datetime(2026, 3, 2, 13, 0, tzinfo=UTC).timestamp(),
    ]


@pytest.mark.parametrize("unit", ["s", "ms", "us", "ns"])
@pytest.mark.parametrize("own", [None, "UTC", "Asia/Tokyo", "+05:30"])
def test_stamps_of_a_table_are_moments_or_clock_times(unit: str, own: str | None) -> None:
    moment = datetime(2026, 3, 2, 9, 30, tzinfo=UTC, microsecond=0 if unit == "s" else 750_000)
    column = pa.array([moment if own else moment.replace(tzinfo=None), None], pa.timestamp(unit, own))
    seconds, good = stamped_times(column, "Asia/Tokyo")
    # A stamp with a zone is a moment, however it is shown; one without is a clock time where the market is.
    expected = int(moment.timestamp()) - (0 if own else 9 * 3600)
    assert good.tolist() == [True, False] and seconds.tolist() == [expected, 0]


def test_times_out_of_reach_are_not_taken() -> None:
    stamps = pa.array([EARLIEST - 1, EARLIEST, LATEST - 1, LATEST]).cast(pa.timestamp("s", "UTC"))
    seconds, good = stamped_times(stamps, "UTC")
    assert good.tolist() == [False, True, True, False] and seconds.tolist() == [0, EARLIEST, LATEST - 1, 0]


def test_dates_of_a_table_are_days_where_the_market_is() -> None:
    seconds, good = stamped_times(pa.array([20_514], pa.date32()), "Asia/Tokyo")
    assert good.all() and seconds[0] == 20_514 * 86_400 - 9 * 3600


def test_zoned_minutes_of_a_parquet_file_come_in_at_their_moments(tmp_path: Path) -> None:
    first = int(datetime(2026, 3, 2, 9, 30, tzinfo=UTC).timestamp())
    moments = np.arange(first, first + 600, 60)
    prices = np.linspace(10, 11, 10)
    table = pa.table(
        {
            "time": pa.array(moments, pa.int64()).cast(pa.timestamp("s", "Asia/Kolkata")),
            **dict.fromkeys(("open", "high", "low", "close"), prices),
            "volume": np.full(10, 100.0),
        }
    )
    parquet.write_table(table, tmp_path / "ZONED.parquet")
    library = BarLibrary(tmp_path / "bars")
    (done,) = import_files([tmp_path / "ZONED.parquet"], library)
    assert not done.trouble and library.bars("ZONED", ONE_MINUTE, True).times.tolist() == moments.tolist()
