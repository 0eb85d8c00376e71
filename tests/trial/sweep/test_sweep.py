"""Sweeps: ranges, the map with a point's neighbours, and walking forward without knowledge of what comes."""

from __future__ import annotations

from concurrent.futures import Executor, Future, ProcessPoolExecutor, ThreadPoolExecutor
from dataclasses import replace
from multiprocessing import get_context

import numpy as np
import pytest

from helpers import random_bars
from oakladder.bars.panels import panel_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.run.context import RunContext
from oakladder.rung import RunProblem, compile_script
from oakladder.rung.problems import Cancelled
from oakladder.trial.batch.scheduler import BatchHandle, WatchedBatch
from oakladder.trial.batch.task import Task, Tried
from oakladder.trial.metrics.metrics import without_book
from oakladder.trial.sweep.map import map_of
from oakladder.trial.sweep.ranges import Range, drawn_settings, grid_of_settings
from oakladder.trial.sweep.run import swept
from oakladder.trial.sweep.walk_forward import walk_forward
from oakladder.trial.trial import TrialData, run_trial, trial_data_of
from oakladder.trial.universe import trial_data_in

RULE = """rung 1
setting n = 5 range 2..100
setting far = 20 range 2..200
trade ride long
    enter when crosses_up(close, sma(close, n))
    leave when close < sma(close, far)
    stop 3 * atr(10)
"""
NS, FARS = Range("n", (3.0, 5.0, 8.0, 13.0)), Range("far", (10.0, 20.0, 40.0))


def ground(seed: int = 1, symbols: int = 2, count: int = 400) -> TrialData:
    made = panel_of([replace(random_bars(seed + k, count, holes=False), symbol=f"S{k}") for k in range(symbols)])
    return trial_data_of(made)


def test_ranges_are_read_and_said_again() -> None:
    assert Range.parse("n=5..20/5") == Range("n", (5.0, 10.0, 15.0, 20.0))
    assert Range.parse(" w = 0.5..1/0.25 ").values == (0.5, 0.75, 1.0)
    assert Range.parse("style=arrows, labels, arrows").values == ("arrows", "labels")
    assert Range.parse(Range.parse("n=1,2.5").words()) == Range("n", (1.0, 2.5))


@pytest.mark.parametrize(
    "text", ["n", "n=", "=3..4", "n=5", "n=9..3", "n=1..2/0", "n=a..b", "n=1,,2", "n=1..1e9", "n=1,inf"]
)
def test_what_is_no_range_gets_a_sentence(text: str) -> None:
    with pytest.raises(RunProblem):
        Range.parse(text)


def test_combinations_drawn_at_random_are_some_of_the_grid() -> None:
    every = grid_of_settings([NS, FARS])
    assert len(every) == 12 and every[0] == {"n": 3.0, "far": 10.0} and every[1] == {"n": 3.0, "far": 20.0}
    some = drawn_settings([NS, FARS], 5, seed=3)
    assert (
        len(some) == 5
        and all(one in every for one in some)
        and [every.index(s) for s in some] == sorted(every.index(s) for s in some)
    )
    assert drawn_settings([NS, FARS], 99) == every
    with pytest.raises(RunProblem, match="random"):
        grid_of_settings([Range(name, tuple(map(float, range(1000)))) for name in "abc"])


def test_every_variant_is_the_trial_of_its_settings() -> None:
    task = Task(compile_script(RULE), ground())
    variants = grid_of_settings([NS, FARS])
    alone = list(swept(task, variants))
    for one in alone:
        trial = run_trial(task.program, task.ground, task.account, one.settings)
        assert one.metrics == without_book(trial.metrics) and one.counts == trial.counts
    with ThreadPoolExecutor(2) as threads:
        assert list(swept(task, variants, context=RunContext(threads))) == alone


class _Slow(Executor):
    """Takes work, and does it when its result is asked for."""

    def __init__(self) -> None:
        self.taken: list[list[dict[str, object]]] = []

    def submit(self, work, *arguments):  # type: ignore[no-untyped-def,override]
        self.taken.append(arguments[-1])
        made: Future[object] = Future()
        made.set_result(work(*arguments))
        return made


