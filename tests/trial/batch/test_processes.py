"""Long sweeps get processes of their own: with the same bits, whatever becomes of those, and none outlives its program."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from concurrent.futures import Future
from contextlib import suppress
from dataclasses import replace
from multiprocessing import active_children
from pathlib import Path
from typing import Any

import pytest

from helpers import Tune, random_bars
from oakladder.bars.panels import panel_of
from oakladder.engine.run.context import RunContext
from oakladder.rung import compile_script
from oakladder.rung.problems import Cancelled
from oakladder.trial.batch.processes import Workers
from oakladder.trial.batch.scheduler import WatchedBatch
from oakladder.trial.batch.task import Task, Tried
from oakladder.trial.sweep import run
from oakladder.trial.sweep.ranges import Range, grid_of_settings
from oakladder.trial.sweep.run import swept
from oakladder.trial.trial import trial_data_of
from trial.sweep.test_sweep import RULE

VARIANTS = grid_of_settings(
    [Range("n", tuple(map(float, range(3, 33)))), Range("far", (10.0, 20.0, 40.0, 60.0, 5000.0))]
)


def a_task(symbols: int = 3) -> Task:
    made = panel_of([replace(random_bars(k, 400, holes=False), symbol=f"S{k}") for k in range(symbols)])
    return Task(compile_script(RULE), trial_data_of(made))


@pytest.fixture
def expected() -> list[Tried]:
    return list(swept(a_task(), VARIANTS))


@pytest.fixture(autouse=True)
def much_to_do(tune: Tune) -> None:
    """Every sweep is long enough for help, and is handed on in small parts."""
    tune(threads_seconds=1e-6)
    tune(processes_seconds=1e-6)
    tune(batch_seconds=0.02)


@pytest.fixture
def workers() -> Iterator[Workers]:
    with Workers(2) as made:
        yield made


def test_workers_give_what_is_found_here_in_order(expected: list[Tried], workers: Workers) -> None:
    told: list[float] = []
    for _ in range(2):  # the second time they are there already
        assert list(swept(a_task(), VARIANTS, context=RunContext(workers, progress=told.append))) == expected
    assert told[-1] == 1.0 and len(active_children()) == 2
    assert [bool(one.problem) for one in expected[:5]] == [False, False, False, False, True]


def test_a_worker_that_is_killed_costs_nothing_but_time(expected: list[Tried], workers: Workers) -> None:
    made = []
    for one in swept(a_task(), VARIANTS, context=RunContext(workers)):
        made.append(one)
        for child in active_children():
            if child.pid is not None and len(made) > 10:
                with suppress(ProcessLookupError):
                    os.kill(child.pid, signal.SIGKILL)
    assert made == expected
    assert (
        list(swept(a_task(), VARIANTS, context=RunContext(workers))) == expected
    )  # none comes back, and none is needed


def test_where_no_process_can_begin_all_is_done_here(
    expected: list[Tried], workers: Workers, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: Any) -> Future[Any]:
        raise BlockingIOError("no more processes")

    monkeypatch.setattr(workers, "submit", refuse)
    assert list(swept(a_task(), VARIANTS, context=RunContext(workers))) == expected


def test_where_nothing_can_be_sent_along_all_is_done_here(
    expected: list[Tried], workers: Workers, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*_: Any) -> int:
        raise OSError("no space left")

    monkeypatch.setattr(os, "memfd_create", refuse)
    assert list(swept(a_task(), VARIANTS, context=RunContext(workers))) == expected
    assert not active_children()


def test_where_memory_is_short_threads_share_the_bars(
    expected: list[Tried], workers: Workers, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(workers, "fitting", lambda size: 0)
    assert list(swept(a_task(), VARIANTS, context=RunContext(workers))) == expected
    assert not active_children()


def test_a_short_sweep_begins_no_process(expected: list[Tried], workers: Workers, tune: Tune) -> None:
    tune(processes_seconds=3600.0)
    assert list(swept(a_task(), VARIANTS, context=RunContext(workers))) == expected
    assert not active_children()


def test_variants_that_fail_at_once_do_not_hide_how_long_the_others_take(
    workers: Workers, monkeypatch: pytest.MonkeyPatch, tune: Tune
) -> None:
    now, one = [0.0], WatchedBatch.one

    def timed(self: WatchedBatch, changed: dict[str, object], cancelled: Any) -> Tried:
        made = one(self, changed, cancelled)
        now[0] += 0.0 if made.problem else 1.0
        return made

    monkeypatch.setattr(WatchedBatch, "one", timed)
    monkeypatch.setattr(run.time, "perf_counter", lambda: now[0])
    tune(processes_seconds=10.0)
    failing = [{"n": 5.0, "far": 5000.0}] * 8
    made = list(swept(a_task(), [*failing, *VARIANTS], context=RunContext(workers)))
    assert [bool(one.problem) for one in made[:9]] == [True] * 8 + [False]
    assert active_children()


def test_a_sweep_with_workers_that_is_stopped_ends_and_so_do_they(workers: Workers) -> None:
    made: list[Tried] = []
    with pytest.raises(Cancelled):
        for one in swept(a_task(), VARIANTS, context=RunContext(workers, cancelled=lambda: len(made) > 40)):
            made.append(one)
    assert len(made) < len(VARIANTS)
    workers.shutdown()
    assert within(10, lambda: not active_children())


def within(seconds: float, holds: Any) -> bool:
    """Whether something comes to hold."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if holds():
            return True
        time.sleep(0.05)
    return bool(holds())


KILLED = """
import itertools, sys
from multiprocessing import active_children
from oakladder.engine.run.context import RunContext
from oakladder.trial.sweep import run as running
from oakladder.trial.sweep.run import swept
from oakladder.trial.batch.processes import Workers
from trial.batch.test_processes import VARIANTS, a_task

if __name__ == "__main__":
    running._WORTH_HELP = 1e-6
    with Workers(2) as workers:
        for k, _ in enumerate(swept(a_task(), VARIANTS * 1000, context=RunContext(workers))):
            if k == 200:
                print(*(child.pid for child in active_children()), flush=True)
"""


def test_no_worker_outlives_a_program_that_is_killed(tmp_path: Path) -> None:
    script = tmp_path / "sweeps.py"
    script.write_text(KILLED)
    paths = os.pathsep.join([str(Path(__file__).parents[3]), *filter(None, sys.path)])
    with subprocess.Popen(
        [sys.executable, str(script)], stdout=subprocess.PIPE, text=True, env=os.environ | {"PYTHONPATH": paths}
    ) as program:
        assert program.stdout is not None
        pids = [int(pid) for pid in program.stdout.readline().split()]
        assert len(pids) == 2 and all(Path(f"/proc/{pid}").exists() for pid in pids)
        program.kill()
    assert within(20, lambda: not any(is_running(pid) for pid in pids))


def is_running(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0] not in "ZX"
    except OSError:
        return False
