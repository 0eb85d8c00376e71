"""Trades by the market that they were entered in, against plain loops; and what a year brought from any day on."""

from __future__ import annotations

import math
import statistics
from itertools import pairwise

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.rung import compile_script
from oakladder.trial.broker.money import Account, Costs, Slippage
from oakladder.trial.regimes import Market, by_trend, by_volatility, by_year, rolling_year
from oakladder.trial.trial import Trial, run_trial, trial_data_of

RULE = "rung 1\ntrade ride long\n    enter when bar mod 9 == 3\n    at most 2 bars\n"
FREE = Account(costs=Costs(0, 0, 0, Slippage()))


def tried(count: int = 700, symbols: int = 3, rule: str = RULE) -> Trial:
    rng, series = np.random.default_rng(6), []
    for k in range(symbols):
        moves = rng.normal(0.0003, 0.004 + 0.012 * (np.arange(count) // 80 % 2), count)
        closes = 50 * np.exp(np.cumsum(moves))
        series.append(daily_bars(closes, f"S{k}", open=np.append(50.0, closes[:-1])))
    return run_trial(compile_script(rule), trial_data_of(panel_of(series)), FREE)


def index_of(trial: Trial) -> list[float]:
    """The symbols in equal parts from their first opens."""
    panel = trial.ground.panel
    parts = [
        panel.column("close")[a:b] / panel.column("open")[a] for a, b in zip(panel.starts, panel.ends, strict=True)
    ]
    return [float(np.mean([p[k] for p in parts])) for k in range(len(parts[0]))]


def entries(trial: Trial) -> list[tuple[int, float]]:
    """The bar of each closed trade's entry within its symbol, and what it brought."""
    trades, panel = trial.trades, trial.ground.panel
    return [
        (int(trades.entered[k] - panel.starts[trades.symbol[k]]), float(trial.book.net[k]))
        for k in np.flatnonzero(trial.book.done)
    ]


def test_trades_by_the_trend_of_the_index() -> None:
    trial = tried()
    index, sums = index_of(trial), dict.fromkeys(("above", "below", "known"), 0.0)
    counts = dict.fromkeys(sums, 0)
    for bar, net in entries(trial):
        before = index[:bar]  # as of the close before the entry
        kind = "known" if len(before) < 200 else "above" if before[-1] > statistics.fmean(before[-200:]) else "below"
        sums[kind], counts[kind] = sums[kind] + net, counts[kind] + 1
    found = {next(k for k in sums if k in g.name): g.metrics for g in by_trend(trial)}
    assert {k: m["trades"] for k, m in found.items()} == counts and min(counts.values()) > 10
    for kind, total in sums.items():
        assert found[kind]["net"] == pytest.approx(total)


def test_trades_by_the_volatility_of_the_index() -> None:
    trial = tried()
    index = index_of(trial)
    returns = [b / a - 1 for a, b in pairwise(index)]
    deviations = {k: statistics.stdev(returns[k - 20 : k]) for k in range(20, len(index))}  # at the close of bar k
    low, high = np.quantile(list(deviations.values()), (1 / 3, 2 / 3))
    counts = dict.fromkeys(("calm", "middle", "volatile", "known"), 0)
    for bar, _ in entries(trial):
        now = deviations.get(bar - 1)
        kind = "known" if now is None else "calm" if now <= low else "middle" if now <= high else "volatile"
        counts[kind] += 1
    assert {next(k for k in counts if k in g.name): g.metrics["trades"] for g in by_volatility(trial)} == counts


def test_trades_by_the_year_of_their_entry() -> None:
    trial = tried()
    times = trial.ground.panel.times[trial.trades.entered[trial.book.done]]
    years = times.astype("datetime64[s]").astype("datetime64[Y]").astype(str).tolist()
    assert {g.name: g.metrics["trades"] for g in by_year(trial)} == {y: years.count(y) for y in set(years)}


def test_a_market_of_which_little_is_known_is_not_known_yet() -> None:
    short = tried(15, 1)
    assert [g.name for g in by_trend(short)] == ["not known yet"] == [g.name for g in by_volatility(short)]
    never = tried(300, 1, RULE.replace("bar mod 9 == 3", "close < 0"))
    assert by_trend(never) == [] and by_year(never) == []
    flat = run_trial(compile_script(RULE), trial_data_of(panel_of([daily_bars(np.full(300, 5.0))])), FREE)
    assert "index above" not in [g.name for g in by_trend(flat)] and (Market.of(flat).volatility()[20:] < 3).all()


def test_the_year_up_to_each_day() -> None:
    trial = tried()
    times, ratios = rolling_year(trial)
    value, closes = trial.equity.value, trial.equity.clock.closes
    year = 365.25 * 86_400
    expected = []
    for k in range(len(value)):
        before = [j for j in range(k) if closes[j] <= closes[k] - year]
        if before:
            expected.append((int(trial.equity.times[k]), value[k] / value[before[-1]] - 1))
    assert times.tolist() == [t for t, _ in expected] and len(times) > 300
    assert all(math.isclose(a, b) for a, (_, b) in zip(ratios.tolist(), expected, strict=True))
    assert [len(part) for part in rolling_year(tried(200, 1))] == [0, 0]
