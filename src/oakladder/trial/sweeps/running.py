"""Variants of a rule, each on trial on the same ground: on all cores, or on another machine's."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor

from oakladder.rung.problems import Cancelled
from oakladder.trial.sweeps.handing import Handed, Watched
from oakladder.trial.sweeps.task import Task, Tried, sharing, try_one
from oakladder.trial.sweeps.workers import Workers

#: Workers that share no memory are handed about so many batches.
_BATCHES = 32
#: Other processes on this machine are asked where there is work for more seconds than they take to begin, and are handed
#: batches of about so many.
_WORTH_HELP, _BATCH_SECONDS = 1.0, 0.1


def swept(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    *,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
) -> Iterator[Tried]:
    """What comes of every variant, in order. Raises `Cancelled`.

    Threads share the bars; any other executor is sent the rule and its bars, in batches of variants. `Workers` get some
    where there is much to do.
    """
    if executor is None or isinstance(executor, ThreadPoolExecutor):
        made = _here(task, variants, executor, cancelled)
    elif isinstance(executor, Workers):
        made = _with_help(task, variants, executor, cancelled)
    else:
        made = _elsewhere(task, variants, executor, cancelled)
    for k, one in enumerate(made):
        if progress is not None:
            progress((k + 1) / len(variants))
        yield one


def _here(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    executor: Executor | None,
    cancelled: Callable[[], bool] | None,
) -> Iterator[Tried]:
    task = sharing(task, variants)

    def work(changed: Mapping[str, object]) -> Tried:
        return try_one(task, changed, cancelled)

    return iter(map(work, variants) if executor is None else executor.map(work, variants))


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
    watched = Watched(task, variants)
    yield watched.one(variants[0], cancelled)
    rest = [dict(v) for v in variants[1:]]
    handed = Handed(watched, rest, max(-(-len(rest) // _BATCHES), 1), executor, _BATCHES)
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
    """Tries variants here, and hands a part of them to other processes as soon as there is enough to do for it to pay."""
    watched = Watched(task, variants)
    done, worked, each = 0, 0.0, 0.0
    while done < len(variants) and each * (len(variants) - done) <= _WORTH_HELP:
        begin = time.perf_counter()
        made = watched.one(variants[done], cancelled)
        if done:  # the first may have waited for its code; some fail at once
            worked += time.perf_counter() - begin
            each = worked / done
        yield made
        done += 1
    rest = [dict(v) for v in variants[done:]]
    if not rest:
        return
    helping = min(workers.fitting(watched.size), math.ceil(each * len(rest) / _WORTH_HELP))
    if not helping:
        with ThreadPoolExecutor(workers.count + 1) as threads:
            yield from threads.map(lambda changed: watched.one(changed, cancelled), rest)
        return
    handed = Handed(watched, rest, max(int(_BATCH_SECONDS / each), 1), workers, helping)
    for k in range(len(handed.batches)):
        while not handed.is_made(k) and handed.take_one(cancelled):
            handed.hand_on()
        if cancelled is not None and cancelled():
            raise Cancelled
        yield from handed.made(k, cancelled)
        handed.hand_on()
