"""Variants of a rule, each on trial on the same ground: on all cores, or on another machine's."""

from __future__ import annotations

import math
import time
from collections import deque
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from concurrent.futures import Executor, Future
from threading import Lock

from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.rung.problems import Cancelled
from oakladder.trial.batch.processes import Workers
from oakladder.trial.batch.scheduler import BatchHandle, WatchedBatch
from oakladder.trial.batch.task import Task, Tried, sharing, try_one
from oakladder.tuning import TUNING
from oakladder.work import parallel, shares_memory

#: Workers that share no memory are handed about so many batches.
_BATCHES = 32
#: More of them would wait for one another, and each takes memory for what it knows.
_MOST_THREADS = 4


def swept(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    *,
    context: RunContext = PLAIN,
) -> Iterator[Tried]:
    """The result of every variant, in order. Raises `Cancelled`.

    Threads share the bars; any other executor is sent the rule and its bars, in batches of variants. `Workers` get some
    where there is much to do.
    """
    executor, cancelled = context.executor, context.cancelled
    if executor is None or shares_memory(executor):
        made = _here(task, variants, context)
    elif isinstance(executor, Workers):
        made = _with_help(task, variants, executor, cancelled)
    else:
        made = _elsewhere(task, variants, executor, cancelled)
    for k, one in enumerate(made):
        context.report((k + 1) / len(variants))
        yield one


def _here(task: Task, variants: Sequence[Mapping[str, object]], context: RunContext) -> Iterator[Tried]:
    task = sharing(task, variants)

    def work(changed: Mapping[str, object]) -> Tried:
        return try_one(task, changed, context.cancelled)

    return iter(context.map(work, variants))


def _elsewhere(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    executor: Executor,
    cancelled: Callable[[], bool] | None,
) -> Iterator[Tried]:
    """Sends the rule and its bars along. What it asks of other symbols is seen in a run of the first variant here; a
    variant that asks for more is tried here."""
    if not variants:
        return
    watched = WatchedBatch(task, variants)
    yield watched.one(variants[0], cancelled)
    rest = [dict(v) for v in variants[1:]]
    handed = BatchHandle(watched, rest, max(-(-len(rest) // _BATCHES), 1), executor, _BATCHES)
    try:
        for k in range(len(handed.batches)):
            yield from handed.made(k, cancelled)
    finally:
        handed.take_back()


def _with_help(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    workers: Workers,
    cancelled: Callable[[], bool] | None,
) -> Iterator[Tried]:
    """Tries variants here, in several threads and with the help of other processes as soon as there is enough to do for it
    to pay."""
    watched, pace = WatchedBatch(task, variants), _Pace()
    done = 0
    while done < len(variants) and pace.seconds_for(len(variants) - done) <= TUNING.threads_seconds:
        yield pace.timed(watched, variants[done], cancelled)
        done += 1
    helping = workers.fitting(watched.size)
    done += yield from _in_threads(
        watched, variants[done:], min(workers.count + 1, _MOST_THREADS), cancelled, pace, bool(helping)
    )
    rest = [dict(v) for v in variants[done:]]
    if not rest:
        return
    helping = min(helping, math.ceil(pace.seconds_for(len(rest)) / TUNING.processes_seconds))
    handed = BatchHandle(watched, rest, max(int(TUNING.batch_seconds / pace.each), 1), workers, helping)
    for k in range(len(handed.batches)):
        while not handed.is_made(k) and handed.take_one(cancelled):
            handed.hand_on()
        if cancelled is not None and cancelled():
            raise Cancelled
        yield from handed.made(k, cancelled)
        handed.hand_on()


class _Pace:
    """How long variants take. The first may wait for its code, and some fail at once: the mean of the others counts."""

    def __init__(self) -> None:
        self._done, self._worked, self._lock = -1, 0.0, Lock()

    @property
    def each(self) -> float:
        """Seconds for a variant; 0 while it is not known."""
        return self._worked / self._done if self._done > 0 else 0.0

    def seconds_for(self, variants: int) -> float:
        return self.each * variants

    def timed(
        self, watched: WatchedBatch, changed: Mapping[str, object], cancelled: Callable[[], bool] | None
    ) -> Tried:
        begin = time.perf_counter()
        made = watched.one(changed, cancelled)
        with self._lock:
            self._done += 1
            if self._done:
                self._worked += time.perf_counter() - begin
        return made


def _in_threads(
    watched: WatchedBatch,
    variants: Sequence[Mapping[str, object]],
    count: int,
    cancelled: Callable[[], bool] | None,
    pace: _Pace,
    can_help: bool,
) -> Generator[Tried, None, int]:
    """Runs variants in so many threads, until processes can help and there is enough to do for that to pay; yields how many
    are done."""
    waiting: deque[Future[Tried]] = deque()
    at = 0
    with parallel(count) as threads:
        try:
            while waiting or at < len(variants):
                more = not (can_help and pace.seconds_for(len(variants) - at) > TUNING.processes_seconds)
                while more and at < len(variants) and len(waiting) < 2 * count:
                    waiting.append(threads.submit(pace.timed, watched, variants[at], cancelled))
                    at += 1
                if not waiting:
                    break
                yield waiting.popleft().result()
        finally:
            for future in waiting:
                future.cancel()
    return at
