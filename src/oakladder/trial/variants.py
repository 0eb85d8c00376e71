"""Variants of a rule: the same script with other settings, each on trial on the same ground."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Executor
from dataclasses import dataclass

from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.rung.program import Program
from oakladder.trial.money import Account
from oakladder.trial.trial import Ground, Trial, put_on_trial

#: More than so many variants are not gone through at once.
MOST_VARIANTS = 100_000


@dataclass(frozen=True, slots=True)
class Sweep:
    """A setting over a range."""

    name: str
    values: tuple[float, ...]

    @classmethod
    def parse(cls, text: str) -> Sweep:
        """``n=5..60/5``: from, to, step (1 unless said). Raises `RunProblem` with a sentence."""
        name, equals, span = text.partition("=")
        first, dots, rest = span.partition("..")
        last, slash, step = rest.partition("/")
        try:
            if not (equals and dots and name.strip()):
                raise ValueError
            low, high, by = float(first), float(last), float(step) if slash else 1.0
        except ValueError:
            raise RunProblem(f"A range is written n=5..60/5 (from, to, step), and `{text}` is none.") from None
        if not (by > 0 and high >= low and math.isfinite(high - low)):
            raise RunProblem(f"The range `{text}` must rise, by a step above 0.")
        count = int((high - low) / by + 1e-9) + 1
        if count > MOST_VARIANTS:
            raise RunProblem(f"The range `{text}` has {count:,} values; {MOST_VARIANTS:,} are allowed.")
        return cls(name.strip(), tuple(low + by * k for k in range(count)))


def grid_of_settings(sweeps: Sequence[Sweep]) -> Iterator[dict[str, object]]:
    """Every combination of some ranges."""
    for values in itertools.product(*(s.values for s in sweeps)):
        yield {s.name: v for s, v in zip(sweeps, values, strict=True)}


def swept(
    program: Program,
    ground: Ground,
    account: Account,
    settings: Mapping[str, object],
    sweeps: Sequence[Sweep],
    *,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
) -> Iterator[tuple[dict[str, object], Trial | RunProblem]]:
    """The trial of every combination, in order; the problem of one that cannot run. Raises `RunProblem`, `Cancelled`."""
    combinations = list(grid_of_settings(sweeps))
    if len(combinations) > MOST_VARIANTS:
        raise RunProblem(f"That makes {len(combinations):,} variants; {MOST_VARIANTS:,} are allowed.")

    def one(changed: dict[str, object]) -> Trial | RunProblem:
        if cancelled is not None and cancelled():
            raise Cancelled
        try:
            return put_on_trial(program, ground, account, {**settings, **changed}, cancelled=cancelled, thorough=True)
        except RunProblem as problem:
            return problem

    made = executor.map(one, combinations) if executor is not None else map(one, combinations)
    for k, (changed, trial) in enumerate(zip(combinations, made, strict=True)):
        if progress is not None:
            progress((k + 1) / len(combinations))
        yield changed, trial
