"""Ranges by resampled sessions: they hold the truth as often as they say."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.rung import compile_script
from oakladder.trial.broker.money import Account, Costs, Slippage
from oakladder.trial.judge.block_length import block_length
from oakladder.trial.judge.bootstrap import bootstrap_of
from oakladder.trial.trial import Trial, run_trial, trial_data_of
from trial.judge.evidence.grounds import walks

from .noise import KINDS, Noise

HELD = "rung 1\ntrade ride long\n    enter when volume > 950\n    at most 5 bars\n    stop 5%\n"


def traded(seed: int, edge: float = 0.0) -> Trial:
    return run_trial(compile_script(HELD), walks(seed, 2, 300, edge), Account(money=1e6))


def test_ranges_lie_around_what_the_trial_shows() -> None:
    trial = traded(7)
    made = bootstrap_of(trial)
    assert set(made.draws) == {"growth", "sharpe", "drawdown", "average", "expectancy"}
    for name, draws in made.draws.items():
        assert len(draws) == 1_000
        assert made.real[name] == pytest.approx(trial.metrics[name])
        low, high = made.range_of(name) or (0.0, 0.0)
        assert low < high
        if name != "drawdown":
            assert low < (made.real[name] or 0.0) < high
            assert np.nanmean(draws) == pytest.approx(made.real[name], abs=0.4 * (high - low))
    middle, deep = made.drawdown_to_expect() or (0.0, 0.0)
    assert 0 < middle < deep < 1
    plain = made.as_plain()
    assert plain["ranges"]["sharpe"] == made.range_of("sharpe")  # type: ignore[index]
    assert (plain["average_low"], plain["average_high"]) == made.range_of("average")


def test_the_average_trade_spreads_as_a_mean_of_independent_trades_does() -> None:
    trial = traded(7)
    ratio = trial.results.ratio[trial.book.done]
    assert np.std(bootstrap_of(trial).draws["average"]) == pytest.approx(np.std(ratio) / np.sqrt(len(ratio)), rel=0.5)


def test_trades_that_all_win_never_fall() -> None:
    closes = np.linspace(100, 200, 201)
    text = "rung 1\ntrade ride long\n    enter when bar mod 10 == 0\n    at most 5 bars\n"
    bars = daily_bars(closes, open=np.append(closes[0], closes[:-1]))
    free = Account(costs=Costs(0, 0, 0, Slippage()))
    made = bootstrap_of(run_trial(compile_script(text), trial_data_of(panel_of([bars])), free))
    assert made.draws["drawdown"].max() < 1e-9 and np.nanmin(made.draws["average"]) > 0
    assert made.range_of("expectancy") is None and made.as_plain()["ranges"]["expectancy"] is None  # type: ignore[index]


def test_a_single_trade_on_a_few_bars_gives_numbers_or_nothing() -> None:
    text = "rung 1\ntrade ride long\n    enter when bar == 1\n    at most 1 bars\n"
    for count in (4, 5, 8):
        trial = run_trial(compile_script(text), trial_data_of(panel_of([daily_bars(np.linspace(10, 12, count))])))
        made = bootstrap_of(trial)
        assert made.words() and made.fall_words() and made.as_plain()


def test_blocks_are_as_long_as_values_depend_on_one_another() -> None:
    rng = np.random.default_rng(5)
    noise = rng.normal(0, 1, 2_000)
    slow = np.zeros(2_000)
    for k in range(1, 2_000):
        slow[k] = 0.8 * slow[k - 1] + noise[k]
    sums = np.convolve(noise, np.ones(20), "valid")
    assert block_length(noise) < 6 < block_length(slow) < block_length(sums) < 140
    # For an autoregression the best length is known: (2 g^2 / d)^(1/3) n^(1/3), g = 2 a s / (1 - a^2)^2 ... (Politis and
    # White, 2004, section 3): with a = 0.8 that is (2 a / (1 - a^2))^(2/3) n^(1/3).
    best = (2 * 0.8 / (1 - 0.64)) ** (2 / 3) * 2_000 ** (1 / 3)
    lengths = [block_length(_autoregression(seed)) for seed in range(40)]
    assert np.median(lengths) == pytest.approx(best, rel=0.25)
    for values in (np.zeros(0), np.ones(2), np.ones(50), np.array([1.0, -1.0, 1.0])):
        assert block_length(values) == 1.0


def _autoregression(seed: int) -> np.ndarray:
    noise = np.random.default_rng(seed).normal(0, 1, 2_000)
    made = np.zeros(2_000)
    for k in range(1, 2_000):
        made[k] = 0.8 * made[k - 1] + noise[k]
    return made


@pytest.mark.nightly
@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: kind.name)
def test_ranges_hold_the_truth_as_often_as_they_say(kind: Noise, told: Callable[[str], None]) -> None:
    """Without an edge and costs the average trade and the Sharpe ratio are nothing in truth."""
    program, missed = compile_script(kind.rule), {"average": 0, "sharpe": 0}
    free = Account(money=1e6, costs=Costs(0, 0, 0, Slippage()))
    for seed in range(400):
        made = bootstrap_of(run_trial(program, kind.market(seed), free))
        for name in missed:
            low, high = made.range_of(name) or (0.0, 0.0)
            missed[name] += not low <= 0 <= high
    told(f"{kind.name}: ranges of 90 % miss the truth in {', '.join(f'{n} {m / 400:.1%}' for n, m in missed.items())}")
    assert all(0.06 <= m / 400 <= 0.14 for m in missed.values())
