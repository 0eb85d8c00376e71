"""Scripts that pass the check and do what nobody means: each is warned of, with a fix that was tried, and nothing else is."""

from __future__ import annotations

from importlib.resources import files

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings

from helpers import DEMO_SCRIPTS, random_bars, values
from oakladder.rung import OtherScripts, analyse, library
from oakladder.rung.check.number_lints import ALWAYS_KNOWN
from oakladder.rung.service.fixes import apply_fix
from rung_programs import EXPRESSIONS, PROLOGUE

LINTS = {"R408", "R409", "R505", "R506", "R507", "R707", "R708", "R709"}
TRADE = "trade ride long\n    enter when close > open\n"

#: What is written, the code, and what its fix makes of it.
CAUGHT = [
    ("let m = sma(close, 3)\nsignal go = m > m[1] on 1w", "R505", "signal go = (m > m[1]) on 1w"),
    ("let m = sma(close, 3)\nsignal go = m[1] < m on 1w", "R505", "signal go = (m[1] < m) on 1w"),
    ("let m = sma(close, 3)\nline m - m[2] on 1w", "R505", "line (m - m[2]) on 1w"),
    ("signal go = close > close[1] on 1d", "R505", "signal go = (close > close[1]) on 1d"),
    ("let w = sma(close, 3) on 1w\nsignal go = w > w[1]", "R506", "w > sma(close, 3)[1] on 1w"),
    ("let w = (high - low) on 1w\nline w - w[2]", "R506", "w - (high - low)[2] on 1w"),
    ("signal go = (close on 1w)[1] < close on 1w", "R506", "close[1] on 1w < close on 1w"),
    ("keep t = 0\nset t = t + (close - close[1])\nline t", "R707", "t + ((close - close[1]) else 0)"),
    ("keep t = 0\nset t = t - change(close)\nline t", "R707", "t - (change(close) else 0)"),
    ("keep t = 1\nset t = t * (close / close[1])\nline t", "R707", "t * ((close / close[1]) else 1)"),
    ("keep t = 0\nlet d = close - close[1]\nif close > open\n    set t = t + d\nline t", "R707", "t + (d else 0)"),
    ("define f(x)\n    keep t = 0\n    set t = t + x[1]\n    give t\nline f(close)", "R707", "t + (x[1] else 0)"),
    (TRADE + "    stop low[1]", "R408", "    stop at low[1]"),
    (TRADE + "    stop 2%\n    target highest(high, 20)", "R408", "    target at highest(high, 20)"),
    (TRADE + "    trail sma(close, 20)", "R408", "    stop at sma(close, 20)"),
    (TRADE + "    stop bollinger(close, 20, 2).lower - 2 * atr(14)", "R408", "    stop at bollinger(close, 20, 2)"),
    ("signal go = change(close) / close > 2", "R409", "> 2%"),
    ("signal go = (close - open) / open < -3", "R409", "< -3%"),
    ("signal go = close / close[5] - 1 > 4", "R409", "> 4%"),
    ("signal go = 1.5 < change(close) / close[1]", "R409", "1.5% <"),
    ("let up = change(close, 5) / close[5]\nsignal go = up between 1 and 3", "R409", "between 1% and 3"),
    (TRADE + "    leave when position.gain < -8", "R409", "< -8%"),
    ("setting least = 0.6\nsignal go = change(close) / close[1] > least", "R409", "setting least = 0.6%"),
    (
        'setting least = 2 range 0..10 step 0.5 "Per cent"\nsignal go = volume / volume[1] - 1 > least',
        "R409",
        'least = 2% range 0%..10% step 0.5% "Per cent"',
    ),
    ("setting least = 3\nsignal go = change(close) / close[1] > least", "R409", "setting least = 3%"),
    ("link low ago 3 to low when close > open", "R507", "link low[3] ago 3 to low"),
    ("link low[5] ago 5 to high ago 2 when close > open", "R507", "to high[2] ago 2"),
    ("mark close > open at low ago 4", "R507", "at low[4] ago 4"),
    (
        "let top = highest(high, 5)\nline top\nzone low to high when close > open until close > top",
        "R708",
        "let my_top = highest(high, 5)\nline my_top\nzone low to high when close > open until close > top",
    ),
    (
        "line (if close > sma(close, 9) then 1 else 0) + (if rsi(close, 14) > 50 then 1 else 0)",
        "R709",
        "line how_many(close > sma(close, 9), rsi(close, 14) > 50)",
    ),
]


@pytest.mark.parametrize(("text", "code", "new"), CAUGHT)
def test_what_nobody_means_is_warned_of_and_its_fix_is_right(text: str, code: str, new: str) -> None:
    text = f"rung 1\n{text}\n"
    found = [p for p in analyse(text).problems if p.code == code]
    assert found and not any(p.is_error for p in analyse(text).problems)
    assert found[0].fix and new in apply_fix(text, found[0])
    for problem in [p for p in found if p.edits]:
        after = [p for p in analyse(apply_fix(text, problem)).problems if p.code in LINTS]
        assert len(after) < len([p for p in analyse(text).problems if p.code in LINTS])


