"""Writes what a feed tells into a bar library: final minutes in batches, a second after they came at the latest.

What the client tells in its thread is collected; a separate thread appends it, so that a slow disk holds up nothing else.
Up to which minute nothing is missing of a symbol is written with the minutes that it speaks of.
"""

from __future__ import annotations

import logging
import threading
import time
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from oakladder.bars.calendar_words import hours_of, is_sound
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.append_log import Tail, tail_of
from oakladder.bars.store.appending import FOLD_MINUTES, Appended, Appender
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import DEMO, SymbolInfo
from oakladder.bars.timeframes import ONE_MINUTE
from oakladder.bars.zones import is_zone
from oakladder.feeds.follower import Follower, Minute
from oakladder.feeds.messages import Described
from oakladder.work import service_thread

_log = logging.getLogger(__name__)
#: Seconds between two batches, and before a batch is tried again that could not be written.
BETWEEN, AGAIN = 0.25, 1.0
#: Seconds after which the market's time is written though nothing else came.
BETWEEN_TIMES = 1.0
#: Names of symbols that are longer than this, or hold other signs, are not taken into the library.
_MOST_NAME = 32


@dataclass(slots=True)
class News:
    """What came since the last time, of which the final minutes are in the library now."""

    appended: Appended = field(default_factory=Appended)
    #: The minute in progress of each symbol that has one.
    forming: dict[str, Minute] = field(default_factory=dict)
    #: Symbols of which something may be missing, and since when (monotonic seconds).
    lacking: dict[str, float] = field(default_factory=dict)
    #: Of each symbol the latest minute that came, final or in progress, and the latest final one.
    latest: dict[str, int] = field(default_factory=dict)
    last: dict[str, int] = field(default_factory=dict)
    #: The market's time, UTC seconds; None before a server has told it.
    now: int | None = None

    def followed_by(self, later: News) -> News:
        """Both as one: the later one knows everything but the minutes that were new in the earlier one."""
        new = dict(self.appended.new)
        for name, times in later.appended.new.items():
            new[name] = np.concatenate([new[name], times]) if name in new else times
        return replace(later, appended=Appended(new, later.appended.corrected, later.appended.refused))


@dataclass(slots=True)
class _Batch:
    """What was collected, not written yet."""

    minutes: dict[str, dict[int, Minute]] = field(default_factory=dict)
    sure: dict[str, int] = field(default_factory=dict)
    described: dict[str, Described] = field(default_factory=dict)
    now: int | None = None


