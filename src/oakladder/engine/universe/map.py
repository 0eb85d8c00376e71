"""Going through a market in parts: a few symbols at a time, so that memory stays small and stopping takes effect soon."""

from __future__ import annotations

import logging
import threading
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import Future
from dataclasses import dataclass, field
from enum import StrEnum
from typing import Generic, TypeVar

from oakladder.bars.errors import DataProblem, NoBars
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.store.offsets import FileChanged, Unreadable
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.malloc_tuning import keep_freed_memory
from oakladder.engine.stream.checkpoint_store import CheckpointStore
from oakladder.engine.universe.bars import StoredBars, UniverseView, Wanted
from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.tuning import TUNING

_log = logging.getLogger(__name__)
#: A symbol is taken to have so many bars at least.
USUAL_BARS = 2500
#: So often is a part begun whose files change while they are read.
_TRIES = 3
Progress = Callable[[float], None]
T = TypeVar("T")


class SkipReason(StrEnum):
    """Why a symbol was left out, in the words of a cell."""

    NO_BARS = "no bars"
    NOT_READ = "not read"


@dataclass(frozen=True, slots=True)
class SkippedSymbol:
    """A symbol that could not be looked at, and why."""

    symbol: str
    reason: str
    code: SkipReason = SkipReason.NOT_READ


@dataclass(frozen=True, slots=True)
class UniverseTask(Generic[T]):
    """A computation over the bars of symbols.

    A symbol takes part if it has bars on all of the ``frames``; ``wanted`` says how many of its last ones are looked
    at (all, where nothing is said); ``do`` looks at them, and is never given a view without a symbol.
    """

    frames: Sequence[BarSelection]
    do: Callable[[UniverseView], T]
    wanted: Callable[[StoredBars], Wanted] | None = None
    #: Where values that never forget go on, where ``wanted`` asks for them.
    states: CheckpointStore | None = None


@dataclass(slots=True)
class Outcome(Generic[T]):
    """The results of a task: of each part, in order, the skipped symbols, and how many were visited."""

    made: list[T] = field(default_factory=list)
    skipped: list[SkippedSymbol] = field(default_factory=list)
    looked_at: int = 0

    def add(self, other: Outcome[T]) -> None:
        self.made += other.made
        self.skipped += other.skipped
        self.looked_at += other.looked_at


