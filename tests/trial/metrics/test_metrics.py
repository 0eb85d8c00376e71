"""Figures against the formulas of the contract, written here once more as plain loops."""

from __future__ import annotations

import math
from dataclasses import replace
from itertools import pairwise

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.rung import compile_script
from oakladder.rung.trade_log import Moment
from oakladder.rung.trade_words import Reason
from oakladder.trial.breakdowns import by_reason, by_side, by_symbol, months
from oakladder.trial.broker.money import Account, Costs, Slippage
from oakladder.trial.metrics.metrics import METRICS, Unit, metric_words, written
from oakladder.trial.trial import Trial, run_trial, trial_data_of
from trial.random_rules import HOURS, market, panel_with_tick, random_case

DAY = 86_400


def some_trial(seed: int, timeframe: str, symbols: int = 1) -> Trial:
    rng = np.random.default_rng(seed)
    script = "rung 1\n" + random_case(rng, within_day=timeframe != "1d").script
    series = [market(rng, 400, timeframe) for _ in range(symbols)]
    named = [Bars(f"S{k}", b.timeframe, b.calendar, b.times, b.columns) for k, b in enumerate(series)]
    return run_trial(compile_script(script), trial_data_of(panel_of(named)), Account())


def plain_figures(trial: Trial) -> dict[str, float | None]:
    """Everything of section 4 of the contract that is one number."""
    book, trades, equity = trial.book, trial.trades, trial.equity
    done = [k for k in range(len(trades)) if book.done[k]]
    net = [float(book.net[k]) for k in done]
    won, lost = [n for n in net if n > 0], [n for n in net if n <= 0]
    made: dict[str, float | None] = {"trades": len(done), "net": sum(net)}
    made["winners"] = len(won) / len(net) if net else None
    made["profit_factor"] = sum(won) / -sum(lost) if sum(lost) < 0 else None
    ratios = [n / (book.units[k] * book.paid[k]) for n, k in zip(net, done, strict=True)]
    made["average"] = sum(ratios) / len(ratios) if net else None
    risks = [n / (book.units[k] * trades.risk[k]) for n, k in zip(net, done, strict=True) if trades.risk[k] > 0]
    made["expectancy"] = sum(risks) / len(risks) if risks else None
    turnover = sum(book.units[k] * (trades.entry[k] + trades.exit[k]) for k in done)
    gross = sum(trades.side[k] * book.units[k] * (trades.exit[k] - trades.entry[k]) for k in done)
    made["zero_cost"] = gross / turnover if done else None
    value, start = equity.value.tolist(), 10_000.0
    opens = equity.times.tolist()
    closes = [_close(t, trial) for t in opens]
    days = (closes[-1] - closes[0]) / DAY
    made["end"] = value[-1]
    made["growth"] = (value[-1] / start) ** (365.25 / days) - 1
    peak, deepest, deepest_money, since, longest = start, 0.0, 0.0, closes[0], 0.0
    for v, when in zip(value, closes, strict=True):
        if v >= peak:
            peak, since = v, when
        else:
            longest = max(longest, when - since)
        deepest, deepest_money = max(deepest, 1 - v / peak), max(deepest_money, peak - v)
    made["drawdown"], made["drawdown_money"] = deepest, deepest_money
    within, within_money, peak = deepest, deepest_money, start
    for v, lost_within in zip(value, worst_of_bars(trial), strict=True):
        within, within_money = max(within, 1 - (v - lost_within) / peak), max(within_money, peak - v + lost_within)
        peak = max(peak, v)
    made["drawdown_within"], made["drawdown_within_money"] = within, within_money
    made["exposure"] = sum(p > 0 for p in equity.positions) / len(value)
    made["calmar"] = made["growth"] / deepest if deepest else None
    sessions: dict[int, float] = {}
    for t, v in zip(opens, value, strict=True):
        sessions[int(HOURS.days(np.array([t]))[0])] = v
    levels = list(sessions.values())
    returns = [b / a - 1 for a, b in pairwise(levels)]
    mean = sum(returns) / len(returns)
    deviation = math.sqrt(sum((r - mean) ** 2 for r in returns) / (len(returns) - 1))
    a_year = math.sqrt(len(levels) / (days / 365.25))
    falls = [r for r in returns if r < 0]
    made["sharpe"] = mean / deviation * a_year if deviation > 1e-15 else None
    made["sortino"] = mean / math.sqrt(sum(r * r for r in falls) / len(returns)) * a_year if falls else None
    return made


