"""The library against independent formulas, on data with ties, flat stretches, gaps and nones."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from helpers import daily_bars, random_bars, values
from oakladder.bars.series import Bars
from oakladder.rung import compile_script, library


def window(x: np.ndarray, n: int, how: Callable[[np.ndarray], float]) -> np.ndarray:
    made = np.full(len(x), np.nan)
    for k in range(n - 1, len(x)):
        part = x[k - n + 1 : k + 1]
        if not np.isnan(part).any():
            made[k] = how(part)
    return made


def smooth(x: np.ndarray, n: int, alpha: float) -> np.ndarray:
    made = np.full(len(x), np.nan)
    known: list[float] = []
    level = np.nan
    for k, value in enumerate(x):
        if not np.isnan(value):
            known.append(value)
            if len(known) == n:
                level = float(np.mean(known))
            elif len(known) > n:
                level = level + alpha * (value - level)
        made[k] = level
    return made


def shift(x: np.ndarray, n: int = 1) -> np.ndarray:
    return np.concatenate([np.full(n, np.nan), x[:-n]])


def rsi(x: np.ndarray, n: int) -> np.ndarray:
    move = x - shift(x)
    up = smooth(np.where(np.isnan(move), np.nan, np.clip(move, 0, None)), n, 1 / n)
    down = smooth(np.where(np.isnan(move), np.nan, np.clip(-move, 0, None)), n, 1 / n)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(up + down == 0, np.nan, 100 * up / (up + down))


def true_range(b: Bars) -> np.ndarray:
    before = shift(b["close"])
    high = np.where(np.isnan(before), b["high"], np.maximum(b["high"], before))
    low = np.where(np.isnan(before), b["low"], np.minimum(b["low"], before))
    return high - low


def ages(flags: np.ndarray) -> np.ndarray:
    made, last = np.full(len(flags), np.nan), None
    for k, flag in enumerate(flags):
        last = k if flag else last
        made[k] = np.nan if last is None else k - last
    return made


def streaks(flags: np.ndarray) -> np.ndarray:
    made, run = np.zeros(len(flags)), 0
    for k, flag in enumerate(flags):
        run = run + 1 if flag else 0
        made[k] = run
    return made


def crossing(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    now, before = a > b, shift(a) <= shift(b)
    known_now, known_before = ~np.isnan(a + b), ~np.isnan(shift(a) + shift(b))
    false = (known_now & ~now) | (known_before & ~before)
    return np.where(false, 0.0, np.where(known_now & known_before, 1.0, np.nan))


FORMULAS: dict[str, Callable[[Bars, int], np.ndarray]] = {
    "sum(close, N)": lambda b, n: window(b["close"], n, np.sum),
    "sma(close, N)": lambda b, n: window(b["close"], n, np.mean),
    "highest(high, N)": lambda b, n: window(b["high"], n, np.max),
    "lowest(low, N)": lambda b, n: window(b["low"], n, np.min),
    "stdev(close, N)": lambda b, n: window(b["close"], n, np.std),
    "ema(close, N)": lambda b, n: smooth(b["close"], n, 2 / (n + 1)),
    "wilder(close, N)": lambda b, n: smooth(b["close"], n, 1 / n),
    "rsi(close, N)": lambda b, n: rsi(b["close"], n),
    "true_range()": lambda b, n: true_range(b),
    "atr(N)": lambda b, n: smooth(true_range(b), n, 1 / n),
    "change(close, N)": lambda b, n: b["close"] - shift(b["close"], n),
    "age(close > close[1])": lambda b, n: ages(b["close"] > shift(b["close"])),
    "streak(close > close[1])": lambda b, n: streaks(b["close"] > shift(b["close"])),
    "crosses_up(close, open)": lambda b, n: crossing(b["close"], b["open"]),
    "crosses_down(close, open)": lambda b, n: crossing(-b["close"], -b["open"]),
}


@pytest.mark.parametrize("call", FORMULAS)
@pytest.mark.parametrize("length", [1, 2, 5, 37])
def test_a_function_agrees_with_its_formula(call: str, length: int) -> None:
    for seed in (1, 2):
        bars = random_bars(seed, 400)
        made = values(f"let x = {call.replace('N', str(length))}", bars)["x"]
        np.testing.assert_allclose(made, FORMULAS[call](bars, length), rtol=1e-9, atol=1e-9)


def test_starts_needs_a_known_bar_before() -> None:
    made = values("let x = starts(close > 2)", daily_bars([3, 1, 5, 6, 1, 9]))["x"]
    np.testing.assert_array_equal(made, [np.nan, 0, 1, 0, 0, 1])


def test_windows_do_not_drift_over_two_million_bars() -> None:
    rng = np.random.default_rng(3)
    x = rng.normal(0, 1, 2_000_000)
    x[1_000_000] = 1e15
    made = values("let s = sum(close, 20)\nlet d = stdev(close, 20)", daily_bars(x, first_day=1000))
    tail = x[-20:]
    assert made["s"][-1] == pytest.approx(tail.sum(), rel=1e-9)
    assert made["d"][-1] == pytest.approx(tail.std(), rel=1e-9)
    after = x[1_000_001:1_000_021]
    assert made["s"][1_000_020] == pytest.approx(after.sum(), rel=1e-9)


@pytest.mark.parametrize("name", library.names())
def test_every_function_describes_itself_and_its_example_runs(name: str) -> None:
    found = library.function(name)
    assert found is not None
    assert found.about.endswith(".")
    assert all(found.parameters.values()), f"a parameter of {name} is not described"
    compile_script(f"rung 1\n{found.example}")


def test_bare_names_and_brackets_are_the_same() -> None:
    made = values("let a = true_range\nlet b = true_range()", random_bars(5, 50))
    np.testing.assert_array_equal(made["a"], made["b"])
