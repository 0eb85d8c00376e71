"""Columns equal what each symbol alone shows, on every timeframe; filters say what their words say."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from helpers import Tune, daily_bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.columns.cell_filter import at_least, filter_of
from oakladder.engine.columns.cells import Cell, available_outputs
from oakladder.engine.columns.fill import cells
from oakladder.engine.positions import IN_SINCE
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.rung.problems import UnknownName

PROGRAM = compile_script(
    """rung 1
setting n = 10 range 1..200
let strength = rsi(close, 14)
signal up = close > sma(close, n) bullish
signal down = crosses_down(close, sma(close, n)) bearish
column "{strength:.0}" fill warn when strength > 60 order strength named "Strength"
column close - sma(close, n) named "Gap"
"""
)


@pytest.mark.parametrize("frame", ["1w", "1d", "4h"])
@pytest.mark.parametrize("name", ["Strength", "Gap", "up", "down", "strength"])
def test_a_column_is_what_each_symbol_alone_shows(market: BarLibrary, frame: str, name: str) -> None:
    timeframe = Timeframe.parse(frame)
    symbols = list(market.infos)[:6]
    made, skipped = cells(PROGRAM, name, market, [*symbols, "NOWHERE"], timeframe, {"n": 20})
    assert [s.symbol for s in skipped] == ["NOWHERE"] and list(made) == symbols
    for symbol in symbols:
        panel = market.panel([symbol], timeframe)
        result = run(PROGRAM, panel, {"n": 20}, extra=[PROGRAM.plan.values["strength"]])
        last = len(panel.times) - 1
        cell = made[symbol]
        if name in ("up", "down"):
            flags = result.flag(PROGRAM.signal(name).roles["value"])
            fired = np.flatnonzero(flags == 1)
            assert cell.age == (last - int(fired[-1]) if len(fired) else -1)
            assert cell.holds is bool(flags[-1] == 1)
            assert (cell.fill is not None) == (0 <= cell.age < 20)
            assert cell.fill is None or cell.strength == pytest.approx(1 - cell.age / 20)  # the older, the fainter
            said = {-1: "·", 0: "now", 1: "1 bar"}.get(cell.age, f"{cell.age:,} bars")
            assert cell.text == cell.words == said
            continue
        strength = float(result.number(PROGRAM.plan.values["strength"])[-1])
        if name == "Gap":
            assert cell.order == result.number(result.output("column", "Gap").roles["value"])[-1]
        else:
            assert cell.order == pytest.approx(strength)
        if name == "Strength":
            assert cell.text == f"{strength:.0f}" and (cell.fill == "warn") == (strength > 60) == cell.holds


def test_what_can_be_a_column_is_offered_columns_first() -> None:
    assert available_outputs(PROGRAM) == ["Strength", "Gap", "up", "down", "strength"]
    with pytest.raises(UnknownName, match="Did you mean"):
        cells(PROGRAM, "Strenght", None, [], ONE_DAY)  # type: ignore[arg-type]


A = Cell("12%", "good", 0.12, True, 0)
B = Cell("–", None, float("nan"), False, -1)
C = Cell("7", None, 7.0, None, 7)


@pytest.mark.parametrize(
    ("words", "fits"),
    [
        ("", [A, B, C, None]),
        ("is true", [A]),
        ("not true", [B]),
        ("fired today", [A]),
        (">= 5", [C]),
        ("≥ 10%", [A, C]),
        ("< 0.2", [A]),
        ("= 7", [C]),
        ("2", [A]),
        ("nothing like it", []),
    ],
)
def test_a_filter_says_what_its_words_say(words: str, fits: list[Cell | None]) -> None:
    test = filter_of(words)
    assert [c for c in (A, B, C, None) if test(c)] == fits


@pytest.mark.parametrize(
    ("words", "count"),
    [("3 of", 3), ("on at least 2", 2), ("at least 4 of these", 4), ("3", None), ("true", None), (">= 3", None)],
)
def test_agreement_over_timeframes_is_read(words: str, count: int | None) -> None:
    assert at_least(words) == count


TRADES = """rung 1
trade dip long
    enter when close < close[1]
    leave when close > close[1]
"""


@pytest.mark.parametrize(
    ("closes", "text", "age"),
    [
        ([10, 11, 12, 11], "·", None),  # ordered at the last close, filled at the next open
        ([10, 11, 12, 11, 11], "new +0.0%", 0),
        ([10, 11, 12, 11, 11, 10.5], "1 bar -4.5%", 1),
        ([10, 11, 12, 11, 11, 10.5, 10.5], "2 bars -4.5%", 2),
        ([10, 11, 12, 11, 11, 12, 12], "·", None),
    ],
)
def test_a_position_says_since_when_it_is_held_and_what_it_has_gained(
    tmp_path: Path, closes: list[float], text: str, age: int | None
) -> None:
    library = BarLibrary(tmp_path)
    library.add_symbols([SymbolInfo("FEW", "Few", "Salt", "share", 0.01, Calendar())])
    library.write(daily_bars(closes, "FEW"))
    cell = cells(compile_script(TRADES), IN_SINCE, library, ["FEW"], ONE_DAY)[0]["FEW"]
    assert cell.words == text and cell.holds is (age is not None)
    assert (cell.fill is not None) == (age is not None)


@pytest.mark.parametrize(
    ("rule", "age"),
    [("close <= lowest(close, 6)", 40), ("not known(close[5])", 55)],  # true where bars are missing: at the very start
)
def test_an_occurrence_before_the_bars_that_were_searched_first_is_found_by_searching_all(
    tmp_path: Path, tune: Tune, rule: str, age: int
) -> None:
    """In the first of the shortened bars the script has not seen all that it looks back on: what is true there may be
    wrong."""
    program = compile_script(f"rung 1\nsignal floor = {rule}")
    closes = np.concatenate([np.arange(60.0, 40, -1), np.arange(42.0, 82)])
    library = BarLibrary(tmp_path)
    library.add_symbols([SymbolInfo("FEW", "Few", "Salt", "share", 0.01, Calendar())])
    library.write(daily_bars(closes, "FEW"))
    for bars in range(1, 65):
        tune(column_bars=bars)
        cell = cells(program, "floor", library, ["FEW"], ONE_DAY)[0]["FEW"]
        assert cell.age == age and cell.text == f"{age} bars", bars
