"""What is said of trades that make no sense, and what stands in their blocks."""

from __future__ import annotations

import pytest

from oakladder.rung import Severity, analyse, compile_script
from oakladder.rung.service.fixes import apply_fix
from oakladder.rung.service.reference_docs import brief, language_page, word_help
from oakladder.rung.trade_words import POSITION_VALUES, TRADE_FORMS

HEAD = "rung 1\nsignal flow = close > close[1]\n"


def problems(lines: str, head: str = HEAD) -> list[str]:
    return [p.code for p in analyse(head + lines).problems]


def said(lines: str, code: str) -> str:
    return next(f"{p.message} {p.fix}" for p in analyse(HEAD + lines).problems if p.code == code)


def test_every_clause_is_read_and_sound() -> None:
    text = """trade ride long
    enter at low - tick_size when flow
        and volume > 0 for 3 bars
    leave when close < open or position.gain < -8%
    stop 2 * atr(14)
    stop at lowest(low, 5)
    trail 5%
    protect after 1 risks
    target 12%
    target at highest(high, 20)
    target 4 risks
    at most 60 bars
    flat by 15:00
    flat at session end
    pause 3 bars
    rank volume
line position.stop
"""
    assert problems(text) == []
    program = compile_script(HEAD + text)
    assert program.plan.trading is not None and program.plan.trading.trades[0].has_rank


@pytest.mark.parametrize(
    ("lines", "code"),
    [
        ("trade a long\n    stop 5%\n", "R120"),
        ("trade a long\n", "R109"),
        ("trade a long\n    enter when flow\n    enter when flow\n", "R114"),
        ("trade a long\n    enter when flow\n    let x = 1\n", "R113"),
        ("trade a long\n    enter when flow\n    stop\n", "R113"),
        ("enter when flow\n", "R113"),
        ("trade a long\n    enter when close\n", "R301"),
        ("trade a long\n    enter when flow\n    flat by 930\n", "R301"),
        ("trade a long\n    enter when flow\n    at most bar bars\n", "R302"),
        ("trade a long\n    enter when flow\n    at most 0 bars\n", "R305"),
        ("trade a long\n    enter at low when flow for 1.5 bars\n", "R305"),
        ("trade a long\n    enter when flow\n    stop 0\n", "R305"),
        ("trade a long\n    enter when flow\n    target 2 risks\n", "R306"),
        ("trade a long\n    enter when flow\n    protect after 1 risks\n", "R306"),
        ("trade a long\n    enter when flow\n    stop 2\n", "R407"),
        ("trade a long\n    enter when flow\n    stop rsi(close, 14)\n", "R407"),
        ("trade a long\n    enter when flow\n    stop at volume\n", "R401"),
        ("trade a long\n    enter when flow and no\n", "R703"),
        ("trade a long\n    enter when flow\ntrade b long\n    enter when flow and volume > 0\n", "R706"),
        ("trade a long\n    enter when flow\ntrade b short\n    enter when flow\n", "R706"),
        ("trade a long\n    enter when flow\nline a\n", "R301"),
        ("trade a long\n    enter when flow\nline position.size\n", "R206"),
        ("trade a long\n    enter when flow\n    leave when position.gain on 1w > 1%\n", "R504"),
        ("line position.entry\n", "R216"),
        ("trade a long\n    enter when flow\ntrade a short\n    enter when not flow\n", "R202"),
        ("if flow\n    trade a long\n        enter when flow\n", "R113"),
    ],
)
def test_what_makes_no_sense_is_told(lines: str, code: str) -> None:
    assert code in problems(lines), [p.line_text("x") for p in analyse(HEAD + lines).problems]


@pytest.mark.parametrize(
    ("lines", "said"),
    [
        ("    at most 0 bars\n", "`at most`"),
        ("    at most bar bars\n", "`at most`"),
        ("    at most 3 bars\n    at most 4 bars\n", "`at most`"),
        ("    at most close > open bars\n", "`at most`"),
        ("    pause 0.5 bars\n", "`pause`"),
    ],
)
def test_a_clause_is_called_as_it_is_written(lines: str, said: str) -> None:
    told = analyse(f"{HEAD}trade a long\n    enter when flow\n{lines}").problems
    assert told and all(said in problem.message for problem in told), told


@pytest.mark.parametrize("distance", ["5%", "2 * 5%", "2 * atr(14)", "close * 3%", "atr(14) / close", "close - low"])
def test_a_distance_with_a_unit_is_left_alone(distance: str) -> None:
    assert problems(f"trade a long\n    enter when flow\n    stop {distance}\n") == []


def test_a_setting_may_be_a_ratio() -> None:
    head = HEAD + "setting loss = 5% range 1%..20%\n"
    assert problems("trade a long\n    enter when flow\n    stop loss\n", head) == []


def test_two_trades_that_rest_in_turn_can_both_be_reached() -> None:
    lines = "trade a long\n    enter when flow\n    pause 5 bars\ntrade b long\n    enter when flow\n"
    assert problems(lines) == []


def test_words_of_trades_stay_free_as_names() -> None:
    lines = "let target = 1\nlet rank = target\nlet pause = rank\nlet leave = pause\nlet long = leave\nline long\n"
    assert problems(lines) == []
    assert problems("trade long long\n    enter when flow\n") == []


def test_a_slip_in_a_trade_is_mended_where_it_stands() -> None:
    text = HEAD + "trade a long\n    enter when close > = open\n    leave when ebb\n"
    found = [p for p in analyse(text).problems if p.severity is Severity.ERROR]
    assert {p.code for p in found} == {"R102", "R201"}
    edit = next(p for p in found if p.edits)
    assert "enter when close >= open" in apply_fix(text, edit)


def test_help_brief_and_page_know_every_clause() -> None:
    page, short = language_page(), brief()
    for form in TRADE_FORMS:
        assert f"`{form.form}`" in page and f"{form.form}: {form.about}" in short
        assert word_help(form.word)
    for name in POSITION_VALUES:
        assert f"`position.{name}`" in page and f"position.{name}" in short
    assert "Only" not in said("trade a long\n    enter when flow\n    stop\n", "R113")
