"""The report of a trial as a page: what stands in it is what the trial says."""

from __future__ import annotations

import re

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.engine.sealed import OPEN
from oakladder.rung import compile_script
from oakladder.trial.breakdowns import months
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.page import curve_drawing, html_page, where_words
from oakladder.trial.spans import Span, seal_of
from oakladder.trial.trial import Trial, run_trial, trial_data_of

RULE = 'rung 1\ntitle "Dips & <tips>"\ntrade ride long\n    enter when bar mod 40 == 3\n    at most 10 bars\n'


def tried(count: int = 600, *, sealed: bool = False) -> Trial:
    closes = 50 * np.exp(np.cumsum(np.random.default_rng(8).normal(0.0005, 0.01, count)))
    bars = daily_bars(closes, "SALT", open=np.append(50.0, closes[:-1]))
    panel = panel_of([bars])
    return run_trial(compile_script(RULE), trial_data_of(panel, Span(seal=seal_of(panel) if sealed else OPEN)))


def test_the_page_holds_metrics_months_and_every_trade() -> None:
    trial = tried()
    page = html_page(trial, "untitled")
    assert "<h1>Dips &amp; &lt;tips&gt;</h1>" in page and "<tips>" not in page
    for name, metric in METRICS.items():
        assert metric.title in page and metric_words(trial.metrics, name) in page
    listed = re.findall(r"<tr><td>SALT</td>", page)
    assert len(listed) == len(trial.trades) == 15
    assert "older trades" not in page
    for month in months(trial):
        assert f"{month.change:+.1%}" in page


def test_of_many_trades_the_newest_are_listed_and_the_others_counted() -> None:
    trial = tried()
    page = html_page(trial, "", most_trades=4)
    assert len(re.findall(r"<tr><td>SALT</td>", page)) == 4 and "11 older trades are not listed here." in page
    newest = max(trial.ground.panel.times[trial.trades.entered].tolist())
    assert str(np.datetime64(newest, "s"))[:10] in page
    assert "older trades" not in html_page(trial, "", most_trades=15)
    assert "older trades" not in html_page(trial, "", most_trades=100)


def test_where_it_was_tried_and_what_is_sealed_is_said() -> None:
    trial = tried(sealed=True)
    assert where_words(trial).startswith("SALT, 1d, ") and "is sealed." in where_words(trial)
    assert "sealed" not in where_words(tried())
    assert "From 10,000.00 to" in html_page(trial, "") and "dotted: buy and hold" in html_page(trial, "")


def test_the_drawing_reaches_from_the_first_bar_to_the_last_and_from_the_lowest_value_to_the_highest() -> None:
    trial = tried(3_000)
    held, value = re.findall(r'<polyline points="([^"]*)"', curve_drawing(trial))
    points = np.array([[float(x) for x in point.split(",")] for point in value.split()])
    both = np.vstack([points, [[float(x) for x in point.split(",")] for point in held.split()]])
    assert points[0, 0] == 0 and points[-1, 0] == 900 and (np.diff(points[:, 0]) > 0).all()
    assert both[:, 1].min() == pytest.approx(0, abs=4) and both[:, 1].max() == pytest.approx(260, abs=4)
    assert len(points) < 1_100
    high = max(trial.equity.value.max(), trial.equity.held.max())
    low = min(trial.equity.value.min(), trial.equity.held.min())
    assert points[-1, 1] == pytest.approx(260 * (high - trial.equity.value[-1]) / (high - low), abs=0.06)
