"""Trades of the engine beside those of an independent broker: every one agrees in bar, price and reason."""

from __future__ import annotations

import numpy as np
import pytest

from oakladder.rung import compile_script
from oakladder.rung.trade_words import Reason
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.broker.trades import Trades
from trial.independent_broker import trade
from trial.random_rules import for_broker, market, panel_with_tick, random_adjustments, random_case


def told(found: Trades) -> list[tuple[object, ...]]:
    reasons = ["", *Reason]
    return [
        (
            found.rules[found.rule[k]].name,
            int(found.side[k]),
            int(found.decided[k]),
            int(found.entered[k]),
            round(float(found.entry[k]), 6),
            int(found.left[k]),
            None if found.left[k] < 0 else round(float(found.exit[k]), 6),
            str(reasons[found.reason[k]]),
        )
        for k in range(len(found))
    ]


def agree(seed: int, timeframe: str, tick: float = 0.01, *, through: bool = False, adjusted: bool = False) -> int:
    rng = np.random.default_rng(seed)
    case = random_case(rng, within_day=timeframe != "1d")
    bars = market(rng, 300, timeframe)
    if adjusted:
        bars = bars.adjusted(random_adjustments(rng, bars))
    panel = panel_with_tick(bars, tick)
    program = compile_script("rung 1\n" + case.script)
    found = find_trades(program, panel, through=through)
    factors = panel.column("adjusted_by").tolist()
    book = trade(for_broker(bars), case.rules(panel), tick, through=through, factors=factors)
    expected = [
        (
            t.name,
            t.side,
            t.decided,
            t.entered,
            round(t.entry, 6),
            -1 if t.left is None else t.left,
            None if t.exit is None else round(t.exit, 6),
            t.reason,
        )
        for t in book.trades
    ]
    assert told(found) == expected, case.script
    risks = [np.nan if t.risk is None else t.risk for t in book.trades if t.left is not None]
    assert np.allclose(found.risk[found.closed], risks, atol=1e-9, equal_nan=True), case.script
    counts = (int(found.undecided.sum()), found.touched, found.contradictions)
    assert counts == (book.undecided, book.touched, book.contradictions), case.script
    return len(expected)


@pytest.mark.parametrize("timeframe", ["1d", "30m"])
def test_random_scripts_trade_as_the_broker_does(timeframe: str) -> None:
    made = sum(agree(seed, timeframe) for seed in range(50))
    assert made > 400  # trades there are


@pytest.mark.parametrize("timeframe", ["1d", "30m"])
def test_limits_and_targets_fill_only_where_they_are_traded_through(timeframe: str) -> None:
    assert sum(agree(seed, timeframe, 0.05, through=True) for seed in range(50)) > 300


@pytest.mark.parametrize("timeframe", ["1d", "30m"])
@pytest.mark.parametrize("through", [False, True])
def test_orders_lie_on_ticks_of_real_prices_where_these_are_adjusted(timeframe: str, through: bool) -> None:
    assert sum(agree(seed, timeframe, 0.05, through=through, adjusted=True) for seed in range(40)) > 200


@pytest.mark.nightly
@pytest.mark.parametrize("first", range(0, 3_000, 300))
def test_thousands_of_random_scripts_trade_as_the_broker_does(first: int) -> None:
    ways = (("1d", 0.01), ("30m", 0.05), ("1h", 0.25))
    made = sum(agree(seed, *way) for seed in range(10_000 + first, 10_300 + first) for way in ways)
    print(f"{made:,} trades of 900 scripts agree in bar, price and reason")
    assert made > 10_000
