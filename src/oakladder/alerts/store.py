"""What is kept of alerts, in SQLite: the alerts, the log of what they told, how far each has been judged, and deliveries.

A row of the log and how far its alert has been judged are written in one transaction, before anything is shown. A kill at
any moment, a restart or a minute that comes again therefore adds no second row and loses none.
"""

from __future__ import annotations

import contextlib
import os
import sqlite3
import uuid
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, fields
from pathlib import Path
from typing import Any

import msgspec

from oakladder.alerts.alert import Alert, AlertProblem
from oakladder.disk import set_aside

#: The file of a user's alerts, in the folder of the data.
ALERTS = "alerts.sqlite"
_VERSION = 1
_SCHEMA = """
create table if not exists alerts (id text primary key, name text unique, position integer, content blob);
create table if not exists judged (alert text primary key, content blob);
create table if not exists log (
    number integer primary key, id text unique, alert text, name text, symbol text, timeframe text, bar integer,
    signal text, price real, text text, told real, missed integer, muted integer, gone real, written real,
    script text, unique (alert, symbol, bar));
create index if not exists log_by_age on log (written);
create table if not exists deliveries (
    key text primary key, row text, kind text, address text, body blob, since real, tries integer, next real,
    done real, failed text);
"""
#: Seconds that another program may be at it.
_PATIENCE = 10.0
#: Rows are kept so many seconds.
KEPT = 400 * 86_400.0


@dataclass(frozen=True, slots=True)
class LogRow:
    """What an alert told, or would have. ``bar`` is the opening of the bar (UTC seconds of the market), the other moments
    are the machine's, seconds since 1970."""

    id: str
    alert: str
    name: str
    symbol: str
    timeframe: str
    bar: int
    signal: str
    price: float
    text: str
    told: float | None = None
    missed: bool = False
    muted: bool = False
    gone: float | None = None
    written: float = 0.0
    #: The file's name of the script whose signal it is.
    script: str = ""


_FIELDS = tuple(f.name for f in fields(LogRow))
_COLUMNS = ", ".join(_FIELDS)


def _row(values: Sequence[Any]) -> LogRow:
    made = dict(zip(_FIELDS, values, strict=True))
    return LogRow(**made | {"missed": bool(made["missed"]), "muted": bool(made["muted"])})


@dataclass(frozen=True, slots=True)
class Delivery:
    """Something to be sent outside the program: ``key`` tells it from all others; moments are the machine's."""

    key: str
    row: str
    kind: str
    address: str
    body: bytes
    since: float
    tries: int = 0
    next: float = 0.0


class JudgedUntil(msgspec.Struct):
    """Up to when the bars of an alert have been judged, by their closes (UTC seconds): of most symbols, and of
    the ones behind or ahead."""

    most: int
    others: dict[str, int] = {}

    def of(self, symbol: str) -> int:
        """Up to when a symbol has been judged."""
        return self.others.get(symbol, self.most)

    def with_symbols(self, known: Mapping[str, int]) -> JudgedUntil:
        """The same with some symbols judged further."""
        made = self.others | {s: max(t, self.of(s)) for s, t in known.items()}
        return JudgedUntil(self.most, {s: t for s, t in made.items() if t != self.most})


