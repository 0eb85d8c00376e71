"""Symbols side by side give the bits that they give one by one, on random programs over random panels."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from helpers import Tune, daily_bars, random_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.tail_view import tail_view
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.rung.native.simd.eligibility import why_not
from oakladder.rung.problems import Cancelled
from rung_programs import EXPRESSIONS, PROLOGUE
from trial.random_rules import random_case

WIDTHS = (2, 4, 8)


def a_panel(seed: int, symbols: int, most: int, *, together: bool) -> Panel:
    """Symbols of random lengths, some without a bar; with ``together`` they begin on the same day."""
    rng = np.random.default_rng(seed)
    made = []
    for k in range(symbols):
        count = int(rng.choice([0, 1, most // 2, most, int(rng.integers(2, most))]))
        bars = random_bars(seed * 31 + k, count + 40)
        from_ = 0 if together else int(rng.integers(0, 40))
        made.append(named(bars, f"S{k}", from_, from_ + count))
    return panel_of(made)


def named(bars: Bars, symbol: str, first: int, last: int) -> Bars:
    part = bars.part(first, last)
    return Bars(symbol, part.timeframe, part.calendar, part.times, part.columns)


def same(script: str, panel: Panel, lanes: int, given_settings: dict[str, object]) -> bool:
    """Compares a program on lanes with the same one by one; False where it cannot run on lanes."""
    program = compile_script("rung 1\n" + script)
    plain = {name: op for name, op in program.plan.values.items() if not op.is_shell}
    alone = run(program, panel, given_settings, outputs=[], extra=list(plain.values()), context=RunContext(lanes=0))
    beside = run(
        program, panel, given_settings, outputs=[], extra=list(plain.values()), context=RunContext(lanes=lanes)
    )
    for name, op in plain.items():
        a, b = (r.flag(op) if op.is_flag else r.number(op) for r in (alone, beside))
        if a.tobytes() != b.tobytes():  # any none is as good as another
            np.testing.assert_array_equal(a, b, err_msg=f"{name} on {lanes} lanes in\n{script}")
            assert np.array_equal(np.signbit(a[a == a]), np.signbit(b[b == b])), f"{name}: the sign of a zero"
    return not why_not(program.variant(list(plain.values())).live)


def differ(expressions: list[str], seed: int, lanes: int, most: int) -> bool:
    script = PROLOGUE + "".join(f"let x{k} = {e}\n" for k, e in enumerate(expressions))
    panel = a_panel(seed, lanes * 2 + seed % 3, most, together=seed % 2 == 0)
    return same(script, panel, lanes, {"n": seed % 9 + 1, "m": seed % 5 - 2})


@settings(max_examples=24, deadline=None, suppress_health_check=list(HealthCheck), derandomize=True)
@given(st.lists(EXPRESSIONS, min_size=1, max_size=3), st.integers(0, 50), st.sampled_from(WIDTHS))
def test_lanes_give_the_same_bits(expressions: list[str], seed: int, lanes: int) -> None:
    differ(expressions, seed, lanes, 90)


@pytest.mark.nightly
@settings(max_examples=1000, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.lists(EXPRESSIONS, min_size=1, max_size=5), st.integers(0, 5000), st.sampled_from(WIDTHS))
def test_lanes_give_the_same_bits_on_many_programs(expressions: list[str], seed: int, lanes: int) -> None:
    differ(expressions, seed, lanes, 300)


#: What random expressions hold seldom or never, with what it is there for.
CASES = {
    "lags of each round": "define past(x)\n    fresh s = 0\n    for k in 1..n\n        set s = s + x[k]\n    give s\nlet x = past(close)",
    "stops in nested loops": """define found(a, b)
    fresh at = none
    for k in 0..4
        for j in 0..3
            if a[j] > b[k]
                stop
            set at = k * 10 + j
        if at > 12
            stop
    give at
let x = found(close, open)""",
    "what each symbol keeps for itself": """keep best = none
keep since = 0
if close > best or not known(best)
    set best = close
    set since = 0
else
    set since = since + 1
    if since > 5
        set best = best - 0.1
