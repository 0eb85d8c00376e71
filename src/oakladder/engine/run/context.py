"""The circumstances of a run: executor, cancellation, progress, kernel choice, buffers. The results do not depend on
them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Executor
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, TypeVar

from oakladder.rung.problems import Cancelled

if TYPE_CHECKING:
    from oakladder.engine.run.buffers import RunBuffers
    from oakladder.engine.run.signal_cache import SignalCache

T = TypeVar("T")
A = TypeVar("A")


@dataclass(frozen=True, slots=True)
class RunContext:
    """Passed on whole from the caller of a run to each function that does a part of it."""

    #: Does several parts at once; None for one after the other.
    executor: Executor | None = None
    #: Asked often; True stops the run with `Cancelled`.
    cancelled: Callable[[], bool] | None = None
    #: Called with how much is done, 0 to 1.
    progress: Callable[[float], None] | None = None
    #: Part of something large, which is worth the code that runs fastest.
    thorough: bool = False
    #: So many symbols side by side, by code that is waited for (0: one by one); None lets the run choose.
    lanes: int | None = None
    #: Arrays that the values are written into: the next run over the same bars takes less time, and writes over them.
    buffers: RunBuffers | None = None
    #: What variants of a rule share.
    signal_cache: SignalCache | None = None

    def check(self) -> None:
        """Raises `Cancelled` once the run shall stop."""
        if self.cancelled is not None and self.cancelled():
            raise Cancelled

    def report(self, share: float) -> None:
        """Reports how much is done, 0 to 1."""
        if self.progress is not None:
            self.progress(share)

    def map(self, work: Callable[[A], T], parts: Iterable[A]) -> Iterator[T]:
        """Some work on every part, the results in order."""
        return self.executor.map(work, parts) if self.executor is not None else map(work, parts)

    def of_part(self, k: int, of: int) -> RunContext:
        """The same for part ``k`` of ``of``: its progress is that share of the whole."""
        report = self.report
        return replace(self, progress=lambda share: report((k + share) / of)) if self.progress is not None else self

    def without_progress(self) -> RunContext:
        """The same for work that is not part of the progress."""
        return replace(self, progress=None) if self.progress is not None else self


#: One part after the other, without progress or cancellation.
PLAIN = RunContext()
