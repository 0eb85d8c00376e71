"""A rule is recognised by what it compiles to, however its script is written."""

from __future__ import annotations

import pytest

from oakladder.rung import compile_script
from oakladder.trial.rule_identity import compiled_mark, marks_of

RULE = """rung 1
setting n = 5 range 2..100
let base = sma(close, n)
signal go = crosses_up(close, base) bullish
trade ride long
    enter when go
    at most 5 bars
"""


def mark(text: str) -> str:
    return compiled_mark(compile_script(text))


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("base", "mean_of_n"),
        (
            "let base = sma(close, n)\nsignal go = crosses_up(close, base)",
            "signal go = crosses_up(close, sma(close, n))",
        ),
        ("rung 1\n", 'rung 1\ntitle "Mine"\n-- a copy\n'),
        ("n = 5", "n = 7"),
        ("signal go", "signal away"),
        ("at most 5 bars\n", "at most 5 bars\nline base\nmark go below\n"),
    ],
)
def test_names_lines_and_what_is_drawn_make_no_other_rule(old: str, new: str) -> None:
    text = RULE.replace(old, new)
    text = text.replace("enter when go", "enter when away") if "signal away" in text else text
    assert text != RULE and mark(text) == mark(RULE) != ""


@pytest.mark.parametrize(
    ("old", "new"),
    [
        ("5 bars", "6 bars"),
        ("crosses_up", "crosses_down"),
        ("sma", "ema"),
        ("close, n", "high, n"),
        (" long", " short"),
    ],
)
def test_what_changes_the_trades_makes_another(old: str, new: str) -> None:
    assert RULE.replace(old, new) != RULE and mark(RULE.replace(old, new)) != mark(RULE)


def test_what_has_neither_signal_nor_trade_is_like_nothing_else() -> None:
    assert mark("rung 1\nline close\n") == ""
    assert marks_of([compile_script("rung 1\nline close\n")], [""]) == frozenset()
    assert len(marks_of([compile_script(RULE)], [RULE, RULE + "-- as before\n", RULE.replace("5 bars", "6 bars")])) == 3
