"""Trades of many symbols are found in two runs, with the bits of one."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import Tune
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.engine.run import two_pass
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.signal_cache import SignalCache
from oakladder.rung import Program, compile_script
from oakladder.rung.problems import Cancelled
from oakladder.trial.batch.task import Task
from oakladder.trial.broker import trade_finder
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.broker.trades import Trades
from oakladder.trial.sweep.run import swept
from oakladder.trial.trial import trial_data_of
from oakladder.tuning import tuned
from trial.random_rules import market, random_case

SEEDS = st.integers(0, 100_000)


def a_market(seed: int, symbols: int, timeframe: str) -> Panel:
    """Symbols of random lengths with holes, one of them without a bar; some trade at the same times."""
    rng = np.random.default_rng(seed)
    made = []
    for k in range(symbols):
        bars = market(np.random.default_rng(seed + k // 3), int(rng.integers(60, 200)), timeframe)
        holes = {n: np.where(rng.random(len(bars)) < 0.02, np.nan, bars[n]) for n in bars.columns}
        count = 0 if k == 4 else len(bars)
        made.append(Bars(f"S{k}", bars.timeframe, bars.calendar, bars.times, holes).part(0, count))
    panel = panel_of(made)
    panel.ticks = tuple(float(t) for t in rng.choice([0.01, 0.05, 0.03], symbols))
    return panel


def in_one_run(program: Program, panel: Panel, given_settings: dict[str, object] | None = None) -> Trades:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(trade_finder, "two_pass_pays", lambda *_: False)
        return find_trades(program, panel, given_settings, context=RunContext(lanes=0))


def same(one: Trades, two: Trades) -> None:
    for name in ("rows", "touched_at", "contradicted_at"):
        np.testing.assert_array_equal(getattr(one, name), getattr(two, name), err_msg=name)


def compare(text: str, panel: Panel, lanes: int, given_settings: dict[str, object] | None = None) -> int:
    """How many trades both ways give."""
    program = compile_script("rung 1\n" + text)
    assert two_pass.two_pass_pays(program, panel, True)
    one = in_one_run(program, panel, given_settings)
    same(one, find_trades(program, panel, given_settings, context=RunContext(thorough=True, lanes=lanes)))
    for kept in (
        SignalCache(),
        SignalCache(info.name for info in program.settings[::2]),
    ):  # kept at once, or when it comes again
        for _ in range(3):
            same(
                one,
                find_trades(
                    program, panel, given_settings, context=RunContext(thorough=True, lanes=lanes, signal_cache=kept)
                ),
            )
    return len(one)


@given(SEEDS, st.sampled_from(["1d", "30m"]))
@settings(max_examples=8, deadline=None, derandomize=True)
def test_two_runs_give_the_trades_of_one(seed: int, timeframe: str) -> None:
    case = random_case(np.random.default_rng(seed), within_day=timeframe != "1d")
    compare(case.script, a_market(seed, 9, timeframe), 0)


@pytest.mark.nightly
@pytest.mark.parametrize("first", range(0, 400, 50))
def test_two_runs_give_the_trades_of_one_on_hundreds_of_scripts(first: int) -> None:
    for seed in range(first, first + 50):
        timeframe = "30m" if seed % 2 else "1d"
        case = random_case(np.random.default_rng(seed), within_day=timeframe != "1d")
        compare(case.script, a_market(seed, 9, timeframe), 4 if seed % 10 == 0 else 0)


#: What random scripts hold seldom or never.
CASES = {
    "an entry that looks at the position": "keep last = 0\nif position.side != 0\n    set last = bar\ntrade t long\n    enter when close > open and bar > last + 3\n    stop 2%\n    at most 6 bars",
    "values that change with the position": "keep deepest = none\nif position.side > 0\n    set deepest = min(deepest else low, low)\nelse\n    set deepest = none\ntrade t long\n    enter when close > sma(close, 3)\n    leave when close > deepest * 1.05\n    at most 9 bars",
    "an average of what the position brings": "let gains = ema(position.gain else 0, 4)\ntrade t short\n    enter when close < open and gains < 0.02\n    at most 4 bars",
    "a window over the position": "let held = sum(if position.side > 0 then 1 else 0, 5)\ntrade t long\n    enter when close > open and held < 3\n    at most 4 bars",
    "longer bars": "let up = close on 1w > sma(close, 2) on 1w\ntrade t long\n    enter when up\n    leave when not up\n    trail 2 * atr(3)",
    "functions with states of their own": "define worst(n)\n    keep low_ = none\n    if low < low_ or not known(low_)\n        set low_ = low\n    give low_ + n * atr(4)\ntrade t long\n    enter when close > open\n    stop at worst(-1)\n    target at worst(6)",
    "loops and conditions": "define rises(n)\n    fresh c = 0\n    for k in 0..n\n        if close[k] > open[k]\n            set c = c + 1\n    give c\nlet count = rises(4)\ntrade t long\n    enter when count > 3\n    leave when count < 2",
    "always": "trade t long\n    enter when yes\n    at most 3 bars\n    pause 2 bars",
    "two that contradict": "trade a long\n    enter when close > open\n    at most 3 bars\n    pause 3 bars\ntrade b short\n    enter when close > open or close < low[1]\n    stop 3%",
    "a rank and settings": "setting n = 4 range 1..20\ntrade t long\n    enter at lowest(low, n) - 0.02 when close > open for 3 bars\n    stop 2 * atr(n)\n    target 2 risks\n    rank volume / sma(volume, n)",
    "the stop as it moves": "trade t long\n    enter when close > open\n    trail 1.5 * atr(3)\n    leave when close < position.stop + 0.2",
}


@pytest.mark.parametrize("name", CASES)
def test_what_random_scripts_seldom_hold_gives_the_same_trades(name: str) -> None:
    assert sum(compare(CASES[name], a_market(seed, 11, "1d"), 0) for seed in (1, 2, 3)) > 20


@pytest.mark.parametrize("lanes", [2, 8])
@pytest.mark.parametrize("name", ["longer bars", "loops and conditions", "a rank and settings"])
def test_the_first_run_stands_side_by_side(name: str, lanes: int) -> None:
    assert compare(CASES[name], a_market(5, 19, "1d"), lanes) > 5


def test_many_parts_on_several_threads_can_be_stopped_and_tell_how_far_they_are(
    tune: Tune,
) -> None:
    tune(two_pass_bars=900)
    program, panel = compile_script("rung 1\n" + CASES["two that contradict"]), a_market(3, 50, "1d")
    told: list[float] = []
    with ThreadPoolExecutor(3) as pool:
        found = find_trades(program, panel, context=RunContext(pool, progress=told.append, thorough=True, lanes=0))
        same(in_one_run(program, panel), found)
        assert len(told) > 3 and told == sorted(told) and told[-1] == 1
        asked: list[int] = []

        def cancelled() -> bool:
            asked.append(1)
            return len(asked) > 4

        with pytest.raises(Cancelled):
            find_trades(program, panel, context=RunContext(pool, cancelled=cancelled, thorough=True, lanes=0))


def test_days_without_an_order_or_a_position_are_passed_over_only_where_nothing_is_missed() -> None:
    """A bar is idle where no position could change anything; a script that counts such bars has none."""
    split = {name: compile_script("rung 1\n" + text).split for name, text in CASES.items()}
    assert all(split.values())
    assert split["longer bars"].idle is not None and split["a rank and settings"].idle is not None  # type: ignore[union-attr]
    for name in ("an entry that looks at the position", "values that change with the position", "always"):
        assert split[name].idle is None  # type: ignore[union-attr]
    at_clock = "trade t long\n    enter when close > open\n    flat by 12:00"
    assert compile_script("rung 1\n" + at_clock).split.idle is None  # type: ignore[union-attr]


#: A length that the signals rest on, and two that only what is done with a position rests on.
LENGTHS = """
setting n = 5 range 2..30
setting far = 2 range 1..9
setting bars = 9 range 1..40
trade ride long
    enter when close > sma(close, n)
    leave when close < ema(close, n)
    stop far * atr(9)
    at most bars bars
