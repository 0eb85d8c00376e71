"""A cell's explanation says what a user could work out by hand."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.engine.columns.cell_why import explain
from oakladder.engine.columns.fill import ColumnRequest
from oakladder.engine.columns.quotes import quotes
from oakladder.rung import compile_script

PROGRAM = compile_script(
    """rung 1
setting n = 3 range 1..50
let mean = sma(close, n)
signal up = close > mean and close > 5
signal never = close < 0
column close - mean fill good when close > mean named "Gap"
"""
)


@pytest.fixture
def library(tmp_path) -> BarLibrary:  # type: ignore[no-untyped-def]
    made = BarLibrary(tmp_path)
    for name, closes in (("RISE", np.arange(1.0, 11)), ("DROP", [9.0, 9, 9, 12, 9, 7])):
        bars = daily_bars(closes, symbol=name)
        made.add_symbols([SymbolInfo(name, name, "", "share", 0.01, bars.calendar)])
        made.write(bars)
    return made


def test_a_signal_says_since_when_and_which_part_keeps_it_away(library: BarLibrary) -> None:
    made = explain(ColumnRequest(PROGRAM, "up"), library, "RISE")
    assert made.lines[0].startswith("up: true since") and made.lines[0].endswith("bar 5 of it.")
    assert (
        "   close > mean: 10, 9: yes" in made.lines
        and made.time == library.bars("RISE", ColumnRequest(PROGRAM, "up").timeframe).times[-1]
    )
    made = explain(ColumnRequest(PROGRAM, "up"), library, "DROP")
    assert "2 bars ago" in made.lines[0]
    assert "   → close > mean: 7, 9.333: no, short by 2.333 (25.0%)" in made.lines
    assert made.time == library.bars("DROP", ColumnRequest(PROGRAM, "up").timeframe).times[3]
    assert explain(ColumnRequest(PROGRAM, "never"), library, "DROP").lines[0] == "never: never true on these bars."


def test_settings_change_the_explanation(library: BarLibrary) -> None:
    made = explain(ColumnRequest(PROGRAM, "up", settings={"n": 1}), library, "RISE")
    assert "→ close > mean: 10, 10: no, equal" in "\n".join(made.lines)


def test_a_column_says_its_numbers_now_and_before(library: BarLibrary) -> None:
    made = explain(ColumnRequest(PROGRAM, "Gap"), library, "RISE")
    assert made.lines[0] == "1, the bar before 1"
    assert made.lines[1].startswith("Its colour: true since") and "mean: 9, the bar before 8" in made.lines
    assert explain(ColumnRequest(PROGRAM, "mean"), library, "RISE").lines[0] == "9, the bar before 8"


def test_the_newest_of_several_signals_is_explained(library: BarLibrary) -> None:
    program = compile_script("rung 1\nsignal old = bar == 1\nsignal late = bar == 4")
    assert explain(ColumnRequest(program, None), library, "DROP").lines[0].startswith("late:")


def test_quotes_are_the_last_close_and_its_change(library: BarLibrary, market: BarLibrary) -> None:
    made = quotes(library, ["RISE", "DROP", "NOWHERE"])
    assert made == {"RISE": (10.0, pytest.approx(10 / 9 - 1)), "DROP": (7.0, pytest.approx(7 / 9 - 1))}
    for symbol, (last, moved) in quotes(market, market.infos).items():
        closes = market.bars(symbol, ColumnRequest(PROGRAM, "up").timeframe)["close"]
        assert last == closes[-1] and moved == pytest.approx(closes[-1] / closes[-2] - 1)