class Recorder:
    """The sink of a `FeedClient` that writes into a library.

    ``news`` is called in the recorder's thread after each batch, ``told`` in the client's or the recorder's with a
    sentence. `connection` gets the name of a server that has said hello, or a sentence why there is none.
    """

    def __init__(
        self,
        library: BarLibrary,
        news: Callable[[News], None],
        told: Callable[[str], None],
        connection: Callable[[str | None, str], None] = lambda name, why: None,
    ):
        self.library, self._news, self._told, self._connection = library, news, told, connection
        self._appender = Appender(library)
        self._lock, self._wake = threading.Lock(), threading.Event()
        self._batch = _Batch()
        self._described: dict[str, Described] = {}
        self._sure: dict[str, int] = {}
        self._next = News()
        self._is_ending = False
        self._unknown: Counter[str] = Counter()
        self._refused = 0
        self._trouble = ""
        self._written = 0.0
        self._thread: threading.Thread | None = None
        #: The symbols that have been waited for, as of the last pause.
        self._waited: dict[str, float] = {}

    def last_minutes(self) -> dict[str, int]:
        """Of each symbol the last minute before the first that may be missing, UTC seconds: what the feed is asked since.

        The history of the demo market is made first, so that live minutes follow it. Raises `DataProblem`.
        """
        known = self.library.log.sure()
        made = {}
        for symbol, info in self.library.infos.items():
            last = known.get(symbol)
            if last is None and (info.origin == DEMO or self.library.path(symbol, ONE_MINUTE).exists()):
                last = self.library.last_stored(symbol, ONE_MINUTE)
            if last is not None:
                made[symbol] = last
        self._sure = dict(known)
        return made

    def start(self) -> None:
        """Begins to write."""
        self._thread = service_thread("feed recorder", self._run)

    def stop(self, patience: float = 30.0) -> None:
        """Writes what was collected, and ends."""
        self._is_ending = True
        self._wake.set()
        if self._thread is not None:
            self._thread.join(patience)

    # --- what the client tells, in its thread -----------------------------------------------------------

    def connected(self, name: str) -> None:
        self._connection(name, "")

    def lost(self, why: str) -> None:
        with self._lock:
            self._next.forming.clear()
        self._connection(None, why)

    def said(self, sentence: str) -> None:
        self._told(sentence)

    def described(self, symbols: list[Described]) -> None:
        self._described |= {d.symbol: d for d in symbols}

    def final(self, minute: Minute) -> None:
        name = minute.symbol
        if name not in self.library.infos and not self._is_new(name):
            return
        with self._lock:
            self._batch.minutes.setdefault(name, {})[minute.time] = minute
            news = self._next
            news.last[name] = max(minute.time, news.last.get(name, minute.time))
            news.latest[name] = max(minute.time, news.latest.get(name, minute.time))
            held = news.forming.get(name)
            if held is not None and held.time <= minute.time:
                del news.forming[name]

    def forming(self, minute: Minute) -> None:
        with self._lock:
            self._next.forming[minute.symbol] = minute
            self._next.latest[minute.symbol] = max(minute.time, self._next.latest.get(minute.symbol, minute.time))

    def whole(self, symbols: list[str]) -> None:
        pass  # `pause` sees it

    def market_time(self, now: int) -> None:
        with self._lock:
            self._batch.now = now

    def pause(self, follower: Follower) -> None:
        with self._lock:
            since = time.monotonic()
            self._waited = {name: self._waited.get(name, since) for name in follower.lacking}
            sure = follower.sure()
            self._batch.sure = {n: t for n, t in sure.items() if self._sure.get(n) != t and n in self.library.infos}
            self._next.now = follower.now

    def _is_new(self, name: str) -> bool:
        """Whether a symbol can be taken into the library; it is in the batch then."""
        described = self._described.get(name)
        if described is not None and 0 < len(name) <= _MOST_NAME and name.isprintable() and name == name.strip():
            with self._lock:
                self._batch.described[name] = described
            return True
        self._unknown[name] += 1
        if self._unknown[name] == 1 and len(self._unknown) <= 5:
            said = "".join(c for c in name if c.isprintable())[:_MOST_NAME]
            self._told(
                f"The feed sends {said}, which it does not describe and the library does not have: it is left out."
            )
        return False

    # --- writing ------------------------------------------------------------------------------------

    def _run(self) -> None:
        while True:
            self._wake.wait(BETWEEN if not self._trouble else AGAIN)
            ending = self._is_ending
            self.write()
            if ending:
                return

    def write(self) -> None:
        """Writes what was collected; what cannot be written is kept, and tried again."""
        with self._lock:
            batch, self._batch = self._batch, _Batch()
            news = self._next
            self._next = News(forming=dict(news.forming), latest=dict(news.latest), last=dict(news.last), now=news.now)
            news.lacking = dict(self._waited)
        try:
            self._add(batch)
            tails = {name: _tail(rows) for name, rows in batch.minutes.items() if name in self.library.infos}
            # The market's time alone need not be written each time: days are made by it, soon enough.
            if tails or batch.sure or (batch.now is not None and time.monotonic() - self._written > BETWEEN_TIMES):
                news.appended = self._appender.append(tails, batch.sure, batch.now)
                self._sure |= batch.sure
                self._written = time.monotonic()
            if tails:
                self._appender.fold(most=1, at_least=FOLD_MINUTES)
        except DataProblem as error:
            self._put_back(batch)
            if str(error) != self._trouble:
                self._trouble = str(error)
                self._told(f"Live minutes cannot be written, and are kept until they can: {error}")
            return
        except Exception:
            _log.exception("live minutes could not be written")
            self._put_back(batch)
            if not self._trouble:
                self._trouble = "unforeseen"
                self._told("Live minutes cannot be written; the log has the details. They are kept until they can.")
            return
        self._trouble = ""
        self._tell_of(news.appended)
        try:
            self._news(news)
        except Exception:
            _log.exception("live minutes could not be looked at")
            self._told("Something went wrong with live minutes; the log has the details.")

    def _put_back(self, batch: _Batch) -> None:
        with self._lock:
            newer, self._batch = self._batch, batch
            for name, rows in newer.minutes.items():
                batch.minutes.setdefault(name, {}).update(rows)
            batch.sure |= newer.sure
            batch.described |= newer.described
            batch.now = newer.now if newer.now is not None else batch.now

    def _add(self, batch: _Batch) -> None:
        """Takes symbols into the library that it does not know."""
        new = [info_of(d) for name, d in batch.described.items() if name not in self.library.infos]
        if new:
            self.library.add_symbols(new)
            self.library.settle()

    def _tell_of(self, appended: Appended) -> None:
        for name, times in appended.corrected.items():
            _log.info("%d minutes of %s were corrected by the feed, the first at %d", len(times), name, times[0])
        refused = sum(appended.refused.values())
        if refused:
            self._refused += refused
            names = ", ".join(sorted(appended.refused)[:5])
            self._told(
                f"Corrections of minutes more than seven days old were refused ({names}), {self._refused:,} so far."
            )


def _tail(rows: dict[int, Minute]) -> Tail:
    return tail_of([(time, *rows[time][2:]) for time in sorted(rows)])


def info_of(described: Described) -> SymbolInfo:
    """What is known of a symbol by what a feed says of it; parts that make no sense are as usual."""
    zone = described.zone if is_zone(described.zone) else "UTC"
    calendar = Calendar(zone)
    try:
        start, end = hours_of(described.session)
        made = Calendar(zone, start, end, min(start, 0) if start < 0 else 0, 1440 if start >= 0 else start + 1440)
        calendar = made if is_sound(made) else calendar
    except DataProblem:
        pass
    tick = described.tick if 0 < described.tick < 1e9 else 0.01
    name = "".join(c for c in described.name if c.isprintable())[:80] or described.symbol
    kind = "".join(c for c in described.kind if c.isprintable())[:20] or "share"
    return SymbolInfo(described.symbol, name, "", kind, tick, calendar)