"""


@given(
    st.lists(
        st.fixed_dictionaries(
            {"n": st.sampled_from([3, 7]), "far": st.sampled_from([1, 3]), "bars": st.integers(1, 4)}
        ),
        min_size=2,
        max_size=9,
    ),
    st.booleans(),
    st.sampled_from([(), ("n",), ("far",), ("bars", "far"), ("n", "far", "bars"), ("unknown",)]),
)
@settings(max_examples=20, deadline=None)
def test_what_variants_share_changes_no_trade(
    variants: list[dict[str, object]], in_parts: bool, varying: tuple[str, ...]
) -> None:
    program, kept = compile_script("rung 1\n" + LENGTHS), SignalCache(varying)
    panels = [a_market(3, 20, "1d"), a_market(9, 20, "1d")]
    with tuned(two_pass_bars=900 if in_parts else 600_000):
        for k, variant in enumerate(variants):
            panel = panels[k // 4 % 2]  # now and then over other bars
            same(
                in_one_run(program, panel, variant),
                find_trades(program, panel, variant, context=RunContext(thorough=True, lanes=0, signal_cache=kept)),
            )


LEVEL = "let level = {}\ntrade t long\n    enter when close > level\n    leave when close < level\n    at most 7 bars"
#: Settings that sizes, fixed values or what comes in with every bar rest on.
RESTING = {
    "a length": ("setting n = 3 range 1..40", "sma(close, n)", [2, 30, 5, 30]),
    "a number": ("setting n = 3 range 1..40", "close[1] + n * 0.1", [2, 5, 1, 5]),
    "a timeframe": ("setting n = 1w", "close[1] on n", ["1w", "1mo", "1d", "1mo", "1w"]),
    "a symbol": ('setting n = "S0" choose "S0", "S1"', "if symbol == n then open else high[2]", ["S0", "S1", "S0"]),
    "a price": ("setting n = close choose close, hl2, ohlc4", "n[1]", ["hl2", "close", "ohlc4", "hl2"]),
}


@pytest.mark.parametrize("symbols", [1, 9])
@pytest.mark.parametrize("what", RESTING)
def test_one_run_after_the_other_in_the_same_room_changes_no_trade(what: str, symbols: int) -> None:
    setting, level, values = RESTING[what]
    program = compile_script("\n".join(("rung 1", setting, LEVEL.format(level))))
    panels, kept, seen = [a_market(seed, symbols, "1d") for seed in (3, 8)], SignalCache(["n"]), set()
    for panel in (panels[0], panels[1], panels[0]):
        for value in values:
            found = find_trades(
                program, panel, {"n": value}, context=RunContext(thorough=True, lanes=0, signal_cache=kept)
            )
            same(in_one_run(program, panel, {"n": value}), found)
            seen.add(found.rows.tobytes())
    assert len(seen) > 2


def test_signals_are_worked_out_once_for_variants_of_what_is_done_with_a_position(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    runs: list[int] = []
    carry_out = two_pass.execute
    monkeypatch.setattr(two_pass, "execute", lambda *a, **k: (runs.append(1), carry_out(*a, **k))[1])
    program, panel = compile_script("rung 1\n" + LENGTHS), a_market(3, 20, "1d")
    task = Task(program, trial_data_of(panel))
    metrics = [row.metrics for row in swept(task, [{"bars": float(k)} for k in range(1, 30)])]
    assert len(runs) == 1
    assert len({f["net"] for f in metrics}) > 5
    list(swept(task, [{"n": float(k)} for k in range(12, 22)]))
    assert len(runs) == 1 + 1 + 10  # the average range is the same for all
    list(swept(task, [{"n": n, "bars": float(k)} for n in (3.0, 4.0) for k in range(1, 9)]))
    assert len(runs) == 12 + 1 + 2 * 2  # what comes a second time is kept
    with ThreadPoolExecutor(3) as pool:
        again = [
            row.metrics for row in swept(task, [{"bars": float(k)} for k in range(1, 30)], context=RunContext(pool))
        ]
    assert again == metrics


@pytest.mark.parametrize(
    "text",
    [
        "setting x = 3 range 1..9\nlet go = close > close[x]",
        "setting x = 3 range 1..9\nlet go = close > highest(high, x + 2)[1]",
        "setting x = 3 range 1..9\nlet go = close[1] + x > close",
        "setting x = yes\nlet go = if x then close > open else close < open",
        'setting x = "a" choose "a", "b"\nlet go = close > open and x == "a"',
        "setting x = 1w\nlet go = close > close on x",
        "setting x = 09:30\nlet go = clock >= x and close > open",
        "setting x = close choose close, hl2, ohlc4\nlet go = x > sma(x, 4)",
        "setting x = 3 range 1..9\nfresh sum = 0\nfor k in 0..x\n    set sum = sum + close[k]\nlet go = sum > 4 * close",
        "setting x = 3 range 1..9\nkeep held = 0\nif close > open\n    set held = x\nlet go = held > bar mod 5",
        "setting x = 3 range 1..9\ndefine f(n)\n    let a = ema(close, n)\n    give a, a[x]\nlet a, b = f(4)\nlet go = a > b",
    ],
)
def test_a_value_rests_on_every_setting_that_it_is_made_of(text: str) -> None:
    """Whatever way a setting takes into a value; one that only what is done with a position rests on is none of them."""
    rule = (
        text
        + "\nsetting far = 2 range 1..9\ntrade t long\n    enter when go\n    stop far * atr(5)\n    at most 3 bars"
    )
    program = compile_script("rung 1\n" + rule)
    assert program.split is not None
    under = [program.settings_under(op) for op in program.split.values]
    assert frozenset().union(*under) == {"x"} and any("x" not in names for names in under)
