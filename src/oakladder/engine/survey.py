"""Going through a market in parts: a few symbols at a time, so that memory stays small and stopping takes effect soon."""

from __future__ import annotations

import threading
from collections.abc import Callable, Hashable, Iterable, Mapping
from concurrent.futures import Executor, Future
from dataclasses import dataclass, field
from typing import TypeVar

from oakladder.bars.as_of import BarSource
from oakladder.bars.errors import DataProblem
from oakladder.bars.series import Panel, resample_panel
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.rung.plan import Op
from oakladder.rung.program import Program

from .job import THOROUGH_BARS
from .run import Cancelled, Result, run

#: About this many bars are looked at together.
PART_BARS = 400_000
Progress = Callable[[float], None]
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Skipped:
    """A symbol that could not be looked at, and why."""

    symbol: str
    reason: str


@dataclass(slots=True)
class Part:
    """Some symbols of a survey. Every panel has the same symbols in the same order."""

    library: BarSource
    symbols: list[str]
    #: Whether so much is looked at in all that thoroughly compiled code pays.
    thorough: bool = False
    skipped: list[Skipped] = field(default_factory=list)
    #: Whatever the work wants to find again within the part.
    wanted: dict[Hashable, list[Op]] = field(default_factory=dict)
    _days_read: bool = False
    _panels: dict[tuple[Timeframe, bool], Panel] = field(default_factory=dict)
    _results: dict[Hashable, Result] = field(default_factory=dict)

    def need(self, frames: Iterable[tuple[Timeframe, bool]]) -> None:
        """Leaves out the symbols whose bars cannot be read on one of the timeframes (with or without extended hours)."""
        for frame, extended in sorted(frames, key=lambda f: f[0].order):
            if frame.order > ONE_DAY.order and self._days_read:
                continue  # made of days, which are known to be there
            self._days_read = self._days_read or frame == ONE_DAY
            good = []
            for symbol in self.symbols:
                reason = _trouble(self.library, symbol, frame, extended)
                if reason:
                    self.skipped.append(Skipped(symbol, reason))
                else:
                    good.append(symbol)
            self.symbols = good

    def panel(self, timeframe: Timeframe, extended: bool = False) -> Panel:
        """The bars of the part's symbols on a timeframe."""
        key = (timeframe, extended)
        if key not in self._panels:
            days = self._panels.get((ONE_DAY, False))
            if days is not None and timeframe.order > ONE_DAY.order:
                self._panels[key] = resample_panel(days, timeframe)
            else:
                self._panels[key] = self.library.panel(self.symbols, timeframe, extended)
        return self._panels[key]

    def run(
        self, program: Program, timeframe: Timeframe, extended: bool, settings: Mapping[str, object], ops: list[Op]
    ) -> Result:
        """What a program gives for some values on the part's bars; the same is not run twice."""
        key = (id(program), timeframe, extended, tuple(sorted(settings.items())), tuple(map(id, ops)))
        if key not in self._results:
            panel = self.panel(timeframe, extended)
            self._results[key] = run(program, panel, settings, outputs=[], extra=ops, thorough=self.thorough)
        return self._results[key]

    def release(self) -> None:
        """Lets go of everything that was read: the next part needs the room."""
        self._panels.clear()
        self._results.clear()


def _trouble(library: BarSource, symbol: str, timeframe: Timeframe, extended: bool) -> str:
    try:
        return "" if len(library.bars(symbol, timeframe, extended)) else f"It has no {timeframe} bars."
    except KeyError:
        return "There is no such symbol."
    except (DataProblem, ValueError) as error:
        return str(error)


def parts(library: BarSource, symbols: Iterable[str], bars_each: int) -> list[Part]:
    """A market cut into parts of about `PART_BARS` bars, for symbols of about so many bars each."""
    names = list(dict.fromkeys(symbols))
    size = max(PART_BARS // max(bars_each, 1), 1)
    thorough = len(names) * bars_each >= THOROUGH_BARS
    return [Part(library, names[k : k + size], thorough) for k in range(0, len(names), size)]


def survey(
    pieces: list[Part],
    work: Callable[[Part], T],
    *,
    executor: Executor | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> list[T]:
    """Does some work on each part, in order; with an executor several at once. Raises `Cancelled`."""
    stop = threading.Event()

    def guarded(part: Part) -> T:
        if stop.is_set() or (cancelled is not None and cancelled()):
            raise Cancelled
        try:
            return work(part)
        finally:
            part.release()

    made: list[T] = []
    waiting: list[Future[T]] = [executor.submit(guarded, p) for p in pieces] if executor is not None else []
    try:
        for k, part in enumerate(pieces):
            made.append(waiting[k].result() if waiting else guarded(part))
            if progress is not None:
                progress((k + 1) / len(pieces))
    finally:
        stop.set()
        for future in waiting:
            future.cancel()
        if pieces:
            pieces[0].library.settle()
    return made
