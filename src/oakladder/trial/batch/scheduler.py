"""Variants handed to other processes, of this machine or of another, and taken back where those cannot do them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import BrokenExecutor, Executor, Future
from dataclasses import replace
from functools import lru_cache
from typing import Any, Protocol, runtime_checkable

from oakladder.bars.bars import COLUMNS
from oakladder.engine.run.signal_cache import SignalCache
from oakladder.rung.problems import Cancelled
from oakladder.trial.batch.processes import Shared
from oakladder.trial.batch.serialization import NotPacked, Recorded, packed, unpacked
from oakladder.trial.batch.task import Task, Tried, sharing, try_one


@runtime_checkable
class BatchShare(Protocol):
    """An executor that takes what many tasks need to its workers once."""

    def share(self, data: bytes) -> object: ...


class WatchedBatch:
    """A task that is tried here, and remembers what it asks of other symbols."""

    def __init__(self, task: Task, variants: Sequence[Mapping[str, object]]):
        real = task.ground.panel.background
        self._seen = Recorded(real) if real is not None else None
        panel = replace(task.ground.panel, background=self._seen)
        self.task = sharing(replace(task, ground=replace(task.ground, panel=panel)), variants)

    @property
    def size(self) -> int:
        """About how many bytes go along."""
        return 8 * self.task.ground.panel.size * len(COLUMNS)

    def one(self, changed: Mapping[str, object], cancelled: Callable[[], bool] | None) -> Tried:
        """Tries a variant here."""
        return try_one(self.task, changed, cancelled)

    def packed(self) -> bytes:
        """All that other processes need."""
        task = self.task
        return packed(task.program, task.other_scripts, task.finer, task.ground, task.account, self._seen)


class BatchHandle:
    """Variants in batches, of which at most so many are in the hands of an executor at once."""

    def __init__(
        self, watched: WatchedBatch, variants: Sequence[dict[str, object]], size: int, executor: Executor, most: int
    ):
        self._watched, self._executor, self._most = watched, executor, most
        self.batches = [variants[k : k + size] for k in range(0, len(variants), size)]
        #: The first batch not yet started, the batches handed on, and the batches done here.
        self._next = 0
        self._futures: dict[int, Future[list[Tried | None]]] = {}
        self._here: dict[int, list[Tried]] = {}
        self._settings, self._varying = dict(watched.task.settings), watched.task.signal_cache.varying
        self._shared: Any = None
        try:
            data = watched.packed()
            self._shared = executor.share(data) if isinstance(executor, BatchShare) else data
        except (OSError, MemoryError):
            self._most = 0  # the task is too large to send
        self.hand_on()

    def hand_on(self) -> None:
        """Hands on batches while processes are free."""
        free = self._most - sum(not future.done() for future in self._futures.values())
        for k in range(self._next, min(self._next + max(free, 0), len(self.batches))):
            try:
                self._futures[k] = self._executor.submit(
                    try_batch, self._shared, self._settings, self._varying, self.batches[k]
                )
            except (OSError, BrokenExecutor):
                self._most = 0  # there are no more processes: what was not handed on is done here
                return
            self._next = k + 1

    def is_made(self, k: int) -> bool:
        return k in self._here or (k in self._futures and self._futures[k].done())

    def take_one(self, cancelled: Callable[[], bool] | None) -> bool:
        """Does the next unstarted batch here; False without one."""
        if self._next >= len(self.batches):
            return False
        k, made = self._next, []
        self._next += 1
        for changed in self.batches[k]:
            made.append(self._watched.one(changed, cancelled))
            self.hand_on()
        self._here[k] = made
        return True

    def made(self, k: int, cancelled: Callable[[], bool] | None) -> Iterator[Tried]:
        """The results of a batch, in order. What another process could not do is done here."""
        if k in self._here:
            yield from self._here.pop(k)
            return
        for one, changed in zip(self._waited_for(k, cancelled), self.batches[k], strict=True):
            yield self._watched.one(changed, cancelled) if one is None else one

    def _waited_for(self, k: int, cancelled: Callable[[], bool] | None) -> Sequence[Tried | None]:
        future = self._futures.pop(k, None)
        while future is not None:
            if cancelled is not None and cancelled():
                raise Cancelled
            try:
                return future.result(timeout=0.1)
            except TimeoutError:
                continue
            except (OSError, MemoryError, BrokenExecutor):
                break  # the process has ended, or was out of memory
        return [None] * len(self.batches[k])

    def take_back(self) -> None:
        """Takes back unstarted batches."""
        for future in self._futures.values():
            future.cancel()


def try_batch(
    data: bytes | Shared,
    settings: dict[str, object],
    varying: frozenset[str],
    variants: Sequence[Mapping[str, object]],
) -> list[Tried | None]:
    """Tries some variants where only what was sent is there; None for one that asks for more. ``varying`` are the settings
    that are others in one variant than in the next."""
    task = _task(data, tuple(settings.items()), varying)
    made: list[Tried | None] = []
    for changed in variants:
        try:
            made.append(try_one(task, changed, None))
        except NotPacked:
            made.append(None)
    return made


@lru_cache(maxsize=2)
def _task(data: bytes | Shared, settings: tuple[tuple[str, object], ...], varying: frozenset[str]) -> Task:
    """What was sent; remembered with all that its variants share."""
    program, ground, account = unpacked(data)
    return Task(program, ground, account, dict(settings), signal_cache=SignalCache(varying))
