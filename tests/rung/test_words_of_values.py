"""Values as words, word completion, the call around the cursor, and a condition taken apart."""

from __future__ import annotations

import pytest

from oakladder.rung import compile_script
from oakladder.rung.problems import UnknownName
from oakladder.rung.service.completion import CallHere, call_here, everything, fitting, word_before
from oakladder.rung.service.conditions import condition, conditions
from oakladder.rung.texts import (
    CLOCK,
    MOST_LETTERS,
    agree,
    count_words,
    is_none,
    mixture,
    write_clock,
    write_number,
    write_text,
    write_value,
)

NAN = float("nan")


@pytest.mark.parametrize(
    ("value", "form", "text"),
    [
        (1234.5, "", "1,234.5"),
        (0.1 + 0.2, "", "0.3"),
        (123456.78, "", "123,457"),
        (1_000_000.4, "", "1,000,000"),
        (12_345_678.9, "", "12,345,679"),
        (0.0512, ".1%", "5.1%"),
        (0.0512, "+.2%", "+5.12%"),
        (-2.5, "+.0", "-2"),
        (2.25, "+", "+2.25"),
        (3.14159, ".2", "3.14"),
        (0.25, "%", "25%"),
        (NAN, ".2", "–"),
    ],
)
def test_numbers_are_written_as_their_form_says(value: float, form: str, text: str) -> None:
    assert write_number(value, form) == text


@pytest.mark.parametrize(
    ("value", "form", "text"),
    [
        (None, "", "–"),
        (NAN, CLOCK, "–"),
        (True, "", "yes"),
        (False, ".2", "no"),
        (570, CLOCK, "09:30"),
        (1439.6, CLOCK, "00:00"),
        ("rising", CLOCK, "rising"),
        (7, "", "7"),
    ],
)
def test_any_value_is_written(value: object, form: str, text: str) -> None:
    assert write_value(value, form) == text


def test_clocks_counts_and_agreement() -> None:
    assert [write_clock(m) for m in (0, 59.4, 60, 1440, 1501)] == ["00:00", "00:59", "01:00", "00:00", "01:01"]
    told = [
        "1 bar",
        "2 bars",
        "0 bars",
        "1,200 bars",
        "2 entries",
        "3 days",
        "2 keys",
        "2 boxes",
        "2 losses",
        "2 searches",
    ]
    asked = [(1, "bar"), (2, "bar"), (0, "bar"), (1200, "bar"), (2, "entry"), (3, "day"), (2, "key")]
    asked += [(2, "box"), (2, "loss"), (2, "search")]
    assert [count_words(*one) for one in asked] == told
    assert (agree(1, "is", "are"), agree(2, "is", "are"), agree(0, "is", "are")) == ("is", "are", "are")


def test_texts_are_filled_in_and_cut() -> None:
    assert write_text(["a ", (1, ".1"), " b ", (0, "")], [True, 2.0]) == "a 2.0 b yes"
    long = write_text(["x" * MOST_LETTERS], [])
    cut = write_text(["x" * (MOST_LETTERS + 1)], [])
    assert len(long) == len(cut) == MOST_LETTERS and long[-1] == "x" and cut[-1] == "…"
    assert is_none(None) and is_none(NAN) and not is_none(0.0) and not is_none("")


def test_mixtures_of_colours_keep_what_is_known() -> None:
    assert mixture("blend", ["teal", "amber", 0.5]) == "blend(teal, amber, 0.5)"
    assert mixture("fade", ["teal", None]) == "teal" and mixture("fade", ["teal", NAN]) == "teal"
    assert mixture("blend", [None, "amber", 0.5]) is None and mixture("fade", [None, 1.0]) is None


def test_words_are_offered_by_prefix_then_by_what_is_in_them() -> None:
    offers = everything(["my_sma", "smart"])
    found = [o.word for o in fitting(offers, "sma")]
    assert found[:2] == ["smart", "sma"] and "my_sma" in found and found.index("my_sma") > found.index("sma")
    assert fitting(offers, "s") == [] and fitting(offers, "zzzz") == []
    assert [o.word for o in fitting(offers, "SMART")] == ["smart"] and fitting(offers, "smart") == []
    assert next(o for o in offers if o.word == "my_sma").beside == "yours"
    assert next(o for o in offers if o.word == "sma").beside.startswith("(") and len(fitting(offers, "e_")) <= 60
    assert [o.word for o in offers].count("close") == 1 and any(o.word == "position.gain" for o in offers)


@pytest.mark.parametrize(
    ("line", "word"),
    [
        ("let a = clo", "clo"),
        ("let a = ", ""),
        ("-- clo", ""),
        ('note "clo', ""),
        ("sma(close, my_2", "my_2"),
        ("3x", "x"),
    ],
)
def test_the_word_before_the_cursor(line: str, word: str) -> None:
    assert word_before(line) == word


@pytest.mark.parametrize(
    ("before", "name", "at"),
    [
        ("line sma(", "sma", 0),
        ("line sma(close, ", "sma", 1),
        ("line sma(max(close, open), ", "sma", 1),
        ("line sma(max(close, ", "max", 1),
        ("line sma(close[1, 2], ", "sma", 1),
        ("line sma(close, 9) + ema(close", "ema", 0),
    ],
)
def test_the_call_around_the_cursor(before: str, name: str, at: int) -> None:
    found = call_here(before)
    assert isinstance(found, CallHere) and (found.name, found.at) == (name, at)
    assert found.about and len(found.parameters) >= 1


@pytest.mark.parametrize(
    "before", ["line close", "line sma(close, 9)", "line unknown(", "-- sma(", "line (close + ", ""]
)
def test_there_is_no_call_around_the_cursor(before: str) -> None:
    assert call_here(before) is None


def test_a_condition_is_taken_apart_down_to_its_comparisons() -> None:
    text = (
        "rung 1\nlet up = close > open and not (volume < 5 or high == low)\ndefine wide(x)\n    give x > 2 * atr(5)\n"
        "signal go = up and (wide(range))[1] and 10 < close < 20\nsignal late = clock > 10:00\n"
        "trade ride long\n    enter at low when go\n    leave when close < open\n"
    )
    trace = compile_script(text).trace
    assert list(conditions(trace)) == ["go", "late", "enter ride", "leave ride"]
    go = condition(trace, "go")
    assert go.how == "and" and [p.how for p in go.parts] == ["and", "lag", "and"]
    up, lagged, chain = go.parts
    assert [p.how for p in up.parts] == ["compare", "not"] and up.parts[1].parts[0].how == "or"
    assert lagged.lag == 1 and lagged.parts[0].how == "compare" and lagged.parts[0].relation == ">"
    assert lagged.parts[0].operands[0].text == "range"  # in the words of the caller
    assert [(p.operands[0].text, p.relation, p.operands[1].text) for p in chain.parts] == [
        ("10", "<", "close"),
        ("close", "<", "20"),
    ]
    assert go.walk()[0] is go and len(go.walk()) == 12
    late = condition(trace, "late")
    assert late.how == "compare" and all(o.timed for o in late.operands)
    with pytest.raises(UnknownName, match="no condition called `gone`"):
        condition(trace, "gone")
