"""What docs/judging.md tells of three demo rules is what they do."""

from __future__ import annotations

from importlib.resources import files
from pathlib import Path

import numpy as np
import pytest

from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.trial.batch.task import Task
from oakladder.trial.broker.money import Account, Costs, Slippage
from oakladder.trial.compose import draft_of, with_trade
from oakladder.trial.judge.bootstrap import bootstrap_of
from oakladder.trial.judge.evidence.breakdowns import by_year
from oakladder.trial.judge.evidence.study import evidence_of
from oakladder.trial.judge.evidence.words import sentence
from oakladder.trial.judge.shift_test import shift_test_of
from oakladder.trial.notebook import Notebook, what_of
from oakladder.trial.seal import seal_broken
from oakladder.trial.spans import Span, seal_of
from oakladder.trial.spec import TrialSpec
from oakladder.trial.sweep.ranges import Range, grid_of_settings
from oakladder.trial.sweep.run import swept
from oakladder.trial.sweep.walk_forward import walk_forward
from oakladder.trial.trial import TrialData, run_trial
from oakladder.trial.universe import trial_data_in

PAGE = " ".join((Path(__file__).parent.parent / "docs" / "judging.md").read_text(encoding="utf-8").split())


def rule(name: str) -> Program:
    program = compile_script(files("oakladder.demo").joinpath("scripts", f"{name}.rung").read_text("utf-8"))
    return program if program.plan.trading is not None else compile_script(with_trade(program, draft_of(program)))


@pytest.fixture(scope="module")
def days(market: BarLibrary) -> TrialData:
    sealed = seal_of(market.panel(market.infos, ONE_DAY))
    return trial_data_in(market, list(market.infos), BarSelection(ONE_DAY), Span(seal=sealed))[0]


def told(text: str) -> None:
    assert text in PAGE, text


def test_the_rule_that_holds_up(market: BarLibrary, days: TrialData) -> None:
    program = rule("long_tide")
    told(sentence(evidence_of(program, days, "sails")))
    trial = run_trial(program, days)
    chance, drawn = shift_test_of(trial), bootstrap_of(trial)
    told(f"brought {chance.real:+.2%}, {chance.statistic:.1f} standard errors")
    told(f"the same {chance.trades} trades brought {np.median(chance.means):+.2%} in the median shift")
    told(f"{chance.as_good} of {len(chance.means):,} shifts did at least as well: {(chance.share or 0) * 100:.0f} %")
    low, high = drawn.range_of("average") or (0.0, 0.0)
    told(f"between {low * 100:.1f} % and {high * 100:.1f} %")
    ranges = [Range.parse("days=20..100/10"), Range.parse("room=1.5..5/0.5")]
    task = Task(program, days)
    walk = walk_forward(task, grid_of_settings(ranges), "sharpe")
    told(f"about {(walk.metrics['growth'] or 0) * 100:.0f} % a year, where hindsight shows")
    told(f"shows {int((walk.hindsight.metrics['growth'] or 0) * 100)} %")
    assert not any(t.problem for t in swept(task, grid_of_settings(ranges[:1])))
    whole, _ = trial_data_in(market, list(market.infos), BarSelection(ONE_DAY))
    broken = seal_broken(
        program, whole, seal_of(whole.panel), Account(), {}, what_of(TrialSpec(program.text)), Notebook(), 0.0
    )
    told(f"promised {(broken.promised['growth'] or 0) * 100:.0f} % a year")
    told(f"then showed {(broken.showed['growth'] or 0) * 100:.0f} %")


def test_the_rule_that_is_luck(days: TrialData) -> None:
    program = rule("lone_gull")
    evidence = evidence_of(program, days, "cry")
    told(sentence(evidence))
    years = {p.name: p.difference for p in by_year(evidence)}
    told(f"{-years['2022'] * 100:.1f} % less than usual in 2022 to {years['2024'] * 100:.1f} % more in 2024")
    trial = run_trial(program, days)
    chance = shift_test_of(trial)
    told(f"{chance.trades} trades, {(trial.metrics['growth'] or 0) * 100:.0f} % a year")
    told(f"brought {chance.real:+.2%}; shifted through time {np.median(chance.means):+.2%}")
    told(f"{chance.as_good} of {len(chance.means):,} shifts did at least as well")


def test_the_rule_that_dies_of_costs(market: BarLibrary) -> None:
    sealed = seal_of(market.panel(market.infos, ONE_DAY))
    with pytest.raises(RunProblem, match="All 5m bars lie in the sealed part of history"):
        trial_data_in(market, list(market.infos), BarSelection(Timeframe.parse("5m")), Span(seal=sealed))
    ground, _ = trial_data_in(market, list(market.infos), BarSelection(Timeframe.parse("5m")))
    program = rule("cheap_catch")
    trial = run_trial(program, ground)
    told(f"{trial.metrics['trades']:,.0f} times")
    assert trial.metrics["growth"] < -0.5 and 0 < trial.metrics["zero_cost"] < 0.0005  # type: ignore[operator]
    chance = shift_test_of(trial)
    assert chance.as_good == 0
    told(f"at each of {len(chance.means)} shifts")
    free = run_trial(program, ground, Account(costs=Costs(0, 0, 0, Slippage())))
    assert free.metrics["net"] > 0  # type: ignore[operator]