def worst_of_bars(trial: Trial) -> list[float]:
    """What was held at each moment lost within its bar, beside what the close or the exit lost."""
    book, trades, panel = trial.book, trial.trades, trial.ground.panel
    high, low, close = (panel.column(n) for n in ("high", "low", "close"))
    made = [0.0] * len(book.grid)
    for k in range(len(trades)):
        if book.taken[k] or not book.units[k] > 0:
            continue
        end = int(trades.left[k]) if trades.closed[k] else int(panel.ends[trades.symbol[k]])
        bars = [(bar, float(close[bar])) for bar in range(int(trades.entered[k]), end)]
        at_target = trades.reason[k] == Reason.TARGET.number and trades.moment[k] == Moment.INSIDE
        if trades.closed[k] and (at_target or trades.moment[k] == Moment.CLOSE):
            bars.append((end, float(trades.exit[k])))
        for bar, price in bars:
            beyond = price - low[bar] if trades.side[k] > 0 else high[bar] - price
            made[int(book.grid.at[bar])] += max(float(beyond), 0.0) * float(book.units[k])
    return made


def _close(opens: int, trial: Trial) -> int:
    minute = int(HOURS.minutes(np.array([opens]))[0])
    timeframe = trial.ground.panel.timeframe
    ends = min(minute + timeframe.count, HOURS.end) if timeframe.intraday else HOURS.end
    return opens + (ends - minute) * 60


@pytest.mark.parametrize("timeframe", ["1d", "30m"])
@pytest.mark.parametrize("symbols", [1, 4])
def test_figures_are_those_of_the_contract(timeframe: str, symbols: int) -> None:
    for seed in range(12):
        trial = some_trial(seed, timeframe, symbols)
        for name, value in plain_figures(trial).items():
            found = trial.metrics[name]
            assert (found is None) == (value is None), (seed, name)
            assert value is None or found == pytest.approx(value, rel=1e-9, abs=1e-9), (seed, name)


def test_excursions_are_the_extremes_while_it_was_held() -> None:
    for seed in range(30):
        trial = some_trial(seed, "1d")
        trades, panel = trial.trades, trial.ground.panel
        high, low = panel.column("high"), panel.column("low")
        for k in range(len(trades)):
            side, entry = int(trades.side[k]), float(trades.entry[k])
            end = int(trades.left[k]) if trades.left[k] >= 0 else panel.size
            prices = [entry]
            for bar in range(int(trades.entered[k]), end):
                prices += [float(high[bar]), float(low[bar])]
            worst, best = [side * (p / entry - 1) for p in prices], [side * (p / entry - 1) for p in prices]
            if trades.left[k] >= 0:
                out = side * (float(trades.exit[k]) / entry - 1)
                worst.append(out)
                best.append(out)
                if trades.moment[k] == Moment.INSIDE and end > trades.entered[k]:  # the open came before the exit
                    opened = side * (float(panel.column("open")[end]) / entry - 1)
                    worst.append(opened)
                    best.append(opened)
                if trades.reason[k] == Reason.TARGET.number and trades.moment[k] == Moment.INSIDE:
                    against = low[end] if side > 0 else high[end]
                    worst.append(side * (float(against) / entry - 1))
            assert trial.results.worst[k] == pytest.approx(min(worst), abs=1e-12)
            assert trial.results.best[k] == pytest.approx(max(best), abs=1e-12)


