"""Variants that differ in their signals share what becomes of an entry, with the trades that each has by itself."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.signal_cache import SignalCache
from oakladder.rung import Program, compile_script
from oakladder.trial.batch.task import Task
from oakladder.trial.broker import exit_cache
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.broker.trades import Trades
from oakladder.trial.metrics.metrics import without_book
from oakladder.trial.sweep.run import swept
from oakladder.trial.trial import trial_data_of
from oakladder.tuning import tuned
from trial.random_rules import market

SETTINGS = "setting n = 3 range 1..60\nsetting m = 5 range 1..60\nsetting far = 2 range 1..9\n"
ENTERS = (
    "crosses_up(close, sma(close, n))",
    "close > close[n]",
    "crosses_down(sma(close, n), sma(close, m))",
    "close < open and volume > sma(volume, m)",
)
LEAVES = (
    "",
    "leave when crosses_down(close, sma(close, m))",
    "leave when close < close[m]",
    "leave when not (close > sma(close, n))",
    "leave when close > close[n]",
)
CLAUSES = (
    "stop 3%",
    "stop far * atr(4)",
    "stop at lowest(low, 4) - tick_size",
    "trail 1.5 * atr(3)",
    "protect after far * tick_size",
    "target 4%",
    "target at highest(high, 6) + 0.3",
    "at most far * 4 bars",
    "rank volume",
)


def a_market(seed: int, holes: bool) -> Panel:
    rng = np.random.default_rng(seed)
    made = []
    for k in range(9):
        bars = market(np.random.default_rng(seed + k // 3), int(rng.integers(40, 200)), "1d")
        columns = {n: np.where(holes & (rng.random(len(bars)) < 0.02), np.nan, bars[n]) for n in bars.columns}
        made.append(Bars(f"S{k}", bars.timeframe, bars.calendar, bars.times, columns))
    return panel_of(made)


class Used:
    """How often trades were found by what was known of their entries."""

    def __init__(self, patch: pytest.MonkeyPatch):
        self.count, chained = 0, exit_cache.sequence_trades

        def spy(*given: object) -> object:
            made = chained(*given)  # type: ignore[arg-type]
            self.count += made is not None
            return made

        patch.setattr(exit_cache, "sequence_trades", spy)


def same(one: Trades, two: Trades) -> None:
    for name in ("rows", "touched_at", "contradicted_at"):
        np.testing.assert_array_equal(getattr(one, name), getattr(two, name), err_msg=name)


def compare(program: Program, panel: Panel, variants: list[dict[str, object]]) -> int:
    """How many trades the variants have."""
    kept, count = SignalCache(["n", "m", "far"]), 0
    for variant in variants:
        alone = find_trades(program, panel, variant, context=RunContext(thorough=True, lanes=0))
        same(alone, find_trades(program, panel, variant, context=RunContext(thorough=True, lanes=0, signal_cache=kept)))
        count += len(alone)
    return count


VARIANTS = st.lists(st.fixed_dictionaries({"n": st.integers(1, 9), "m": st.integers(1, 9)}), min_size=3, max_size=9)


CASES = st.tuples(
    st.sampled_from(["long", "short"]),
    st.sampled_from(ENTERS),
    st.sampled_from(LEAVES),
    st.sets(st.sampled_from(CLAUSES), max_size=4),
    VARIANTS,
    st.integers(0, 50),
    st.booleans(),
)


def compare_case(
    side: str, enter: str, leave: str, clauses: set[str], variants: list[dict[str, object]], seed: int, holes: bool
) -> None:
    once = {clause.split()[0]: clause for clause in sorted(clauses)}.values()
    lines = [f"    {line}" for line in (f"enter when {enter}", leave, *once) if line]
    program = compile_script("\n".join(("rung 1", SETTINGS, f"trade t {side}", *lines)))
    with tuned(exits_one_in=1):
        compare(program, a_market(seed, holes), variants)


@given(CASES)
@settings(max_examples=25, deadline=None)
def test_what_is_known_of_entries_gives_the_trades_of_each_variant(case: tuple[Any, ...]) -> None:
    compare_case(*case)


@pytest.mark.nightly
@given(CASES)
@settings(max_examples=600, deadline=None)
def test_what_is_known_of_entries_gives_the_trades_of_hundreds_of_rules(case: tuple[Any, ...]) -> None:
    compare_case(*case)


RULE = "trade t long\n    enter when crosses_up(close, sma(close, n))\n    leave when crosses_down(close, sma(close, m))\n    {}"
MANY: list[dict[str, object]] = [{"n": n, "m": m} for n in range(2, 12) for m in (3, 20, 40)]


@pytest.mark.parametrize("clause", [*CLAUSES, "target far risks\n    stop 2%"])
def test_entries_are_looked_up_whatever_ends_a_trade(clause: str, monkeypatch: pytest.MonkeyPatch) -> None:
    used = Used(monkeypatch)
    program = compile_script("rung 1\n" + SETTINGS + RULE.format(clause))
    assert compare(program, a_market(7, False), MANY) > 200
    assert used.count > 20


@pytest.mark.parametrize(
    "clause",
    ["pause 3 bars", "leave when position.gain < -0.02", "stop if close > close[n] then 1 else 2"],
)
def test_where_more_than_its_signals_decides_each_variant_is_run_by_itself(
    clause: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    used = Used(monkeypatch)
    rule = "trade t long\n    enter when crosses_up(close, sma(close, n))\n    at most 5 bars\n    " + clause
    compare(compile_script("rung 1\n" + SETTINGS + rule), a_market(3, False), MANY)
    assert not used.count


@pytest.mark.parametrize(
    "stop", ["if bar mod 4 == 0 then 0.02 else none", "if close > close[3] * 1.03 then low - 0.1 else none"]
)
def test_a_risk_that_is_known_later_is_that_of_each_variant(stop: str) -> None:
    """A trade that a signal ends before the bars do may have had its first stop meanwhile."""
    program = compile_script("rung 1\n" + SETTINGS + RULE.format(f"stop at {stop}"))
    assert compare(program, a_market(7, False), MANY) > 200


def test_bars_with_holes_are_run_through() -> None:
    compare(compile_script("rung 1\n" + SETTINGS + RULE.format("stop 3%")), a_market(7, True), MANY)


def test_what_is_done_with_a_position_is_not_taken_for_another(monkeypatch: pytest.MonkeyPatch) -> None:
    """The stop changes now and then, and so do the bars."""
    used = Used(monkeypatch)
    program, kept = (
        compile_script("rung 1\n" + SETTINGS + RULE.format("stop far * atr(4)")),
        SignalCache(["n", "m", "far"]),
    )
    panels = a_market(7, False), a_market(8, False)
    for k, variant in enumerate(MANY):
        given_settings = variant | {"far": 1 + k // 6 % 3}
        panel = panels[k // 15]
        alone = find_trades(program, panel, given_settings, context=RunContext(thorough=True, lanes=0))
        same(
            alone,
            find_trades(program, panel, given_settings, context=RunContext(thorough=True, lanes=0, signal_cache=kept)),
        )
    assert used.count > 5


def test_a_sweep_asks_for_the_entries_of_its_signals_once(monkeypatch: pytest.MonkeyPatch) -> None:
    used = Used(monkeypatch)
    task = Task(
        compile_script("rung 1\n" + SETTINGS + RULE.format("trail 2 * atr(5)")), trial_data_of(a_market(5, False))
    )
    made = list(swept(task, MANY))
    assert used.count > 20
    for one in made[::7]:
        alone = next(iter(swept(replace(task, signal_cache=SignalCache()), [one.settings])))
        assert one.metrics == without_book(alone.metrics) and one.counts == alone.counts
