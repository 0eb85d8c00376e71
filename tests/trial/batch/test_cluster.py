"""A sweep on a real scheduler with two worker processes, one of which is killed meanwhile."""

from __future__ import annotations

import os
import signal
import threading
import time
from pathlib import Path

import pytest

from oakladder.engine.run.context import RunContext
from oakladder.rung import RunProblem, compile_script
from oakladder.trial.batch.cluster import cluster
from oakladder.trial.batch.task import Task
from oakladder.trial.sweep.ranges import Range, grid_of_settings
from oakladder.trial.sweep.run import swept
from trial.sweep.test_sweep import RULE, ground

distributed = pytest.importorskip("distributed")


def test_a_killed_worker_costs_nothing_but_time(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    task = Task(compile_script(RULE), ground(1, 6, 1_500))
    variants = grid_of_settings(
        [Range("n", tuple(map(float, range(3, 19)))), Range("far", tuple(map(float, range(25, 65, 4))))]
    )
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, processes=True, dashboard_address=None, local_directory=str(tmp_path)
    ) as local:
        processes = [worker.pid for worker in local.workers.values()]
        killed = []

        def kill(done: float) -> None:
            if done > 0.2 and not killed:
                killed.append(processes[0])
                os.kill(processes[0], signal.SIGKILL)

        with cluster(local.scheduler_address) as executor:
            there = list(swept(task, variants, context=RunContext(executor, progress=kill)))
    assert killed
    assert there == list(swept(task, variants))


def test_no_cluster_gets_a_sentence() -> None:
    with pytest.raises(RunProblem, match="No scheduler answers"), cluster("tcp://127.0.0.1:9"):
        pass


def test_a_stopped_sweep_leaves_the_cluster_soon(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from oakladder.rung.problems import Cancelled

    monkeypatch.chdir(tmp_path)
    task = Task(compile_script(RULE), ground(1, 6, 1_500))
    variants = grid_of_settings([Range("n", tuple(map(float, range(3, 100)))), Range("far", (20.0, 30.0, 40.0))])
    stop = threading.Event()
    with (
        distributed.LocalCluster(
            n_workers=1, threads_per_worker=1, processes=True, dashboard_address=None, local_directory=str(tmp_path)
        ) as local,
        cluster(local.scheduler_address) as executor,
    ):
        begin = 0.0
        with pytest.raises(Cancelled):
            for _ in swept(task, variants, context=RunContext(executor, cancelled=stop.is_set)):
                if not stop.is_set():
                    begin = time.monotonic()
                    stop.set()
        assert time.monotonic() - begin < 5
