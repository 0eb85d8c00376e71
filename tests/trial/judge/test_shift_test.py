"""A trial beside chance: moved entries, blocks drawn again, and the Sharpe ratio that luck leaves."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.rung import RunProblem, compile_script
from oakladder.trial.broker.money import Account, Costs, Slippage
from oakladder.trial.judge.deflated_sharpe import Returns, deflate, deflated, luck, returns_of
from oakladder.trial.judge.shift_test import bootstrap_of, shift_test_of
from oakladder.trial.trial import Trial, run_trial, trial_data_of
from trial.judge.evidence.grounds import walks

HELD = "rung 1\ntrade ride long\n    enter when volume > 950\n    at most 5 bars\n"


def test_a_single_trade_is_moved_to_every_place_equally_often() -> None:
    closes = 100 + np.cumsum(np.random.default_rng(4).normal(0, 1, 12))
    opens = closes + 0.25
    text = "rung 1\ntrade ride long\n    enter when bar == 3\n    at most 4 bars\n"
    trial = run_trial(
        compile_script(text),
        trial_data_of(panel_of([daily_bars(closes, open=opens)])),
        Account(costs=Costs(ratio=0.001)),
    )
    places = [
        _held(opens[k], opens[k + 4], 0.01, 0.001) for k in range(8)
    ]  # the last that leaves at an open within the data enters at bar 7
    made = shift_test_of(trial, runs=8_000)
    nearest = np.abs(made.runs[:, None] - np.array(places)).argmin(axis=1)
    assert np.abs(made.runs - np.array(places)[nearest]).max() < 1e-12
    assert stats.chisquare(np.bincount(nearest, minlength=8)).pvalue > 1e-3
    assert made.real == pytest.approx(places[4], abs=1e-12)
    assert made.share == pytest.approx((1 + (made.runs >= made.real).sum()) / 8_001)


def _held(entry: float, exit_: float, tick: float, cost: float) -> float:
    paid, got = entry + tick, exit_ - tick
    return (got - paid - cost * (paid + got)) / paid


def test_moved_trades_stay_apart_on_their_symbol_and_their_side() -> None:
    # Prices rise on one symbol and fall on the other, and each is traded on its good side without a pause: there is no
    # other place where as many trades as long could stand, so every run is nearly as good as the rule.
    up = np.linspace(100, 200, 101)
    down = up[::-1]
    text = (
        "rung 1\ntrade climb long\n    enter when close > open\n    at most 10 bars\n"
        "trade slide short\n    enter when close < open\n    at most 10 bars\n"
    )
    bars = [daily_bars(c, s, open=np.append(c[0], c[:-1])) for c, s in ((up, "UP"), (down, "DOWN"))]
    trial = run_trial(compile_script(text), trial_data_of(panel_of(bars)), Account(costs=Costs(0, 0, 0, Slippage())))
    made = shift_test_of(trial, runs=300)
    assert (made.runs > 0).all() and abs(np.median(made.runs) - made.real) < 0.02


def _traded(seed: int, edge: float = 0.0) -> Trial:
    return run_trial(compile_script(HELD), walks(seed, 2, 300, edge), Account(money=1e6))


def test_pure_chance_falls_anywhere_among_its_runs() -> None:
    shares = [shift_test_of(_traded(seed), runs=199, seed=seed).share for seed in range(200)]
    assert stats.kstest(shares, "uniform").pvalue > 1e-3


def test_an_edge_is_more_than_chance() -> None:
    made = shift_test_of(_traded(7, edge=0.006))
    assert made.share < 0.01 and made.real > np.quantile(made.runs, 0.99)
    assert "in none of them" in made.words() or "runs" in made.words()


def test_blocks_are_drawn_from_the_trades() -> None:
    trial = _traded(7)
    made = bootstrap_of(trial)
    low, high = made.range_of_average()
    assert low < made.real_average < high
    assert made.real_average == pytest.approx(trial.metrics["average"])
    assert np.mean(made.average) == pytest.approx(made.real_average, abs=0.3 * (high - low))
    middle, deep = made.drawdown_to_expect()
    assert 0 < middle < deep < 1
    # The spread of the mean of n nearly independent trades is their deviation over the root of n.
    book = trial.book
    ratio = (book.net / (book.units * book.paid))[book.done]
    assert np.std(made.average) == pytest.approx(np.std(ratio) / math.sqrt(len(ratio)), rel=0.5)


def test_trades_that_all_win_never_fall() -> None:
    closes = np.linspace(100, 200, 201)
    text = "rung 1\ntrade ride long\n    enter when bar mod 10 == 0\n    at most 5 bars\n"
    bars = daily_bars(closes, open=np.append(closes[0], closes[:-1]))
    trial = run_trial(compile_script(text), trial_data_of(panel_of([bars])))
    made = bootstrap_of(trial)
    assert (made.drawdown == 0).all() and (made.average > 0).all()


def test_without_trades_there_is_a_sentence() -> None:
    trial = run_trial(
        compile_script("rung 1\ntrade ride long\n    enter when close > 1e6\n"), walks(1, 1, 60), Account()
    )
    for work in (shift_test_of, bootstrap_of):
        with pytest.raises(RunProblem, match="no closed trade"):
            work(trial)


def test_the_example_of_the_paper() -> None:
    # A Sharpe ratio of 2.5 a year over five years of 250 days, skewness -3 and kurtosis 10, the best of 100 tries whose
    # ratios vary by 1/2 a year: luck alone gives 0.1132 a day, and 0.9004 is the probability of more than that.
    of_a_day = Returns(2.5 / math.sqrt(250), 1250, -3.0, 10.0, 250.0)
    variance = 0.5 / 250
    assert luck(100, variance) == pytest.approx(0.1132, abs=5e-5)
    assert deflated(of_a_day, 100, variance) == pytest.approx(0.9004, abs=5e-5)
    # After 46 tries it would have been 0.9505.
    assert deflated(of_a_day, 46, variance) == pytest.approx(0.9505, abs=5e-4)


def test_luck_is_what_the_best_of_many_rules_without_merit_shows() -> None:
    rng = np.random.default_rng(2)
    best = rng.normal(0, 0.05, (4_000, 50)).max(axis=1)
    assert luck(50, 0.05**2) == pytest.approx(best.mean(), rel=0.03)
    assert luck(1, 1.0) == 0.0


def test_more_tries_leave_less_of_a_sharpe_ratio() -> None:
    trial = _traded(7, edge=0.004)
    returns = returns_of(trial)
    assert returns is not None
    assert returns.sharpe * math.sqrt(returns.a_year) == pytest.approx(trial.metrics["sharpe"])
    rng = np.random.default_rng(3)
    year = math.sqrt(returns.a_year)
    others = (rng.normal(0, 0.1, 200) * year).tolist()
    alone, few, many = (deflate(returns, [returns.sharpe * year, *others[:k]]) for k in (0, 9, 199))
    spread = np.var([returns.sharpe, *np.array(others[:199]) / year], ddof=1)
    assert many.luck == pytest.approx(luck(200, spread) * year)
    assert alone.discounted == alone.sharpe
    assert alone.sharpe == few.sharpe == many.sharpe
    assert alone.probability > few.probability > many.probability
    assert "first try" in alone.words() and "200 tries" in many.words()
    # Tries that were all alike are tries nevertheless.
    assert deflate(returns, [returns.sharpe * year] * 50).luck > 0


def test_the_moments_of_returns_are_those_of_the_sample() -> None:
    trial = _traded(7)
    returns = returns_of(trial)
    assert returns is not None
    value = trial.equity.value
    plain = value[1:] / value[:-1] - 1
    assert returns.count == len(plain)
    assert returns.skewness == pytest.approx(stats.skew(plain))
    assert returns.kurtosis == pytest.approx(stats.kurtosis(plain, fisher=False))
    assert returns.sharpe == pytest.approx(plain.mean() / plain.std(ddof=1))
