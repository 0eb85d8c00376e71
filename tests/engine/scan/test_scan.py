"""Scans, columns and pips equal running the script symbol by symbol."""

from __future__ import annotations

from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from importlib.resources import files
from pathlib import Path

import numpy as np
import pytest

from helpers import Tune, daily_bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.columns.fill import cells
from oakladder.engine.picture.draw import draw
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import Cancelled, run
from oakladder.engine.scan.conditions import Rule, TriggerMode
from oakladder.engine.scan.run import ScanResult, run_scan
from oakladder.engine.signal_ages import recent_signals
from oakladder.rung import Program, compile_script

DEMO = {
    f.name: f.read_text(encoding="utf-8")
    for f in files("oakladder").joinpath("demo", "scripts").iterdir()
    if f.name.endswith(".rung")
}
TIDE = DEMO["tide_turn.rung"]


def scan(
    program: Program, signal: str, market: BarLibrary, symbols: Iterable[str], within: int, **how: object
) -> ScanResult:
    """A scan of one signal on days, unless ``timeframe`` says otherwise."""
    frame = how.pop("timeframe", ONE_DAY)
    rule = Rule(program, signal, frame, fresh=TriggerMode.WITHIN, bars=within)  # type: ignore[arg-type]
    return run_scan(rule, market, symbols, frame, **how)  # type: ignore[arg-type]


def alone(program: Program, market: BarLibrary, symbol: str, timeframe: Timeframe, signal: str) -> int | None:
    """How many bars ago a signal last fired, the slow way."""
    result = run(program, market.panel([symbol], timeframe))
    fired = np.flatnonzero(result.flag(result.output("signal", signal).roles["value"]) == 1)
    return len(result.panel.times) - 1 - int(fired[-1]) if len(fired) else None


@pytest.mark.parametrize("timeframe", ["1d", "1w", "2h"])
def test_a_scan_finds_what_each_symbol_alone_shows(market: BarLibrary, timeframe: str) -> None:
    program, frame = compile_script(TIDE), Timeframe.parse(timeframe)
    symbols = list(market.infos)[:12]
    found = scan(program, "flow", market, symbols, 20, timeframe=frame)
    expected = {s: a for s in symbols if (a := alone(program, market, s, frame, "flow")) is not None and a < 20}
    assert {f.symbol: f.ages[0] for f in found.found} == expected
    assert found.looked_at == len(symbols)
    for hit in found.found:
        times = market.bars(hit.symbol, frame).times
        assert hit.seen[0] == times[-1 - hit.ages[0]]
        closes = market.bars(hit.symbol, frame)["close"]
        assert hit.last == closes[-1]
        assert hit.change == pytest.approx(closes[-1] / closes[-2] - 1)


@pytest.mark.parametrize("name", sorted(DEMO))
def test_every_demo_script_has_signals_and_pictures_in_the_demo_market(market: BarLibrary, name: str) -> None:
    program = compile_script(DEMO[name])
    assert program.problems == ()
    frame = ONE_DAY if "For minutes" not in program.about else Timeframe.parse("5m")
    for signal in program.signals:
        assert scan(program, signal.name, market, market.infos, 60, timeframe=frame).found
    symbols = list(market.infos)
    assert set(cells(program, None, market, symbols, ONE_DAY)[0]) == set(symbols)
    picture = draw(run(program, market.panel(["BRINE"], frame)), lambda word: 0xFF000000)
    assert picture.lines and picture.marks and picture.events


def test_a_scan_in_threads_is_the_same(market: BarLibrary, tune: Tune) -> None:
    program = compile_script(TIDE)
    one = scan(program, "ebb", market, market.infos, 100)
    tune(part_bars=5000)
    with ThreadPoolExecutor(4) as pool:
        assert scan(program, "ebb", market, market.infos, 100, context=RunContext(pool)).found == one.found