let x = best
let y = since""",
    "longer bars in progress": "let x = high on 1w forming\nlet y = sma(close, 3) on 1mo forming\nlet z = (close on 1w) - (close on 1mo)[1]",
    "longer windows of longer bars": "let x = ema(sum(close, 2) on 1w, 3)\nlet y = rsi(hl2, 4) on 1mo",
    "functions of one number at a time": "let x = log(close) ^ 1.1 + exp(close / 100) + (close mod 7) + (open mod -3)",
    "values of a symbol": 'let x = close / tick_size + (if symbol == "S1" then 1 else 2)',
}


@pytest.mark.parametrize("lanes", WIDTHS)
@pytest.mark.parametrize("name", CASES)
@pytest.mark.parametrize("together", [True, False], ids=["together", "apart"])
def test_every_construct_gives_the_same_bits(name: str, lanes: int, together: bool) -> None:
    panel = a_panel(5, lanes * 3 + 1, 400, together=together)
    assert same("setting n = 3 range 1..9\n" + CASES[name], panel, lanes, {})


@pytest.mark.parametrize(
    "lanes", [pytest.param(2, marks=pytest.mark.nightly), pytest.param(4, marks=pytest.mark.nightly), 8]
)
@pytest.mark.parametrize("together", [True, False], ids=["together", "apart"])
def test_the_position_of_a_trade_is_the_same(lanes: int, together: bool) -> None:
    """It is worked out with tables, and with loops whose rounds differ from symbol to symbol."""
    panel = a_panel(7, lanes * 2, 300, together=together)
    panel.ticks = (0.01,) * len(panel)
    for seed in range(6):
        case = random_case(np.random.default_rng(seed), within_day=False)
        program = compile_script("rung 1\n" + case.script)
        assert program.plan.trading is not None
        ops = [op for op in program.plan.trading.position.values() if not op.is_shell]
        assert not why_not(program.variant(ops).live)
        alone, beside = (run(program, panel, outputs=[], extra=ops, context=RunContext(lanes=n)) for n in (0, lanes))
        for op in ops:
            np.testing.assert_array_equal(alone.number(op), beside.number(op), err_msg=case.script)


@dataclass(frozen=True)
class Longer:
    """Longer bars from before a panel's first, another number of them for each symbol."""

    counts: tuple[int, ...]

    def other(self, symbol: str, timeframe: Timeframe) -> Panel:
        raise KeyError(symbol)

    def earlier(self, panel: Panel, timeframe: Timeframe) -> Panel:
        made = []
        for k, symbol in enumerate(panel.symbols):
            bars = resample(random_bars(k, self.counts[k % len(self.counts)] * 8), timeframe)
            first = int(panel.times[panel.starts[k]]) if panel.ends[k] > panel.starts[k] else 1 << 40
            kept = bars.calendar.closes(bars.times, timeframe) <= first
            made.append(named(bars.part(0, int(kept.sum())), symbol, 0, int(kept.sum())))
        return panel_of(made)


@pytest.mark.parametrize("lanes", WIDTHS)
@pytest.mark.parametrize("counts", [(30,), (30, 12, 25)], ids=["as many each", "as many as there are"])
def test_longer_bars_from_before_the_first_count(lanes: int, counts: tuple[int, ...]) -> None:
    bars = [named(random_bars(k, 400), f"S{k}", 250, 400) for k in range(lanes * 2)]
    panel = panel_of(bars)
    panel.background = Longer(counts)
    script = "let x = sma(close, 9) on 1w\nlet y = ema(high, 4) on 1mo forming\nlet z = rsi(close on 1w, 3)"
    assert same(script, panel, lanes, {})
    x = run_of(script, panel, lanes)
    assert np.isfinite(x[panel.starts]).all()  # nine weeks were there already


def run_of(script: str, panel: Panel, lanes: int) -> np.ndarray:
    program = compile_script("rung 1\n" + script)
    op = program.plan.values["x"]
    return run(program, panel, outputs=[], extra=[op], context=RunContext(lanes=lanes)).number(op)


@pytest.mark.parametrize("lanes", WIDTHS)
def test_bars_that_were_left_out_keep_windows_in_phase(lanes: int) -> None:
    whole = a_panel(3, lanes * 3, 300, together=True)
    panel = tail_view(whole, np.minimum(np.arange(lanes * 3) % 2 * 7, whole.timeline.sizes))
    assert panel.skipped is not None
    assert same("let x = sum(close, 5) + highest(high, 9)\nlet y = bar + close[3]", panel, lanes, {})


