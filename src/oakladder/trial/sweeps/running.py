"""Variants of a rule, each on trial on the same ground: on all cores, or on another machine's."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor, ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from typing import Any, Protocol, runtime_checkable

from oakladder.engine.kept_values import Kept
from oakladder.rung import Program
from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.trial.figures import Value
from oakladder.trial.money import Account
from oakladder.trial.sweeps.packing import NotPacked, Recorded, packed, unpacked
from oakladder.trial.trial import Ground, Trial, put_on_trial

#: Workers that share no memory are handed about so many batches.
_BATCHES = 32


@dataclass(frozen=True, slots=True)
class Tried:
    """What came of a variant: its settings, figures and counts, or the problem that kept it from running."""

    settings: dict[str, object]
    figures: dict[str, Value] = field(default_factory=dict)
    counts: dict[str, int] = field(default_factory=dict)
    problem: str = ""

    def value(self, name: str) -> Value:
        """A figure; none where it is not defined."""
        return self.figures.get(name)


@dataclass(frozen=True, slots=True)
class Task:
    """A rule whose variants are to be tried: the ground, the account, and the settings that stay as they are."""

    program: Program
    ground: Ground
    account: Account = field(default_factory=Account)
    settings: Mapping[str, object] = field(default_factory=dict)
    #: The scripts that it may take functions from, and whether minutes are walked through.
    shelf: OtherScripts = field(default_factory=OtherScripts)
    finer: bool = False
    #: What variants share that differ only in what is done with a position.
    kept: Kept = field(default_factory=Kept, compare=False, repr=False)

    def trial(self, changed: Mapping[str, object], cancelled: Callable[[], bool] | None = None) -> Trial:
        """The trial of one variant. Raises `RunProblem` or `Cancelled`."""
        settings = {**self.settings, **changed}
        return put_on_trial(
            self.program, self.ground, self.account, settings, cancelled=cancelled, thorough=True, kept=self.kept
        )


@runtime_checkable
class Sharing(Protocol):
    """An executor that takes what many tasks need to its workers once."""

    def share(self, data: bytes) -> object: ...


def swept(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    *,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
) -> Iterator[Tried]:
    """What comes of every variant, in order. Raises `Cancelled`.

    Threads share the bars; any other executor is sent the rule and its bars, in batches of variants.
    """
    made = (
        _here(task, variants, executor, cancelled)
        if executor is None or isinstance(executor, ThreadPoolExecutor)
        else _elsewhere(task, variants, executor, cancelled)
    )
    for k, one in enumerate(made):
        if progress is not None:
            progress((k + 1) / len(variants))
        yield one


def sharing(task: Task, variants: Sequence[Mapping[str, object]]) -> Task:
    """The task with room for what some variants share."""
    seen: dict[str, set[object]] = {}
    for variant in variants:
        for name, value in variant.items():
            seen.setdefault(name, set()).add(value)
    return replace(task, kept=Kept(name for name, values in seen.items() if len(values) > 1))


def _one(task: Task, changed: Mapping[str, object], cancelled: Callable[[], bool] | None) -> Tried:
    if cancelled is not None and cancelled():
        raise Cancelled
    try:
        trial = task.trial(changed, cancelled)
        return Tried(dict(changed), trial.figures, trial.counts)
    except RunProblem as problem:
        return Tried(dict(changed), problem=str(problem))


def _here(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    executor: Executor | None,
    cancelled: Callable[[], bool] | None,
) -> Iterator[Tried]:
    task = sharing(task, variants)

    def work(changed: Mapping[str, object]) -> Tried:
        return _one(task, changed, cancelled)

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
    real = task.ground.panel.background
    seen = Recorded(real) if real is not None else None
    watched = replace(task.ground, panel=replace(task.ground.panel, background=seen))
    yield _one(replace(task, ground=watched), variants[0], cancelled)
    data = packed(task.program, task.shelf, task.finer, task.ground, task.account, seen)
    shared: Any = executor.share(data) if isinstance(executor, Sharing) else data
    rest = [dict(v) for v in variants[1:]]
    size = max(-(-len(rest) // _BATCHES), 1)
    batches = [rest[k : k + size] for k in range(0, len(rest), size)]
    futures = [executor.submit(try_batch, shared, dict(task.settings), batch) for batch in batches]
    try:
        for future, batch in zip(futures, batches, strict=True):
            while True:
                if cancelled is not None and cancelled():
                    raise Cancelled
                try:
                    made = future.result(timeout=0.1)
                    break
                except TimeoutError:
                    continue
            for one, changed in zip(made, batch, strict=True):
                yield _one(task, changed, cancelled) if one is None else one
    finally:
        for future in futures:
            future.cancel()


def try_batch(data: bytes, settings: dict[str, object], variants: Sequence[Mapping[str, object]]) -> list[Tried | None]:
    """Tries some variants where only what was sent is there; None for one that asks for more."""
    program, ground, account = unpacked(data)
    task = sharing(Task(program, ground, account, settings), variants)
    made: list[Tried | None] = []
    for changed in variants:
        try:
            made.append(_one(task, changed, None))
        except NotPacked:
            made.append(None)
    return made
