"""Zones: every bar opens one, each ends by its own edges, and the oldest gives way; against plain loops."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import Tune, daily_bars, random_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.engine.picture import zones as module
from oakladder.engine.picture.as_data import day_paint
from oakladder.engine.picture.draw import draw
from oakladder.engine.picture.parts import Zone
from oakladder.engine.run.execute import run
from oakladder.rung import RunProblem, analyse, compile_script
from oakladder.rung.plan.semantics import MEANING
from oakladder.rung.plan.vectors import VECTOR

GAPS = """rung 1
let on, lower, upper = gap_up()
zone lower to upper when on until low <= top named "up"
let fell, under, over = gap_down()
zone under to over when fell until high >= bottom named "down"
"""


def drawn(text: str, bars: Bars, **settings_: object) -> tuple[Zone, ...]:
    return draw(
        run(compile_script("rung 1\n" + text.removeprefix("rung 1\n")), panel_of([bars]), settings_), day_paint
    ).zones


def wild(seed: int, count: int) -> Bars:
    """A walk of wide steps, with gaps on most bars and some missing values."""
    rng = np.random.default_rng(seed)
    close = 100 + np.cumsum(rng.normal(0, 2, count))
    high, low = close + rng.uniform(0, 1, count), close - rng.uniform(0, 1, count)
    for values in (high, low):
        values[rng.random(count) < 0.02] = np.nan
    return daily_bars(close, high=high, low=low)


@pytest.mark.parametrize("seed", range(6))
def test_gaps_of_three_bars_are_zones_until_they_are_touched(seed: int) -> None:
    bars = wild(seed, 700)
    high, low = bars["high"], bars["low"]
    expected = []
    for t in range(2, len(bars)):
        if low[t] > high[t - 2]:
            end = next((j for j in range(t + 1, len(bars)) if low[j] <= low[t]), len(bars) - 1)
            expected.append(("up", t, end, high[t - 2], low[t]))
        if high[t] < low[t - 2]:
            end = next((j for j in range(t + 1, len(bars)) if high[j] >= high[t]), len(bars) - 1)
            expected.append(("down", t, end, high[t], low[t - 2]))
    made = [(z.name, z.start, z.end, z.low, z.high) for z in drawn(GAPS, bars)]
    assert sorted(made) == sorted(expected) and len(made) > 100


@pytest.mark.parametrize("together", [200, 1_000_000])
def test_a_zone_knows_its_edges_and_its_age(together: int, tune: Tune) -> None:
    tune(zone_bars=together)
    bars = random_bars(3, 400)
    close, high, low = bars["close"], bars["high"], bars["low"]
    text = """setting share = 0.5
