"""The append log of a library: minutes that came live, and the days made of them, until they are folded into bar files.

SQLite takes a batch whole or not at all, whatever is killed meanwhile, and a bar file is not rewritten for each minute.
A row counts where it lies after the last bar of its symbol's file; what is left over of a fold that was broken off does
not. Writers hold the library's lock; readers ask only for what has changed since they last looked.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import threading
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass
from functools import cached_property
from hashlib import blake2b
from pathlib import Path

import numpy as np

from oakladder.bars.bars import COLUMNS
from oakladder.bars.errors import DataProblem
from oakladder.bars.timeframes import Timeframe
from oakladder.disk import set_aside

NAME = "live.sqlite"
_VERSION = 1
_SCHEMA = f"""
create table if not exists bars (
    symbol text, minutes integer, time integer, {", ".join(f"{name} real" for name in COLUMNS)},
    primary key (symbol, minutes, time)) without rowid;
create table if not exists symbols (symbol text primary key, batch integer, sure integer) without rowid;
create table if not exists facts (name text primary key, value integer) without rowid;
"""
#: Seconds that another program may be at it.
_PATIENCE = 10.0


@dataclass(frozen=True, slots=False)
class Tail:
    """Bars that follow those of a file: times int64 UTC seconds, columns float64, each of shape (bars,)."""

    times: np.ndarray
    columns: Mapping[str, np.ndarray]

    def __len__(self) -> int:
        return len(self.times)

    def __getitem__(self, name: str) -> np.ndarray:
        return self.times if name == "time" else self.columns[name]

    def some(self, which: np.ndarray | slice) -> Tail:
        """Some of the bars: a mask of shape (bars,), bool, indices of shape (some,), int64, or a slice."""
        return Tail(self.times[which], {name: values[which] for name, values in self.columns.items()})

    def after(self, time: int) -> Tail:
        """The bars after a time."""
        first = int(np.searchsorted(self.times, time, "right"))
        return self.some(slice(first, None)) if first else self

    @cached_property
    def digest(self) -> bytes:
        """What tells it from others."""
        made = blake2b(self.times.tobytes(), digest_size=12)
        for name in COLUMNS:
            made.update(self.columns[name].tobytes())
        return made.digest()

    @cached_property
    def clock(self) -> str:
        """What tells its times from others."""
        return blake2b(self.times.tobytes(), digest_size=12).hexdigest()


def tail_of(rows: Iterable[tuple[float, ...]]) -> Tail:
    """Rows of a time and the five columns, oldest first."""
    table = np.array(list(rows), dtype=np.float64).reshape(-1, 1 + len(COLUMNS))
    columns = {name: np.ascontiguousarray(table[:, k + 1]) for k, name in enumerate(COLUMNS)}
    return Tail(table[:, 0].astype(np.int64), columns)


NOTHING = tail_of([])


def merged(there: Tail, came: Tail) -> Tail:
    """Bars of both, in order; of two at one time the newer."""
    if not len(came):
        return there
    if not len(there) or came.times[0] > there.times[-1]:
        times = np.concatenate([there.times, came.times])
        return Tail(times, {name: np.concatenate([there[name], came[name]]) for name in COLUMNS})
    keep = ~np.isin(there.times, came.times)
    times = np.concatenate([there.times[keep], came.times])
    order = np.argsort(times, kind="stable")
    columns = {name: np.concatenate([there[name][keep], came[name]])[order] for name in COLUMNS}
    return Tail(times[order], columns)


@dataclass(frozen=True, slots=True)
class Batch:
    """What is appended in one go: bars by symbol and timeframe, up to which minute nothing is missing of a symbol, and the
    market's time (UTC seconds)."""

    bars: Mapping[tuple[str, Timeframe], Tail]
    sure: Mapping[str, int]
    now: int | None = None


