"""What is wrong with one symbol, file or column spoils nothing for the others."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.demo import upkeep
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.columns.cell_why import explain
from oakladder.engine.columns.fill import ColumnRequest, fill
from oakladder.engine.columns.quotes import quotes
from oakladder.engine.scan.condition_flags import ConditionBars
from oakladder.engine.scan.conditions import Rule
from oakladder.engine.scan.run import occurrences, run_scan
from oakladder.rung import compile_script

HOUR = Timeframe.parse("1h")
PROGRAM = compile_script("rung 1\nsignal up = close > 0\ncolumn close\n")


@pytest.fixture(scope="module")
def library(tmp_path_factory: pytest.TempPathFactory) -> BarLibrary:
    """The demo market with a symbol of days only and one of minutes only."""
    made = BarLibrary(tmp_path_factory.mktemp("mixed"))
    upkeep.prepare(made)
    for symbol in ("DAYS", "MINUTES"):
        info = SymbolInfo(symbol, symbol, "Mine", "share", 0.01, Calendar())
        if symbol == "DAYS":
            made.write(daily_bars(np.arange(1.0, 31), symbol), info)
        else:
            x = np.arange(400, dtype=float) + 1
            times = np.arange(400, dtype=np.int64) * 60 + 86_400 * 20_000
            made.write(Bars(symbol, ONE_MINUTE, Calendar(), times, dict.fromkeys(COLUMNS, x)), info)
    return made


NAMES = ["BRINE", "DAYS", "MINUTES", "GULLW"]


def test_a_symbol_without_bars_of_a_timeframe_says_so_in_its_own_cell(library: BarLibrary) -> None:
    asks = [ColumnRequest(PROGRAM, "up", f) for f in (ONE_DAY, HOUR)]
    days, hours = fill(asks, library, NAMES)
    assert days.error is None and hours.error is None
    assert {s: bool(c.reason) for s, c in days.cells.items()} == dict.fromkeys(NAMES, False) | {"MINUTES": True}
    assert {s: bool(c.reason) for s, c in hours.cells.items()} == dict.fromkeys(NAMES, False) | {"DAYS": True}
    lacking = hours.cells["DAYS"]
    assert lacking.text == "no bars" and lacking.reason == "There are no 1m bars of DAYS in the library."
    assert lacking.holds is None and lacking.order != lacking.order


def test_scans_and_quotes_leave_out_who_has_no_bars(library: BarLibrary) -> None:
    assert set(quotes(library, NAMES)) == {"BRINE", "DAYS", "GULLW"}
    for frame, out in ((ONE_DAY, "MINUTES"), (HOUR, "DAYS")):
        found = run_scan(Rule(PROGRAM, "up", frame), library, NAMES, frame)
        assert {f.symbol for f in found.found} == set(NAMES) - {out}
        assert [s.symbol for s in found.skipped] == [out]
        past, skipped = occurrences(Rule(PROGRAM, "up", frame), library, NAMES, frame)
        assert {s.symbol for s in skipped} == {out} and out not in {o.symbol for o in past}
    assert explain(ColumnRequest(PROGRAM, "up", ONE_DAY), library, "DAYS").lines


def test_a_symbol_on_which_the_work_fails_is_left_out_with_a_sentence(
    library: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    real = ConditionBars.panel

    def fails(self: ConditionBars, frame: BarSelection):  # type: ignore[no-untyped-def]
        if "GULLW" in real(self, frame).symbols:
            raise ZeroDivisionError("boom")
        return real(self, frame)

    monkeypatch.setattr(ConditionBars, "panel", fails)
    found = run_scan(Rule(PROGRAM, "up"), library, ["BRINE", "GULLW", "CROSS"])
    assert {f.symbol for f in found.found} == {"BRINE", "CROSS"} and found.looked_at == 2
    assert [s.symbol for s in found.skipped] == ["GULLW"] and "unexpected error" in found.skipped[0].reason
    with pytest.raises(ZeroDivisionError):
        run_scan(Rule(PROGRAM, "up"), library, ["GULLW"])


def test_a_column_that_fails_on_one_symbol_keeps_its_other_cells(
    library: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    from oakladder.engine.columns import cells as module

    real = module.column_cell

    def fails(result, column, bar):  # type: ignore[no-untyped-def]
        if "GULLW" in result.panel.symbols:
            raise ZeroDivisionError("boom")
        return real(result, column, bar)

    monkeypatch.setattr(module, "column_cell", fails)
    bad, good = fill([ColumnRequest(PROGRAM, None), ColumnRequest(PROGRAM, "up")], library, ["BRINE", "GULLW", "CROSS"])
    assert bad.error is None and {s: bool(c.reason) for s, c in bad.cells.items()} == {
        "BRINE": False,
        "GULLW": True,
        "CROSS": False,
    }
    assert good.error is None and not any(c.reason for c in good.cells.values())