def test_groups_add_up_to_the_whole() -> None:
    trial = some_trial(3, "1d", 4)
    for groups in (by_side(trial), by_reason(trial), by_symbol(trial)):
        assert sum(g.metrics["trades"] or 0 for g in groups) == trial.metrics["trades"]
        assert sum(g.metrics["net"] or 0 for g in groups) == pytest.approx(trial.metrics["net"])
    growth = np.prod([1 + m.change for m in months(trial)])
    assert growth == pytest.approx(trial.equity.value[-1] / trial.equity.start)


def test_a_fall_within_a_bar_counts_with_its_worst_price() -> None:
    # Bought at 100 for all the money; the bar falls to 80 and closes where it began.
    flat = np.full(8, 100.0)
    low = flat.copy()
    low[4] = 80.0
    bars = daily_bars(flat, "DIP", low=low)
    text = "rung 1\ntrade ride long\n    enter when bar == 2\n    leave when bar == {end}\n"
    for end, fall in ((5, 0.2), (3, 0.0)):  # left at the open of the bar that falls, it was not held in it
        trial = run_trial(
            compile_script(text.format(end=end)),
            trial_data_of(panel_of([bars])),
            Account(costs=Costs(0, 0, 0, Slippage())),
        )
        assert trial.metrics["drawdown"] == 0 and trial.metrics["drawdown_within"] == pytest.approx(fall)
        assert trial.metrics["drawdown_within_money"] == pytest.approx(10_000 * fall)
        assert metric_words(trial.metrics, "drawdown_within") == f"{fall * 100:.1f}%" if fall else "0.00%"


def test_every_figure_says_what_it_means() -> None:
    trial = some_trial(1, "1d")
    assert list(trial.metrics) == list(METRICS)
    assert len({f.title for f in METRICS.values()}) == len(METRICS)
    assert all(f.about and metric_words(trial.metrics, f.name) for f in METRICS.values())
    assert written(None, Unit.RATIO) == "–" and written(0.5, Unit.RATIO) == "+50.0%"


def test_one_bar_has_no_years() -> None:
    bars = market(np.random.default_rng(1), 1, "1d")
    trial = run_trial(
        compile_script("rung 1\ntrade a long\n    enter when yes\n"), trial_data_of(panel_with_tick(bars))
    )
    assert trial.metrics["growth"] is None and trial.metrics["sharpe"] is None and trial.metrics["end"] == 10_000


@pytest.mark.parametrize("k", [15, 40, 79, 87, 96])
@pytest.mark.parametrize("apart", [False, True])
def test_the_last_digits_of_a_sum_are_no_fall(k: int, apart: bool) -> None:
    """A price that stays where it is, sums that no binary number tells exactly: nothing falls, whatever is held."""
    price = np.full(60, round(20 + 0.37 * k, 2))
    bars = daily_bars(price, open=price, high=price, low=price)
    ground = trial_data_of(panel_of([bars, replace(bars, symbol="OTHER")]))
    script = "rung 1\ntrade t long\n    enter when bar mod 3 == 0\n    at most 2 bars"
    account = Account(1000.1 + 0.13 * k, lot=0.01, costs=Costs(0, 0, 0, Slippage()), apart=apart)
    metrics = run_trial(compile_script(script), ground, account).metrics
    assert metrics["trades"] and metrics["under_water"] == 0 and metrics["sortino"] is None


def test_the_open_of_the_bar_that_stops_a_trade_counts() -> None:
    # In at 100; the next bar opens at 110 and falls through the stop at 95: it was worth 10 % more for a moment.
    open_, high, low, close = [100.0, 100, 110], [100.0, 101, 110], [100.0, 99, 90], [100.0, 100, 92]
    bars = daily_bars(np.array(close), open=np.array(open_), high=np.array(high), low=np.array(low))
    text = "rung 1\ntrade a long\n    enter when bar == 0\n    stop 5%\n"
    trial = run_trial(compile_script(text), trial_data_of(panel_of([bars])))
    assert trial.trades.exit.tolist() == [95] and trial.results.best.tolist() == pytest.approx([0.10])
    assert trial.results.worst.tolist() == pytest.approx([-0.05])
