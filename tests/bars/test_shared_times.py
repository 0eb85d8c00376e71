"""Facts about times are shared between symbols and never mixed up; files are mapped by their cached offsets."""

from __future__ import annotations

import gc
from pathlib import Path

import numpy as np
import pytest

from helpers import daily_bars, random_bars
from oakladder.bars import shared_times
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.panels import panel_of, resample_panel
from oakladder.bars.resample import resample
from oakladder.bars.resample_index import marks
from oakladder.bars.sessions import Calendar
from oakladder.bars.store import offsets
from oakladder.bars.store.bar_cache import BarCache
from oakladder.bars.store.files import layout_of
from oakladder.bars.store.infer_metadata import tick_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.bars.timeline import Timeline


def test_equal_times_are_one_array_and_its_facts_go_with_it() -> None:
    one, two = (np.arange(5, dtype=np.int64) * 7 for _ in range(2))
    kept = shared_times.shared(one)
    assert shared_times.shared(two) is kept is one
    calls = []
    for _ in range(3):
        shared_times.remembered(kept, "fact", lambda: calls.append(1))
    assert len(calls) == 1
    shared_times.remembered(two, "fact", lambda: calls.append(1))  # not the shared array: worked out anew
    assert len(calls) == 2
    name = id(one)
    del one, kept
    gc.collect()
    assert name not in shared_times._KNOWN


def test_two_calendars_over_the_same_times_keep_apart() -> None:
    times = shared_times.shared(np.arange(10, dtype=np.int64) * 3600 + 86_400 * 15_000)
    early, late = Calendar(start=0, end=300), Calendar(start=600, end=900)
    assert early.is_regular(times).sum() == 5 and late.is_regular(times).sum() == 0


@pytest.mark.parametrize("frame", ["1w", "1mo"])
def test_a_panel_in_longer_bars_is_its_symbols_in_longer_bars(frame: str) -> None:
    timeframe = Timeframe.parse(frame)
    series = [random_bars(k, 50 + 30 * k) for k in range(4)]
    panel = resample_panel(panel_of(series), timeframe)
    for k, bars in enumerate(series):
        alone, part = resample(bars, timeframe), panel.bars(k)
        np.testing.assert_array_equal(part.times, alone.times)
        for name in COLUMNS:
            np.testing.assert_array_equal(part[name], alone[name])


def one_symbol(folder: Path) -> BarLibrary:
    library = BarLibrary(folder)
    library.add_symbols([SymbolInfo("AAA", "A", "", "share", 0.01, Calendar())])
    library.write(daily_bars(np.arange(1.0, 40), symbol="AAA"))
    library.settle()
    return library


@pytest.fixture
def parsed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """The files that are parsed; nothing is cached yet."""
    made: list[str] = []
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    monkeypatch.setattr(offsets, "layout_of", lambda path: made.append(path) or layout_of(path))
    return made


def test_a_file_is_parsed_once_and_again_when_it_changes(tmp_path: Path, parsed: list[str]) -> None:
    one_symbol(tmp_path)
    assert len(parsed) == 1
    again = BarLibrary(tmp_path)
    assert again.bars("AAA", ONE_DAY)["close"][-1] == 39 and len(parsed) == 1
    again.write(daily_bars(np.arange(1.0, 80), symbol="AAA"))
    again.settle()
    assert len(BarLibrary(tmp_path).bars("AAA", ONE_DAY)) == 79 and len(parsed) == 2


@pytest.mark.parametrize("content", [b"", b"oak cache 2\n", b"{}"])
def test_damaged_offsets_are_found_again(tmp_path: Path, parsed: list[str], content: bytes) -> None:
    one_symbol(tmp_path)
    (cached,) = tmp_path.glob("cache/oakladder/offsets-*")
    cached.write_bytes(content)
    assert BarLibrary(tmp_path).bars("AAA", ONE_DAY)["close"].sum() == np.arange(1.0, 40).sum()
    assert len(parsed) == 2