def test_one_bad_symbol_never_spoils_a_run(market: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> None:
    real = BarLibrary.stored

    def stored(self: BarLibrary, symbol: str, timeframe: Timeframe, extended: bool = False) -> int:
        if symbol == "CROSS":
            raise DataProblem("its file cannot be read")
        return real(self, symbol, timeframe, extended)

    monkeypatch.setattr(BarLibrary, "stored", stored)
    found = scan(compile_script(TIDE), "flow", market, ["BRINE", "CROSS", "NOPE", "GULLW"], 9999)
    assert found.looked_at == 2
    assert {s.symbol: s.reason for s in found.skipped} == {
        "CROSS": "its file cannot be read",
        "NOPE": "There is no such symbol.",
    }


def test_a_scan_reports_progress_and_can_be_stopped(market: BarLibrary) -> None:
    seen: list[float] = []
    scan(compile_script(TIDE), "flow", market, market.infos, 1, context=RunContext(progress=seen.append))
    assert seen == sorted(seen) and seen[-1] == pytest.approx(1)
    with pytest.raises(Cancelled):
        scan(compile_script(TIDE), "flow", market, market.infos, 1, context=RunContext(cancelled=lambda: True))


def test_columns_and_pips_say_the_age_of_the_latest_signal(market: BarLibrary) -> None:
    program = compile_script('rung 1\nsignal up = close > close[1] bullish "up"\nsignal never = close < 0 bearish "no"')
    for symbol, cell in cells(program, None, market, ["BRINE", "CROSS"], ONE_DAY)[0].items():
        age = alone(program, market, symbol, ONE_DAY, "up")
        assert cell.text == f"up {'now' if age == 0 else '1 bar' if age == 1 else f'{age} bars'}"
        assert (pip := recent_signals(program, market, symbol, ONE_DAY)) and (
            pip[0].signal,
            pip[0].age,
            pip[0].tone,
        ) == (
            "up",
            age,
            "bullish",
        )
        assert len(pip) == 1


def test_zones_links_lanes_bands_and_columns_are_worked_out() -> None:
    program = compile_script("""rung 1
let up = close > close[1]
zone low to high lasting 2 bars when bar == 3
zone low to high until close > 8 when bar between 5 and 6
zone low to high when bar == 8
link low[2] ago 2 to high ago 1 color bad when bar == 4
lane "Up" color if up then good else bad when bar > 0
band low, high color sand
histogram close - open base 1
mark up shape star ago 2 when bar < 4
paint volume color good when up
paint background color bad when bar == 1
""")
    close = np.array([1.0, 2, 3, 2, 5, 6, 7, 8, 9, 1])
    result = run(program, panel_of([daily_bars(close, low=close - 1, high=close + 1)]))
    picture = draw(result, {"good": 1, "bad": 2, "sand": 3, "mute": 4, "calm": 5}.__getitem__)
    assert [(z.start, z.end, z.low, z.high) for z in picture.zones] == [
        (3, 5, 1, 3),
        (5, 8, 5, 7),
        (6, 8, 6, 8),
        (8, 9, 8, 10),
    ]
    (link,) = picture.links
    assert (link.start, link.end, link.known, link.pane) == ((2, 2.0), (3, 6.0), 4, "price")
    assert picture.lanes[0].name == "Up" and picture.lanes[0].colours.tolist() == [0, 1, 1, 2, 1, 1, 1, 1, 1, 2]
    assert np.array_equal(picture.bands[0].second - picture.bands[0].first, np.full(10, 2.0))
    assert (picture.histograms[0].base == 1).all() and not picture.histograms[0].values.any()
    assert picture.marks[0].bars.tolist() == [0] and picture.marks[0].known.tolist() == [2]
    assert picture.volume_colours is not None and picture.volume_colours.tolist() == [0, 1, 1, 0, 1, 1, 1, 1, 1, 0]
    assert picture.ground_colours is not None and picture.ground_colours.nonzero()[0].tolist() == [1]


def test_drawing_data_says_what_where_and_in_which_colour(market: BarLibrary) -> None:
    program = compile_script("""rung 1
signal up = close > close[1] and close[1] > close[2]
signal loud = volume > 2 * sma(volume, 20)
mark up above shape ring color bad when close > open
line close color if close > open then good else bad width 3 style dotted named "C"
line volume / 2
line rsi(close, 5)
level 50
label "{bar}" at high when up
""")
    result = run(program, market.panel(["BRINE"], ONE_DAY))
    picture = draw(result, {"good": 1, "bad": 2, "calm": 3, "ink": 4, "mute": 5}.__getitem__)
    bars = market.bars("BRINE", ONE_DAY)
    rising = bars["close"] > bars["open"]
    up = picture.events[0].bars
    assert picture.marks[0].bars.tolist() == [b for b in up if rising[b]]
    assert (picture.marks[0].side, picture.marks[0].shape) == ("above", "ring")
    assert [m.name for m in picture.marks] == ["up", "loud"]  # the signal without a mark of its own gets one
    assert [line.pane for line in picture.lines] == ["price", "volume", "percent points", "percent points"]
    assert np.array_equal(picture.lines[0].colours == 1, rising)
    assert picture.labels[0].texts == [str(b) if b < 1000 else f"{b:,}" for b in up]
    assert np.array_equal(picture.labels[0].prices, bars["high"][up])


def test_what_was_true_on_the_bar_before_is_gone_also_where_that_was_the_first(tmp_path: Path) -> None:
    """With one bar there is nothing before; with two there is."""
    program, library = compile_script("rung 1\nsignal go = close > 10\n"), BarLibrary(tmp_path)
    closes = {"ONE": [9.0], "LONE": [11.0], "TWO": [11.0, 9.0], "NOW": [9.0, 11.0], "MANY": [9.0, 11.0, 9.0]}
    for name, values in closes.items():
        info = SymbolInfo(name, name, "My data", "share", 0.01, Calendar())
        library.write(daily_bars(np.array(values), name), info)
    found = scan(program, "go", library, list(closes), 1)
    assert sorted(f.symbol for f in found.found) == ["LONE", "NOW"] and sorted(found.gone) == ["MANY", "TWO"]
