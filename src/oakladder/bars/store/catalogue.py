"""The catalogue of a bar library: what is known of every symbol, in SQLite, with a copy to fall back upon."""

from __future__ import annotations

import contextlib
import logging
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path
from urllib.parse import quote

import msgspec

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.symbol_info import SymbolInfo, SymbolInfos, info_of, plain_of
from oakladder.disk import replacing, set_aside, why

_log = logging.getLogger(__name__)
_VERSION = 4
_PARTS = (
    "symbol",
    "name",
    "sector",
    "kind",
    "tick",
    "step",
    "origin",
    "by_hand",
    "calendar",
    "contract",
    "adjustments",
)
_SCHEMA = f"""
create table if not exists symbols (
    symbol text primary key, position integer, {", ".join(f"{p}" for p in _PARTS[1:])});
create table if not exists facts (name text primary key, value text);
create table if not exists unfinished (symbol text primary key, {", ".join(_PARTS[1:])});
"""
#: Seconds that another copy of the program may hold the catalogue.
_PATIENCE = 10.0


class Damaged(Exception):
    """A catalogue that cannot be read as one."""


class Catalogue:
    """Symbols and facts of one library.

    ``rebuild`` reads from the bar files the symbols that a damaged or lost catalogue does not know; ``tell`` gets a
    sentence about damage; ``writing`` holds the library's lock while the catalogue is made again. Raises `DataProblem`
    where the folder cannot be used.
    """

    def __init__(
        self,
        folder: Path,
        rebuild: Callable[[set[str]], Iterable[SymbolInfo]],
        tell: Callable[[str], None],
        writing: Callable[[], contextlib.AbstractContextManager[None]],
    ):
        self.path, self._copy = folder / "catalogue.sqlite", folder / "catalogue.copy.sqlite"
        self._tell, self._rebuild, self._writing = tell, rebuild, writing
        self._uncopied = False
        #: What was read when the catalogue was opened, as of its stamp then: it need not be read again at once.
        self._first: tuple[int, dict[str, SymbolInfo]] | None = None
        stamp = self.stamp()
        try:
            if self.path.is_dir():
                raise Damaged("there is a folder of that name")
            with self._opened(make=True) as db:
                self._prepare(db)
                known = self._read(db)
        except (Damaged, sqlite3.DatabaseError) as error:
            with self._writing():
                self._recover(error)
            return
        if known:
            self._first = (stamp, known)
            self._add_unknown(set(known))
        else:
            with self._writing():
                self._fill()

    def _add_unknown(self, known: set[str]) -> None:
        """Adds symbols that have bar files and are missing from the catalogue."""
        found = list(self._rebuild(known))
        if found:
            with self._writing():
                self.put(found)

    @contextlib.contextmanager
    def _opened(self, *, make: bool = False) -> Iterator[sqlite3.Connection]:
        """A connection whose changes are kept where all went well. Raises `DataProblem` where it is out of reach."""
        try:
            # Never made by opening it: where it has gone, the library may have been moved.
            db = sqlite3.connect(f"{self.path.absolute().as_uri()}?mode={'rwc' if make else 'rw'}", _PATIENCE, uri=True)
        except sqlite3.OperationalError as error:
            raise self._out_of_reach(error) from None
        try:
            with db:
                yield db
        except sqlite3.OperationalError as error:
            if _is_damage(error):
                raise
            raise self._out_of_reach(error) from None
        finally:
            db.close()

    def _out_of_reach(self, error: sqlite3.OperationalError) -> DataProblem:
        words = {
            "SQLITE_FULL": "the disk is full",
            "SQLITE_BUSY": "another copy of the program holds it",
            "SQLITE_READONLY": "it can only be read",
            "SQLITE_CANTOPEN": "it cannot be opened",
            "SQLITE_IOERR": "the disk does not answer as it should",
        }
        name = getattr(error, "sqlite_errorname", "") or ""
        reason = next((w for n, w in words.items() if name.startswith(n)), str(error))
        return DataProblem(f"The catalogue of bars, {self.path}, cannot be used: {reason}.")

    def _prepare(self, db: sqlite3.Connection) -> None:
        version = db.execute("pragma user_version").fetchone()[0]
        if version > _VERSION:
            raise DataProblem("The bars were last used by a newer Oak Ladder, so this one cannot read their catalogue.")
        tables = {row[0] for row in db.execute("select name from sqlite_master where type = 'table'")}
        if version == 0 and "symbols" in tables:
            self._from_first_form(db)
        if version in (2, 3) and {"symbols", "unfinished"} <= tables:
            for table in ("symbols", "unfinished"):  # the last two parts came with the third and the fourth version
                known = {row[1] for row in db.execute(f"pragma table_info({table})")}
                for part in _PARTS[-2:]:
                    if part not in known:
                        db.execute(f"alter table {table} add column {part}")
        if version < _VERSION or not {"symbols", "facts", "unfinished"} <= tables:
            db.executescript(_SCHEMA)
            db.execute(f"pragma user_version = {_VERSION}")

    def _from_first_form(self, db: sqlite3.Connection) -> None:
        """A catalogue of the first version had a column for each part of the calendar."""
        known = {row[1] for row in db.execute("pragma table_info(symbols)")}
        step = "step" if "step" in known else "1"
        rows = db.execute(
            f"select symbol, name, sector, kind, tick, zone, start, end, early, late, weekend, holidays, {step} "
            "from symbols order by position"
        ).fetchall()
        infos = []
        for r in rows:
            days = [int(d) for d in str(r[11] or "").split(",") if d.lstrip("-").isdigit()]
            calendar = _first_calendar(r[5:11], days)
            plain = dict(zip(("symbol", "name", "sector", "kind", "tick"), r[:5], strict=True))
            with contextlib.suppress(ValueError):
                infos.append(info_of(plain | {"calendar": calendar, "step": r[12]}))
        db.execute("drop table symbols")
        db.executescript(_SCHEMA)
        _put(db, infos)

    def _read(self, db: sqlite3.Connection) -> dict[str, SymbolInfo]:
        """Every symbol, in the catalogue's order. Raises `Damaged`, `sqlite3.DatabaseError`."""
        trouble = db.execute("pragma quick_check(1)").fetchone()
        if trouble is None or trouble[0] != "ok":
            raise Damaged(str(trouble))
        return self._infos(db)

    @staticmethod
    def _infos(db: sqlite3.Connection) -> dict[str, SymbolInfo]:
        rows = db.execute(f"select {', '.join(_PARTS)} from symbols order by position, rowid").fetchall()
        try:
            made = [info_of(dict(zip(_PARTS, row, strict=True))) for row in rows]
        except ValueError as error:
            raise Damaged(str(error)) from None
        return SymbolInfos((info.symbol, info) for info in made)

    def _recover(self, error: Exception) -> None:
        """Keeps a damaged catalogue under another name, and makes it again from its copy and the bar files. The lock is
        held; a program that held it before may have done so already."""
        if not self.path.is_dir():
            with contextlib.suppress(Damaged, sqlite3.DatabaseError), self._opened() as db:
                self._read(db)
                return
        _log.warning("the catalogue is damaged: %s", error)
        try:
            kept = set_aside(self.path)
        except FileNotFoundError:
            kept = self.path
        except OSError as reason:
            raise DataProblem(
                f"The catalogue of bars, {self.path}, is damaged, and cannot be moved: {why(reason)}."
            ) from None
        for part in ("-journal", "-wal", "-shm"):
            with contextlib.suppress(OSError):
                self.path.with_name(self.path.name + part).unlink()
        self._fill(kept)
        what = "The catalogue of bars was damaged and was rebuilt from its copy and the bar files"
        self._tell(f"{what}; it is kept as {kept.name}.")

    def _fill(self, damaged: Path | None = None) -> None:
        """A new catalogue, of the copy, of what can be read of the damaged one, and of what the bar files say."""
        infos, facts = _salvaged(self._copy)
        if damaged is not None:
            newer, more = _salvaged(damaged)
            infos |= newer
            facts += more
        infos |= {i.symbol: i for i in self._rebuild(set(infos))}
        with self._opened(make=True) as db:
            self._prepare(db)
            _put(db, list(infos.values()))
            db.executemany("insert or replace into facts values (?, ?)", facts)

    # --- reading and writing ----------------------------------------------------------------------

    def stamp(self) -> int:
        """When the catalogue was last changed; 0 where it has gone."""
        try:
            return self.path.stat().st_mtime_ns
        except OSError:
            return 0

    def infos(self) -> dict[str, SymbolInfo]:
        """Every symbol, in the catalogue's order."""
        first, self._first = self._first, None
        if first is not None and first[0] == self.stamp():
            return first[1]
        try:
            with self._opened() as db:
                return self._infos(db)
        except (Damaged, sqlite3.DatabaseError) as error:
            with self._writing():
                self._recover(error)
        with self._opened() as db:
            return self._infos(db)

    def fill_again(self) -> None:
        """Makes a catalogue that has gone again, from its copy and the bar files. The lock is held."""
        if not self.path.exists():
            self._fill()

    def put(self, infos: Sequence[SymbolInfo]) -> None:
        """Writes symbols: appends new ones, replaces known ones."""
        with self._opened() as db:
            _put(db, infos)
            db.executemany("delete from unfinished where symbol = ?", [(i.symbol,) for i in infos])
        self._uncopied = True

    def begin(self, infos: Sequence[SymbolInfo]) -> None:
        """Notes what is about to be known of symbols once their bars are written."""
        with self._opened() as db:
            rows, marks = map(plain_of, infos), ", ".join("?" * len(_PARTS))
            db.executemany(
                f"insert or replace into unfinished values ({marks})", [[row[p] for p in _PARTS] for row in rows]
            )

    def unfinished(self) -> list[SymbolInfo]:
        """What was about to be known when the program ended."""
        with self._opened() as db:
            rows = db.execute(f"select {', '.join(_PARTS)} from unfinished").fetchall()
        made = []
        for row in rows:
            with contextlib.suppress(ValueError):
                made.append(info_of(dict(zip(_PARTS, row, strict=True))))
        return made

    def drop_unfinished(self, symbol: str) -> None:
        with self._opened() as db:
            db.execute("delete from unfinished where symbol = ?", (symbol,))

    def fact(self, name: str) -> str | None:
        """A remembered fact about the library."""
        with self._opened() as db:
            row = db.execute("select value from facts where name = ?", (name,)).fetchone()
        return str(row[0]) if row else None

    def remember(self, name: str, value: str) -> None:
        with self._opened() as db:
            db.execute("insert or replace into facts values (?, ?)", (name, value))
        self._uncopied = True

    def settle(self) -> None:
        """Copies the catalogue, if it was changed here since the last time; nothing is lost where that cannot be done."""
        if not self._uncopied:
            return
        try:
            with replacing(self._copy, durable=False, make_folder=False) as partial, self._opened() as db:
                copy = sqlite3.connect(partial)
                with contextlib.closing(copy):
                    db.backup(copy)
            self._uncopied = False
        except (OSError, DataProblem, sqlite3.DatabaseError) as error:
            _log.warning("the catalogue could not be copied: %s", error)