def test_remembered_bars_stay_within_their_bytes(market: BarLibrary) -> None:
    bars = [market.bars(symbol, ONE_DAY) for symbol in list(market.infos)[:8]]
    bytes_each = sum(v.nbytes for v in bars[0].columns.values())
    cache = BarCache(most_bytes=3 * bytes_each + 10)
    for k, some in enumerate(bars):
        cache.put((str(k), ONE_DAY, False), some)
    kept = [k for k in range(8) if cache.get((str(k), ONE_DAY, False)) is not None]
    assert kept == [5, 6, 7]
    cache.forget("6")
    cache.put(("new", ONE_DAY, False), bars[0])
    assert cache.stored() == {("5", ONE_DAY), ("7", ONE_DAY), ("new", ONE_DAY)}
    cache.clear()
    assert not cache.stored()


def test_no_times_stay_behind_when_their_bars_are_gone(tmp_path: Path) -> None:
    library = one_symbol(tmp_path)
    minutes = Bars(
        "AAA",
        ONE_MINUTE,
        Calendar(),
        np.arange(600, dtype=np.int64) * 60 + 86_400 * 15_001,
        {name: np.arange(600.0) + 1 for name in COLUMNS},
    )
    library.write(minutes)
    before = len(shared_times._KNOWN)
    panel = library.panel(["AAA"], Timeframe.parse("5m"))
    marks(panel.timeline, Timeframe.parse("1h"))
    panel.timeline.closes(0)
    library.bars("AAA", ONE_MINUTE).regular()
    assert len(shared_times._KNOWN) > before
    library._cache.clear()
    del panel
    gc.collect()
    assert len(shared_times._KNOWN) <= before


def test_facts_by_name_are_those_of_their_symbol_the_second_time_too() -> None:
    calls = []

    def work() -> np.ndarray:
        calls.append(1)
        return np.arange(9.0)

    keys, sizes = [("facts of", k) for k in "abc"], [2, 3, 4]
    for _ in range(2):
        assert shared_times.remembered_by_name(keys, sizes, work).tolist() == list(range(9))
    assert len(calls) == 1
    assert shared_times.remembered_by_name(keys[1:2], [3], work).tolist() == [2, 3, 4]
    assert shared_times.remembered_by_name([keys[2], keys[0]], [4, 2], work).tolist() == [5, 6, 7, 8, 0, 1]
    assert len(calls) == 1


def test_symbols_that_share_their_times_stand_in_runs() -> None:
    """What is worked out for one of a run is taken for all of it."""
    one, two = (shared_times.shared(np.arange(n, dtype=np.int64) * 86_400) for n in (5, 7))
    calendar, other = Calendar(), Calendar(weekend=True)

    def runs(*symbols: tuple[np.ndarray, Calendar]) -> list[tuple[int, int]]:
        parts = [times for times, _ in symbols]
        offsets = np.cumsum([0, *map(len, parts)])
        return Timeline(ONE_DAY, tuple(c for _, c in symbols), offsets, tuple(parts), False).alike()

    a, b, c = (one, calendar), (two, calendar), (one, other)
    assert runs(a, a, b, b, b, a) == [(0, 2), (2, 5), (5, 6)]
    assert runs(a, b, a, b) == [(0, 1), (1, 2), (2, 3), (3, 4)]
    assert runs(a, c, c) == [(0, 1), (1, 3)] and runs(a) == [(0, 1)] and runs() == []


@pytest.mark.parametrize(
    ("prices", "tick"),
    [([10.0, 12.0], 1.0), ([10.5, 12.0], 0.1), ([10.25], 0.01), ([1.23456], 1e-5), ([1 / 3], 1e-6), ([], 1.0)],
)
def test_a_tick_is_found_in_prices(prices: list[float], tick: float) -> None:
    assert tick_of(np.array([np.nan, *prices])) == pytest.approx(tick)
