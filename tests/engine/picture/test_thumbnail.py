"""What a small chart shows: the last bars as they are stored, and marks where a signal comes true."""

from __future__ import annotations

import numpy as np
import pytest

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.as_of import LibraryAsOf
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.picture.thumbnail import Marking, thumbnail
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.rung.words import Tone

PROGRAM = compile_script(
    "rung 1\nsetting n = 5 range 1..50\n"
    "signal up = close > sma(close, n) bullish\nsignal down = close < sma(close, n) bearish\n"
)


@pytest.mark.parametrize("frame", [ONE_DAY, Timeframe.parse("2h"), Timeframe.parse("1w")])
def test_the_last_bars_and_where_the_signals_come_true(market: BarLibrary, frame: Timeframe) -> None:
    shown = thumbnail(market, "BRINE", frame, Marking(PROGRAM, ("up", "down"), {"n": 9.0}), bars=50)
    bars = market.bars("BRINE", frame)
    for name in ("open", "high", "low", "close"):
        assert np.array_equal(getattr(shown, name), bars[name][-50:])
    result = run(PROGRAM, market.panel(["BRINE"], frame), {"n": 9.0})
    expected = []
    for name, tone in (("up", Tone.BULLISH), ("down", Tone.BEARISH)):
        flags = result.flag(PROGRAM.signal(name).roles["value"]) == 1
        first = len(flags) - 50
        expected += [(k - first, tone) for k in range(first, len(flags)) if flags[k] and not flags[k - 1]]
    assert shown.marks == tuple(sorted(expected, key=lambda mark: mark[0])) and len(expected) > 3
    assert shown.span.startswith("50 bars, ") and shown.timeframe == str(frame) and shown.here is None


def test_a_bar_stands_with_what_followed_it(market: BarLibrary) -> None:
    bars = market.bars("FLAKE", ONE_DAY)
    shown = thumbnail(market, "FLAKE", ONE_DAY, at=int(bars.times[700]), bars=60, after=20)
    assert shown.here is not None and shown.close[shown.here] == bars["close"][700]
    assert shown.close[-1] == bars["close"][720] and len(shown.close) == 80 and not shown.marks
    late = thumbnail(market, "FLAKE", ONE_DAY, at=int(bars.times[-3]))
    assert late.here == len(late.close) - 3
    early = thumbnail(market, "FLAKE", ONE_DAY, at=int(bars.times[2]))
    assert early.here == 2 and len(early.close) == 23
    with pytest.raises((DataProblem, KeyError)):
        thumbnail(market, "NOWHERE", ONE_DAY)


def test_a_bar_that_has_not_come_yet_is_not_marked(market: BarLibrary) -> None:
    # A scan found it before a replay went back to where it is still to come.
    times = market.bars("FLAKE", ONE_DAY).times
    then = LibraryAsOf(market, int(times[700]))
    shown = thumbnail(then, "FLAKE", ONE_DAY, at=int(times[750]))
    known = then.bars("FLAKE", ONE_DAY)
    assert shown.here is None and shown.close[-1] == known["close"][-1] and len(shown.close) == 80
    gone = thumbnail(market, "FLAKE", ONE_DAY, at=int(times[700]) + 1)
    assert gone.here is None and len(gone.close) == 80
