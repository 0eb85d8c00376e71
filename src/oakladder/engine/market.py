"""Going through a market in parts: a few symbols at a time, so that memory stays small and stopping takes effect soon."""

from __future__ import annotations

import ctypes
import logging
import threading
from collections.abc import Callable, Hashable, Iterable, Mapping
from concurrent.futures import Executor, Future
from dataclasses import dataclass, field
from functools import lru_cache
from itertools import pairwise
from typing import TypeVar

import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.panels import resample_panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.store.library import stored_base
from oakladder.bars.store.offsets import FileChanged, Unreadable
from oakladder.bars.timeframes import BarUnit, Timeframe
from oakladder.engine.prepare import THOROUGH_BARS
from oakladder.engine.run import Result, run
from oakladder.rung.plan.ops import Op
from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.rung.program import Program

_log = logging.getLogger(__name__)
#: About this many bars are looked at together.
PART_BARS = 800_000
#: So often is a part begun whose files change while they are read.
_TRIES = 3
#: A timeframe, and whether hours outside the session belong to it.
Frame = tuple[Timeframe, bool]
#: Numbers of glibc's `mallopt`: from how much free memory on some is given back; from what size on it is separate.
_TRIM_THRESHOLD, _MMAP_THRESHOLD, _KEPT_BYTES = -1, -3, 64_000_000
Progress = Callable[[float], None]
T = TypeVar("T")


@dataclass(frozen=True, slots=True)
class Skipped:
    """A symbol that could not be looked at, and why."""

    symbol: str
    reason: str

    @property
    def short(self) -> str:
        """The reason in a word or two, for a cell."""
        return "no bars" if self.reason.startswith(("There are no", "It has no")) else "not read"


