"""The native code and the plain-Python runner agree bit for bit, on random programs over random data."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from helpers import Tune, random_bars, values
from oakladder.rung.native import compile as native
from rung_programs import EXPRESSIONS, PROLOGUE


def agree(expressions: list[str], seed: int, count: int) -> None:
    script = PROLOGUE + "".join(f"let x{k} = {e}\n" for k, e in enumerate(expressions))
    bars = random_bars(seed, count)
    given_settings = {"n": seed % 9 + 1, "m": seed % 5 - 2}
    native, plain = (values(script, bars, given_settings, reference=r) for r in (False, True))
    for name in native:
        assert native[name].tobytes() == plain[name].tobytes() or np.array_equal(
            native[name], plain[name], equal_nan=True
        ), f"{name} in\n{script}"


@settings(max_examples=110, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
@given(st.lists(EXPRESSIONS, min_size=1, max_size=4), st.integers(0, 50))
def test_runners_agree(expressions: list[str], seed: int) -> None:
    agree(expressions, seed, 60)


@pytest.mark.nightly
@settings(max_examples=2000, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.lists(EXPRESSIONS, min_size=1, max_size=5), st.integers(0, 5000))
def test_runners_agree_on_many_programs(expressions: list[str], seed: int) -> None:
    agree(expressions, seed, 150)


def test_quick_and_thorough_code_give_the_same_bits(tune: Tune) -> None:
    script = (
        PROLOGUE
        + "let x = rsi(close, 14) + stdev(close, 9) * counted(ema(close, 5), open) ^ 1.3\nlet y = sma(close on 1w, 3)"
    )
    bars = random_bars(3, 900)
    quick = values(script, bars)
    tune(thorough_bars=0)
    thorough = values(script, bars)
    for name in quick:
        np.testing.assert_array_equal(quick[name], thorough[name])


def test_code_that_is_no_longer_remembered_is_freed_without_harm(tune: Tune) -> None:
    tune(loaded_machines=3)
    bars = random_bars(1, 30)
    for round_ in range(2):
        for k in range(12):
            made = values(f"let x = close * {k} + {round_}", bars)["x"]
            np.testing.assert_allclose(made, bars["close"] * k + round_)
    assert len(native._MACHINES) <= 3
