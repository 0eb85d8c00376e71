"""Time zones: which there are, and what their clocks show, against the standard library."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo, available_timezones

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from oakladder.bars.zones import is_zone, zone_of

ZONES = sorted(available_timezones())
#: The first and the last moment that is looked at: 1971 and 2099.
SPAN = (int(datetime(1971, 1, 1, tzinfo=UTC).timestamp()), int(datetime(2099, 1, 1, tzinfo=UTC).timestamp()))


def test_every_zone_that_is_listed_is_one() -> None:
    assert all(map(is_zone, ZONES))


#: Folders of zones are none, nor are the system's lists of them, nor what is not among them at all.
NO_ZONES = ["", "WET/", "wet zone", "nowhere", "..", "../WET", "/etc/hosts", "\0", "WET\n", "x" * 5000, "Ä"]
NO_ZONES += ["right/WET", "posix/WET", "right", "posixrules", "zone.tab", "tzdata.zi"]
NO_ZONES += sorted({name.partition("/")[0] for name in ZONES if "/" in name} - {*ZONES})


@pytest.mark.parametrize("name", NO_ZONES)
def test_what_is_not_listed_is_none(name: str) -> None:
    assert name not in ZONES and not is_zone(name)


@given(st.sampled_from(ZONES), st.lists(st.integers(*SPAN), min_size=1, max_size=20))
def test_the_clock_shows_what_the_standard_library_says(name: str, times: list[int]) -> None:
    zone = ZoneInfo(name)
    shown = zone_of(name).local(np.array(times, dtype=np.int64)).tolist()
    for time, local in zip(times, shown, strict=True):
        there = datetime.fromtimestamp(time, zone).replace(tzinfo=UTC)
        assert local == int(there.timestamp())


@given(st.sampled_from(ZONES), st.data())
def test_a_change_of_the_clocks_is_found_to_the_second(name: str, data: st.DataObject) -> None:
    changes = [int(m) for m in zone_of(name).moments if SPAN[0] < m < SPAN[1]]
    if not changes:
        return
    at = data.draw(st.sampled_from(changes))
    before, after = (datetime.fromtimestamp(t, ZoneInfo(name)).utcoffset() for t in (at - 1, at))
    assert before != after
