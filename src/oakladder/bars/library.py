"""The bar library on disk: one Arrow IPC file for each symbol and base timeframe, and a catalogue in SQLite.

Files are memory-mapped when read and written beside their place first, then moved there, so that a reader
never sees half a file.
"""

from __future__ import annotations

import errno
import os
import sqlite3
import threading
from collections import OrderedDict
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import TypeVar

import numpy as np
import pyarrow as pa

from .clockwork import shared
from .errors import DataProblem
from .places import FileChanged, Place, Places, Unreadable
from .series import (
    COLUMNS,
    Bars,
    Panel,
    ends_of,
    fits,
    panel_of,
    regular_times,
    resample,
    resample_panel,
    tidy,
)
from .sessions import Calendar
from .timeframes import ONE_DAY, ONE_MINUTE, Span, Timeframe


@dataclass(frozen=True, slots=True)
class SymbolInfo:
    """What the catalogue knows of a symbol."""

    symbol: str
    name: str
    sector: str
    kind: str
    tick: float
    calendar: Calendar
    #: Minutes between its stored bars within the day.
    step: int = 1

    @property
    def finest(self) -> Timeframe:
        """The shortest timeframe within the day that its stored bars can make."""
        return Timeframe(Span.MINUTES, self.step)

    @property
    def decimals(self) -> int:
        """Decimals that a price is written with."""
        return _decimals(self.tick)


@lru_cache(maxsize=64)
def _decimals(tick: float) -> int:
    return max(0, len(f"{tick:.8f}".rstrip("0").split(".")[1]))


#: The most bytes of bars that are remembered besides what lies in memory maps.
_MOST_HELD = 400_000_000
#: The most bytes of times that are remembered for panels; what follows from them is about as much again.
_MOST_CLOCKS = 100_000_000
#: Times are held once for all symbols that have them where at least so many have the same, on average.
_SHARING = 6
#: The end of a file's name, by whether it holds minutes.
_SUFFIX = {True: f".{ONE_MINUTE}.arrow", False: f".{ONE_DAY}.arrow"}
#: Why a sound file may be out of reach for now: it must not pass for damaged.
_NOT_DAMAGED = {errno.EACCES, errno.EPERM, errno.EMFILE, errno.ENFILE, errno.ENOMEM, errno.EIO}
_T = TypeVar("_T")
_SCHEMA = """
create table if not exists symbols (
    symbol text primary key, position integer, name text, sector text, kind text, tick real,
    zone text, start integer, end integer, early integer, late integer, weekend integer, holidays text,
    step integer not null default 1);
create table if not exists facts (name text primary key, value text);
"""