def map_universe(
    library: BarSource,
    symbols: Iterable[str],
    work: UniverseTask[T],
    *,
    context: RunContext = PLAIN,
) -> Outcome[T]:
    """Does some work on a market, part by part; with an executor in the context several at once. Raises `RunProblem`, `Cancelled`.

    A symbol without the needed bars, or with an unexpected error, is skipped with a
    sentence, and the others are gone through.
    """
    keep_freed_memory()
    stop = threading.Event()

    def stopped() -> bool:
        return stop.is_set() or (context.cancelled is not None and context.cancelled())

    names = list(dict.fromkeys(symbols))
    each = _bars_each(library, names, work.frames)
    size = max(TUNING.part_bars // each, 1)
    thorough = len(names) * each >= TUNING.thorough_bars
    parts = [_Part(library, names[k : k + size], work, thorough, stopped) for k in range(0, len(names), size)]
    executor = context.executor
    waiting: list[Future[Outcome[T]]] = [executor.submit(p.done) for p in parts] if executor is not None else []
    outcome: Outcome[T] = Outcome()
    try:
        for k, part in enumerate(parts):
            outcome.add(waiting[k].result() if waiting else part.done())
            context.report((k + 1) / len(parts))
    finally:
        stop.set()
        for future in waiting:
            future.cancel()
        library.settle()
    if work.states is not None:
        work.states.settle()
    return outcome


def _bars_each(library: BarSource, symbols: list[str], frames: Sequence[BarSelection]) -> int:
    """About how many bars of the finest timeframe a symbol has, by the first few."""
    bars = USUAL_BARS
    finest = min(frames, key=lambda f: f.timeframe.order)
    known = library.at_hand(symbols[:3], finest.timeframe, finest.extended)
    for symbol in symbols[:3]:
        try:
            bars = max(bars, known.get(symbol) or library.stored(symbol, finest.timeframe, finest.extended))
        except Exception:  # the error is reported with its part
            continue
    return bars


@dataclass(slots=True)
class _Part(Generic[T]):
    """Some symbols of a market, and the task for them."""

    library: BarSource
    symbols: list[str]
    work: UniverseTask[T]
    thorough: bool
    stopped: Callable[[], bool]

    def done(self) -> Outcome[T]:
        """Does the work, again where a file was replaced meanwhile, and without a symbol whose file is in the way."""
        unreadable: list[SkippedSymbol] = []
        changes = 0
        while True:
            if self.stopped():
                raise Cancelled
            left_out = {s.symbol for s in unreadable}
            try:
                made = self._do([s for s in self.symbols if s not in left_out])
            except (Cancelled, RunProblem):
                raise
            except FileChanged:  # an import has put a newer file there: what it has now is read
                changes += 1
                if changes == _TRIES:
                    raise
            except Unreadable as error:  # one that cannot be read spoils nothing for the others
                unreadable.append(SkippedSymbol(error.symbol, str(error)))
            except Exception as error:
                _log.exception("a part of %d symbols failed", len(self.symbols))
                made = self._one_by_one([s for s in self.symbols if s not in left_out], error)
                break
            else:
                break
        made.skipped = [*unreadable, *made.skipped]
        return made

    def _do(self, symbols: list[str]) -> Outcome[T]:
        there, skipped = with_bars(self.library, symbols, self.work.frames)
        if not there:
            return Outcome([], skipped)
        stored = StoredBars(self.library, there, self.thorough, self.stopped, self.work.states)
        view = UniverseView(stored, self.work.wanted(stored) if self.work.wanted is not None else None)
        return Outcome([self.work.do(view)], skipped, len(there))

    def _one_by_one(self, symbols: list[str], error: Exception) -> Outcome[T]:
        """The task for each symbol separately, without the symbols on which it fails; raises if it fails on all."""
        outcome: Outcome[T] = Outcome()
        for symbol in symbols:
            try:
                outcome.add(self._do([symbol]))
            except (Cancelled, RunProblem):
                raise
            except Exception as trouble:
                outcome.skipped.append(SkippedSymbol(symbol, sentence_of(trouble)))
        if not outcome.made:
            raise error
        return outcome


def with_bars(
    library: BarSource, symbols: list[str], frames: Sequence[BarSelection]
) -> tuple[list[str], list[SkippedSymbol]]:
    """The symbols whose bars can be read on all of some timeframes, and the others with the reason."""
    there, skipped = symbols, []
    seen = set()
    for frame in sorted(frames, key=lambda f: f.timeframe.order):
        if frame.base in seen:
            continue  # made of the same bars, which are known to be there
        seen.add(frame.base)
        good, known = [], library.at_hand(there, frame.timeframe, frame.extended)
        for symbol in there:
            trouble = None if symbol in known else _trouble(library, symbol, frame)
            if trouble is None:
                good.append(symbol)
            else:
                skipped.append(trouble)
        there = good
    return there, skipped


def _trouble(library: BarSource, symbol: str, frame: BarSelection) -> SkippedSymbol | None:
    """Why a symbol cannot be looked at on a timeframe."""
    try:
        if library.stored(symbol, frame.timeframe, frame.extended):
            return None
        return SkippedSymbol(symbol, f"It has no {frame.timeframe} bars.", SkipReason.NO_BARS)
    except KeyError:
        return SkippedSymbol(symbol, "There is no such symbol.")
    except NoBars as error:
        return SkippedSymbol(symbol, str(error), SkipReason.NO_BARS)
    except (DataProblem, ValueError) as error:
        return SkippedSymbol(symbol, str(error))
    except Exception as error:
        _log.exception("%s cannot be looked at on %s", symbol, frame)
        return SkippedSymbol(symbol, sentence_of(error))


def sentence_of(error: Exception) -> str:
    """What is said of a symbol on which something went wrong."""
    if isinstance(error, DataProblem):
        return str(error)
    return f"An unexpected error occurred ({type(error).__name__}); the log has the details."