@pytest.mark.parametrize(
    "text",
    [
        "let m = sma(close, 3)\nsignal go = close > m on 1w and m > m[1]",
        "signal go = close > sma(close, 30) on 1w and close on 1w > sma(close, 30) on 1w",
        "signal go = (close > close[1]) on 1w",
        "signal go = close > high on 1d",
        "let w = close on 1w forming\nsignal go = w > w[1]",
        "let w = close on 1w\nsignal moved = w != w[1]\nline w",
        "keep t = 0\nset t = t + volume\nline t",
        "keep t = 0\nset t = t + ((close - close[1]) else 0)\nline t",
        "keep t = 0\nif bar > 0\n    set t = t + close - close[1]\nline t",
        "keep t = 0\nif known(close[5])\n    set t = t + close - close[5]\nline t",
        "keep t = 0\nif close > sma(close, 5)\n    set t = t + close - close[1]\nline t",
        "keep t = 0\nif new(1d)\n    set t = 0\nset t = t + (close - close[1])\nline t",
        "keep t = 0\nset t = t + true_range()\nline t",
        "keep t = none\nset t = t + (close - close[1])\nline t",
        TRADE + "    stop 2 * atr(14)\n    target close - low[3]\n    trail 5%",
        TRADE + "    stop high - low\n    target at high[1]",
        TRADE + "    stop close * 0.05",
        "signal go = change(close) / close[1] > 2%",
        "signal go = change(close) / close[1] > 0.02",
        "signal go = volume / sma(volume, 20) > 2",
        "signal go = relative_volume(20) > 2 and close / sma(close, 50) > 1.02",
        "signal go = change(close, 250) / close[250] > 0.5",
        'setting least = 2 "Times the usual volume"\nsignal go = volume / sma(volume, 20) > least',
        'setting least = 2% "Per cent"\nsignal go = change(close) / close[1] > least',
        "signal go = roc(close, 1) > 2",
        "setting least = 0.2\nsignal go = change(close) / close[1] > least",
        "setting least = 0.6\nsignal go = change(close, 50) / close[50] > least",
        "link latch(close > open, low) ago age(close > open) to low",
        "link low[3] ago 3 to low\nmark close > open at low[2] ago 2",
        "mark close > open below ago 2",
        "zone low to high when close > open until close > top",
        "let top = high\nline top\nzone low to top when close > open until close < bottom",
        "line (if close > open then 1 else 0) + (if volume > 5 then 1 else 0)",
        "line (if close > sma(close, 9) then 2 else 0) + (if rsi(close, 14) > 50 then 1 else 0)",
        "line how_many(close > sma(close, 9), rsi(close, 14) > 50)",
    ],
)
def test_what_is_meant_is_left_alone(text: str) -> None:
    assert analyse(f"rung 1\n{text}\n").problems == ()


def test_no_demo_and_no_library_script_is_warned_of() -> None:
    for name in DEMO_SCRIPTS:
        text = files("oakladder.demo").joinpath("scripts", name).read_text("utf-8")
        assert not {p.code for p in analyse(text).problems} & LINTS, name
    for name in library.names():
        found = library.function(name)
        assert found is not None
        assert not {p.code for p in analyse(f"rung 1\n{library.copy_of(name, f'my_{name}')}").problems} & LINTS, name


def fires_on_none(expression: str) -> None:
    text = f"rung 1\n{PROLOGUE}let x = {expression}\nline x\n"
    assert not {p.code for p in analyse(text).problems} & (LINTS - {"R505", "R506"}), text


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(EXPRESSIONS)
def test_no_generated_script_is_warned_of(expression: str) -> None:
    fires_on_none(expression)


@pytest.mark.nightly
@settings(max_examples=4000, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(EXPRESSIONS)
def test_no_script_of_thousands_is_warned_of(expression: str) -> None:
    fires_on_none(expression)


def test_functions_that_are_known_from_the_first_bar_are() -> None:
    bars = random_bars(3, 40, holes=False)
    for name in ALWAYS_KNOWN:
        call = library.call_of(name) or f"{name}()"
        assert not np.isnan(values(f"let x = {call}", bars)["x"]).any(), name


def test_how_many_counts_flags_once_all_are_known() -> None:
    bars = random_bars(5, 60)
    text = "let a = close > open\nlet b = close > sma(close, 5)\nlet c = volume > volume[1]\nlet n = how_many(a, b, c)\nlet one = how_many(a)"
    for reference in (False, True):
        made = values(text, bars, reference=reference)
        np.testing.assert_array_equal(made["n"], made["a"] + made["b"] + made["c"])
        np.testing.assert_array_equal(made["one"], made["a"])
    assert np.isnan(made["n"][:4]).all() and set(made["n"][~np.isnan(made["n"])]) == {0, 1, 2, 3}
    (problem,) = analyse("rung 1\nline how_many(close > open, close)\n").problems
    assert problem.code == "R301" and "`how_many` counts" in problem.message
    assert [p.code for p in analyse("rung 1\nline how_many()\n").problems] == ["R205"]


def test_a_function_that_reads_a_value_of_its_own_script_cannot_be_taken() -> None:
    tools = (
        'rung 1\ntitle "Tools"\nsetting n = 3\nlet base = close\ndefine f(x)\n    give sma(x, n)\n'
        "define g(x)\n    give f(x) + base\ndefine own(x, n = 2)\n    let base = x * n\n    give base\n"
    )
    other_scripts = OtherScripts((("Tools", tools),), "scripts")
    for name, words in (("f", "`n` (setting)"), ("g", "`base` (let)")):
        (problem,) = analyse(f'rung 1\nuse {name} from "Tools"\nline {name}(close)\n', other_scripts).problems
        assert (
            (problem.code, problem.span.line) == ("R217", 2) and words in problem.message and '"Tools"' in problem.fix
        )
    assert analyse('rung 1\nuse own from "Tools"\nline own(close)\n', other_scripts).problems == ()
