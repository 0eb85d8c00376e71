"""The equity of each symbol alone is that of a trial of it alone."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.rung import compile_script
from oakladder.rung.problems import Cancelled
from oakladder.trial.broker.money import Account
from oakladder.trial.by_symbol import POINTS, SymbolCurve, by_group, by_result, curves_words, symbol_curves
from oakladder.trial.spans import Span
from oakladder.trial.trial import run_trial, trial_data_of

RULE = "rung 1\ntrade ride long\n    enter when close > close[1]\n    at most 3 bars\n    stop 4%\n"


def test_each_symbol_has_money_of_its_own() -> None:
    rng = np.random.default_rng(2)
    series = []
    for k, (count, first) in enumerate(((400, 15_000), (300, 15_140), (120, 15_300))):
        closes = 50 * np.exp(np.cumsum(rng.normal(0.0005, 0.01, count)))
        series.append(daily_bars(closes, f"S{k}", first_day=first, open=np.append(50.0, closes[:-1])))
    program, account = compile_script(RULE), Account(3_000)
    trial = run_trial(program, trial_data_of(panel_of([*series, daily_bars([], "NONE")])), account)
    shares: list[float] = []
    found = symbol_curves(trial, progress=shares.append)
    assert [c.symbol for c in found] == ["S0", "S1", "S2"] and shares[-1] == 1
    for curve, bars in zip(found, series, strict=True):
        alone = run_trial(program, trial_data_of(panel_of([bars])), account)
        assert curve.trades == alone.metrics["trades"] > 10
        assert curve.result == pytest.approx(alone.equity.value[-1] / 3_000 - 1)
        assert curve.value[0] == pytest.approx(alone.equity.value[0] / 3_000) and len(curve.value) <= POINTS
        assert np.isin(np.round(curve.value, 9), np.round(alone.equity.value / 3_000, 9)).all()
    # From where the trial counts on.
    late = trial_data_of(panel_of(series), Span(first=int(series[0].times[200])))
    assert len(symbol_curves(run_trial(program, late, account))[0].value) == POINTS
    with pytest.raises(Cancelled):
        symbol_curves(trial, cancelled=lambda: True)


def curve(symbol: str, result: float, trades: int = 3) -> SymbolCurve:
    return SymbolCurve(symbol, np.array([1.0, 1.0 + result]), trades)


def test_they_are_sorted_and_grouped_by_what_came_of_them() -> None:
    found = [curve("A", 0.1), curve("B", -0.2), curve("C", 0.4), curve("D", 0.0, 0), curve("E", -0.1)]
    assert [c.symbol for c in by_result(found)] == ["C", "A", "D", "E", "B"]
    groups = by_group(found, {"A": "Salt", "B": "Salt", "C": "Kelp", "E": "Kelp"})
    assert [(name, [c.symbol for c in some]) for name, some in groups] == [
        ("Kelp", ["C", "E"]),
        ("no group", ["D"]),
        ("Salt", ["A", "B"]),
    ]
    words = curves_words(found)
    assert words == "Gains on 2 of 4 symbols, each with its own money; the middle one +0.0%. 1 without a trade."
    assert curves_words([curve("D", 0.0, 0)]) == "No symbol has a closed trade."
