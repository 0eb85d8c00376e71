"""The native code and the plain-Python runner agree bit for bit, on random programs over random data."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from helpers import random_bars, values
from oakladder.engine import prepare as running
from oakladder.rung.native import compile as native

NUMBERS = st.sampled_from(
    [
        "close",
        "open",
        "high",
        "volume",
        "1",
        "0",
        "2.5",
        "-3",
        "(0 / 0)",
        "bar",
        "hl2",
        "weekday",
        "month",
        "session_bar",
        "n",
        "m * 2",
    ]
)
LENGTHS = st.sampled_from(["1", "2", "3", "7", "n", "n + 1"])


def _extend(inner: st.SearchStrategy[str]) -> st.SearchStrategy[str]:
    pair = st.tuples(inner, inner)
    flags = st.one_of(
        st.tuples(inner, st.sampled_from(["<", "<=", ">", ">=", "==", "!="]), inner).map(
            lambda t: f"({t[0]} {t[1]} {t[2]})"
        ),
        pair.map(lambda t: f"crosses_up({t[0]}, {t[1]})"),
        pair.map(lambda t: f"({t[0]} > {t[1]} and not ({t[1]} > 3) or known({t[0]}))"),
        inner.map(lambda e: f"starts({e} > 2)"),
    )
    return st.one_of(
        st.tuples(inner, st.sampled_from(["+", "-", "*", "/", "mod", "^"]), inner).map(
            lambda t: f"({t[0]} {t[1]} {t[2]})"
        ),
        st.tuples(inner, LENGTHS).map(lambda t: f"({t[0]})[{t[1]}]"),
        st.tuples(
            st.sampled_from(["sum", "highest", "lowest", "sma", "ema", "wilder", "rsi", "stdev"]), inner, LENGTHS
        ).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(st.sampled_from(["abs", "sqrt", "log", "exp", "floor", "ceil"]), inner).map(
            lambda t: f"{t[0]}({t[1]})"
        ),
        st.tuples(st.sampled_from(["min", "max"]), inner, inner).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(flags, inner, inner).map(lambda t: f"(if {t[0]} then {t[1]} else {t[2]})"),
        pair.map(lambda t: f"({t[0]} else {t[1]})"),
        flags.map(lambda f: f"age({f})"),
        st.tuples(
            st.sampled_from(["median", "linear", "wma", "percent_rank", "highest_ago", "adaptive", "hull"]),
            inner,
            LENGTHS,
        ).map(lambda t: f"{t[0]}({t[1]}, {t[2]})"),
        st.tuples(flags, LENGTHS).map(lambda t: f"count({t[0]}, {t[1]})"),
        st.tuples(flags, inner).map(lambda t: f"latch({t[0]}, {t[1]}, 1)"),
        inner.map(lambda e: f"highest_since(new(1w), {e})"),
        inner.map(lambda e: f"macd({e}, 3, 5, 2).gap"),
        flags.map(lambda f: f"streak({f})"),
        inner.map(lambda e: f"({e} on 1w)"),
        inner.map(lambda e: f"({e} on 1mo forming)"),
        pair.map(lambda t: f"counted({t[0]}, {t[1]})"),
    )


EXPRESSIONS = st.recursive(NUMBERS, _extend, max_leaves=6)
PROLOGUE = """setting n = 3 range 1..9
setting m = 0.5 range -10..10
define counted(a, b)
    keep total = 0
    fresh best = none
    for k in 0..3
        if a[k] > b
            set best = a[k]
        else if k == 2
            stop
    if best > 0
        set total = total + 1
    give total + (best else 0)
"""


def agree(expressions: list[str], seed: int, count: int) -> None:
    script = PROLOGUE + "".join(f"let x{k} = {e}\n" for k, e in enumerate(expressions))
    bars = random_bars(seed, count)
    given_settings = {"n": seed % 9 + 1, "m": seed % 5 - 2}
    native, plain = (values(script, bars, given_settings, reference=r) for r in (False, True))
    for name in native:
        assert native[name].tobytes() == plain[name].tobytes() or np.array_equal(
            native[name], plain[name], equal_nan=True
        ), f"{name} in\n{script}"


@settings(max_examples=200, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
@given(st.lists(EXPRESSIONS, min_size=1, max_size=4), st.integers(0, 50))
def test_runners_agree(expressions: list[str], seed: int) -> None:
    agree(expressions, seed, 60)


@pytest.mark.nightly
@settings(max_examples=2000, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.lists(EXPRESSIONS, min_size=1, max_size=5), st.integers(0, 5000))
def test_runners_agree_on_many_programs(expressions: list[str], seed: int) -> None:
    agree(expressions, seed, 150)


def test_quick_and_thorough_code_give_the_same_bits(monkeypatch: pytest.MonkeyPatch) -> None:
    script = (
        PROLOGUE
        + "let x = rsi(close, 14) + stdev(close, 9) * counted(ema(close, 5), open) ^ 1.3\nlet y = sma(close on 1w, 3)"
    )
    bars = random_bars(3, 900)
    quick = values(script, bars)
    monkeypatch.setattr(running, "THOROUGH_BARS", 0)
    thorough = values(script, bars)
    for name in quick:
        np.testing.assert_array_equal(quick[name], thorough[name])


def test_code_that_is_no_longer_remembered_is_freed_without_harm(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(native, "_MOST_MACHINES", 3)
    bars = random_bars(1, 30)
    for round_ in range(2):
        for k in range(12):
            made = values(f"let x = close * {k} + {round_}", bars)["x"]
            np.testing.assert_allclose(made, bars["close"] * k + round_)
    assert len(native._MACHINES) <= 3
