"""What people own in the library outlives damage, odd names, bad bars and the demo market's upkeep."""

from __future__ import annotations

import os
import shutil
import sqlite3
import threading
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import daily_bars
from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import DEMO, OWN, SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE
from oakladder.demo import companies, upkeep
from oakladder.demo import market as demo

WEST = Calendar("WET", 540, 930, 480, 1020, halves=frozenset([(20_000, 720)]), holidays=frozenset([19_999]))


def own(folder: Path, symbol: str = "MINE", **more: object) -> BarLibrary:
    """A library with a symbol of the user's own, 30 days of it."""
    library = BarLibrary(folder)
    library.write(
        daily_bars(np.arange(1.0, 31), symbol), SymbolInfo(symbol, "My own", "Mine", "fund", 0.05, Calendar())
    )
    library.settle()
    return library


def closes(library: BarLibrary, symbol: str = "MINE") -> list[float]:
    return library.bars(symbol, ONE_DAY)["close"].tolist()


# --- the demo market's upkeep -------------------------------------------------------------------------


def test_upkeep_of_the_demo_market_leaves_everything_else_alone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    library = own(tmp_path)
    upkeep.prepare(library)
    brine = SymbolInfo("BRINE", "Not the ferries", "Mine", "share", 0.01, Calendar())
    library.write(daily_bars([7.0, 8.0], "BRINE"), brine)
    edit_symbols(library, ["FLAKE"], Change(name="My flakes", tick=0.05))
    library.bars("GULLW", ONE_MINUTE)
    monkeypatch.setattr(companies, "VERSION", "99")
    again = BarLibrary(tmp_path)
    upkeep.prepare(again)
    assert closes(again) == list(np.arange(1.0, 31)) and again.infos["MINE"].sector == "Mine"
    assert closes(again, "BRINE") == [7, 8] and again.infos["BRINE"] == brine
    flake = again.infos["FLAKE"]
    assert (flake.name, flake.tick, flake.sector, flake.origin) == ("My flakes", 0.05, "Salt", DEMO)
    expected = demo.daily("GULLW")["close"]
    assert np.array_equal(again.bars("GULLW", ONE_DAY)["close"], expected)
    assert len(again.bars("GULLW", ONE_MINUTE)) > 10_000


@pytest.fixture(scope="module")
def with_demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A library with the demo market and a symbol of the user's own, to be copied."""
    folder = tmp_path_factory.mktemp("with demo")
    upkeep.prepare(own(folder))
    return folder


@pytest.mark.parametrize("lost", ["catalogue.sqlite", "catalogue.copy.sqlite", "both"])
def test_a_lost_catalogue_is_made_again_and_no_bar_is_lost(tmp_path: Path, with_demo: Path, lost: str) -> None:
    shutil.copytree(with_demo, tmp_path, dirs_exist_ok=True)
    library = BarLibrary(tmp_path)
    edit_symbols(library, ["MINE"], Change(name="Called so by hand", zone="WET", hours=(540, 930)))
    before = library.infos
    for name in ("catalogue.sqlite", "catalogue.copy.sqlite"):
        if lost in (name, "both"):
            (tmp_path / name).unlink()
    again = BarLibrary(tmp_path)
    upkeep.prepare(again)
    assert set(again.infos) == set(before) and closes(again) == list(np.arange(1.0, 31))
    assert again.infos["MINE"] == before["MINE"]
    assert again.infos["BRINE"].origin == DEMO