def test_each_batch_is_handed_on_once() -> None:
    task, variants, executor = Task(compile_script(RULE), ground()), grid_of_settings([NS, FARS]), _Slow()
    handle = BatchHandle(WatchedBatch(task, variants), variants, 2, executor, most=3)
    assert len(executor.taken) == 3
    for _ in range(3):
        handle.hand_on()
    made = [tried for k in range(len(handle.batches)) for tried in handle.made(k, None)]
    assert made == list(swept(task, variants))
    assert [row for batch in executor.taken for row in batch] == variants


def test_what_cannot_run_spoils_no_other() -> None:
    made = list(swept(Task(compile_script(RULE), ground()), [{"n": 5.0}, {"n": 5000.0}, {"n": 8.0}]))
    assert [bool(one.problem) for one in made] == [False, True, False] and not made[1].metrics


def test_another_process_gives_the_same_bits(market: BarLibrary) -> None:
    # It reads another symbol and weeks: what it asks for goes along with the rule.
    text = RULE.replace(
        "enter when ", 'enter when (close of "BRINE") > (sma(close, 5) of "BRINE") and close on 1w > 0 and '
    )
    symbols = list(market.infos)[:3]
    there, _ = trial_data_in(market, symbols, BarSelection(ONE_DAY))
    task = Task(compile_script(text), there)
    variants = grid_of_settings([NS, FARS])
    with ProcessPoolExecutor(1, mp_context=get_context("spawn")) as other:
        assert list(swept(task, variants, context=RunContext(other))) == list(swept(task, variants))


def test_a_sweep_that_is_stopped_ends() -> None:
    seen = []
    with pytest.raises(Cancelled):
        for one in swept(
            Task(compile_script(RULE), ground()),
            grid_of_settings([NS]),
            context=RunContext(cancelled=lambda: len(seen) > 1),
        ):
            seen.append(one)
    assert len(seen) == 2


def a_map(values: list[list[float]], metric: str = "growth") -> list[Tried]:
    return [
        Tried({"n": float(y), "far": float(x)}, {metric: None if np.isnan(v) else v})
        for y, row in enumerate(values)
        for x, v in enumerate(row)
    ]


def test_a_lonely_peak_is_told_from_a_broad_one() -> None:
    hills = np.zeros((7, 7))
    hills[1, 1] = 10.0  # alone
    hills[4:7, 4:7] = 8.0  # a broad top
    ranges = [Range(n, tuple(map(float, range(7)))) for n in ("n", "far")]
    made = map_of(ranges, a_map(hills.tolist()), "growth")
    assert made.best == 1 * 7 + 1 and made.lonely[made.best]
    assert made.broad == 5 * 7 + 5 and not made.lonely[5 * 7 + 5]
    assert made.around[1 * 7 + 1] == 0.0 and made.around[5 * 7 + 5] == 8.0
    # Where less is better the lowest is the peak.
    fallen = map_of(ranges, a_map((-hills).tolist(), "drawdown"), "drawdown")
    assert fallen.best == made.best and fallen.lonely.tolist() == made.lonely.tolist()


def test_neighbours_are_those_one_step_away() -> None:
    rng = np.random.default_rng(5)
    hills = rng.normal(0, 1, (5, 4))
    hills[2, 3] = np.nan
    ranges = [Range("n", tuple(map(float, range(5)))), Range("far", tuple(map(float, range(4))))]
    made = map_of(ranges, a_map(hills.tolist()), "growth")
    for y in range(5):
        for x in range(4):
            near = [
                hills[b, a]
                for b in range(max(y - 1, 0), min(y + 2, 5))
                for a in range(max(x - 1, 0), min(x + 2, 4))
                if (b, a) != (y, x)
            ]
            assert made.around[y * 4 + x] == pytest.approx(np.nanmedian(near))


def test_a_map_of_nothing_has_no_best() -> None:
    made = map_of([NS], [Tried({"n": v}, problem="no") for v in NS.values], "growth")
    assert made.best is None and made.broad is None and not made.lonely.any()


def test_points_drawn_at_random_have_their_nearest_as_neighbours() -> None:
    ranges = [Range("n", tuple(map(float, range(40)))), Range("far", tuple(map(float, range(40))))]
    some = drawn_settings(ranges, 60, seed=2)
    tried = [Tried(s, {"growth": s["n"]}) for s in some]  # type: ignore[dict-item]
    made = map_of(ranges, tried, "growth")
    assert np.corrcoef(made.around, [s["n"] for s in some])[0, 1] > 0.95  # type: ignore[list-item]


