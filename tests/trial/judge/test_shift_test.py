"""A trial beside chance: shifted trades, blocks drawn again, and the Sharpe ratio that luck leaves."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy import stats

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.rung import RunProblem, compile_script
from oakladder.rung.trade_log import Moment
from oakladder.trial.broker.money import Account, Costs
from oakladder.trial.judge.bootstrap import bootstrap_of
from oakladder.trial.judge.deflated_sharpe import Returns, deflate, deflated, luck, returns_of
from oakladder.trial.judge.shift_test import shift_test_of
from oakladder.trial.trial import Trial, TrialData, run_trial, trial_data_of
from trial.judge.evidence.grounds import walk, walks
from trial.judge.noise import KINDS

HELD = "rung 1\ntrade ride long\n    enter when volume > 950\n    at most 5 bars\n"


def plain_statistics(trial: Trial) -> tuple[list[float], list[float]]:
    """The average trade of each shift, and that over its standard error, trade by trade and lag by lag."""
    panel, book, costs = trial.ground.panel, trial.book, trial.account.costs
    zone = panel.calendars[0]
    sessions: list[list[list[int]]] = []  # of each symbol, its sessions, each the places of its bars
    for k in range(len(panel)):
        own: dict[int, list[int]] = {}
        for place in range(int(panel.starts[k]), int(panel.ends[k])):
            key = int(zone.days(panel.times[place : place + 1])[0]) if panel.timeframe.intraday else place
            own.setdefault(key, []).append(place)
        sessions.append(list(own.values()))
    trades = trial.trades
    which = np.flatnonzero(book.done).tolist()
    at = {place: (d, j) for own in sessions for d, bars in enumerate(own) for j, place in enumerate(bars)}
    day_of = zone.days(panel.times)
    days = sorted(set(day_of.tolist()))
    held = [at[int(trades.left[i])][0] - at[int(trades.entered[i])][0] for i in which]
    lag = max(int(np.median(held)), 1)

    def ratio(i: int, shift: int) -> float | None:
        own = sessions[int(trades.symbol[i])]
        session, offset = at[int(trades.entered[i])]
        moved = own[(session + shift) % len(own)]
        length = int(trades.left[i] - trades.entered[i])
        if offset >= len(moved) or moved[offset] + length > own[-1][-1]:
            return None
        start, end = moved[offset], moved[offset] + length
        side, tick = float(trades.side[i]), panel.steps[int(trades.symbol[i])]
        paid = panel.column("open")[start] + side * tick
        at_open = trades.moment[i] == Moment.OPEN and length > 0
        got = panel.column("open" if at_open else "close")[end] - side * tick
        return float((side * (got - paid) - costs.ratio * (paid + got)) / paid)

    def measured(ratios: list[float | None]) -> tuple[float, float]:
        sums, counts = dict.fromkeys(days, 0.0), dict.fromkeys(days, 0)
        for i, r in zip(which, ratios, strict=True):
            if r is not None:
                sums[int(day_of[trades.entered[i]])] += r
                counts[int(day_of[trades.entered[i]])] += 1
        m = sum(sums.values()) / sum(counts.values())
        e = [sums[d] - m * counts[d] for d in days]
        v = sum(x * x for x in e)
        for q in range(1, lag + 1):
            v += 2 * (1 - q / (lag + 1)) * sum(e[d] * e[d - q] for d in range(q, len(e)))
        return m, m * sum(counts.values()) / v**0.5

    longest = max(len(sessions[int(trades.symbol[i])]) for i in which)
    real: list[float | None] = [float(trial.results.ratio[i]) for i in which]
    every = [measured(real), *(measured([ratio(i, k) for i in which]) for k in range(1, longest))]
    return [m for m, _ in every], [t for _, t in every]


def unequal(seed: int) -> TrialData:
    rng = np.random.default_rng(seed)
    return trial_data_of(panel_of([walk(rng, count, f"S{k}") for k, count in enumerate((160, 90, 160))]))


@pytest.mark.parametrize("ground", [unequal(3), KINDS[-1].market(3)], ids=["days", "half hours"])
def test_every_shift_agrees_with_shifting_trade_by_trade(ground: TrialData) -> None:
    text = (
        "rung 1\ntrade up long\n    enter when volume > 850\n    at most 3 bars\n    stop 1%\n"
        "trade down short\n    enter when volume < 100\n    at most 2 bars\n"
    )
    part = TrialData(ground.panel, ground.grid) if not ground.panel.timeframe.intraday else tail(ground, 14)
    trial = run_trial(compile_script(text), part, Account(costs=Costs(ratio=0.001), apart=True))
    means, statistics = plain_statistics(trial)
    made = shift_test_of(trial)
    assert made.trades > 40 and len(made.means) == len(means) - 1
    assert made.real == pytest.approx(means[0]) and made.statistic == pytest.approx(statistics[0])
    assert made.means == pytest.approx(means[1:]) and made.statistics == pytest.approx(statistics[1:])
    as_good = sum(t >= statistics[0] - 1e-9 for t in statistics[1:])
    assert made.share == pytest.approx((1 + as_good) / len(statistics))
    assert made.as_plain()["share"] == made.share and made.as_plain()["runs"] == len(means) - 1


def tail(ground: TrialData, sessions: int) -> TrialData:
    """The last sessions of bars of half an hour, of three symbols."""
    bars = [ground.panel.bars(k) for k in range(3)]
    return trial_data_of(panel_of([b.part(len(b) - 13 * sessions, len(b)) for b in bars]))


def test_trades_that_were_entered_on_a_few_days_are_not_compared() -> None:
    closes = 100 + np.cumsum(np.random.default_rng(4).normal(0, 1, 60))
    text = "rung 1\ntrade ride long\n    enter when bar mod 14 == 3\n    at most 4 bars\n"
    made = shift_test_of(run_trial(compile_script(text), trial_data_of(panel_of([daily_bars(closes)]))))
    assert made.trades == 4 and made.share is None and made.as_plain()["share"] is None
    assert "fewer than 5 days" in made.words()


def test_of_a_long_history_a_thousand_shifts_are_drawn_that_are_always_the_same() -> None:
    trial = run_trial(compile_script(HELD), walks(2, 1, 3_300))
    one, two = shift_test_of(trial), shift_test_of(trial)
    assert len(one.means) == 1_000 and (one.statistics == two.statistics).all()


def _traded(seed: int, edge: float = 0.0) -> Trial:
    return run_trial(compile_script(HELD), walks(seed, 2, 300, edge), Account(money=1e6))


def test_pure_chance_falls_anywhere_among_its_shifts() -> None:
    shares = [shift_test_of(_traded(seed)).share for seed in range(200)]
    assert stats.kstest(shares, "uniform").pvalue > 1e-3


def test_an_edge_is_more_than_chance() -> None:
    made = shift_test_of(_traded(7, edge=0.006))
    assert made.share is not None and made.share < 0.01 and made.real > np.quantile(made.means, 0.99)
    assert "None of the shifts did at least as well" in made.words() or " shifts did at least as well" in made.words()


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
    assert many.discounted == many.sharpe - many.luck < many.sharpe
    assert many.as_plain()["discounted"] == many.discounted
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