class AppendLog:
    """The append log in a folder. Safe to be used from several threads. Raises `DataProblem` where it is out of reach."""

    def __init__(self, folder: Path):
        self.path = folder / NAME
        self._lock = threading.Lock()
        self._stamp: tuple[int, int, int] | None = None
        self._batch = 0
        self._names: frozenset[str] = frozenset()
        self._tails: dict[tuple[str, Timeframe], Tail] = {}
        #: Symbols that this program has changed itself since `changed` was last asked.
        self._own: set[str] = set()
        #: Why it is passed over, as a sentence; empty where it is not.
        self.trouble = ""

    # --- reading ------------------------------------------------------------------------------------

    def changed(self) -> frozenset[str]:
        """The symbols whose rows have changed since this was last asked. One that cannot be read is passed over."""
        with self._lock:
            stamp, before = self._on_disk(), self._names
            own, self._own = frozenset(self._own), set()
            if stamp == self._stamp:
                return own
            self._stamp, self.trouble = stamp, ""
            try:
                changed = self._look() if stamp is not None else None
            except DataProblem as error:
                changed, self.trouble = None, str(error)
            if changed is None:
                self._names, self._batch = frozenset(), 0
                self._tails.clear()
                return before | own
            for key in [key for key in self._tails if key[0] in changed]:
                del self._tails[key]
            return changed | own

    def _look(self) -> frozenset[str]:
        with self._opened() as db:
            last = db.execute("select value from facts where name = 'batch'").fetchone()
            batch = int(last[0]) if last else 0
            # Where the number is lower, it is another file: a damaged one was renamed.
            since = self._batch if batch >= self._batch else 0
            changed = {str(row[0]) for row in db.execute("select symbol from symbols where batch > ?", (since,))}
            if not since:
                changed |= self._names
            self._names = frozenset(str(row[0]) for row in db.execute("select symbol from symbols"))
        self._batch = batch
        return frozenset(changed)

    def tail(self, symbol: str, base: Timeframe) -> Tail:
        """The rows of a symbol, as of the last look (`changed`). They are not to be changed."""
        if symbol not in self._names:
            return NOTHING
        known = self._tails.get((symbol, base))
        if known is not None:
            return known
        with self._lock:
            known = self._tails.get((symbol, base))
            if known is None:
                with self._opened() as db:
                    known = self._rows(db, symbol, base)
                self._tails[symbol, base] = known
        return known

    @property
    def names(self) -> frozenset[str]:
        """The symbols of which anything came live, as of the last look."""
        return self._names

    def sure(self) -> dict[str, int]:
        """Of each symbol the last minute before the first that may be missing, UTC seconds."""
        if not self.path.exists():
            return {}
        with self._opened() as db:
            rows = db.execute("select symbol, sure from symbols where sure is not null").fetchall()
        return {str(symbol): int(sure) for symbol, sure in rows}

    def now(self) -> int | None:
        """The market's time when the last batch was appended, UTC seconds; None before the first."""
        if not self.path.exists():
            return None
        with self._opened() as db:
            row = db.execute("select value from facts where name = 'now'").fetchone()
        return int(row[0]) if row else None

    @staticmethod
    def _rows(db: sqlite3.Connection, symbol: str, base: Timeframe) -> Tail:
        columns = ", ".join(COLUMNS)
        return tail_of(
            db.execute(
                f"select time, {columns} from bars where symbol = ? and minutes = ? order by time",
                (symbol, int(base.intraday)),
            )
        )

    def _on_disk(self) -> tuple[int, int, int] | None:
        try:
            facts = os.stat(self.path)
        except OSError:
            return None
        return facts.st_ino, facts.st_mtime_ns, facts.st_size

    # --- writing ------------------------------------------------------------------------------------

    def append(self, batch: Batch) -> None:
        """Appends bars, or puts them in the place of those of the same time. The library's lock is held."""
        marks = ", ".join("?" * (3 + len(COLUMNS)))
        with self._opened(make=True) as db:
            number = self._next_batch(db)
            for (symbol, base), tail in batch.bars.items():
                numbers = zip(tail.times.tolist(), *(tail[name].tolist() for name in COLUMNS), strict=True)
                rows = [(symbol, int(base.intraday), *row) for row in numbers]
                db.executemany(f"insert or replace into bars values ({marks})", rows)
            for symbol in {symbol for symbol, _ in batch.bars} | set(batch.sure):
                self._touch(db, symbol, number)
            db.executemany(
                "update symbols set sure = ? where symbol = ?", [(time, symbol) for symbol, time in batch.sure.items()]
            )
            if batch.now is not None:
                db.execute("insert or replace into facts values ('now', ?)", (batch.now,))
        self._take_own(batch, number)

    def _take_own(self, batch: Batch, number: int) -> None:
        """Takes in what this program has just written: it need not be read again."""
        with self._lock:
            if self._batch != number - 1 or self._stamp is None:
                return
            for key, tail in batch.bars.items():
                known = self._tails.get(key)
                if known is not None:
                    self._tails[key] = merged(known, tail)
                self._own.add(key[0])
            self._names |= {symbol for symbol, _ in batch.bars} | set(batch.sure)
            self._stamp, self._batch = self._on_disk(), number

    def drop(self, symbol: str, base: Timeframe, upto: int) -> None:
        """Drops the rows of a symbol up to a time: its file holds these bars. The library's lock is held."""
        if not self.path.exists():
            return
        with self._opened() as db:
            gone = db.execute(
                "delete from bars where symbol = ? and minutes = ? and time <= ?", (symbol, int(base.intraday), upto)
            )
            if gone.rowcount:
                self._touch(db, symbol, self._next_batch(db))

    def forget(self, symbol: str, base: Timeframe) -> None:
        """Forgets all there is of a symbol's minutes or days; of minutes also what came. The library's lock is held."""
        if not self.path.exists():
            return
        with self._opened() as db:
            db.execute("delete from bars where symbol = ? and minutes = ?", (symbol, int(base.intraday)))
            self._touch(db, symbol, self._next_batch(db))
            if base.intraday:
                db.execute("update symbols set sure = null where symbol = ?", (symbol,))

    @staticmethod
    def _next_batch(db: sqlite3.Connection) -> int:
        row = db.execute("select value from facts where name = 'batch'").fetchone()
        number = (int(row[0]) if row else 0) + 1
        db.execute("insert or replace into facts values ('batch', ?)", (number,))
        return number

    @staticmethod
    def _touch(db: sqlite3.Connection, symbol: str, batch: int) -> None:
        db.execute(
            "insert into symbols (symbol, batch) values (?, ?) on conflict (symbol) do update set batch = ?",
            (symbol, batch, batch),
        )

    # --- the file -----------------------------------------------------------------------------------

    @contextlib.contextmanager
    def _opened(self, *, make: bool = False) -> Iterator[sqlite3.Connection]:
        """A connection whose changes are kept where all went well. Raises `DataProblem`."""
        try:
            address = f"{self.path.absolute().as_uri()}?mode={'rwc' if make else 'rw'}"
            db = sqlite3.connect(address, _PATIENCE, uri=True)
        except sqlite3.OperationalError as error:
            raise self._out_of_reach(error) from None
        try:
            if make:
                self._prepare(db)
            with db:
                yield db
        except sqlite3.DatabaseError as error:
            raise self._out_of_reach(error) from None
        finally:
            db.close()

    @staticmethod
    def _prepare(db: sqlite3.Connection) -> None:
        version = db.execute("pragma user_version").fetchone()[0]
        if version > _VERSION:
            raise DataProblem(
                "The live minutes were last written by a newer Oak Ladder, so this one cannot add to them."
            )
        if version < _VERSION:
            db.executescript(_SCHEMA)
            db.execute(f"pragma user_version = {_VERSION}")

    def _out_of_reach(self, error: sqlite3.DatabaseError) -> DataProblem:
        reasons = {"SQLITE_FULL": "the disk is full", "SQLITE_BUSY": "another copy of the program holds it"}
        name = getattr(error, "sqlite_errorname", "") or ""
        return DataProblem(f"The live minutes, {self.path}, cannot be used: {reasons.get(name, str(error))}.")

    def check(self) -> str:
        """What is wrong with the file; empty where it is sound."""
        if not self.path.exists():
            return ""
        try:
            with self._opened() as db:
                told = db.execute("pragma quick_check(1)").fetchone()
        except DataProblem as error:
            return str(error)
        return "" if told is not None and told[0] == "ok" else f"{NAME} is damaged."

    def settle(self) -> str:
        """Keeps a damaged file under another name, so that a new one takes its place; a sentence about it, or nothing. What
        it held is asked of the feed again. The library's lock is held."""
        if self.check() != f"{NAME} is damaged." and not self._is_no_database():
            return ""
        kept = set_aside(self.path)
        return f"{NAME} was damaged and was renamed to {kept.name}. Its minutes are asked of the feed again."

    def _is_no_database(self) -> bool:
        try:
            with contextlib.closing(sqlite3.connect(f"{self.path.absolute().as_uri()}?mode=ro", uri=True)) as db:
                db.execute("select count(*) from sqlite_master").fetchone()
        except sqlite3.DatabaseError as error:
            return (getattr(error, "sqlite_errorname", "") or "").startswith(("SQLITE_NOTADB", "SQLITE_CORRUPT"))
        return False
