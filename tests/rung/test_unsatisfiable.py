"""Rules that can never be true are found, and rules that can be are left alone."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import random_bars, values
from oakladder.rung import analyse


def never(text: str) -> str:
    """The words of the hint, if there is one."""
    return next((p.message for p in analyse(f"rung 1\n{text}").problems if p.code == "R703"), "")


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("signal go = rsi(close, 14) < 30 and rsi(close, 14) > 70", "rsi(close, 14)"),
        ("let r = rsi(close, 14)\nlet low_r = r < 30\nsignal go = low_r and r > 70", "leave nothing"),
        ("signal go = rsi(close, 14) > 100", "never > 100"),
        ("signal go = 70 < rsi(close, 14) < 30", "leave nothing"),
        ("signal go = close > open and close < open", "close against open"),
        ("signal go = close > open and open >= close", "close against open"),
        ("signal go = close > 3 and not (close > 3)", "close > 3"),
        ("signal go = weekday == 6 and weekday == 7", "weekday"),
        ("signal go = weekday > 7 or month > 12", "never > 7"),
        ("signal go = clock > 10:00 and clock < 09:30", "clock"),
        ("signal go = volume < 0", "never < 0"),
        ("signal go = volume < -5", "never < -5"),
        ("signal go = rsi(close, 14) <= -(3)", "never <= -"),
        ("signal go = -volume > 5", ""),
        ("signal go = stochastic(14, 3, 3).k > 120", "never > 120"),
        ("signal go = (close > 5 or open > 5) and close < 4 and open < 4", "close"),
        ("signal go = close > 3 and no", "can never be true"),
        ("signal go = not (close > 3 or close <= 3)", "leave nothing"),
        ("signal go = close > highest(high, 20)", "look one bar back"),
        ("let top = highest(close, 20)\nsignal go = close > top", "look one bar back"),
        ("signal go = lowest(low, 5) > close", "look one bar back"),
        ("signal go = low > high", "never above"),
        ("signal go = close < min(low, open)", "never below"),
        ("signal go = count(close > open, 5) > 5", "never > 5"),
        ("signal go = highest_ago(high, 10) >= 10", "never >= 10"),
        ("signal go = highest(high, 20) > highest(high, 20)", "both sides"),
    ],
)
def test_what_excludes_itself_is_said(text: str, words: str) -> None:
    assert words in never(text)


@pytest.mark.parametrize(
    "text",
    [
        "signal go = rsi(close, 14) < 30 or rsi(close, 14) > 70",
        "signal go = rsi(close, 14) > 70 and rsi(close, 7) < 30",
        "signal go = close > open and close[1] < open[1]",
        "signal go = close > open and (close < open) on 1w",
        "signal go = close > 3 and close < 4",
        "signal go = close >= 3 and close <= 3",
        "signal go = not (close > open) and close == open",
        "signal go = 30 < rsi(close, 14) < 70",
        "signal go = close > highest(high, 20)[1]",
        "signal go = close >= highest(high, 20)",
        "signal go = close > highest(low, 20)",
        "signal go = count(close > open, 5) >= 5",
        "keep n = 0\nlet before = n\nset n = n + 1\nsignal go = n > before",
        "keep n = 0\nlet was = n == 1\nset n = 0\nsignal go = was and n == 0",
        "keep n = 0\nlet a = n > 2\nif close > open\n    set n = n + 1\nsignal go = a and n < 3",
        "keep n = 0\nset n = n + 1\nsignal go = n > 3 and volume >= 0",
        "setting a = 70 range 1..100\nsetting b = 30 range 1..100\nlet r = rsi(close, 5)\nsignal go = r > a and r < b",
    ],
)
def test_what_may_be_is_left_alone(text: str) -> None:
    assert never(text) == ""


_PART = st.builds(
    lambda left, op, right: f"({left} {op} {right})",
    st.sampled_from(["close", "open", "rsi(close, 3)", "weekday", "close[1]"]),
    st.sampled_from(["<", "<=", ">", ">=", "==", "!="]),
    st.sampled_from(["close", "open", "50", "100", "3", "5"]),
)
_RULE = st.recursive(
    _PART,
    lambda inner: st.one_of(
        st.builds(lambda a, word, b: f"({a} {word} {b})", inner, st.sampled_from(["and", "or"]), inner),
        inner.map(lambda a: f"(not {a})"),
    ),
    max_leaves=6,
)


@settings(max_examples=60, deadline=None)
@given(_RULE, st.integers(0, 50))
def test_a_rule_that_is_true_somewhere_is_never_called_impossible(rule: str, seed: int) -> None:
    found = values(f"let go = {rule}", random_bars(seed, 120))["go"]
    if np.any(found == 1):
        assert never(f"signal go = {rule}") == ""
