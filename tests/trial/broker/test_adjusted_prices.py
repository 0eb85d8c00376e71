"""Trades on prices that are adjusted for dividends and splits: signals see adjusted prices, fills are those that were traded."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.adjustments import Adjustments
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.trial.batch.serialization import PackedPanel
from oakladder.trial.broker.money import Account, Costs, Size, Slippage
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.judge.shift_test import shift_test_of
from oakladder.trial.metrics.streaming import can_stream, stream_totals
from oakladder.trial.notebook import trades_mark
from oakladder.trial.on_chart import asked_of, chart_trades
from oakladder.trial.report import trade_rows, trade_words
from oakladder.trial.trial import Trial, run_trial, trial_data_of
from trial.random_rules import market, random_adjustments, random_case

RULE = "rung 1\ntrade ride long\n    enter when bar == 2\n    stop 10%\n    leave when bar == 6\n"
COSTS = Costs(1.0, 0.01, 0.001, Slippage(2.0))


def trial_of(text: str, bars: Bars, account: Account | None = None) -> Trial:
    panel = panel_of([bars])
    panel.ticks = (0.01,)
    return run_trial(compile_script(text), trial_data_of(panel), account or Account(costs=COSTS))


def test_a_dividend_is_money_and_no_fall() -> None:
    """Held over a dividend of 2: the price falls from 50 to 48, and who held it has lost nothing."""
    close = np.array([50.0, 50, 50, 50, 48, 48, 48, 48, 48])
    real = daily_bars(close)
    days = real.calendar.days(real.times)
    bars = real.adjusted(Adjustments((int(days[0]), int(days[4])), (0.96, 1.0), int(days[-1])))
    trial = trial_of(RULE, bars, Account(costs=Costs(0, 0, 0, Slippage(1.0))))
    (row,) = trade_rows(trial, trial.book.done)
    # In at 50.01 and out at 47.99, prices that were traded; 199 units for 10,000, which the dividend made 207.3 of.
    assert (row["entry"], row["exit"], row["units"]) == (50.0, 48.0, 199.0)
    assert trial.book.net[0] == pytest.approx(199 / 0.96 * (47.99 - 50.01 * 0.96))
    assert row["net"] == pytest.approx(-0.01 * (199 + 199 / 0.96))  # the ticks of both fills, and nothing else
    without = trial_of(RULE, real, Account(costs=Costs(0, 0, 0, Slippage(1.0))))
    assert without.book.net[0] == pytest.approx(199 * (47.99 - 50.01))
    assert "in 31 Jan 2011 at 50.00" in trade_words(trial, 0) and "199 units" in trade_words(trial, 0)


def test_a_split_changes_no_stop_and_no_money() -> None:
    """Two shares for one: the stop 10% below the fill is 10% below it after the split too."""
    close = np.array([50.0, 50, 50, 50, 25, 25, 22.6, 22.4, 22.4])
    real = daily_bars(close, low=np.array([50, 50, 50, 50, 25, 25, 22.55, 22.4, 22.4]))
    days = real.calendar.days(real.times)
    split = Adjustments((int(days[0]), int(days[4])), (0.5, 1.0), int(days[-1]))
    trial = trial_of(
        RULE.replace("bar == 6", "bar == 60"), real.adjusted(split), Account(costs=Costs(0, 0, 0, Slippage()))
    )
    (row,) = trade_rows(trial, trial.book.done)
    assert (row["entry"], row["exit"], row["reason"]) == (50.0, 22.4, "stop")  # opened below 22.50, so at the open
    assert row["risk"] == 5.0 and row["units"] == 200 and row["net"] == pytest.approx(400 * 22.4 - 200 * 50)


@pytest.mark.parametrize("seed", range(6))
def test_one_factor_for_all_days_changes_nothing(seed: int) -> None:
    """Adjusted by the same factor throughout, every rule that knows no sums of money trades as on the real prices."""
    rng = np.random.default_rng(seed)
    case, bars = random_case(rng, within_day=False), market(rng, 300, "1d")
    script = "rung 1\n" + case.script.replace("lowest(low, 4) - 0.05", "0.99 * lowest(low, 4)").replace(
        "highest(high, 4) + 0.07", "1.01 * highest(high, 4)"
    )
    account = Account(20_000, Size.parse("40%"), costs=Costs(1.0, 0.02, 0.001, Slippage.parse("2t+5%range+3%volume")))
    real = trial_of(script, bars, account)
    day = int(bars.calendar.days(bars.times)[0])
    other = trial_of(script, bars.adjusted(Adjustments((day,), (0.37,), day)), account)
    assert len(real.trades) > 1
    assert real.trades.entered.tolist() == other.trades.entered.tolist()
    assert real.trades.entry.tolist() == other.trades.real_entry.tolist()
    assert np.array_equal(real.trades.exit, other.trades.real_exit, equal_nan=True)
    assert np.array_equal(real.book.units, other.book.real_units, equal_nan=True)
    assert np.allclose(real.equity.value, other.equity.value, atol=1e-6)
    for name, value in real.metrics.items():
        assert other.metrics[name] == pytest.approx(value), name
    one, two = shift_test_of(real), shift_test_of(other)
    assert np.allclose(one.statistics, two.statistics, equal_nan=True)


@pytest.mark.parametrize("seed", range(8))
def test_sweeps_and_other_processes_see_the_same(seed: int) -> None:
    rng = np.random.default_rng(50 + seed)
    case = random_case(rng, within_day=False)
    series = []
    for k in range(3):
        bars = market(rng, 200, "1d")
        named = Bars(f"S{k}", bars.timeframe, bars.calendar, bars.times, bars.columns)
        series.append(named.adjusted(random_adjustments(rng, named) if k else None))
    panel = panel_of(series)
    program = compile_script("rung 1\n" + case.script)
    account = Account(costs=Costs(1.0, 0.02, 0.001, Slippage.parse("2t+5%range+3%volume")), lot=5)
    trial = run_trial(program, trial_data_of(panel), account)
    again = run_trial(program, trial_data_of(PackedPanel.of(panel).unpacked()), account)
    assert np.array_equal(trial.equity.value, again.equity.value)
    if can_stream(trial.trades, account):
        streamed = stream_totals(trial.trades, account, trial.ground.grid).metrics
        for name, value in streamed.items():  # which does not know of what happens within bars
            assert name.startswith("drawdown_within") or trial.metrics[name] == pytest.approx(value), name
    parts = [panel.among(k, k + 1) for k in range(3)]
    assert [p.adjustments is None for p in parts] == [True, False, False]
    for k, part in enumerate(parts):
        alone = run_trial(program, trial_data_of(part), account)
        assert alone.trades.real_entry.tolist() == trial.trades.real_entry[trial.trades.symbol == k].tolist()


@pytest.mark.parametrize("seed", range(4))
def test_the_reference_runner_gives_the_same_trades(seed: int) -> None:
    rng = np.random.default_rng(80 + seed)
    bars = market(rng, 200, "1d")
    panel = panel_of([bars.adjusted(random_adjustments(rng, bars))])
    program = compile_script("rung 1\n" + random_case(rng, within_day=False).script)
    native, plain = find_trades(program, panel), find_trades(program, panel, reference=True)
    np.testing.assert_array_equal(native.rows, plain.rows)


def test_a_later_dividend_makes_no_other_result_of_the_same_trades() -> None:
    """The notebook knows results by what was traded."""
    rng = np.random.default_rng(3)
    bars = market(rng, 200, "1d")
    before = random_adjustments(rng, bars)
    after = Adjustments(before.days, tuple(f * 0.98 for f in before.factors), before.until)
    one, two = (trial_of(RULE, bars.adjusted(a)) for a in (before, after))
    assert len(one.trades) and trades_mark(one) == trades_mark(two)


def test_the_chart_tells_both_prices() -> None:
    close = np.array([50.0, 50, 50, 50, 48, 48, 48, 48, 48])
    real = daily_bars(close)
    days = real.calendar.days(real.times)
    panel = panel_of([real.adjusted(Adjustments((int(days[0]), int(days[4])), (0.96, 1.0), int(days[-1])))])
    program = compile_script(RULE)
    found = chart_trades(run(program, panel, outputs=[], extra=asked_of(program)))
    assert found is not None
    assert found.words(0) == "ride long in at 50 (adjusted 48), out at 48 by leave: +0.00%"


def test_panels_of_real_prices_know_nothing_of_it() -> None:
    panel: Panel = panel_of([daily_bars([1.0, 2.0, 3.0])])
    assert panel.adjustments is None and panel.adjusted_on(np.array([0, 1])) == 1.0
    assert panel.ticks_on(np.array([0, 0]), np.array([0, 1])).tolist() == [0.01, 0.01]