class AlertStore:
    """The alerts of a user. Safe to be used by several programs and threads. Raises `AlertProblem` where the file cannot be
    used."""

    def __init__(self, path: Path):
        self.path = path
        #: What was wrong with the file, as a sentence.
        self.notices: list[str] = []
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            with self._opened() as db:
                self._prepare(db)
        except OSError as error:
            raise AlertProblem(f"Alerts cannot be kept in {path.parent}: {error.strerror or error}.") from None
        except _Damaged:
            kept = set_aside(path)
            for part in ("-wal", "-shm"):
                with contextlib.suppress(OSError):
                    path.with_name(path.name + part).unlink()
            self.notices.append(f"{path.name} was damaged and was renamed to {kept.name}. The alerts in it are gone.")
            with self._opened() as db:
                self._prepare(db)

    def stamp(self) -> tuple[int, ...]:
        """Identifies the state of the file, for comparing: another one after each change."""
        made: list[int] = []
        for name in (self.path, self.path.with_name(self.path.name + "-wal")):
            with contextlib.suppress(OSError):
                facts = os.stat(name)
                made += [facts.st_ino, facts.st_mtime_ns, facts.st_size]
        return tuple(made)

    # --- alerts -------------------------------------------------------------------------------------

    def alerts(self) -> list[Alert]:
        """All of them, the oldest first."""
        with self._opened() as db:
            rows = db.execute("select content from alerts order by position").fetchall()
        made = []
        for (content,) in rows:
            with contextlib.suppress(msgspec.MsgspecError):
                made.append(msgspec.json.decode(content, type=Alert))
        return made

    def named(self, name: str) -> Alert:
        """The alert of a name, whatever its case. Raises `AlertProblem`."""
        alerts = self.alerts()
        for wanted in (name, name.casefold()):
            for alert in alerts:
                if wanted in (alert.name, alert.name.casefold()):
                    return alert
        there = ", ".join(a.name for a in alerts[:12])
        raise AlertProblem(
            f"There is no alert called {name}. " + (f"There are {there}." if there else "No alert has been made yet.")
        )

    def current(self, alert: Alert) -> Alert:
        """An alert as it is now: another program may have changed it. Raises `AlertProblem` where it was removed."""
        found = next((a for a in self.alerts() if a.id == alert.id), None)
        if found is None:
            raise AlertProblem(f"{alert.name} was removed meanwhile.")
        return found

    def add(self, alert: Alert, judged: JudgedUntil) -> None:
        """Keeps a new alert, judged up to a moment. Raises `AlertProblem` for a name that is taken."""
        with self._opened(write=True) as db:
            if db.execute("select 1 from alerts where name = ? collate nocase", (alert.name,)).fetchone():
                raise AlertProblem(f"There is an alert called {alert.name}. Choose another name, or remove that one.")
            behind = db.execute("select coalesce(max(position), 0) + 1 from alerts").fetchone()[0]
            db.execute(
                "insert into alerts values (?, ?, ?, ?)", (alert.id, alert.name, behind, msgspec.json.encode(alert))
            )
            db.execute("insert or replace into judged values (?, ?)", (alert.id, msgspec.json.encode(judged)))

    def change(self, alert: Alert, judged: JudgedUntil | None = None) -> None:
        """Keeps an alert in the place of the one with its id, if that is there still."""
        with self._opened(write=True) as db:
            db.execute(
                "update alerts set name = ?, content = ? where id = ?",
                (alert.name, msgspec.json.encode(alert), alert.id),
            )
            if judged is not None:
                db.execute("insert or replace into judged values (?, ?)", (alert.id, msgspec.json.encode(judged)))

    def remove(self, alert_id: str) -> None:
        """Forgets an alert; what it told stays in the log."""
        with self._opened(write=True) as db:
            db.execute("delete from alerts where id = ?", (alert_id,))
            db.execute("delete from judged where alert = ?", (alert_id,))

    def judged(self) -> dict[str, JudgedUntil]:
        """How far each alert has been judged, by its id."""
        with self._opened() as db:
            rows = db.execute("select alert, content from judged").fetchall()
        made = {}
        for alert, content in rows:
            with contextlib.suppress(msgspec.MsgspecError):
                made[str(alert)] = msgspec.json.decode(content, type=JudgedUntil)
        return made

    # --- the log ------------------------------------------------------------------------------------

    def write(
        self,
        rows: Sequence[LogRow],
        judged: Mapping[str, JudgedUntil],
        deliveries: Sequence[Delivery] = (),
        off: Iterable[Alert] = (),
    ) -> list[LogRow]:
        """Writes rows, how far alerts have been judged, deliveries, and alerts that have done their work, all at
        once; gives the rows that were new. Of an alert that was removed meanwhile nothing is written."""
        with self._opened(write=True) as db:
            there = {str(row[0]) for row in db.execute("select id from alerts")}
            new = [row for row in rows if row.alert in there and self._insert(db, row)]
            ids = {row.id for row in new}
            db.executemany(
                "insert or replace into judged values (?, ?)",
                [(alert, msgspec.json.encode(until)) for alert, until in judged.items() if alert in there],
            )
            for one in deliveries:
                if one.row in ids:
                    self._put(db, one)
            for alert in off:
                db.execute("update alerts set content = ? where id = ?", (msgspec.json.encode(alert), alert.id))
        return new

    @staticmethod
    def _insert(db: sqlite3.Connection, row: LogRow) -> bool:
        made = db.execute(
            f"insert or ignore into log ({_COLUMNS}) values ({', '.join('?' * len(_FIELDS))})",
            [getattr(row, name) for name in _FIELDS],
        )
        return made.rowcount == 1

    def tell(self, told: Mapping[str, float]) -> None:
        """Notes the moment at which rows were shown."""
        with self._opened(write=True) as db:
            db.executemany("update log set told = ? where id = ?", [(when, row) for row, when in told.items()])

    def tell_gone(self, gone: Mapping[str, float], deliveries: Sequence[Delivery] = ()) -> list[str]:
        """Notes that what rows told is no longer true; gives those of which that was not noted yet."""
        made = []
        with self._opened(write=True) as db:
            for row, when in gone.items():
                if db.execute("update log set gone = ? where id = ? and gone is null", (when, row)).rowcount:
                    made.append(row)
            for one in deliveries:
                if one.row in made:
                    self._put(db, one)
        return made

    def log(self, *, alert: str | None = None, newest: int | None = None) -> list[LogRow]:
        """The rows, the oldest first; of one alert, or the newest so many."""
        where, values = ("where alert = ?", [alert]) if alert is not None else ("", [])
        limit = f"limit {int(newest)}" if newest is not None else ""
        with self._opened() as db:
            rows = db.execute(
                f"select {_COLUMNS} from log {where} order by number desc {limit}",
                values,
            ).fetchall()
        return [_row(r) for r in reversed(rows)]

    def newest(self) -> int:
        """The number of the newest row; 0 without any."""
        with self._opened() as db:
            return int(db.execute("select coalesce(max(number), 0) from log").fetchone()[0])

    def after(self, number: int) -> list[tuple[int, LogRow]]:
        """The rows after a number, the oldest first, each with its number."""
        with self._opened() as db:
            rows = db.execute(
                f"select number, {_COLUMNS} from log where number > ? order by number", (number,)
            ).fetchall()
        return [(int(r[0]), _row(r[1:])) for r in rows]

    def row(self, row_id: str) -> LogRow | None:
        """A row by its id."""
        with self._opened() as db:
            found = db.execute(f"select {_COLUMNS} from log where id = ?", (row_id,)).fetchone()
        return None if found is None else _row(found)

    def untold(self, since: float) -> list[LogRow]:
        """Rows that should have been told and were not, written after a moment: the program was killed before it could."""
        return [
            r for r in self.log(newest=2000) if r.told is None and not r.missed and not r.muted and r.written >= since
        ]

    def last_rows(self, alert: str) -> dict[str, int]:
        """The bar of the latest row of each symbol that an alert has told of."""
        with self._opened() as db:
            rows = db.execute(
                "select symbol, max(bar) from log where alert = ? and missed = 0 and muted = 0 group by symbol",
                (alert,),
            )
            return {str(symbol): int(bar) for symbol, bar in rows}

    def forget_old(self, before: float) -> None:
        """Forgets rows and deliveries that were written before a moment."""
        with self._opened(write=True) as db:
            db.execute("delete from log where written < ?", (before,))
            db.execute("delete from deliveries where since < ?", (before,))

    # --- deliveries ---------------------------------------------------------------------------------

    @staticmethod
    def _put(db: sqlite3.Connection, one: Delivery) -> None:
        db.execute(
            "insert or ignore into deliveries values (?, ?, ?, ?, ?, ?, ?, ?, null, null)",
            (one.key, one.row, one.kind, one.address, one.body, one.since, one.tries, one.next),
        )

    def waiting(self) -> list[Delivery]:
        """What is still to be sent, the soonest first."""
        with self._opened() as db:
            rows = db.execute(
                "select key, row, kind, address, body, since, tries, next from deliveries"
                " where done is null and failed is null order by next"
            ).fetchall()
        return [Delivery(*row) for row in rows]

    def sent(self, key: str, when: float) -> None:
        """Notes that something was sent."""
        with self._opened(write=True) as db:
            db.execute("update deliveries set done = ? where key = ?", (when, key))

    def not_sent(self, key: str, again: float) -> None:
        """Notes that something could not be sent, and when to try again."""
        with self._opened(write=True) as db:
            db.execute("update deliveries set tries = tries + 1, next = ? where key = ?", (again, key))

    def give_up(self, key: str, why: str) -> None:
        """Notes that something is not tried any more, with a sentence."""
        with self._opened(write=True) as db:
            db.execute("update deliveries set failed = ? where key = ?", (why, key))

    def given_up(self) -> list[tuple[str, str]]:
        """The row and the sentence of each delivery that was given up."""
        with self._opened() as db:
            return [
                (str(r), str(w)) for r, w in db.execute("select row, failed from deliveries where failed is not null")
            ]

    # --- the file -----------------------------------------------------------------------------------

    @contextlib.contextmanager
    def _opened(self, *, write: bool = False) -> Iterator[sqlite3.Connection]:
        try:
            db = sqlite3.connect(self.path, _PATIENCE, isolation_level=None)
        except sqlite3.OperationalError as error:
            raise self._problem(error) from None
        try:
            db.execute("begin immediate" if write else "begin")
            try:
                yield db
            except BaseException:
                db.rollback()
                raise
            db.commit()
        except sqlite3.OperationalError as error:
            raise self._problem(error) from None
        except sqlite3.DatabaseError as error:
            raise _Damaged(str(error)) from None
        finally:
            db.close()

    def _prepare(self, db: sqlite3.Connection) -> None:
        version = db.execute("pragma user_version").fetchone()[0]
        if version > _VERSION:
            raise AlertProblem("The alerts were last used by a newer Oak Ladder, so this one cannot read them.")
        if version < _VERSION:
            db.commit()
            db.execute("pragma journal_mode = wal")
            db.executescript(_SCHEMA)
            db.execute(f"pragma user_version = {_VERSION}")
            db.execute("begin")

    def _problem(self, error: sqlite3.OperationalError) -> AlertProblem:
        reasons = {"SQLITE_FULL": "the disk is full", "SQLITE_BUSY": "another copy of the program holds them"}
        name = getattr(error, "sqlite_errorname", "") or ""
        return AlertProblem(f"The alerts, {self.path}, cannot be used: {reasons.get(name, str(error))}.")


class _Damaged(AlertProblem):
    """The file is none of SQLite's, or not a sound one."""


def new_id() -> str:
    """A name for a row or an alert that no other has."""
    return str(uuid.uuid4())