@dataclass(slots=True)
class MarketPart:
    """Some symbols of a market. Every panel has the same symbols in the same order."""

    library: BarSource
    symbols: list[str]
    #: Whether so much is looked at in all that thoroughly compiled code pays.
    thorough: bool = False
    skipped: list[Skipped] = field(default_factory=list)
    #: Asked often while the part is run, so that stopping takes effect soon.
    cancelled: Callable[[], bool] | None = None
    #: Whatever the work wants to find again within the part.
    wanted: dict[Hashable, list[Op]] = field(default_factory=dict)
    _wholes: dict[Frame, Panel] = field(default_factory=dict)
    #: Bars left out of a stored timeframe, and of the one that longer ones are made of.
    _cuts: dict[Frame, np.ndarray] = field(default_factory=dict)
    _longer_cuts: dict[Frame, np.ndarray] = field(default_factory=dict)
    _wanted_bars: dict[Frame, np.ndarray] = field(default_factory=dict)
    _bases: dict[tuple[Frame, bool], Panel] = field(default_factory=dict)
    _panels: dict[Frame, Panel] = field(default_factory=dict)
    _results: dict[Hashable, Result] = field(default_factory=dict)

    def need(self, frames: Iterable[Frame]) -> None:
        """Leaves out the symbols whose bars cannot be read on one of the timeframes (with or without extended hours)."""
        seen = set()
        for frame, extended in sorted(frames, key=lambda f: f[0].order):
            if (frame.intraday, extended and frame.intraday) in seen:
                continue  # made of the same bars, which are known to be there
            seen.add((frame.intraday, extended and frame.intraday))
            good = []
            for symbol in self.symbols:
                reason = _trouble(self.library, symbol, frame, extended)
                if reason:
                    self.skipped.append(Skipped(symbol, reason))
                else:
                    good.append(symbol)
            self.symbols = good

    def leave_out(self, symbol: str, reason: str) -> None:
        """Goes on without a symbol."""
        self.symbols.remove(symbol)
        self.skipped.append(Skipped(symbol, reason))

    def again(self, symbols: list[str]) -> MarketPart:
        """A part of some of its symbols, to look at all of their bars."""
        return MarketPart(self.library, symbols, self.thorough, cancelled=self.cancelled)

    def panel(self, timeframe: Timeframe, extended: bool = False) -> Panel:
        """The bars of the part's symbols on a timeframe; without what `shorten` has cut off."""
        frame = (timeframe, extended and timeframe.intraday)
        if frame not in self._panels:
            base = _base_of(frame)
            if frame == base:
                made = self._cut(base, self._cuts)
            else:
                made = resample_panel(self._cut(base, self._longer_cuts), timeframe)
                if self._is_short(frame, made):
                    made = resample_panel(self._whole(base), timeframe)
                made.earlier = self.library.earlier(self.symbols, timeframe)
            self._panels[frame] = made
        return self._panels[frame]

    def _cut(self, base: Frame, cuts: Mapping[Frame, np.ndarray]) -> Panel:
        """Stored bars without those that were left out; the same for all longer timeframes."""
        whole = self._whole(base)
        if base not in cuts:
            return whole
        key = (base, cuts is self._cuts)
        if key not in self._bases:
            self._bases[key] = whole.after(cuts[base])
        return self._bases[key]

    def _is_short(self, frame: Frame, made: Panel) -> bool:
        """Whether fewer longer bars came of the bars that were left than are wanted: a market may trade on days
        that its calendar does not know."""
        wanted = self._wanted_bars.get(frame)
        if made.skipped is None or wanted is None:
            return False
        return bool(((made.skipped > 0) & (np.diff(made.offsets) < wanted)).any())

    def _whole(self, base: Frame) -> Panel:
        """All stored bars; no column of them is read yet."""
        if base not in self._wholes:
            made = self.library.stored_panel(self.symbols, *base)
            made.earlier = self.library.earlier(self.symbols, base[0])
            self._wholes[base] = made
        return self._wholes[base]

    def counts(self, frame: Frame) -> np.ndarray:
        """How many stored bars each symbol has from which those of a timeframe are made."""
        return np.diff(self._whole(_base_of(frame)).offsets)

    def at_most(self, frame: Frame) -> int:
        """From how many stored bars one bar of a timeframe is made at most, by the calendar."""
        if frame[0].intraday:
            return frame[0].count
        weekend = any(c.weekend for c in self._whole(_base_of(frame)).calendars)
        return {BarUnit.DAY: 1, BarUnit.WEEK: 7 if weekend else 5, BarUnit.MONTH: 31 if weekend else 23}[frame[0].span]

    def since(self, frame: Frame, base: Frame, bars: int) -> np.ndarray:
        """How many stored bars of a timeframe there are since the last so many stored bars of another began.

        As of the last that was complete then: one more.
        """
        if _base_of(frame) == _base_of(base):
            return np.full(len(self.symbols), bars)
        there, here = self._whole(_base_of(frame)).clocks, self._whole(_base_of(base)).clocks
        made = np.empty(len(self.symbols), dtype=np.int64)
        for k, (other, own) in enumerate(zip(there, here, strict=True)):
            made[k] = len(other) - np.searchsorted(other, own[max(len(own) - bars, 0)]) + 1
        return made

    def shorten(self, wanted: Mapping[Frame, np.ndarray | None]) -> None:
        """Leaves out bars at the beginning: for each timeframe so many of its last bars are wanted, or all.

        The first longer bar may have lost a part of its bars, so one more is kept than is asked for. A value that needs the bars left out must not be asked for. Call it before any panel is.
        """
        self._wanted_bars = {f: n + 1 for f, n in wanted.items() if n is not None}
        for base in dict.fromkeys(map(_base_of, wanted)):
            own, counts = wanted.get(base), self.counts(base)
            longer = [
                None if n is None else self.at_most(f) * (n + 1) for f, n in wanted.items() if _base_of(f) == base != f
            ]
            if own is not None:
                self._cuts[base] = np.maximum(counts - own, 0)
            known = [n for n in longer if n is not None]
            if not known or len(known) < len(longer):
                continue
            needed = np.maximum.reduce(known)
            # Where all is read anyway, the longer bars are made of that unless they need much less.
            if own is not None or base not in wanted or 2 * needed.mean() < counts.mean():
                self._longer_cuts[base] = np.maximum(counts - needed, 0)

    def run(
        self, program: Program, timeframe: Timeframe, extended: bool, settings: Mapping[str, object], ops: list[Op]
    ) -> Result:
        """What a program gives for some values on the part's bars; the same is not run twice."""
        key = (id(program), timeframe, extended, tuple(sorted(settings.items())), tuple(map(id, ops)))
        if key not in self._results:
            panel = self.panel(timeframe, extended)
            self._results[key] = run(
                program, panel, settings, outputs=[], extra=ops, thorough=self.thorough, cancelled=self.cancelled
            )
        return self._results[key]

    @property
    def is_shortened(self) -> bool:
        """Whether bars were left out."""
        return bool(self._cuts or self._longer_cuts)

    def release(self) -> None:
        """Lets go of everything that was read: the next part needs the room."""
        for kept in (self._panels, self._wholes, self._bases, self._cuts, self._longer_cuts, self._wanted_bars):
            kept.clear()
        self._results.clear()


