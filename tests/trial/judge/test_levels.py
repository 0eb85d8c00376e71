"""How often worthless rules pass for skill, and skill is found: what the chance of a trial and of evidence promise."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from oakladder.rung import compile_script
from oakladder.trial.broker.money import Account, Costs, Slippage
from oakladder.trial.judge.evidence.study import evidence_of
from oakladder.trial.judge.shift_test import shift_test_of
from oakladder.trial.trial import Trial, run_trial

from .noise import KINDS, Noise, correlated, daily

#: So many worthless rules of each kind.
RULES = 400
FREE = Account(money=1e6, costs=Costs(0, 0, 0, Slippage()), apart=True)


def traded(kind: Noise, seed: int) -> Trial:
    return run_trial(compile_script(kind.rule), kind.market(seed), FREE)


def holds_its_level(shares: list[float | None], name: str, told: Callable[[str], None]) -> None:
    known = np.array([s for s in shares if s is not None])
    rare, rarer = float((known < 0.05).mean()), float((known < 0.01).mean())
    told(f"{name}: {len(known)} rules without merit, below 5 %: {rare:.1%}, below 1 %: {rarer:.2%}")
    assert len(known) == len(shares) and 0.03 <= rare <= 0.07 and rarer <= 0.02


@pytest.mark.nightly
@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: kind.name)
def test_the_chance_of_a_trial_holds_its_level(kind: Noise, told: Callable[[str], None]) -> None:
    holds_its_level([shift_test_of(traded(kind, seed)).share for seed in range(RULES)], f"trials, {kind.name}", told)


@pytest.mark.nightly
@pytest.mark.parametrize("kind", KINDS, ids=lambda kind: kind.name)
def test_the_chance_of_evidence_holds_its_level(kind: Noise, told: Callable[[str], None]) -> None:
    program = compile_script(kind.rule)
    shares = [evidence_of(program, kind.market(seed)).overall for seed in range(RULES)]
    holds_its_level(shares, f"evidence, {kind.name}", told)


def planted(seed: int) -> Trial:
    """Forty trades on one symbol, each five bars long, with an edge of half the deviation of a trade."""
    rng = np.random.default_rng(seed)
    entries = np.sort(rng.choice(np.arange(2, 1000, 12), 40, replace=False))
    returns, volume = correlated(rng, 1, 1010, 0.0), np.zeros((1, 1010))
    volume[0, entries] = 1000.0
    for entry in entries.tolist():
        returns[0, entry + 1 : entry + 6] += 0.5 * 0.01 * np.sqrt(5) / 5
    rule = "rung 1\ntrade ride long\n    enter when volume > 500\n    at most 5 bars\n"
    return run_trial(compile_script(rule), daily(returns, volume), FREE)


@pytest.mark.nightly
def test_an_edge_of_half_a_deviation_is_found_in_forty_trades(told: Callable[[str], None]) -> None:
    trials = [planted(seed) for seed in range(200)]
    assert all(trial.book.done.sum() == 40 for trial in trials)
    found = float(np.mean([(shift_test_of(trial).share or 1.0) < 0.05 for trial in trials]))
    told(f"an edge of half a deviation in 40 trades is found in {found:.0%} of trials")
    assert found >= 0.8
