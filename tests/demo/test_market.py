"""The Saltmere Exchange: the same everywhere, minutes that add up to days, and something to find in it."""

from __future__ import annotations

import numpy as np

from oakladder.bars.resample import resample
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE
from oakladder.demo import companies
from oakladder.demo import market as demo


def test_it_has_72_companies_an_index_two_pairs_and_two_goods() -> None:
    kinds = [i.kind for i in companies.symbols()]
    assert {k: kinds.count(k) for k in set(kinds)} == {"share": 72, "index": 1, "currency": 2, "goods": 2}
    assert len({i.symbol for i in companies.symbols()}) == 77


def test_it_is_generated_the_same_each_time() -> None:
    for name in ("BRINE", "MERSHL"):
        a, b = demo.daily(name), demo.daily(name)
        assert all(np.array_equal(a[k], b[k]) for k in a.columns)
    assert float(demo.daily("BRINE")["close"].sum()) != float(demo.daily("CROSS")["close"].sum())


def test_every_bar_is_sound(market: BarLibrary) -> None:
    for symbol in market.infos:
        for base in (ONE_DAY, ONE_MINUTE) if symbol in ("BRINE", "PHARE", "MERSHL") else (ONE_DAY,):
            b = market.base(symbol, base)
            assert (b["low"] <= np.minimum(b["open"], b["close"])).all()
            assert (b["high"] >= np.maximum(b["open"], b["close"])).all()
            assert (b["low"] > 0).all()
            assert (b["volume"] > 0).all()
            assert (np.diff(b.times) > 0).all()


def test_regular_minutes_add_up_to_the_daily_bars(market: BarLibrary) -> None:
    for symbol in ("BRINE", demo.ILLIQUID, demo.LATE_START, demo.HALTED, "MERPRL", "KELPG"):
        made = resample(market.base(symbol, ONE_MINUTE).regular(), ONE_DAY)
        days = market.bars(symbol, ONE_DAY)
        days = days.part(len(days) - len(made), len(days))
        assert np.array_equal(made.times, days.times)
        for name in days.columns:
            np.testing.assert_array_equal(made[name], days[name], err_msg=f"{symbol} {name}")


def test_it_has_what_scripts_must_cope_with(market: BarLibrary) -> None:
    full = len(market.base("BRINE", ONE_MINUTE).regular())
    assert len(market.base(demo.ILLIQUID, ONE_MINUTE).regular()) < 0.6 * full
    assert len(market.bars(demo.HALTED, ONE_DAY)) == len(market.bars("BRINE", ONE_DAY)) - 2
    first = first_minutes(market, demo.LATE_START)
    assert sorted(set(first.tolist())) == [540, 587]
    falls = [np.min(np.diff(np.log(market.bars(s, ONE_DAY)["close"]))) for s in market.infos]
    assert sum(f < -0.10 for f in falls) > 20
    extended = market.base("BRINE", ONE_MINUTE)
    assert len(extended) > full
    assert extended.calendar.minutes(extended.times).min() < 540


def first_minutes(market: BarLibrary, symbol: str) -> np.ndarray:
    """The minute of the day at which each regular session of a symbol begins."""
    bars = market.base(symbol, ONE_MINUTE).regular()
    days = bars.calendar.days(bars.times)
    return bars.calendar.minutes(bars.times)[np.flatnonzero(np.diff(days, prepend=days[0] - 1))]
