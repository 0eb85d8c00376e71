"""The seal of history on disk: from which day on each symbol's history is sealed, and which rules have seen it.

It belongs to the bars, not to a rule or a file: the day of a symbol is fixed when a list with it is first judged, and holds
for every list, timeframe and rule from then on. Entries are only ever added.
"""

from __future__ import annotations

import contextlib
import threading
import time
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

import msgspec

from oakladder.disk import copy_aside, read_regular
from oakladder.engine.sealed import SealedDays
from oakladder.rung.texts import agree, count_words
from oakladder.trial.seal import Seen
from oakladder.trial.spans import Days, first_sealed_day
from oakladder.user.json_lines import append_lines, read_lines


class Fixed(msgspec.Struct, frozen=True, tag="sealed"):
    """A list was judged for the first time: from which day on (since 1970) the symbols are sealed that were not yet."""

    moment: float
    list_name: str
    day: int
    symbols: tuple[str, ...]


#: Gives the first and the last day of those of some symbols that have bars.
DaysOf = Callable[[Sequence[str]], Days]


class Seals:
    """Which days are sealed, and who has seen them. ``tell`` receives messages about a damaged file. Thread-safe.

    Where the file cannot be written, the days hold as long as this object does.
    """

    def __init__(self, path: Path, tell: Callable[[str], None] = lambda _: None):
        self.path, self._tell = path, tell
        self._turn = threading.Lock()
        self._state: tuple[int, int] | None = None
        self._days: dict[str, int] = {}
        self._lists: dict[str, int] = {}
        self._seen: tuple[Seen, ...] = ()
        #: What could not be written.
        self._unwritten: list[Fixed | Seen] = []

    def sealed(self, list_name: str, symbols: Sequence[str], days_of: DaysOf) -> SealedDays:
        """The sealed days of the symbols of a list; fixed now for symbols that were never judged. Symbols without bars have
        none. Raises what reading bars raises."""
        # Bars are read, and the file is written, without holding the turn: the window asks what is known.
        fresh, day = self._unfixed(list_name, symbols)
        there = tuple(days_of(fresh)) if fresh else ()
        if there:
            day = first_sealed_day(days_of(symbols)) if day is None else day
            assert day is not None
            self._add(Fixed(time.time(), list_name, day, there))
        return self.known(symbols)

    def _unfixed(self, list_name: str, symbols: Sequence[str]) -> tuple[list[str], int | None]:
        """The symbols that have no day yet, and the day of the list if it has one."""
        with self._turn:
            self._read()
            fresh = [s for s in dict.fromkeys(symbols) if s not in self._days]
            return fresh, self._lists.get(list_name.casefold())

    def known(self, symbols: Iterable[str]) -> SealedDays:
        """The sealed days of the symbols that were ever judged; nothing is fixed."""
        with self._turn:
            self._read()
            return SealedDays({s: self._days[s] for s in symbols if s in self._days})

    @property
    def seen(self) -> tuple[Seen, ...]:
        """Every time that a rule saw sealed days, oldest first."""
        with self._turn:
            self._read()
            return self._seen

    def note(self, seen: Seen) -> None:
        """Writes down that a rule has seen sealed days."""
        self._add(seen)

    def _add(self, entry: Fixed | Seen) -> None:
        kept: list[Fixed | Seen] = []
        try:
            append_lines(self.path, [entry])
        except OSError:
            kept.append(entry)
        with self._turn:
            self._unwritten += kept
            self._state = None
            self._read()

    def _read(self) -> None:
        """Reads the file again where it is another than before: other programs add to it."""
        try:
            stat = self.path.stat()
            state = stat.st_mtime_ns, stat.st_size
        except OSError:
            state = 0, 0
        if state == self._state:
            return
        entries: list[Fixed | Seen] = []
        damaged = 0
        with contextlib.suppress(OSError):
            entries, damaged = read_lines(read_regular(self.path), Fixed | Seen)
        if damaged:
            with contextlib.suppress(OSError):
                copy_aside(self.path)
            self._tell(
                f"{count_words(damaged, 'line')} of {self.path.name}, which says what history is sealed, "
                f"{agree(damaged, 'is', 'are')} damaged and left out; a copy is kept beside it."
            )
        self._state = state
        self._take([*entries, *self._unwritten])

    def _take(self, entries: Iterable[Fixed | Seen]) -> None:
        days: dict[str, int] = {}
        lists: dict[str, int] = {}
        seen = []
        for one in entries:
            if isinstance(one, Seen):
                seen.append(one)
                continue
            lists.setdefault(one.list_name.casefold(), one.day)
            for symbol in one.symbols:
                days.setdefault(symbol, one.day)
        self._days, self._lists, self._seen = days, lists, tuple(sorted(seen, key=lambda s: s.moment))