def test_a_group_is_run_in_pieces_with_the_same_bits_and_can_be_stopped(tune: Tune) -> None:
    script = "let x = rsi(close, 9) + (sma(close, 3) on 1w) + close[17]\nlet y = high on 1mo forming\nlet f = close > x"
    panel = a_panel(11, 9, 900, together=False)
    tune(chunk_operations=1)
    assert same(script, panel, 4, {})
    program = compile_script("rung 1\n" + script)
    op = program.plan.values["x"]
    shares: list[float] = []
    asked = [0]

    def cancelled() -> bool:
        asked[0] += 1
        return asked[0] > 4

    run(program, panel, outputs=[], extra=[op], context=RunContext(progress=shares.append, lanes=4))
    assert len(shares) > 12 and shares == sorted(shares) and shares[-1] == 1.0
    with pytest.raises(Cancelled):
        run(program, panel, outputs=[], extra=[op], context=RunContext(cancelled=cancelled, lanes=4))
    assert asked[0] == 5


@pytest.mark.parametrize(
    ("script", "word"),
    [
        ("let x = median(close, 5)", "in order"),
        ("let x = 0\ntrade go long\n    enter when close > open\n    leave when close < open", "log"),
    ],
)
def test_what_cannot_stand_side_by_side_is_run_one_by_one(script: str, word: str) -> None:
    program = compile_script("rung 1\n" + script)
    trading = program.plan.trading
    ops = trading.roots if trading is not None else [program.plan.values["x"]]
    assert word in why_not(program.variant(ops).live)
    panel = a_panel(2, 12, 90, together=True)
    alone, beside = (run(program, panel, outputs=[], extra=ops, context=RunContext(lanes=n)) for n in (0, 4))
    assert all(
        np.array_equal(alone.arrays[op], beside.arrays[op], equal_nan=True)
        for op in ops
        if op in alone.arrays and op.code != "log rows"
    )


@pytest.mark.parametrize("lanes", WIDTHS)
def test_dividing_by_what_is_known_gives_the_bits_of_a_division(lanes: int) -> None:
    """Over numbers of every last place, many sizes, zeros of both signs and none."""
    rng = np.random.default_rng(lanes)
    count = 4000
    bars = []
    for k in range(lanes):
        close = rng.uniform(1, 2, count) * 2.0 ** rng.integers(-30, 30, count)
        close[rng.random(count) < (0.02 if k % 2 else 0)] = np.nan
        bars.append(daily_bars(close, f"S{k}"))
    for divisor in [3.0, 7.0, 9.0, 200.0, -0.1, 1e-80, 1e80, *rng.uniform(0.001, 1000, 12).tolist()]:
        script = (
            "let x = close / d\nlet y = (close - close[1]) / d\nlet z = -0 * close / d\nlet tiny = close * q * q / d"
        )
        script = script.replace("/ d", f"/ ({np.format_float_positional(divisor, trim='-')})").replace(
            "q", "0." + "0" * 60 + "1"
        )
        for panel in (panel_of(bars), panel_of([b.part(0, 50) for b in bars])):
            assert same(script, panel, lanes, {})


@pytest.mark.parametrize("counts", [[0, 0, 0, 0, 0], [5], [0, 7], [1, 1, 1], [40, 0, 3, 2, 1, 1], [200] * 9])
def test_few_symbols_and_short_ones(counts: list[int]) -> None:
    panel = panel_of([named(random_bars(k, 210), f"S{k}", 0, n) for k, n in enumerate(counts)])
    assert same("let x = ema(close, 3) + (high on 1w)\nlet y = close > x", panel, 4, {})


@pytest.mark.parametrize("lanes", [0, 4])
def test_several_threads_give_the_same_bits_and_tell_how_far_they_are(lanes: int, tune: Tune) -> None:
    tune(chunk_bars=1500)
    program = compile_script("rung 1\nlet x = rsi(close, 9) + (sma(close, 3) on 1w)")
    op, panel = program.plan.values["x"], a_panel(9, 60, 400, together=False)
    shares: list[float] = []
    with ThreadPoolExecutor(3) as pool:
        made = run(
            program, panel, outputs=[], extra=[op], context=RunContext(pool, progress=shares.append, lanes=lanes)
        )
    alone = run(program, panel, outputs=[], extra=[op], context=RunContext(lanes=0))
    np.testing.assert_array_equal(made.number(op), alone.number(op))
    assert len(shares) > 4 and shares == sorted(shares) and shares[-1] == 1.0
