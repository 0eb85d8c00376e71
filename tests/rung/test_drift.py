"""After two million bars the library gives what it gives on the last part alone: nothing drifts, nothing lingers."""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import pytest

from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import ONE_MINUTE
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script, library

BARS, ALONE, COMPARED = 2_000_000, 100_000, 500
#: These add up everything since the first bar, and are compared with an exact sum.
ENDLESS = {"obv", "accumulation"}


@lru_cache(maxsize=1)
def minutes() -> Bars:
    """Prices that wander between 20 and 180, around the clock."""
    rng = np.random.default_rng(17)
    wave = 100 + 60 * np.sin(np.arange(BARS) / 40_000)
    close = np.round(wave + 20 * np.tanh(np.cumsum(rng.normal(0, 0.02, BARS))) * rng.uniform(0.9, 1, BARS), 2)
    open_ = np.concatenate([close[:1], close[:-1]])
    high = np.maximum(open_, close) + np.round(rng.exponential(0.2, BARS), 2)
    low = np.minimum(open_, close) - np.round(rng.exponential(0.2, BARS), 2)
    columns = {"open": open_, "high": high, "low": low, "close": close, "volume": np.floor(rng.exponential(900, BARS))}
    times = 86_400 * 15_000 + 60 * np.arange(BARS, dtype=np.int64)
    return Bars("TEST", ONE_MINUTE, Calendar(weekend=True), times, columns)


def last_values(text: str, bars: Bars) -> np.ndarray:
    program = compile_script(text)
    result = run(program, panel_of([bars]))
    return result.number(program.outputs[0].roles["value"])[-COMPARED:]


@pytest.mark.parametrize("name", [n for n in library.names() if n not in ENDLESS])
def test_the_far_end_is_as_if_there_were_nothing_before_it(name: str) -> None:
    found = library.function(name)
    assert found is not None
    text = f"rung 1\n{found.example}"
    whole, alone = last_values(text, minutes()), last_values(text, minutes().part(BARS - ALONE, BARS))
    np.testing.assert_allclose(whole, alone, rtol=1e-9, atol=1e-9)


def test_endless_sums_are_those_of_exact_arithmetic() -> None:
    bars = minutes()
    volume, close = bars["volume"], bars["close"]
    steps = np.sign(np.diff(close, prepend=close[:1])) * volume
    np.testing.assert_array_equal(last_values("rung 1\nline obv", bars), np.cumsum(steps)[-COMPARED:])
    span = bars["high"] - bars["low"]
    share = np.where(span > 0, (2 * close - bars["high"] - bars["low"]) / np.where(span > 0, span, 1), 0)
    exact = np.cumsum((share * volume).astype(np.longdouble))[-COMPARED:]
    np.testing.assert_allclose(last_values("rung 1\nline accumulation", bars), exact.astype(float), rtol=1e-9)