zone low to high when close > open until (close < bottom - share * (top - bottom) and age > 3) or age >= 90
"""
    expected = []
    for t in range(len(bars)):
        if not close[t] > bars["open"][t] or np.isnan(high[t] + low[t]):
            continue
        end = len(bars) - 1
        for j in range(t + 1, len(bars)):
            if (close[j] < low[t] - 0.5 * (high[t] - low[t]) and j - t > 3) or j - t >= 90:
                end = j
                break
        expected.append((t, end, low[t], high[t]))
    assert [(z.start, z.end, z.low, z.high) for z in drawn(text, bars)] == expected
    assert any(a[0] + 1 == b[0] for a, b in pairwise(expected))  # consecutive bars each open one


@pytest.mark.parametrize("most", [1, 3, 7, 40])
def test_the_oldest_gives_way(most: int) -> None:
    bars = random_bars(5, 700, holes=False)
    close = bars["close"]
    text = f"setting n = {most} range 1..50\nzone low to high when close > close[1] until close < bottom - 1 most n\n"
    open_: list[list[int]] = []
    every: list[list[int]] = []
    for t in range(len(bars)):
        for zone in [z for z in open_ if t > z[0] and close[t] < bars["low"][z[0]] - 1]:
            zone[1] = t
            open_.remove(zone)
        if t and close[t] > close[t - 1]:
            while len(open_) >= most:
                open_.pop(0)[1] = t
            open_.append([t, len(bars) - 1])
            every.append(open_[-1])
    assert [[z.start, z.end] for z in drawn(text, bars)] == every


def test_too_many_open_zones_are_refused_with_what_to_do(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "_MOST_BARS", 10_000)
    with pytest.raises(RunProblem, match="most 100") as error:
        drawn("let a = close\nzone low to high until close < bottom - 1000\nline a", random_bars(1, 400))
    assert "Line 3" in str(error.value)


def test_what_the_refusal_says_to_do_helps(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "_MOST_BARS", 2_000_000)
    bars = random_bars(1, 3_000, holes=False)
    text = "zone low to high until close < bottom - 1000000"
    with pytest.raises(RunProblem, match="most 100"):
        drawn(text, bars)
    last = len(bars) - 1
    assert [z.end for z in drawn(f"{text} most 100", bars)] == [min(k + 100, last) for k in range(len(bars))]


@pytest.mark.parametrize(
    ("until", "code"),
    [
        ("close < bottom[1]", "R304"),
        ("crosses_down(close, bottom)", "R304"),
        ("close < sma(top, 3)", "R304"),
        ("(close < bottom) on 1w", "R304"),
        ("volume > top", "R401"),
        ("close", "R301"),
    ],
)
def test_what_a_zone_cannot_say_of_itself_is_told(until: str, code: str) -> None:
    assert [p.code for p in analyse(f"rung 1\nzone low to high until {until}").problems] == [code]


def test_a_zones_own_values_are_known_in_until_alone() -> None:
    assert [p.code for p in analyse("rung 1\nzone low to top until close < bottom").problems] == ["R201"]
    assert analyse("rung 1\nzone low to high until close < min(bottom, close[1]) or age > 5 most 3").problems == ()
    assert [p.code for p in analyse("rung 1\nzone low to high most bar").problems] == ["R302"]
    assert [p.code for p in analyse("rung 1\nzone low to high most 0").problems] == ["R305"]


NUMBERS = st.sampled_from([math.nan, 0.0, -0.0, 1.0, -1.5, 2.0, 1e120, -1e120, 1e-120, 7.25]) | st.floats(-1e6, 1e6)
FLAGS = st.sampled_from([True, False, None])
#: A price, how many of its steps make 1 (none where that is no whole number), and the size of one.
IN_STEPS = (NUMBERS, st.sampled_from([math.nan, 1.0, 100.0, 4.0]), st.sampled_from([0.01, 0.03, 0.25, 5.0]))
#: What each operation takes; the others take numbers.
TAKES = {
    "and": (FLAGS, FLAGS),
    "or": (FLAGS, FLAGS),
    "not": (FLAGS,),
    "to_number": (FLAGS,),
    "choose": (FLAGS, NUMBERS, NUMBERS),
    "tick_down": IN_STEPS,
    "tick_up": IN_STEPS,
}
SINGLE = {"neg", "abs", "floor", "ceil", "sqrt", "log", "exp", "guard", "divisor", "known", "to_flag"}


@settings(max_examples=60, deadline=None)
@given(st.sampled_from(sorted(MEANING)), st.data())
def test_operations_mean_the_same_over_arrays(code: str, data: st.DataObject) -> None:
    takes = TAKES.get(code) or ((NUMBERS,) if code in SINGLE else (NUMBERS, NUMBERS))
    rows = data.draw(st.lists(st.tuples(*takes), min_size=1, max_size=30))

    def column(values: tuple[object, ...]) -> np.ndarray:
        if isinstance(values[0], float):
            return np.array(values)
        return np.array([-1 if v is None else int(bool(v)) for v in values], dtype=np.int8)

    columns = [column(values) for values in zip(*rows, strict=True)]
    with np.errstate(all="ignore"):
        made = VECTOR[code](*columns)
    for row, got in zip(rows, np.broadcast_to(made, len(rows)).tolist(), strict=True):
        try:
            wanted = MEANING[code](*row)
        except OverflowError:
            continue
        if wanted is None or isinstance(wanted, bool):
            assert got == (-1 if wanted is None else int(wanted)), (code, row)
        elif code in ("pow", "exp", "log"):
            assert got == pytest.approx(wanted, rel=1e-12, nan_ok=True), (code, row)
        else:
            assert got == wanted or (math.isnan(got) and math.isnan(wanted)), (code, row)


def test_every_plain_operation_has_a_meaning_over_arrays() -> None:
    assert set(VECTOR) == set(MEANING)
