"""Why a signal is there or not: verdicts, misses, and the places where it nearly came true."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars, random_bars
from oakladder.bars.panels import panel_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.explain.why import Verdict, Why, everything
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.rung.problems import UnknownName

SCRIPT = """rung 1
setting far = 2 range 1..9
let mean = sma(close, 3)
let busy = volume > 150
define above(x, y)
    give x > y and busy
signal go = crosses_up(close, mean) and (busy or close > far) and not above(open, high)
signal chain = 2 < close <= 4
signal week = (close > open) on 1w
signal after = busy[2] and not (close > mean)[1]
"""


def why(signal: str, closes: list[float], volume: float = 100.0) -> Why:
    bars = daily_bars(closes, volume=np.full(len(closes), volume))
    return Why(compile_script(SCRIPT), panel_of([bars]), signal)


def leaves(verdict: Verdict) -> list[Verdict]:
    return [verdict] if not verdict.parts else [leaf for part in verdict.parts for leaf in leaves(part)]


def test_every_part_has_its_value_and_verdict() -> None:
    made = why("go", [5, 3, 1, 4]).at(3)
    assert made.holds is True and not any(v.decisive for v in leaves(made))
    words = {v.text: v for v in leaves(made)}
    assert words["close > mean"].values == (("close", 4.0), ("mean", pytest.approx(8 / 3)))
    assert words["close[1] <= mean[1]"].values[0] == ("close[1]", 1.0)
    assert words["busy: volume > 150"].holds is False
    assert words["open > high"].holds is False


def test_the_first_part_that_fails_is_marked_and_says_by_how_much() -> None:
    made = why("go", [5, 4, 3, 2.5]).at(3)
    (decisive,) = [v for v in leaves(made) if v.decisive]
    assert decisive.text == "close > mean"
    assert decisive.missing == pytest.approx((4 + 3 + 2.5) / 3 - 2.5)
    assert decisive.words().startswith("no, short by 0.6667 (21.1%)")


def test_what_is_not_known_yet_is_said() -> None:
    made = why("go", [5, 4]).at(1)
    assert made.holds is False or made.holds is None
    assert "not known" in [v.words() for v in leaves(made) if v.decisive]


def test_a_chain_is_taken_apart() -> None:
    made = why("chain", [5]).at(0)
    assert [(v.text, v.words()) for v in leaves(made)] == [
        ("2 < close", "yes"),
        ("close <= 4", "no, over by 1 (25.0%)"),
    ]


def test_another_timeframe_is_one_part() -> None:
    made = why("week", [1, 2, 3]).at(2)
    assert made.how == "plain" and not made.parts


def test_verdicts_are_those_of_the_run_on_every_bar() -> None:
    bars = random_bars(8, 120)
    program = compile_script(SCRIPT)
    panel = panel_of([bars])
    result = run(program, panel)
    for signal in ("go", "chain", "week", "after"):
        flags = result.flag(result.output("signal", signal).roles["value"])
        made = Why(program, panel, signal)
        distances = made.distances()
        for bar in range(len(bars)):
            verdict = made.at(bar)
            assert verdict.holds is {1: True, 0: False}.get(int(flags[bar]))
            assert (distances[bar] == 0) == (flags[bar] == 1)
            decisive = [v for v in everything(verdict) if v.decisive]
            assert len(decisive) == (flags[bar] != 1) or any(v.how == "or" for v in everything(verdict))
            assert bool(decisive) == (flags[bar] != 1)


def test_near_misses_come_nearest_and_are_no_hits() -> None:
    closes = [10.0, 9, 8, 8.4, 7, 6, 5, 5.55, 5, 4, 3, 9, 8, 7, 6, 5]
    made = why("go", closes)
    near = made.misses
    distances = made.distances()
    assert near and [n.bar for n in near] == sorted((n.bar for n in near), reverse=True)
    for n in near:
        assert distances[n.bar] == n.distance > 0 and n.kept_by
    assert 3 in [n.bar for n in near]  # 8.4 was just below its mean of 8.47
    assert not {n.bar for n in near} & set(np.flatnonzero(distances == 0).tolist())


def test_an_unknown_signal_is_refused() -> None:
    with pytest.raises(UnknownName):
        why("come", [1, 2])


def test_a_condition_of_an_earlier_bar_is_taken_apart_there() -> None:
    made = why("after", [9, 8, 7, 6, 5]).at(4)
    texts = [(v.text, v.how) for v in made.parts]
    assert texts == [("busy[2]", "lag"), ("not (close > mean)[1]", "not")]
    (decisive,) = [v for v in leaves(made) if v.decisive]
    assert decisive.text == "busy: volume > 150" and decisive.words() == "no, short by 50 (33.3%)"
    ((_, close), _) = leaves(made.parts[1])[0].values
    assert close == 6.0


def test_times_of_day_are_read_as_such(market: BarLibrary) -> None:
    program = compile_script("rung 1\nsignal go = clock >= 10:30 and close > 0")
    early = Why(program, market.panel(["BRINE"], Timeframe.parse("1h")), "go").at(0)
    assert early.parts[0].value_words() == ["09:00", "10:30"] and early.parts[0].words() == "no, short by 90 minutes"
    assert early.parts[1].value_words()[1] == "0"
