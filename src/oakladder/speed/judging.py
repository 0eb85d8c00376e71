"""Evidence and chance: as a list is typed over, and for a whole market; beside plain loops over shifts."""

from __future__ import annotations

import statistics

import numpy as np

from oakladder.engine.run.context import RunContext
from oakladder.rung import compile_script
from oakladder.speed import Row, ratio, side_by_side
from oakladder.speed.engine import make_panel
from oakladder.speed.trial import RULE, SIGNALS
from oakladder.trial.judge.bootstrap import bootstrap_of
from oakladder.trial.judge.evidence.study import HORIZONS, Evidence, evidence_of
from oakladder.trial.judge.shift_test import shift_test_of
from oakladder.trial.judge.studentised import SAME
from oakladder.trial.trial import run_trial, trial_data_of
from oakladder.work import parallel


def measure() -> list[Row]:
    """Rows of the table; ours are first compared with the plain loop's."""
    return [*_evidence(), *_chance()]


def _evidence() -> list[Row]:
    program = compile_script(SIGNALS.replace("crosses_up(f, s)", "crosses_up(f, s) bullish"))
    small, large = trial_data_of(make_panel(100, 1_500)), trial_data_of(make_panel(5_000, 2_520))
    opens, closes = (small.panel.column(n).reshape(100, -1) for n in ("open", "close"))
    flags = np.zeros(small.panel.size, dtype=bool)
    flags[evidence_of(program, small, "flow").places] = True

    def plain() -> list[float]:
        return [_plain_chance(opens, closes, flags.reshape(100, -1), h) for h in HORIZONS]

    with parallel() as pool:

        def ours(large_one: bool) -> Evidence:
            made = evidence_of(program, large if large_one else small, "flow", context=RunContext(pool))
            _ = made.fan, made.usual_fan
            return made

        told = [h.chance for h in ours(False).horizons]
        if not np.allclose([c for c in told if c is not None], plain()):
            raise AssertionError(f"{told} of ours differ from {plain()} of the plain loop")
        few = side_by_side({"ours": lambda: ours(False), "plain": plain}, 5)
        many = side_by_side({"ours": lambda: ours(True)}, 3)
    return [
        (
            "evidence of a list, 100 × 1,500, all horizons",
            f"{statistics.median(few['ours']) * 1e3:.0f} ms",
            f"{ratio(few, 'plain', 'ours'):.0f} × numpy, shift by shift",
            "≤ 150 ms",
        ),
        ("evidence of a market, 5,000 × 2,520", f"{statistics.median(many['ours']):.2f} s", "", "≤ 5 s"),
    ]


def _plain_chance(opens: np.ndarray, closes: np.ndarray, flags: np.ndarray, horizon: int) -> float:
    """The chance of a bullish signal as it would be written down at first: shift by shift, lag by lag."""
    usable = opens.shape[1] - horizon
    change = closes[:, horizon:] / opens[:, 1 : usable + 1] - 1
    change -= change.mean()
    some = flags[:, :usable]
    counts = some.sum(axis=0)
    statistics = []
    for shift in range(usable):
        sums = np.where(some, np.roll(change, -shift, axis=1), 0.0).sum(axis=0)
        mean = sums.sum() / counts.sum()
        errors = sums - mean * counts
        variance = errors @ errors
        for lag in range(1, horizon + 1):
            variance += 2 * (1 - lag / (horizon + 1)) * (errors[lag:] @ errors[:-lag])
        statistics.append(mean * counts.sum() / np.sqrt(variance))
    good = np.array(statistics)
    return float((good >= good[0] - SAME).mean())


def _chance() -> list[Row]:
    ground = trial_data_of(make_panel(77, 1_544))
    trial = run_trial(compile_script(RULE), ground)
    count = int(trial.book.done.sum())
    shifts = len(shift_test_of(trial).means)
    taken = side_by_side({"chance": lambda: shift_test_of(trial), "bootstrap": lambda: bootstrap_of(trial)}, 7)
    return [
        (
            f"{shifts:,} shifts of a trial of {count:,} trades on 77 symbols",
            f"{statistics.median(taken['chance']):.2f} s",
            "",
            "≤ 0.5 s",
        ),
        ("  its sessions resampled 1,000 times", f"{statistics.median(taken['bootstrap']):.2f} s", "", ""),
    ]
