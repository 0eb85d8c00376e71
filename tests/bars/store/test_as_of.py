"""Replay reads the market as it was: nothing later, the bar in progress from the minutes that had traded."""

from __future__ import annotations

import numpy as np
import pytest

from oakladder.bars.store.as_of import LibraryAsOf
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script


@pytest.mark.parametrize("timeframe", ["5m", "1h", "1d", "1w", "1mo"])
@pytest.mark.parametrize("extended", [False, True])
def test_nothing_later_than_the_moment_is_there(market: BarLibrary, timeframe: str, extended: bool) -> None:
    frame = Timeframe.parse(timeframe)
    minutes = market.bars("BRINE", ONE_MINUTE, True)
    rng = np.random.default_rng(4)
    for k in rng.integers(1000, len(minutes), 12):
        moment = int(minutes.times[k]) + 60
        cut = LibraryAsOf(market, moment).bars("BRINE", frame, extended)
        whole = market.bars("BRINE", frame, extended)
        closes = whole.calendar.closes(whole.times, frame, whole.extended)
        done = int(np.searchsorted(closes, moment, "right"))
        assert done <= len(cut) <= done + 1
        np.testing.assert_array_equal(cut.times[:done], whole.times[:done])
        np.testing.assert_array_equal(cut["close"][:done], whole["close"][:done])
        if len(cut) > done and frame.intraday:
            inside = (minutes.times >= cut.times[-1]) & (minutes.times + 60 <= moment)
            if not extended:
                inside &= minutes.calendar.is_regular(minutes.times)
            assert cut["high"][-1] == minutes["high"][inside].max()
            assert cut["low"][-1] == minutes["low"][inside].min()
            assert cut["close"][-1] == minutes["close"][inside][-1]
            assert cut["volume"][-1] == pytest.approx(minutes["volume"][inside].sum())


def test_the_day_in_progress_grows_minute_by_minute(market: BarLibrary) -> None:
    minutes = market.bars("GULLW", ONE_MINUTE)
    days = minutes.calendar.days(minutes.times)
    last_day = np.flatnonzero(days == days[-1])
    whole = market.bars("GULLW", ONE_DAY)
    for k in last_day[[0, 100, -2]]:
        cut = LibraryAsOf(market, int(minutes.times[k]) + 60)
        day, week = cut.bars("GULLW", ONE_DAY), cut.bars("GULLW", Timeframe.parse("1w"))
        part = slice(last_day[0], k + 1)
        assert day["high"][-1] == week["high"][-1] or week["high"][-1] >= day["high"][-1]
        assert day["volume"][-1] == pytest.approx(minutes["volume"][part].sum())
        assert day["close"][-1] == week["close"][-1] == minutes["close"][k]
        assert day.times[-1] == whole.times[-1]


def test_a_script_gives_then_what_it_gives_now_for_that_bar(market: BarLibrary) -> None:
    program = compile_script(
        'rung 1\nlet a = sma(close, 20) on 1d\nlet b = close on 1w\nlet c = close of "SALTX"\nlet d = rsi(close, 14)'
    )
    extra = list(program.plan.values.values())
    hour = Timeframe.parse("1h")
    whole = run(program, market.panel(["BRINE"], hour), outputs=[], extra=extra)
    times = whole.panel.times
    closes = market.infos["BRINE"].calendar.closes(times, hour)
    for k in (60, 150, len(times) - 5):
        then = LibraryAsOf(market, int(closes[k])).panel(["BRINE"], hour)
        cut = run(program, then, outputs=[], extra=extra)
        assert len(then.times) == k + 1
        for op in extra:
            np.testing.assert_array_equal(cut.number(op), whole.number(op)[: k + 1])