class BarLibrary:
    """Bars of many symbols in one folder."""

    def __init__(self, folder: Path):
        self.folder = folder
        folder.mkdir(parents=True, exist_ok=True)
        self._root = f"{folder}/"
        self._catalogue = folder / "catalogue.sqlite"
        self.places = Places(folder)
        with self._connect() as db:
            db.executescript(_SCHEMA)
            if "step" not in [row[1] for row in db.execute("pragma table_info(symbols)")]:
                db.execute("alter table symbols add column step integer not null default 1")
        self._lock = threading.Lock()
        self._making = threading.Lock()
        self._reading = threading.Lock()
        self._infos: dict[str, SymbolInfo] | None = None
        #: When the catalogue was last changed, as far as is known here.
        self._stamp = self._catalogue.stat().st_mtime_ns
        self._cache: OrderedDict[tuple[str, Timeframe, bool], Bars] = OrderedDict()
        self._held = 0
        self._clocks: OrderedDict[str, np.ndarray] = OrderedDict()
        self._clock_bytes = 0
        #: Makes a missing or damaged file again, where that can be done: (symbol, base timeframe) → bars.
        self.maker: Callable[[str, Timeframe], Bars] | None = None
        #: Sentences about files that were set aside.
        self.notices: list[str] = []

    def fresh(self) -> bool:
        """Takes in what another copy of the program has written meanwhile; tells whether there was anything."""
        stamp = self._catalogue.stat().st_mtime_ns
        changed, self._stamp = stamp != self._stamp, stamp
        if changed:
            self._infos = None
        stale = {
            symbol
            for symbol, frame, _ in list(self._cache)
            if frame in (ONE_MINUTE, ONE_DAY) and self._is_stale(symbol, frame)
        }
        for symbol in stale:
            self.forget(symbol)
        return changed or bool(stale)

    def _is_stale(self, symbol: str, base: Timeframe) -> bool:
        """Whether a file is not the one that was read."""
        path = self._file(symbol, base)
        known = self.places.known(path)
        try:
            facts = os.stat(path)
        except FileNotFoundError:
            return True
        return (facts.st_mtime_ns, facts.st_size) != (known.changed, known.size)

    def _connect(self) -> sqlite3.Connection:
        return sqlite3.connect(self._catalogue, timeout=10)

    # --- catalogue --------------------------------------------------------------------------------

    def add_symbols(self, infos: Sequence[SymbolInfo]) -> None:
        """Writes symbols into the catalogue: new ones after those that are there, known ones in their place."""
        known = {symbol: k for k, symbol in enumerate(self.infos)}
        new = [i.symbol for i in infos if i.symbol not in known]
        known |= {symbol: len(known) + k for k, symbol in enumerate(new)}
        rows = [
            (
                i.symbol,
                known[i.symbol],
                i.name,
                i.sector,
                i.kind,
                i.tick,
                i.calendar.zone,
                i.calendar.start,
                i.calendar.end,
                i.calendar.early,
                i.calendar.late,
                int(i.calendar.weekend),
                ",".join(map(str, sorted(i.calendar.holidays))),
                i.step,
            )
            for i in infos
        ]
        with self._connect() as db:
            db.executemany("insert or replace into symbols values (?,?,?,?,?,?,?,?,?,?,?,?,?,?)", rows)
        self._infos = None
        self._stamp = self._catalogue.stat().st_mtime_ns

    @property
    def infos(self) -> dict[str, SymbolInfo]:
        """Every symbol, in the catalogue's order."""
        if self._infos is None:
            with self._connect() as db:
                rows = db.execute(
                    "select symbol, name, sector, kind, tick, zone, start, end, early, late, weekend, holidays, step "
                    "from symbols order by position"
                ).fetchall()
            self._infos = {r[0]: SymbolInfo(r[0], r[1], r[2], r[3], r[4], _calendar(*r[5:12]), r[12]) for r in rows}
        return self._infos

    def fact(self, name: str) -> str | None:
        """A remembered fact about the library."""
        with self._connect() as db:
            row = db.execute("select value from facts where name = ?", (name,)).fetchone()
        return row[0] if row else None

    def remember(self, name: str, value: str) -> None:
        with self._connect() as db:
            db.execute("insert or replace into facts values (?, ?)", (name, value))

    # --- files ------------------------------------------------------------------------------------

    def path(self, symbol: str, base: Timeframe) -> Path:
        return Path(self._file(symbol, base))

    def _file(self, symbol: str, base: Timeframe) -> str:
        # Thousands are asked for at a time, and a path or a timeframe is slow to write.
        return f"{self._root}{symbol}{_SUFFIX[base.intraday]}"

    def write(self, bars: Bars) -> None:
        """Puts the bars of a symbol in place of what was there. Atomic."""
        arrays = {"time": pa.array(bars.times, pa.timestamp("s", "UTC")), **{n: pa.array(bars[n]) for n in COLUMNS}}
        if bars.timeframe.intraday:
            arrays["extended"] = pa.array(~bars.calendar.is_regular(bars.times))
        table = pa.table(arrays)
        path = self.path(bars.symbol, bars.timeframe)
        partial = path.with_suffix(f".{os.getpid()}-{threading.get_ident()}.partial")
        try:
            with pa.OSFile(str(partial), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
                writer.write_table(table)
            os.replace(partial, path)
            self.places.place(str(path))
        except OSError as error:
            partial.unlink(missing_ok=True)
            raise DataProblem(f"{path.name} cannot be written: {error.strerror}.") from None
        self.forget(bars.symbol)

    def forget(self, symbol: str) -> None:
        """Drops what is remembered of a symbol's bars: they are otherwise now."""
        with self._lock:
            self._cache = OrderedDict((k, v) for k, v in self._cache.items() if k[0] != symbol)
            self._held = sum(map(_weight, self._cache.values()))

    def base(self, symbol: str, base: Timeframe) -> Bars:
        """The stored bars, memory-mapped. Raises `DataProblem` if there are none; a damaged file is set aside
        and made again where that can be done."""
        calendar = self.infos[symbol].calendar

        def read(path: str) -> Bars:
            arrays = self.places.arrays(path)
            return Bars(symbol, base, calendar, shared(arrays.pop("time")), arrays)

        return self._with_file(symbol, base, read)

    def _with_file(self, symbol: str, base: Timeframe, read: Callable[[str], _T]) -> _T:
        """Reads a symbol's file, made anew where it is missing or damaged and that can be done."""
        path = self._file(symbol, base)
        for _ in range(3):
            try:
                return read(path)
            except FileNotFoundError:
                break
            except FileChanged:
                continue
            except (pa.ArrowInvalid, OSError, KeyError, ValueError) as error:
                if isinstance(error, OSError) and error.errno in _NOT_DAMAGED:
                    raise DataProblem(f"{Path(path).name} cannot be read: {error.strerror or error}.") from None
                aside = Path(path).with_suffix(".damaged")
                os.replace(path, aside)
                self.notices.append(f"{Path(path).name} was damaged and has been set aside as {aside.name}.")
                break
        else:
            raise FileChanged(f"{Path(path).name} was changed again and again while it was read. Try again.")
        if self.maker is None:
            raise DataProblem(f"There are no {base} bars of {symbol} in the library.")
        with self._making:  # whoever comes second finds the file that the first has made
            if not os.path.exists(path):
                self.write(self.maker(symbol, base))
        return read(path)

    def bars(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> Bars:
        """The bars of a symbol at any timeframe, put together from the stored ones; remembered.

        Raises `KeyError` for an unknown symbol, `DataProblem` where there are no such bars.
        """
        self._check(symbol, timeframe)
        return self._remembered(symbol, timeframe, extended)

    def _remembered(self, symbol: str, timeframe: Timeframe, extended: bool) -> Bars:
        key = (symbol, timeframe, extended)
        with self._lock:
            if key in self._cache:
                return self._cache[key]
        base = stored_base(timeframe)
        if timeframe != base:
            made = resample(self._remembered(symbol, base, extended and timeframe.intraday), timeframe)
        elif extended and timeframe.intraday:
            whole = self.base(symbol, base)
            made = Bars(whole.symbol, whole.timeframe, whole.calendar, whole.times, whole.columns, True)
        else:
            made = self.base(symbol, base).regular()
        with self._lock:
            if key not in self._cache:
                self._cache[key] = made
                self._held += _weight(made)
            while self._held > _MOST_HELD and len(self._cache) > 1:
                self._held -= _weight(self._cache.popitem(last=False)[1])
        return made

    def stored(self, symbol: str, timeframe: Timeframe, extended: bool = False) -> int:
        """How many stored bars a symbol has from which bars of a timeframe are made. Raises as `bars`."""
        self._check(symbol, timeframe)
        base = stored_base(timeframe)
        place = self._with_file(symbol, base, self.places.place)
        if timeframe.intraday and not extended and place.count:
            kept = regular_times(self._clock(symbol, base, place), self.infos[symbol].calendar)
            return place.count if kept is None else len(kept[0])
        return place.count

    def _check(self, symbol: str, timeframe: Timeframe) -> None:
        """Raises `KeyError` for an unknown symbol, `DataProblem` for a timeframe that its bars cannot make."""
        step = self.infos[symbol].step
        if step > 1 and timeframe.intraday and timeframe.count % step:
            raise DataProblem(f"{symbol} has bars of {self.infos[symbol].finest}, which cannot make {timeframe}.")

    def _clock(self, symbol: str, base: Timeframe, place: Place) -> np.ndarray:
        """The stored times of a symbol, as the array that it shares with others; read for the first of them only."""
        with self._lock:
            known = self._clocks.get(place.clock)
        if known is not None:
            return known
        times = np.empty(place.count, dtype=np.int64)
        if place.count:
            self._read(symbol, self._file(symbol, base), place, ["time"], [times])
        times = shared(times)
        with self._lock:
            if place.clock not in self._clocks:
                self._clocks[place.clock] = times
                self._clock_bytes += times.nbytes
            while self._clock_bytes > _MOST_CLOCKS and len(self._clocks) > 1:
                self._clock_bytes -= self._clocks.popitem(last=False)[1].nbytes
        return times

    def _read(
        self, symbol: str, path: str, place: Place, names: Sequence[str], into: Sequence[np.ndarray], first: int = 0
    ) -> None:
        """`Places.read`, with the symbol said whose file cannot be read. Raises `FileChanged` or `Unreadable`."""
        try:
            self.places.read(path, place, names, into, first)
        except OSError as error:
            raise Unreadable(symbol, f"Its file cannot be read: {error.strerror or error}.") from None

    def panel(self, symbols: Iterable[str], timeframe: Timeframe, extended: bool = False) -> Panel:
        """Symbols at one timeframe as a panel; an intraday panel knows the longer bars before its first.

        A single symbol lies over its memory map and is remembered; many are read end to end, each column when it
        is asked for. Raises as `bars`, and `FileChanged` where a file is replaced meanwhile.
        """
        names, base = list(symbols), stored_base(timeframe)
        for symbol in names:
            self._check(symbol, timeframe)
        if len(names) < 2:
            made = panel_of([self.bars(s, timeframe, extended) for s in names])
        else:
            made = self.stored_panel(names, base, extended and timeframe.intraday)
            made = made if timeframe == base else resample_panel(made, timeframe)
        made.ticks = tuple(self.infos[s].tick for s in names)
        made.earlier = self.earlier(names, timeframe)
        made.others = lambda symbol, longer: self.panel([symbol], longer, extended)
        return made

    def stored_panel(self, names: list[str], base: Timeframe, extended: bool) -> Panel:
        """Stored bars of some symbols, whatever timeframes they can make; of many they are read straight from the
        files into the columns. Raises `KeyError`, `FileChanged`, or `Unreadable` for one that is in the way."""
        if len(names) < 2:
            made = panel_of([self._alone(s, base, extended) for s in names])
        else:
            made = self._read_panel(names, base, extended)
        made.ticks = tuple(self.infos[s].tick for s in names)
        made.others = lambda symbol, longer: self.panel([symbol], longer, extended)
        return made

    def _alone(self, symbol: str, base: Timeframe, extended: bool) -> Bars:
        try:
            return self._remembered(symbol, base, extended)
        except FileChanged:
            raise
        except DataProblem as error:
            raise Unreadable(symbol, str(error)) from None

    def _read_panel(self, names: list[str], base: Timeframe, extended: bool) -> Panel:
        paths = [self._file(s, base) for s in names]
        places = [self._with_file(s, base, self.places.known) for s in names]
        calendars = tuple(self.infos[s].calendar for s in names)
        kept: list[np.ndarray | None] = [None] * len(names)
        counts = [p.count for p in places]
        clocks: list[np.ndarray] | None = None
        # Times that hardly any symbols share are read like prices; regular hours are found by the times.
        by_hours = base.intraday and not extended
        if by_hours or len({p.clock for p in places}) <= max(len(places) // _SHARING, 1):
            clocks = [self._clock(s, base, p) for s, p in zip(names, places, strict=True)]
        if clocks is not None and by_hours:
            for k, calendar in enumerate(calendars):
                regular = regular_times(clocks[k], calendar)
                if regular is not None:
                    clocks[k], kept[k] = regular
            counts = [len(c) for c in clocks]
        clean = all(p.clean for p in places)

        def columns(wanted: Sequence[str], skips: np.ndarray | None) -> list[np.ndarray]:
            firsts = [0] * len(names) if skips is None else skips.tolist()
            ends = ends_of([c - f for c, f in zip(counts, firsts, strict=True)]).tolist()
            made = [np.empty(ends[-1], dtype=np.int64 if n == "time" else np.float64) for n in wanted]
            # Two threads that both read hand the interpreter to and fro with every call, and take longer than one;
            # while one reads, the other can run what it has read.
            with self._reading:
                for k, (path, place, keep, first) in enumerate(zip(paths, places, kept, firsts, strict=True)):
                    parts = [m[ends[k] : ends[k + 1]] for m in made]
                    if keep is None:
                        self._read(names[k], path, place, wanted, parts, first)
                    elif first < len(keep):
                        begin = int(keep[first])
                        raw = [np.empty(int(keep[-1]) + 1 - begin) for _ in wanted]
                        self._read(names[k], path, place, wanted, raw, begin)
                        for whole, part in zip(raw, parts, strict=True):
                            np.take(whole, keep[first:] - begin, out=part, mode="clip")
            return made if clean else [m if n == "time" else tidy(m) for n, m in zip(wanted, made, strict=True)]

        return Panel(
            tuple(names),
            base,
            calendars,
            ends_of(counts),
            None if clocks is None else tuple(clocks),
            extended=extended,
            maker=columns,
            time_names=() if clocks is not None else tuple(p.clock for p in places),
        )

    def settle(self) -> None:
        """Writes down what reading has found out about the files, so that the next time is quicker."""
        self.places.flush()

    def earlier(self, symbols: list[str], base: Timeframe) -> EarlierBars:
        """The longer bars from before the first bar of a panel."""
        return EarlierBars(self, symbols, base)


def stored_base(timeframe: Timeframe) -> Timeframe:
    """The stored timeframe from which another is made."""
    return ONE_MINUTE if timeframe.intraday else ONE_DAY


def _weight(bars: Bars) -> int:
    """Bytes that remembering bars costs: what lies in a memory map costs nothing."""
    return sum(v.nbytes for v in bars.columns.values() if v.flags.owndata)


class EarlierBars(dict[Timeframe, Panel]):
    """Longer bars from before a panel's first bar, read when a script asks for them."""

    def __init__(self, library: BarLibrary, symbols: list[str], base: Timeframe):
        super().__init__()
        self._library, self._symbols, self._base = library, symbols, base

    def get(self, timeframe: Timeframe, default: object = None) -> Panel | None:  # type: ignore[override]
        """The panel of a longer timeframe, or None where the chart's own bars reach back as far."""
        if timeframe.intraday or not self._base.intraday or not fits(self._base, timeframe):
            return None
        if timeframe not in self:
            self[timeframe] = panel_of([self._known(s, timeframe) for s in self._symbols])
        return self[timeframe]

    def _known(self, symbol: str, timeframe: Timeframe) -> Bars:
        """A symbol's longer bars; none where the library has only its minutes."""
        try:
            return self._library.bars(symbol, timeframe)
        except DataProblem:
            none = np.zeros(0)
            times = np.zeros(0, dtype=np.int64)
            calendar = self._library.infos[symbol].calendar
            return Bars(symbol, timeframe, calendar, times, dict.fromkeys(COLUMNS, none))


@lru_cache(maxsize=64)
def _calendar(zone: str, start: int, end: int, early: int, late: int, weekend: int, holidays: str) -> Calendar:
    days = frozenset(int(d) for d in holidays.split(",") if d)
    return Calendar(zone, start, end, early, late, bool(weekend), days)
