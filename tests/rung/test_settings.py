"""Settings of every kind: what is declared, what fits, and what is said of a value that does not."""

from __future__ import annotations

import pytest

from helpers import daily_bars, values
from oakladder.rung import RunProblem, compile_script

SCRIPT = """rung 1
setting n = 2 range 1..50 step 1 "Length"
setting off = -1.5 range -5..5
setting on_gap = yes "Gaps count"
setting mode = "plain" choose "plain", "strict"
setting tone = teal
setting ground = #3a7d44
setting span = 1w
setting opened = 09:30
setting src = close choose close, hl2, ohlc4
setting pick = 20 choose 10, 20, 50
line sma(src, n) + off + pick color tone when on_gap or mode == "strict" or clock > opened
line close on span color ground
"""


@pytest.mark.parametrize(
    ("name", "given", "made"),
    [
        ("n", "7", 7.0),
        ("off", "-2.5", -2.5),
        ("on_gap", "no", False),
        ("on_gap", "TRUE", True),
        ("mode", "strict", "strict"),
        ("tone", "rust", "rust"),
        ("tone", "#ABCDEF", "#abcdef"),
        ("ground", "sand", "sand"),
        ("span", "1mo", "1mo"),
        ("span", "90m", "90m"),
        ("opened", "10:05", 605.0),
        ("opened", 600, 600.0),
        ("src", "hl2", "hl2"),
        ("pick", "50", 50.0),
    ],
)
def test_a_value_that_fits_is_taken_from_text_too(name: str, given: object, made: object) -> None:
    assert compile_script(SCRIPT).values_of({name: given})[name] == made


@pytest.mark.parametrize(
    ("name", "given", "words"),
    [
        ("n", "0", "from 1 to 50"),
        ("n", "nan", "is a number"),
        ("off", "many", "is a number"),
        ("on_gap", "maybe", "yes or no"),
        ("mode", "loose", "one of plain, strict"),
        ("tone", "tael", "Did you mean `teal`"),
        ("ground", "#12", "is a colour"),
        ("span", "2d", "is a timeframe"),
        ("span", "fortnight", "is a timeframe"),
        ("opened", "25:00", "time of day"),
        ("opened", "9.30", "time of day"),
        ("src", "low", "one of close, hl2, ohlc4"),
        ("pick", "30", "one of 10, 20, 50"),
    ],
)
def test_a_value_that_does_not_fit_is_refused_in_words(name: str, given: object, words: str) -> None:
    with pytest.raises(RunProblem, match=words):
        compile_script(SCRIPT).values_of({name: given})


@pytest.mark.parametrize(
    ("name", "value", "words"),
    [("on_gap", True, "yes"), ("opened", 570.0, "09:30"), ("n", 9.0, "9"), ("span", "1w", "1w")],
)
def test_a_value_is_written_as_in_a_script(name: str, value: object, words: str) -> None:
    info = next(i for i in compile_script(SCRIPT).settings if i.name == name)
    assert info.words(value) == words


def test_a_clock_setting_moves_the_rule() -> None:
    script = "setting opened = 09:30\nlet late = clock > opened\nlet span = clock - opened"
    bars = daily_bars([1, 2])
    assert values(script, bars)["late"].tolist() == [0, 0]
    assert values(script, bars, {"opened": "00:00"})["span"].tolist() == [0, 0]


def test_a_series_setting_reads_the_series_that_is_chosen() -> None:
    bars = daily_bars([2, 4], high=daily_bars([4, 8])["close"])
    script = "setting src = close choose close, hl2\nlet x = src"
    assert values(script, bars)["x"].tolist() == [2, 4]
    assert values(script, bars, {"src": "hl2"})["x"].tolist() == [3, 6]
