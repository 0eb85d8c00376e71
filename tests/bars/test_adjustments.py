"""Prices adjusted for dividends and splits: what a file's adjusted closes say, and what is read of a library that knows it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import daily_bars
from oakladder.bars.adjustments import Adjustments, found_in, on_steps
from oakladder.bars.bars import PRICES, Bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.tail_view import tail_view
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, ONE_WEEK, Timeframe
from oakladder.tuning import TUNING


def history(seed: int, count: int = 400) -> tuple[np.ndarray, np.ndarray, dict[int, float]]:
    """Days, real closes in cents, and the factor from some days on: dividends, and splits of the real price."""
    rng = np.random.default_rng(seed)
    days = 18_000 + np.cumsum(rng.choice([1, 1, 1, 1, 3], count))
    turns = np.sort(rng.choice(np.arange(5, count - 5), 7, replace=False))
    turns = turns[np.append(True, np.diff(turns) > 4)]
    ratios = np.where(rng.random(len(turns)) < 0.3, rng.choice([0.5, 0.2, 4.0]), rng.uniform(0.9, 0.99, len(turns)))
    factors = np.append(np.cumprod(ratios[::-1])[::-1], 1.0)
    close = np.exp(np.cumsum(rng.normal(0, 0.01, count))) * 60
    for turn, ratio in zip(turns, ratios, strict=True):
        close[turn:] *= ratio if ratio in (0.5, 0.2, 4.0) else 1.0
    steps = dict(zip([int(days[0]), *days[turns].tolist()], factors.tolist(), strict=True))
    return days, np.round(close * 60 / close[-1], 2), steps


@pytest.mark.parametrize("decimals", [2, 4, 6])
@pytest.mark.parametrize("seed", range(6))
def test_dividends_and_splits_are_found_in_rounded_closes(seed: int, decimals: int) -> None:
    days, close, steps = history(seed)
    factor = Adjustments.of_steps(steps, int(days[-1])).on_days(days)
    found = found_in(days, close, np.round(close * factor, decimals))
    assert found is not None and found.days[1:] == tuple(steps)[1:] and found.until == days[-1]
    assert found.factors[-1] == 1
    assert np.abs(found.on_days(days) * close - close * factor).max() < 1.2 * 10.0**-decimals


def test_closes_that_are_adjusted_by_nothing_are_real_ones() -> None:
    days, close, _ = history(1)
    found = found_in(days, close, close)
    assert found is not None and found.is_plain and found.steps == 0
    nothing = np.full(len(close), np.nan)
    assert found_in(days, close, nothing) is None and found_in(days, close, 0 * close) is None


def test_another_price_is_no_adjusted_close() -> None:
    days, close, _ = history(2)
    other = np.round(close * np.exp(np.random.default_rng(1).normal(0, 0.01, len(close))), 2)
    with pytest.raises(ValueError):
        found_in(days, close, other)


@given(st.integers(0, 10_000), st.integers(20, 380), st.integers(20, 380), st.booleans())
@settings(max_examples=60, deadline=None)
def test_two_files_of_one_history_tell_what_the_whole_does(seed: int, a: int, b: int, newer_first: bool) -> None:
    """An older download ends earlier and knows nothing of later dividends; they have days in common."""
    days, close, steps = history(seed)
    whole = Adjustments.of_steps(steps, int(days[-1])).on_days(days)
    first, last = sorted((a, b))
    last = max(last, first + 10)
    older, newer = slice(0, last), slice(first, None)  # the older file's factors are 1 at its own end
    ones = [(days[p], close[p], whole[p] / whole[p][-1]) for p in (older, newer)]
    told = [found_in(d, c, c * f) for d, c, f in ones]
    assert told[0] is not None and told[1] is not None
    one, two = (told[1], told[0]) if newer_first else (told[0], told[1])
    end = int(days[-1]) if newer_first else int(days[last - 1])
    joined = two.after(one, end)
    assert np.allclose(joined.on_days(days), whole, rtol=1e-6)
    assert joined.after(joined, int(days[-1])) == joined  # the same once more changes nothing


ADJUSTED = Adjustments((15_010, 15_020), (0.5, 1.0), 15_100)


def filled(folder: Path) -> BarLibrary:
    """Two symbols with days and minutes, of which one is adjusted from its second week on."""
    library = BarLibrary(folder)
    rng = np.random.default_rng(3)
    for symbol, adjustments in (("OWNER", ADJUSTED), ("PLAIN", None)):
        days = daily_bars(np.round(50 + np.cumsum(rng.normal(0, 1, 60)), 2), symbol)
        info = SymbolInfo(symbol, symbol, "", "share", 0.01, Calendar(), adjustments=adjustments)
        library.write(days, info)
        # Minutes before and after regular hours too: they belong to the same day.
        times = (days.times[5:25, None] + np.arange(-120, 360, 20)[None, :] * 60).ravel()
        prices = np.round(50 + np.cumsum(rng.normal(0, 0.1, len(times))), 2)
        columns = dict.fromkeys(PRICES, prices) | {"volume": np.ones(len(times))}
        library.write(Bars(symbol, ONE_MINUTE, Calendar(), times, columns), replace(info, step=20))
    return library


@pytest.mark.parametrize("frame", ["1d", "1w", "20m", "1h"])
@pytest.mark.parametrize("extended", [False, True])
def test_one_symbol_and_many_are_read_at_adjusted_prices(tmp_path: Path, frame: str, extended: bool) -> None:
    library, timeframe = filled(tmp_path), Timeframe.parse(frame)
    panel = library.panel(["OWNER", "PLAIN"], timeframe, extended)
    for k, symbol in enumerate(panel.symbols):
        bars, alone = library.bars(symbol, timeframe, extended), panel.bars(k)
        assert bars.adjustments == alone.adjustments == (ADJUSTED if symbol == "OWNER" else None)
        for name, column in bars.columns.items():
            np.testing.assert_array_equal(column, alone[name])
    skipped = tail_view(library.panel(["OWNER", "PLAIN"], timeframe, extended), np.array([3, 2]))
    whole, offsets = panel.column("close"), panel.offsets
    np.testing.assert_array_equal(
        skipped.column("close"), np.concatenate([whole[3 : offsets[1]], whole[offsets[1] + 2 :]])
    )
    assert skipped.adjustments == panel.adjustments
    factors = panel.column("adjusted_by")
    assert set(factors[: offsets[1]]) == {0.5, 1.0} and set(factors[offsets[1] :]) == {1.0}


def test_adjusted_prices_are_the_stored_ones_by_the_days_factor(tmp_path: Path) -> None:
    library = filled(tmp_path)
    for base, frame in ((ONE_DAY, "1d"), (ONE_MINUTE, "20m")):
        stored, read = library.base("OWNER", base), library.bars("OWNER", Timeframe.parse(frame), True)
        factor = np.where(stored.calendar.days(stored.times) < 15_020, 0.5, 1.0)
        assert set(factor) == {0.5, 1.0} and stored.adjustments is None
        for name in PRICES:
            assert (read[name] == stored[name] * factor).all()
        assert (read["volume"] == stored["volume"]).all()
    week = library.bars("OWNER", ONE_WEEK)
    days = library.bars("OWNER", ONE_DAY)
    assert week["high"].max() == days["high"].max() and week.adjustments == ADJUSTED


def test_a_change_of_what_is_known_is_seen_at_once(tmp_path: Path) -> None:
    library, other = filled(tmp_path), BarLibrary(tmp_path)
    assert other.bars("OWNER", ONE_DAY).adjustments == ADJUSTED
    versions = other.panel(["OWNER", "PLAIN"], ONE_DAY).versions
    library.add_symbols([replace(library.infos["OWNER"], adjustments=None)])
    other.fresh()
    np.testing.assert_array_equal(other.bars("OWNER", ONE_DAY)["close"], library.base("OWNER", ONE_DAY)["close"])
    after = other.panel(["OWNER", "PLAIN"], ONE_DAY).versions
    assert versions is not None and after is not None
    assert (versions != after).any(axis=1).tolist() == [True, False]


def test_packed_symbols_are_adjusted_too(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    library = filled(tmp_path)
    before = library.panel(["OWNER", "PLAIN"], ONE_DAY).column("close")
    monkeypatch.setattr(TUNING, "packed_symbols", 1)
    library.pack()
    np.testing.assert_array_equal(BarLibrary(tmp_path).panel(["OWNER", "PLAIN"], ONE_DAY).column("close"), before)


def test_a_catalogue_and_its_files_keep_them(tmp_path: Path) -> None:
    filled(tmp_path)
    assert BarLibrary(tmp_path).infos["OWNER"].adjustments == ADJUSTED
    for name in ("catalogue.sqlite", "catalogue.copy.sqlite"):
        (tmp_path / name).unlink(missing_ok=True)
    assert BarLibrary(tmp_path).infos["OWNER"].adjustments == ADJUSTED


def test_real_prices_come_back_to_the_last_digit() -> None:
    bars = daily_bars(np.round(np.random.default_rng(1).uniform(1, 900, 400), 2))
    factors = tuple(np.cumprod(np.random.default_rng(2).uniform(0.9, 1, 8)).tolist()[::-1])
    adjusted = bars.adjusted(Adjustments(tuple(range(15_000, 15_400, 50)), factors, 16_000))
    assert adjusted.adjustments is not None
    real = on_steps(adjusted["close"] / adjusted.adjustments.on_days(bars.calendar.days(bars.times)), 0.01)
    assert real.tolist() == bars["close"].tolist()
    assert on_steps(np.array([1.2349, np.nan, 2.5]), 0.05).tolist()[::2] == [1.2349, 2.5]
