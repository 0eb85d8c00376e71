"""The demo market after its last stored day: the same for the same seed, by its calendar, and made like its history."""

from __future__ import annotations

import numpy as np

from oakladder.bars.zones import DAY
from oakladder.demo import market
from oakladder.demo.ahead import MarketAhead
from oakladder.demo.companies import EXCHANGE, LAST_DAY

#: The exchange's first day after the last stored one that trades, and the one after that.
DAYS = [d for d in range(LAST_DAY + 1, LAST_DAY + 10) if EXCHANGE.trades_on(np.array([d]))[0]]


def opens(day: int) -> int:
    return int(EXCHANGE.day_open(np.array([day]), True)[0])


def test_the_same_seed_makes_the_same_minutes_however_they_are_asked_for() -> None:
    one, other, another = MarketAhead(3), MarketAhead(3), MarketAhead(4)
    start, end = opens(DAYS[0]), opens(DAYS[3])
    whole = one.minutes("BRINE", start, end)
    later = other.minutes("BRINE", opens(DAYS[2]), end)  # without having made the days before
    assert len(later) > 300 and len(whole) > 3 * 390
    for name, column in later.columns.items():
        np.testing.assert_array_equal(column, whole[name][-len(later) :])
    assert not np.array_equal(another.minutes("BRINE", start, end)["close"][:50], whole["close"][:50])
    assert (np.diff(whole.times) > 0).all() and int(whole.times[0]) >= start and int(whole.times[-1]) < end


def test_it_goes_on_from_the_last_close_and_a_days_minutes_add_up_to_it() -> None:
    ahead = MarketAhead()
    stored = market.daily("BRINE")
    first = ahead.daily("BRINE", DAYS[0])
    assert abs(float(first["open"][0]) / float(stored["close"][-1]) - 1) < 0.2
    for day in DAYS[:4]:
        bar = ahead.daily("BRINE", day)
        minutes = ahead.minutes("BRINE", opens(day), opens(day) + DAY).regular()
        if len(minutes) < 390:
            continue  # it was halted
        assert minutes["open"][0] == bar["open"][0] and minutes["close"][-1] == bar["close"][0]
        assert minutes["high"].max() == bar["high"][0] and minutes["low"].min() == bar["low"][0]
        assert minutes["volume"].sum() == bar["volume"][0]


def test_history_and_what_follows_are_one() -> None:
    ahead = MarketAhead()
    stored = market.minutes("BRINE")
    found = ahead.minutes("BRINE", int(stored.times[-100]), opens(DAYS[1]))
    np.testing.assert_array_equal(found["close"][:100], stored["close"][-100:])
    assert len(found) > 400 and ahead.first("BRINE") == stored.times[0]


def test_halts_and_the_next_trade() -> None:
    ahead = MarketAhead()
    halted = 0
    for symbol in list(ahead.infos)[:12]:
        for day in DAYS[:6]:
            minutes = ahead.minutes(symbol, opens(day), opens(day) + DAY)
            gaps = np.diff(minutes.regular().times) // 60
            halted += int((gaps >= 15).any())
    assert 0 < halted < 30
    close = int(EXCHANGE.day_open(np.array([DAYS[0]]))[0]) + 3600
    assert 0 < ahead.next_trade(close) - close <= 60
    assert ahead.next_opening(close) == int(EXCHANGE.day_open(np.array([DAYS[1]]))[0])