def _trouble(library: BarSource, symbol: str, timeframe: Timeframe, extended: bool) -> str:
    try:
        return "" if library.stored(symbol, timeframe, extended) else f"It has no {timeframe} bars."
    except KeyError:
        return "There is no such symbol."
    except (DataProblem, ValueError) as error:
        return str(error)
    except Exception as error:
        _log.exception("%s cannot be looked at on %s", symbol, timeframe)
        return sentence_of(error)


def _base_of(frame: Frame) -> Frame:
    """The stored bars from which those of a timeframe are made."""
    return stored_base(frame[0]), frame[1]


def aligned(panel: Panel, base: Panel) -> list[tuple[int, int]]:
    """Runs of symbols whose bars lie in the same way to each other in two panels of the same symbols."""
    return list(pairwise(sorted({0, *(b for _, b in panel.alike()), *(b for _, b in base.alike())})))


def parts(library: BarSource, symbols: Iterable[str], bars_each: int) -> list[MarketPart]:
    """A market cut into parts of about `PART_BARS` bars, for symbols of about so many bars each."""
    names = list(dict.fromkeys(symbols))
    size = max(PART_BARS // max(bars_each, 1), 1)
    thorough = len(names) * bars_each >= THOROUGH_BARS
    return [MarketPart(library, names[k : k + size], thorough) for k in range(0, len(names), size)]


@lru_cache(maxsize=1)
def _keep_freed_memory() -> None:
    """Asks the C library to keep what a part frees for the next part, and not to fetch it anew from the system.

    Fetching costs more than all that is then done with it. Where there is no such call, nothing is lost but time.
    """
    adjust = getattr(ctypes.CDLL(None), "mallopt", None)
    if adjust is not None:
        adjust(_TRIM_THRESHOLD, _KEPT_BYTES)
        adjust(_MMAP_THRESHOLD, _KEPT_BYTES // 2)


def survey(
    pieces: list[MarketPart],
    work: Callable[[MarketPart], T],
    *,
    executor: Executor | None = None,
    progress: Progress | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> list[T]:
    """Does some work on each part, in order; with an executor several at once. Raises `Cancelled`.

    A symbol on which the work fails as nobody foresaw is left out with a sentence, and the others are gone through.
    """
    _keep_freed_memory()
    stop = threading.Event()

    def stopped() -> bool:
        return stop.is_set() or (cancelled is not None and cancelled())

    def guarded(part: MarketPart) -> list[T]:
        if stopped():
            raise Cancelled
        part.cancelled = stopped
        changes = 0
        while True:
            try:
                return [work(part)]
            except (Cancelled, RunProblem):
                raise
            except FileChanged:  # an import has put a newer file there: what it has now is read
                changes += 1
                if changes == _TRIES:
                    raise
            except Unreadable as error:  # one that cannot be read spoils nothing for the others
                part.leave_out(error.symbol, str(error))
            except Exception as error:
                _log.exception("a part of %d symbols failed", len(part.symbols))
                return _one_by_one(part, work, error)
            finally:
                part.release()

    made: list[T] = []
    waiting: list[Future[list[T]]] = [executor.submit(guarded, p) for p in pieces] if executor is not None else []
    try:
        for k, part in enumerate(pieces):
            made += waiting[k].result() if waiting else guarded(part)
            if progress is not None:
                progress((k + 1) / len(pieces))
    finally:
        stop.set()
        for future in waiting:
            future.cancel()
        if pieces:
            pieces[0].library.settle()
    return made


def _one_by_one(part: MarketPart, work: Callable[[MarketPart], T], error: Exception) -> list[T]:
    """The work on each symbol of a part by itself, without those on which it fails; raises if it fails on all."""
    made, kept = [], []
    for symbol in part.symbols:
        alone = part.again([symbol])
        alone.wanted = part.wanted
        try:
            made.append(work(alone))
        except (Cancelled, RunProblem):
            raise
        except Exception as trouble:
            part.skipped.append(Skipped(symbol, sentence_of(trouble)))
            continue
        kept += alone.symbols
        part.skipped += alone.skipped
    if part.symbols and not made:
        raise error
    part.symbols = kept
    return made


def sentence_of(error: Exception) -> str:
    """What is said of a symbol on which something went wrong."""
    if isinstance(error, DataProblem):
        return str(error)
    return f"Something went wrong with it that should not ({type(error).__name__}); the log has the details."