def test_walking_forward_knows_nothing_of_what_comes() -> None:
    here = ground(3, 2, 480)
    task, variants = Task(compile_script(RULE), here), grid_of_settings([NS, FARS])
    whole = walk_forward(task, variants, "growth", spans=6, chosen_on=2)
    assert len(whole.steps) == 4
    # Other prices from the fourth span on: what was chosen and traded before is the same.
    changed = []
    for k in range(2):
        bars = here.panel.bars(k)
        late = bars.times >= whole.steps[2].first
        columns = {n: np.where(late & (n != "volume"), v * 3 + 1, v) for n, v in bars.columns.items()}
        changed.append(replace(bars, columns=columns))
    other = walk_forward(
        replace(task, ground=trial_data_of(panel_of(changed))), variants, "growth", spans=6, chosen_on=2
    )
    assert other.steps[:2] == whole.steps[:2]
    assert other.steps[2].settings == whole.steps[2].settings and other.steps[2].promised == whole.steps[2].promised


def test_a_step_trades_the_best_settings_of_the_spans_before_it() -> None:
    here = ground(8, 1, 400)
    task, variants = Task(compile_script(RULE), here), grid_of_settings([NS])
    made = walk_forward(task, variants, "net", spans=4, chosen_on=1)
    times = here.panel.times
    edges = [0, 100, 200, 300]
    for k, step in enumerate(made.steps, start=1):
        past = panel_of([here.panel.bars(0).part(0, edges[k])])
        tried = [
            run_trial(task.program, replace(trial_data_of(past), first=int(times[edges[k - 1]])), task.account, v)
            for v in variants
        ]
        best = max(range(len(variants)), key=lambda n: tried[n].metrics["net"] or 0.0)
        assert step.first == times[edges[k]] and step.last == times[min(edges[k] + 100, 399)]
        assert step.settings == variants[best] and step.promised == tried[best].metrics["net"]
    values, start = made.equity.value, made.equity.start
    assert len(values) == 300 and values[0] == pytest.approx(start, rel=0.05)
    assert made.hindsight.metrics["net"] == max(
        run_trial(task.program, replace(here, first=int(times[100])), task.account, v).metrics["net"] or -1e9
        for v in variants
    )


def test_a_walk_tells_how_the_chosen_settings_drift() -> None:
    task = Task(compile_script(RULE), ground(3, 2, 480))
    made = walk_forward(task, grid_of_settings([NS, FARS]), "growth", spans=6, chosen_on=2)
    assert made.choices == {"n": NS.values, "far": FARS.values}
    for one in (NS, FARS):
        chosen = [s.settings[one.name] for s in made.steps]
        assert made.drift(one.name).tolist() == [one.values.index(v) / (len(one.values) - 1) for v in chosen]  # type: ignore[arg-type]

    def walked(*chosen: float) -> str:
        steps = tuple(replace(s, settings={"n": v}) for s, v in zip(made.steps, chosen, strict=True))
        return replace(made, steps=steps, choices={"n": (1.0, 2.0, 3.0, 4.0), "fixed": (1.0,)}).drift_words()

    assert walked(2, 2, 2, 2) == "From span to span n stays (2, 2, 2, 2)."
    assert "n drifts (1, 2, 2, 3)" in walked(1, 2, 2, 3) and "n jumps about (1, 4, 1, 4)" in walked(1, 4, 1, 4)
    assert "From span to span" in made.words()


@pytest.mark.parametrize(
    ("best", "edges"),
    [((0, 1), {"n": -1}), ((3, 2), {"n": 1, "far": 1}), ((1, 1), {}), ((2, 0), {"far": -1})],
)
def test_a_best_at_the_end_of_a_range_is_marked(best: tuple[int, int], edges: dict[str, int]) -> None:
    rows = []
    for settings in grid_of_settings([NS, FARS]):
        at = NS.values.index(settings["n"]), FARS.values.index(settings["far"])  # type: ignore[arg-type]
        rows.append(Tried(settings, {"growth": -float(abs(at[0] - best[0]) + abs(at[1] - best[1]))}))
    assert map_of([NS, FARS], rows, "growth").edges == edges
    two = Range("n", (3.0, 5.0))
    assert map_of([two], [Tried({"n": v}, {"growth": v}) for v in two.values], "growth").edges == {}


def test_too_short_a_history_gets_a_sentence() -> None:
    with pytest.raises(RunProblem, match="too few"):
        walk_forward(Task(compile_script(RULE), ground(1, 1, 60)), grid_of_settings([NS]), "growth")
