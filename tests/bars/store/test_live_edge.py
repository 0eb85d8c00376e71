"""Minutes in progress after the library's last: what is seen then is what is stored once they are final."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from bars.store.test_append_log import CALENDAR, NAMES, OPENS, market_of, minutes, same
from oakladder.bars.bars import Bars
from oakladder.bars.resample import resample
from oakladder.bars.store.appending import Appender
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.live_edge import LiveEdge
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe

FRAMES = [Timeframe.parse(t) for t in ("1m", "5m", "1h")]


@pytest.mark.parametrize("extended", [False, True])
def test_a_bar_in_progress_is_the_one_that_is_stored_once_its_minute_is_final(tmp_path: Path, extended: bool) -> None:
    library = market_of(tmp_path / "bars")
    appender, whole = Appender(library), minutes(OPENS[0] + 60 * np.arange(-20, 40), 3)
    for k in range(0, len(whole), 7):
        edge = LiveEdge(library, {"L0": whole.some(slice(k, k + 1))})
        seen = {f: edge.bars("L0", f, extended) for f in FRAMES}
        panel = edge.panel(["L1", "L0"], FRAMES[1], extended)
        appender.append({"L0": whole.some(slice(k, k + 1))}, {}, int(whole.times[k]) + 60)
        for frame, bars in seen.items():
            same(bars, library.bars("L0", frame, extended))
        same(panel.bars(1), seen[FRAMES[1]])
        assert edge.stored("L0", ONE_MINUTE, True) == library.stored("L0", ONE_MINUTE, True)
        appender.append({"L0": whole.some(slice(k + 1, k + 7))}, {}, int(whole.times[min(k + 6, len(whole) - 1)]) + 60)
        same(edge.bars("L0", Timeframe.parse("15m"), extended), library.bars("L0", Timeframe.parse("15m"), extended))


def test_the_day_in_progress_is_made_of_its_regular_minutes(tmp_path: Path) -> None:
    library = market_of(tmp_path / "bars")
    whole = minutes(OPENS[0] + 60 * np.arange(-20, 100), 3)
    Appender(library).append({"L0": whole.some(slice(0, 80))}, {}, int(whole.times[80]))
    edge = LiveEdge(library, {"L0": whole.some(slice(80, 81))})
    days, before = edge.bars("L0", ONE_DAY), library.bars("L0", ONE_DAY)
    part = whole.some(slice(20, 81))
    expected = resample(Bars("L0", ONE_MINUTE, CALENDAR, part.times, part.columns), ONE_DAY)
    same(days.part(0, len(before)), before)
    same(days.part(len(before), len(days)), expected)
    week = Timeframe.parse("1w")
    assert len(edge.bars("L0", week)) == len(library.bars("L0", week)) + 1
    early = LiveEdge(library, {"L0": minutes(OPENS[1:2] - 600, 5)})  # before the session opens nothing forms
    same(early.bars("L0", ONE_DAY), before)


def test_symbols_without_a_minute_in_progress_are_the_librarys_at_any_time(tmp_path: Path) -> None:
    library = market_of(tmp_path / "bars")
    edge = LiveEdge(library, {"L0": minutes(OPENS[:1], 3), "L4": minutes(OPENS[:1], 4)})
    before = len(edge.bars("L1", ONE_MINUTE))
    Appender(BarLibrary(library.folder)).append({"L1": minutes(OPENS[:1], 5)}, {}, int(OPENS[0]) + 60)
    assert len(edge.bars("L1", ONE_MINUTE)) == before + 1 and list(edge.infos) == NAMES
