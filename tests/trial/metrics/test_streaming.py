"""Figures that are summed up without a book are those of the book."""

from __future__ import annotations

import math
from collections.abc import Mapping
from typing import Any

import numpy as np
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from helpers import daily_bars
from oakladder.bars.bars import Bars
from oakladder.bars.contract import Contract
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.engine.run.row_kernel import RowKernel
from oakladder.rung import compile_script
from oakladder.trial.batch.task import Task
from oakladder.trial.broker.money import Account
from oakladder.trial.metrics.equity import equity_of
from oakladder.trial.metrics.metrics import metrics_of, without_book
from oakladder.trial.metrics.streaming import can_stream, stream_totals
from oakladder.trial.spans import Span
from oakladder.trial.sweep.run import swept
from oakladder.trial.trial import TrialData, run_trial, trial_data_of
from trial.broker.test_account import terms_of
from trial.random_rules import market, random_case


def a_panel(rng: np.random.Generator, symbols: int, alike: bool) -> Panel:
    """Symbols with the same bars, or of which one has none, some begin later and some end sooner."""
    made = []
    for k in range(symbols):
        bars = market(rng, 150, "1d")
        first, last = (0, len(bars)) if alike else (int(rng.integers(0, 40)), int(rng.integers(60, 150)) * (k != 1))
        made.append(
            Bars(f"S{k}", bars.timeframe, bars.calendar, bars.times, bars.columns).part(first, max(first, last))
        )
    return panel_of(made)


def same(stream_totals: Mapping[str, float | None], book: Mapping[str, float | None]) -> None:
    assert stream_totals.keys() == book.keys()
    for name, value in book.items():
        found = stream_totals[name]
        alike = (
            found is None
            if value is None
            else found is not None and math.isclose(found, value, rel_tol=1e-9, abs_tol=1e-9)
        )
        assert alike, (name, found, value)


def both(script: str, ground: TrialData, account: Account) -> tuple[dict[str, Any], dict[str, Any]] | None:
    """The metrics of the book and the summed ones; None where there are none of the latter."""
    trial = run_trial(compile_script("rung 1\n" + script), ground, account)
    if not can_stream(trial.trades, account):
        return None
    book = metrics_of(trial.book, trial.results, equity_of(trial.book, ground.first_place))
    return book, stream_totals(trial.trades, account, ground.grid, ground.first_place).metrics


def compare(seed: int, symbols: int, alike: bool, later: bool) -> bool:
    """Whether there was something to compare."""
    rng = np.random.default_rng(seed)
    case, panel, (_, account) = random_case(rng, within_day=False), a_panel(rng, symbols, alike), terms_of(rng)
    if seed % 3 == 0:  # contracts that are worth, and tie up, something else than their price
        kinds = (Contract(50.0, margin=0.1), Contract(), Contract(0.5, margin=0.0, margin_money=20.0))
        panel.contracts = tuple(kinds[k % 3] for k in range(symbols))
    times = np.unique(panel.times)
    span = Span(first=int(times[len(times) // 3])) if later else Span()
    made = both(case.script, trial_data_of(panel, span), account)
    if made is not None:
        same(made[1], made[0])
    return made is not None


@given(st.integers(0, 100_000), st.integers(1, 6), st.booleans(), st.booleans())
@settings(max_examples=20, deadline=None)
def test_they_are_the_figures_of_the_book(seed: int, symbols: int, alike: bool, later: bool) -> None:
    assume(compare(seed, symbols, alike, later))


@pytest.mark.nightly
def test_they_are_the_figures_of_hundreds_of_books() -> None:
    assert sum(compare(seed, 1 + seed % 6, seed % 3 == 0, seed % 2 == 0) for seed in range(1000)) > 300


def test_both_runners_give_the_same_bits(monkeypatch: pytest.MonkeyPatch) -> None:
    run, compared = RowKernel.run, []

    def twice(code: RowKernel, *args: Any) -> Any:
        native, plain = run(code, *args), run(code, *args, reference=True)
        for one, two in zip((*native[0], native[1]), (*plain[0], plain[1]), strict=True):
            np.testing.assert_array_equal(one, two)
        compared.append(code)
        return native

    rng = np.random.default_rng(4)
    panel, (_, account) = a_panel(rng, 4, False), terms_of(rng)
    script = "trade t long\n    enter when close > close[1]\n    stop 2%\n    target 1 risks\n    at most 9 bars"
    trial = run_trial(compile_script("rung 1\n" + script), trial_data_of(panel), account)
    monkeypatch.setattr(RowKernel, "run", twice)
    stream_totals(trial.trades, account, trial.ground.grid)
    assert compared


@pytest.mark.parametrize(
    "script", ["enter when no", "enter when close > 0", "enter when close < 0\n    at most 1 bars"]
)
@pytest.mark.parametrize("bars", [1, 2, 30])
def test_few_bars_and_few_trades(script: str, bars: int) -> None:
    panel = panel_of([daily_bars(np.linspace(10, 12, bars))])
    for account in (Account(), Account(apart=True), Account(money=0.01)):
        made = both(f"trade t long\n    {script}", trial_data_of(panel), account)
        assert made is not None
        same(made[1], made[0])


def test_a_sweep_that_cannot_be_summed_up_is_none_the_less_right() -> None:
    rng = np.random.default_rng(2)
    ground = trial_data_of(a_panel(rng, 4, True))
    for account, clause in ((Account(apart=True), "stop 3%"), (Account(), "rank volume"), (Account(), "stop 3%")):
        script = f"rung 1\nsetting n = 3 range 1..9\ntrade t long\n    enter when close > close[n]\n    {clause}"
        task = Task(compile_script(script), ground, account)
        for one in swept(task, [{"n": float(n)} for n in range(1, 6)]):
            trial = run_trial(task.program, ground, account, one.settings)
            assert one.metrics == without_book(trial.metrics) and one.counts == trial.counts