def test_bars_of_the_first_form_are_found_again_without_a_catalogue(tmp_path: Path) -> None:
    import pyarrow as pa

    own(tmp_path)
    path = tmp_path / "MINE.1d.arrow"
    table = pa.ipc.open_file(pa.BufferReader(path.read_bytes())).read_all().replace_schema_metadata(None)
    with pa.OSFile(str(path), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
        writer.write_table(table)
    for name in ("catalogue.sqlite", "catalogue.copy.sqlite"):
        (tmp_path / name).unlink()
    again = BarLibrary(tmp_path)
    assert closes(again) == list(np.arange(1.0, 31)) and again.infos["MINE"].tick == 1.0


def test_a_catalogue_of_the_first_form_is_taken_over(tmp_path: Path) -> None:
    library = own(tmp_path)
    upkeep.prepare(library)
    before = library.infos
    rows = [(k, i) for k, i in enumerate(before.values())]
    for name in ("catalogue.sqlite", "catalogue.copy.sqlite"):
        (tmp_path / name).unlink()
    db = sqlite3.connect(tmp_path / "catalogue.sqlite")
    with db:
        db.executescript(
            "create table symbols (symbol text primary key, position integer, name text, sector text, kind text,"
            " tick real, zone text, start integer, end integer, early integer, late integer, weekend integer,"
            " holidays text, step integer not null default 1);"
            "create table facts (name text primary key, value text); insert into facts values ('demo', '1');"
        )
        for k, i in rows:
            c = i.calendar
            name = "Renamed" if i.symbol == "FLAKE" else i.name
            days = ",".join(map(str, sorted(c.holidays)))
            row = (
                i.symbol,
                k,
                name,
                i.sector,
                i.kind,
                i.tick,
                c.zone,
                c.start,
                c.end,
                c.early,
                c.late,
                c.weekend,
                days,
                1,
            )
            db.execute(f"insert into symbols values ({','.join('?' * 14)})", row)
    db.close()
    again = BarLibrary(tmp_path)
    assert [i.calendar for i in again.infos.values()] == [i.calendar for i in before.values()]
    upkeep.prepare(again)
    with pytest.MonkeyPatch.context() as patched:  # a version later, it has to be known what is whose
        patched.setattr(companies, "VERSION", "2")
        upkeep.prepare(again)
    assert closes(again) == list(np.arange(1.0, 31)) and again.infos["MINE"].origin == OWN
    assert again.infos["FLAKE"].name == "Renamed" and again.infos["FLAKE"].origin == DEMO


# --- a damaged catalogue ------------------------------------------------------------------------------


def _sql(*statements: str) -> Callable[[Path], None]:
    def go(path: Path) -> None:
        db = sqlite3.connect(path)
        with db:
            for statement in statements:
                db.execute(statement)
        db.close()

    return go


def _overwrite(start: int, count: int) -> Callable[[Path], None]:
    def go(path: Path) -> None:
        raw = bytearray(path.read_bytes())
        raw[start : start + count] = os.urandom(count)
        path.write_bytes(bytes(raw))

    return go


def _folder_instead(path: Path) -> None:
    path.unlink()
    path.mkdir()


DAMAGE: dict[str, Callable[[Path], None]] = {
    "empty": lambda p: p.write_bytes(b"") and None,  # type: ignore[func-returns-value]
    "no database": lambda p: p.write_text("not a database at all" * 100) and None,  # type: ignore[func-returns-value]
    "cut short": lambda p: os.truncate(p, p.stat().st_size // 2),
    "head overwritten": _overwrite(0, 100),
    "middle overwritten": _overwrite(4096, 6000),
    "table gone": _sql("drop table symbols"),
    "column gone": _sql("alter table symbols drop column step"),
    "facts gone": _sql("drop table facts"),
    "odd values": _sql("update symbols set tick = 'x', calendar = '{', step = -4, name = null, by_hand = 3"),
    "no symbol": _sql("update symbols set symbol = null"),
    "another database": _sql("drop table symbols", "drop table facts", "create table other (a)"),
    "a folder": _folder_instead,
}


@pytest.mark.parametrize("kind", sorted(DAMAGE))
@pytest.mark.parametrize("copy_too", [False, True])
def test_a_damaged_catalogue_keeps_nobody_from_the_bars(
    tmp_path: Path, with_demo: Path, kind: str, copy_too: bool
) -> None:
    shutil.copytree(with_demo, tmp_path, dirs_exist_ok=True)
    DAMAGE[kind](tmp_path / "catalogue.sqlite")
    if copy_too:
        DAMAGE[kind](tmp_path / "catalogue.copy.sqlite")
    again = BarLibrary(tmp_path)
    upkeep.prepare(again)
    assert closes(again) == list(np.arange(1.0, 31))
    assert np.isfinite(again.bars("BRINE", ONE_DAY)["close"]).all() and len(again.infos) == 78
    again.add_symbols([SymbolInfo("NEW", "N", "", "share", 0.01, Calendar())])
    assert "NEW" in BarLibrary(tmp_path).infos


def test_a_catalogue_that_is_damaged_while_it_is_used_is_made_again(tmp_path: Path) -> None:
    library = own(tmp_path)
    _overwrite(0, 2000)(tmp_path / "catalogue.sqlite")
    library.fresh()
    assert closes(library) == list(np.arange(1.0, 31)) and library.infos["MINE"].name == "My own"
    assert any("damaged" in n for n in library.notices)
    (tmp_path / "catalogue.sqlite").unlink()
    library.fresh()
    assert "MINE" in library.infos


@pytest.mark.parametrize(("version", "lacking"), [(2, ("contract", "adjustments")), (3, ("adjustments",))])
def test_a_catalogue_of_an_earlier_form_is_taken_over(tmp_path: Path, version: int, lacking: tuple[str, ...]) -> None:
    before = dict(own(tmp_path).infos)
    db = sqlite3.connect(tmp_path / "catalogue.sqlite")
    with db:
        for table in ("symbols", "unfinished"):
            for part in lacking:
                db.execute(f"alter table {table} drop column {part}")
        db.execute(f"pragma user_version = {version}")
    db.close()
    library = BarLibrary(tmp_path)
    assert dict(library.infos) == before and not library.notices
    edit_symbols(library, ["MINE"], Change(multiplier=5.0))
    assert BarLibrary(tmp_path).infos["MINE"].contract.multiplier == 5


def test_a_catalogue_of_a_newer_program_is_left_alone_and_said(tmp_path: Path) -> None:
    own(tmp_path)
    _sql("pragma user_version = 99")(tmp_path / "catalogue.sqlite")
    before = (tmp_path / "catalogue.sqlite").read_bytes()
    with pytest.raises(DataProblem, match="newer"):
        BarLibrary(tmp_path)
    assert (tmp_path / "catalogue.sqlite").read_bytes() == before


# --- writing and reading bars -------------------------------------------------------------------------


def minutes(times: list[int]) -> Bars:
    x = np.arange(len(times), dtype=float) + 1
    return Bars("MINE", ONE_MINUTE, Calendar(), np.array(times, dtype=np.int64), dict.fromkeys(COLUMNS, x))


@pytest.mark.parametrize(
    ("bars", "words"),
    [
        (minutes([60, 120, 120]), "not in order, or contain duplicates"),
        (minutes([60, 180, 120]), "not in order"),
        (minutes([60, 70, 80]), "begin within a minute"),
        (minutes([60, 10**13]), "years 1800 to 2199"),
        (minutes([-(10**12), 60]), "years 1800 to 2199"),
        (Bars("MINE", ONE_MINUTE, Calendar(), np.array([60]), dict.fromkeys(COLUMNS, np.ones(2))), "one length"),
        (Bars("MINE", ONE_DAY, WEST, np.array([86_400, 86_460]), dict.fromkeys(COLUMNS, np.ones(2))), "on one day"),
    ],
)
def test_bars_that_cannot_be_kept_leave_the_good_ones(tmp_path: Path, bars: Bars, words: str) -> None:
    library = own(tmp_path)
    library.write(minutes([60, 120, 180]))
    with pytest.raises(DataProblem, match=words):
        library.write(bars)
    assert library.base("MINE", ONE_MINUTE).times.tolist() == [60, 120, 180]
    assert closes(BarLibrary(tmp_path)) == list(np.arange(1.0, 31))
    assert not list(tmp_path.glob("*partial*")) and not list(tmp_path.glob(".*partial"))


@settings(max_examples=80, deadline=None)
@given(st.data())
def test_flipped_bits_are_found_or_harmless(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    folder = tmp_path_factory.mktemp("flips")
    library = own(folder)
    path = library.path("MINE", ONE_DAY)
    raw = bytearray(path.read_bytes())
    for bit in data.draw(st.lists(st.integers(0, 8 * len(raw) - 1), min_size=1, max_size=3)):
        raw[bit // 8] ^= 1 << bit % 8
    path.write_bytes(bytes(raw))
    again = BarLibrary(folder)
    try:
        found = again.bars("MINE", ONE_DAY)
    except DataProblem:
        assert any("damaged" in n for n in again.notices) and list(folder.glob("MINE.1d.damaged-*"))
    else:
        good = daily_bars(np.arange(1.0, 31), "MINE")
        assert np.array_equal(found.times, good.times) and all(np.array_equal(found[n], good[n]) for n in COLUMNS)


def test_a_file_cut_short_while_it_is_used_takes_nothing_down(tmp_path: Path) -> None:
    library = own(tmp_path)
    bars = library.bars("MINE", ONE_DAY)
    path = library.path("MINE", ONE_DAY)
    os.truncate(path, 100)
    assert bars["close"].sum() == np.arange(1.0, 31).sum()
    library.forget("MINE")
    with pytest.raises(DataProblem, match="no 1d bars of MINE"):
        library.bars("MINE", ONE_DAY)
    assert list(tmp_path.glob("MINE.1d.damaged-*"))


def test_shifted_offsets_are_not_believed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    own(tmp_path)
    (cached,) = tmp_path.glob("cache/oakladder/offsets-*")
    raw = cached.read_bytes()
    for k in range(0, len(raw), 7):
        cached.write_bytes(raw[:k] + bytes([raw[k] ^ 8]) + raw[k + 1 :])
        assert closes(BarLibrary(tmp_path)) == list(np.arange(1.0, 31))
    assert closes(BarLibrary(tmp_path)) == list(np.arange(1.0, 31))


def test_every_damaged_file_can_be_named(tmp_path: Path) -> None:
    library = own(tmp_path)
    assert library.damaged() == []
    raw = bytearray(library.path("MINE", ONE_DAY).read_bytes())
    raw[len(raw) // 2] ^= 4
    library.path("MINE", ONE_DAY).write_bytes(bytes(raw))
    assert library.damaged() == ["MINE.1d.arrow is damaged."]


# --- names --------------------------------------------------------------------------------------------

NAMES = ["../../OUT", "EUR/USD", "eur/usd", "ÄÖÜ", ".", "..", "A B", "%41", "x" * 60, "NUL", "日本", "A\\B", "~", "-rf"]


def test_any_symbol_stays_inside_the_library_and_apart(tmp_path: Path) -> None:
    folder = tmp_path / "deep" / "library"
    library = BarLibrary(folder)
    for k, symbol in enumerate(NAMES):
        library.write(daily_bars([k + 1.0, k + 2.0], symbol), SymbolInfo(symbol, symbol, "", "share", 0.01, Calendar()))
    for name in ("catalogue.sqlite", "catalogue.copy.sqlite"):
        (folder / name).unlink(missing_ok=True)
    again = BarLibrary(folder)
    assert set(again.infos) == set(NAMES)
    assert [closes(again, s)[0] for s in NAMES] == [k + 1.0 for k in range(len(NAMES))]
    outside = [p for p in tmp_path.rglob("*") if p.is_file() and folder not in p.parents]
    assert outside == []
    lower = [p.name.lower() for p in folder.glob("*.arrow")]
    assert len(set(lower)) == len(NAMES)


def test_files_of_the_first_form_are_renamed(tmp_path: Path) -> None:
    library = own(tmp_path, "ÉTÉ")
    library.path("ÉTÉ", ONE_DAY).rename(tmp_path / "ÉTÉ.1d.arrow")
    assert closes(BarLibrary(tmp_path), "ÉTÉ") == list(np.arange(1.0, 31))


# --- several at once ----------------------------------------------------------------------------------


def test_looking_for_news_while_others_read_is_no_trouble(market: BarLibrary, tmp_path: Path) -> None:
    shutil.copytree(market.folder, tmp_path / "m", ignore=shutil.ignore_patterns("*.1m.arrow"))
    library = BarLibrary(tmp_path / "m")
    failures: list[Exception] = []
    ended = threading.Event()

    def read() -> None:
        names = list(library.infos)
        while not ended.is_set():
            for symbol in names:
                try:
                    library.bars(symbol, ONE_DAY)
                    library.forget(symbol)
                except Exception as error:
                    failures.append(error)

    readers = [threading.Thread(target=read) for _ in range(3)]
    for reader in readers:
        reader.start()
    for _ in range(300):
        library.fresh()
        library._stamp = 0  # as if another copy had written
    ended.set()
    for reader in readers:
        reader.join()
    assert failures == []


def test_a_change_that_was_broken_off_is_settled_at_the_next_start(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    library = own(tmp_path)
    before = library.infos["MINE"]

    class Killed(BaseException):
        pass

    def dies(*_: object) -> None:
        raise Killed

    monkeypatch.setattr(BarLibrary, "add_symbols", dies)
    with pytest.raises(Killed):
        edit_symbols(library, ["MINE"], Change(zone="WET", hours=(540, 930)))
    monkeypatch.undo()
    again = BarLibrary(tmp_path)  # the bars were written, the catalogue was not
    assert again.infos["MINE"].calendar.zone == "WET" and closes(again) == list(np.arange(1.0, 31))
    calendar = again.infos["MINE"].calendar
    assert (calendar.minutes(again.bars("MINE", ONE_DAY).times) == 540).all()
    monkeypatch.setattr("oakladder.bars.store.files.write", dies)
    with pytest.raises(Killed):
        edit_symbols(again, ["MINE"], Change(zone="UTC", hours=(0, 600)))
    monkeypatch.undo()
    last = BarLibrary(tmp_path)
    assert last.infos["MINE"].calendar == calendar
    assert before.calendar != calendar


def test_a_panel_is_of_the_files_of_today_whatever_was_noted_of_them(tmp_path: Path) -> None:
    """A copy that was killed has written bars, and not noted where they lie in their files."""
    library = own(tmp_path)
    library.write(daily_bars(np.arange(1.0, 9), "OTHER"), SymbolInfo("OTHER", "", "", "share", 0.01, Calendar()))
    library.settle()
    library.write(daily_bars(np.arange(1.0, 50), "MINE"))  # and nothing is settled
    assert BarLibrary(tmp_path).panel(["MINE", "OTHER"], ONE_DAY).column("close").tolist() == [
        *range(1, 50),
        *range(1, 9),
    ]