def _salvaged(path: Path) -> tuple[dict[str, SymbolInfo], list[tuple[str, str]]]:
    """The symbols and facts that can still be read of a catalogue, whatever has happened to it."""
    infos: dict[str, SymbolInfo] = {}
    facts: list[tuple[str, str]] = []
    if not path.is_file():
        return infos, facts
    db = sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True)
    with contextlib.closing(db):
        with contextlib.suppress(sqlite3.DatabaseError):
            columns = [row[1] for row in db.execute("pragma table_info(symbols)")]
            for row in db.execute("select * from symbols"):
                with contextlib.suppress(ValueError):
                    info = info_of(dict(zip(columns, row, strict=True)))
                    infos[info.symbol] = info
        with contextlib.suppress(sqlite3.DatabaseError):
            facts = [(str(a), str(b)) for a, b in db.execute("select name, value from facts")]
    return infos, facts


def _put(db: sqlite3.Connection, infos: Sequence[SymbolInfo]) -> None:
    known = dict(db.execute("select symbol, position from symbols").fetchall())
    behind = max((p for p in known.values() if isinstance(p, int)), default=-1) + 1
    rows = []
    for info in infos:
        if info.symbol not in known:
            known[info.symbol] = behind
            behind += 1
        plain = plain_of(info)
        rows.append((info.symbol, known[info.symbol], *(plain[p] for p in _PARTS[1:])))
    marks = ", ".join("?" * (len(_PARTS) + 1))
    db.executemany(f"insert or replace into symbols values ({marks})", rows)


def _first_calendar(parts: Sequence[object], days: list[int]) -> str:
    """A calendar of the first form as it is written now."""
    plain = dict(zip(("zone", "start", "end", "early", "late"), parts[:5], strict=True))
    return msgspec.json.encode(plain | {"weekend": bool(parts[5]), "holidays": days}).decode()


def _is_damage(error: sqlite3.OperationalError) -> bool:
    """Whether an error speaks of what is in the file, and not of the disk or of another program."""
    return (getattr(error, "sqlite_errorname", "") or "SQLITE_ERROR").startswith("SQLITE_ERROR")
