"""Wrong data are never taken in without a word, and no file hangs the importer, fills the memory or takes it down."""

from __future__ import annotations

import os
import random
import threading
import time
import tracemalloc
from datetime import date, timedelta
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.feather as feather
import pyarrow.parquet as parquet
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oakladder.bars.bars import COLUMNS
from oakladder.bars.calendar_words import closed_days, closed_text, closed_words, hours_of, hours_words, with_hours
from oakladder.bars.errors import DataProblem, Stopped
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.demo import upkeep
from oakladder.intake import reading
from oakladder.intake.cells import numbers
from oakladder.intake.cleaning import CHOICES, Repair, Trouble
from oakladder.intake.file_layout import guess
from oakladder.intake.importing import Intake, Options, import_files, look_at, session_calendar
from oakladder.intake.names import trouble_of

HEAD = "Date,Open,High,Low,Close,Volume"
START = date(2022, 1, 3)


def days(count: int, start: date = START) -> list[date]:
    found = (start + timedelta(days=k) for k in range(count * 2))
    return [d for d in found if d.weekday() < 5][:count]


def rows(count: int = 60, start: date = START) -> list[list[str]]:
    made = []
    for k, day in enumerate(days(count, start)):
        close = 50 + 3 * np.sin(k / 5)
        made.append([str(day), *(f"{v:.2f}" for v in (close - 0.1, close + 0.5, close - 0.5, close)), "1000"])
    return made


def text(lines: list[list[str]], head: str = HEAD) -> str:
    return "\n".join([head, *(",".join(line) for line in lines)]) + "\n"


@pytest.fixture
def library(tmp_path: Path) -> BarLibrary:
    return BarLibrary(tmp_path / "library")


def look(path: Path, library: BarLibrary, content: str | bytes, **options: object) -> list[Intake]:
    path.write_bytes(content if isinstance(content, bytes) else content.encode())
    return look_at(path, library, Options(**options))  # type: ignore[arg-type]


# --- cells --------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("column", "cell", "trouble"),
    [
        (1, "fifty", Trouble.UNREADABLE),
        (2, "10,5", Trouble.UNREADABLE),
        (3, "1_000", Trouble.UNREADABLE),
        (4, "inf", Trouble.UNREADABLE),
        (5, "1e999", Trouble.UNREADABLE),
        (5, "10.5K", Trouble.SCALED),
        (2, "n/a", Trouble.MISSING),
        (1, "", Trouble.MISSING),
        (3, "0", Trouble.MISSING),
        (3, "-1", Trouble.BELOW_ZERO),
        (2, "1e17", Trouble.ABSURD),
        (5, "1e17", Trouble.ABSURD),
        (0, "0001-01-03", Trouble.UNREAD),
        (0, "9999-01-03", Trouble.UNREAD),
        (0, "2022-01-10-11", Trouble.UNREAD),
        (0, "2022-02-30", Trouble.UNREAD),
        (0, "2150-01-04", Trouble.FUTURE),
        (0, "yesterday", Trouble.UNREAD),
    ],
)
def test_a_cell_that_is_not_plainly_right_is_found_with_its_row(
    tmp_path: Path, library: BarLibrary, column: int, cell: str, trouble: Trouble
) -> None:
    lines = rows()
    lines[20][column] = f'"{cell}"'
    (found,) = look(tmp_path / "a.csv", library, text(lines))
    assert not found.trouble
    finding = next(f for f in found.findings if f.trouble is trouble)
    assert finding.count == 1 and finding.places[0][0] == 22
    assert found.bars is not None
    for repair in CHOICES[trouble]:
        (made,) = look(tmp_path / "a.csv", library, text(lines), repairs={trouble: repair})
        assert made.bars is not None
        dropped = repair is Repair.DROP or trouble is Trouble.UNREAD
        assert len(made.bars) == (59 if dropped or (column == 4 and repair is Repair.BLANK) else 60)
        if trouble is not Trouble.BELOW_ZERO or repair is not Repair.KEEP:
            assert all(not (np.abs(made.bars[n]) > 1e6).any() and not (made.bars[n] <= 0).any() for n in COLUMNS[:4])


def test_many_prices_below_zero_are_meant(tmp_path: Path, library: BarLibrary) -> None:
    lines = [[line[0], "-1", "0.5", "-2", "-1.5", "100"] for line in rows()]
    (found,) = look(tmp_path / "spread.csv", library, text(lines))
    finding = next(f for f in found.findings if f.trouble is Trouble.BELOW_ZERO)
    assert finding.repair is Repair.KEEP and found.bars is not None and (found.bars["close"] == -1.5).all()


def test_numbers_with_commas_in_quotes_are_recognised_as_decimals(tmp_path: Path, library: BarLibrary) -> None:
    lines = [[line[0], *(f'"{v.replace(".", ",")}"' for v in line[1:5]), line[5]] for line in rows()]
    (found,) = look(tmp_path / "a.csv", library, text(lines))
    assert found.findings == [] and found.bars is not None and abs(found.bars["close"][0] - 50) < 4


@given(st.floats(-1e9, 1e9, allow_nan=False), st.sampled_from([".", ","]))
@settings(max_examples=100, deadline=None)
def test_a_number_is_read_as_it_was_written(value: float, decimal: str) -> None:
    plain = repr(value)
    grouped = f"{value:,.2f}"
    if decimal == ",":
        plain = plain.replace(".", ",")
        grouped = grouped.replace(",", "\0").replace(".", ",").replace("\0", ".")
    made = numbers(pa.array([plain, f" {plain} ", grouped]), decimal)
    assert made.values[0] == made.values[1] == value and made.values[2] == pytest.approx(round(value, 2), abs=1e-6)
    assert not made.unreadable.any()


# --- symbols ------------------------------------------------------------------------------------------


def with_symbols(names: list[str], count: int = 30) -> str:
    body = [[f'"{name}"', *line] for name in names for line in rows(count)]
    return text(body, "Symbol," + HEAD)


@pytest.mark.parametrize("name", ["", ".", "..", "a\tb", "‮ABC", "x" * 65, "日" * 40, "\x07", "--"])
def test_names_that_are_no_symbols_are_left_out_with_their_rows(tmp_path: Path, library: BarLibrary, name: str) -> None:
    assert trouble_of(name) or name in ("", "--")
    found = look(tmp_path / "many.csv", library, with_symbols(["GOOD", name]))
    bad = [i for i in found if i.trouble]
    assert len(bad) == 1 and "30 rows were left out" in bad[0].trouble and "row 32" in bad[0].trouble
    assert [i.symbol for i in found if not i.trouble] == ["GOOD"]


def test_long_names_are_neither_cut_nor_merged(tmp_path: Path, library: BarLibrary) -> None:
    names = ["A VERY LONG NAME OF A FUND, CLASS A", "A VERY LONG NAME OF A FUND, CLASS B", "EUR/USD"]
    path = tmp_path / "many.csv"
    path.write_text(with_symbols(names))
    assert [i.symbol for i in import_files([path], library)] == names
    again = BarLibrary(library.folder)
    assert list(again.infos) == names and all(len(again.bars(n, ONE_DAY)) == 30 for n in names)


def test_names_that_are_put_together_are_said(tmp_path: Path, library: BarLibrary) -> None:
    body = text([["abc", *line] for line in rows(30)] + [["ABC", *line] for line in rows(60)[30:]], "Symbol," + HEAD)
    (found,) = look(tmp_path / "many.csv", library, body)
    finding = next(f for f in found.findings if f.trouble is Trouble.ALIKE)
    assert "ABC, abc" in finding.words() and found.new == 60


# --- the same symbol again ----------------------------------------------------------------------------


def test_a_second_import_with_other_hours_brings_no_day_twice_and_keeps_what_was_set(
    tmp_path: Path, library: BarLibrary
) -> None:
    path = tmp_path / "tide.csv"
    path.write_text(text(rows(40)))
    import_files([path], library)
    edit_symbols(library, ["TIDE"], Change(name="The tide", sector="Water", tick=0.5))
    more = rows(45)
    more[10][4] = "51.11"
    more[10][2] = "52.00"
    path.write_text(text(more))
    (again,) = import_files([path], library, Options(session_calendar("WET", "09:00-15:30")))
    bars = library.bars("TIDE", ONE_DAY)
    assert len(bars) == 45 and (again.new, again.changed) == (5, 1) and bars["close"][10] == 51.11
    info = library.infos["TIDE"]
    assert (info.name, info.sector, info.tick, info.calendar.zone) == ("The tide", "Water", 0.5, "WET")
    assert (info.calendar.minutes(bars.times) == 540).all()
    assert info.calendar.days(bars.times).tolist() == [d.toordinal() - 719_163 for d in days(45)]


def test_own_bars_take_the_place_of_the_demo_markets(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path / "library")
    upkeep.prepare(library)
    library.bars("BRINE", ONE_MINUTE)
    path = tmp_path / "brine.csv"
    path.write_text(text(rows(40)))
    import_files([path], library)
    assert len(library.bars("BRINE", ONE_DAY)) == 40 and library.infos["BRINE"].sector == "My data"
    with pytest.raises(DataProblem, match="no 1m bars"):
        library.bars("BRINE", ONE_MINUTE)


def test_bars_of_ten_seconds_are_put_together_to_minutes(tmp_path: Path, library: BarLibrary) -> None:
    lines = [f"2022-01-03 09:{m:02}:{s:02},1,3,0.5,2,10" for m in range(5) for s in range(0, 60, 10)]
    path = tmp_path / "fast.csv"
    path.write_text("time,open,high,low,close,volume\n" + "\n".join(lines) + "\n")
    (found,) = import_files([path], library)
    assert not found.trouble and Trouble.SECONDS in [f.trouble for f in found.findings]
    bars = library.bars("FAST", ONE_MINUTE)
    assert len(bars) == 5 and bars["volume"].tolist() == [60] * 5 and bars["open"][0] == 1


def test_a_day_that_stands_there_twice_is_kept_once(tmp_path: Path, library: BarLibrary) -> None:
    lines = [f"{line[0]} {clock},{','.join(line[1:])}" for line in rows(40) for clock in ("00:00", "12:00")][:-1]
    path = tmp_path / "twice.csv"
    path.write_text(HEAD + "\n" + "\n".join(lines[::2] + lines[1:8:2]) + "\n")
    (found,) = import_files([path], library)
    assert not found.trouble and len(library.bars("TWICE", ONE_DAY)) == 40


# --- sizes --------------------------------------------------------------------------------------------


def test_one_time_far_away_takes_no_time(tmp_path: Path, library: BarLibrary) -> None:
    stamps = [1_640_000_000 + 86_400 * k for k in range(40)]
    body = "\n".join(f"{s},1,2,1,2,5" for s in [*stamps, 10_000_000_000_000])
    (found,) = look(tmp_path / "far.csv", library, "time,open,high,low,close,volume\n" + body + "\n")
    assert not found.trouble and found.bars is not None and len(found.bars) == 40
    assert next(f for f in found.findings if f.trouble is Trouble.UNREAD).places[0][0] == 42


def test_two_thousand_symbols_in_one_file(tmp_path: Path, library: BarLibrary) -> None:
    body = [f"S{k},{line}" for k in range(2000) for line in (",".join(r) for r in rows(12))]
    found = look(tmp_path / "many.csv", library, "Symbol," + HEAD + "\n" + "\n".join(body) + "\n")
    assert len(found) == 2000 and all(not i.trouble and i.new == 12 for i in found)


def test_a_cell_longer_than_any_table_has(tmp_path: Path, library: BarLibrary) -> None:
    lines = rows()
    lines[30][1] = "9" * 200_000
    (found,) = look(tmp_path / "wide.csv", library, text(lines))
    assert not found.trouble and found.bars is not None and len(found.bars) == 60
    (only,) = look(tmp_path / "wide.csv", library, "x" * 5_000_000)
    assert only.trouble


@pytest.mark.nightly
def test_two_million_repeated_rows_are_read_in_little_memory(tmp_path: Path, library: BarLibrary) -> None:
    line = ",".join(rows(1)[0]) + "\n"
    path = tmp_path / "again.csv"
    path.write_text(HEAD + "\n" + line * 2_000_000)
    look_at(path, library, Options())  # what is loaded once is no matter of the file
    tracemalloc.start()
    (found,) = look_at(path, library, Options())
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert not found.trouble and found.bars is not None and len(found.bars) == 1
    assert most < 3 * path.stat().st_size + 100_000_000


def test_a_file_too_large_for_the_memory_is_refused_beforehand(
    tmp_path: Path, library: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(reading, "MOST_MEMORY", 2000)
    (found,) = look(tmp_path / "large.csv", library, text(rows()))
    assert "GB of memory" in found.trouble and "Split it" in found.trouble


def test_reading_can_be_stopped(tmp_path: Path, library: BarLibrary) -> None:
    path = tmp_path / "a.csv"
    path.write_text(text(rows()))
    with pytest.raises(Stopped):
        look_at(path, library, Options(), cancelled=lambda: True)
    assert import_files([path], library, cancelled=lambda: True) == [] and not library.infos


# --- tables -------------------------------------------------------------------------------------------


def table(**columns: pa.Array) -> pa.Table:
    close = np.arange(1.0, 41)
    made = {"date": pa.array(list(days(40))), **{n: pa.array(close) for n in ("open", "high", "low", "close")}}
    return pa.table(made | columns)


@pytest.mark.parametrize(
    ("kind", "column"),
    [
        ("list", pa.array([[1.0]] * 40)),
        ("struct", pa.array([{"a": 1}] * 40)),
        ("timestamp", pa.array([1] * 40, pa.timestamp("s"))),
        ("bool", pa.array([True] * 40)),
        ("binary", pa.array([b"1"] * 40)),
    ],
)
def test_tables_whose_prices_are_no_numbers_are_refused_in_words(
    tmp_path: Path, library: BarLibrary, kind: str, column: pa.Array
) -> None:
    parquet.write_table(table(close=column), tmp_path / "a.parquet")
    (found,) = look_at(tmp_path / "a.parquet", library, Options())
    assert found.trouble and "Something is wrong" not in found.trouble
    assert "close" in found.trouble or "no number" in found.trouble


def test_tables_of_texts_decimals_and_codes_are_read(tmp_path: Path, library: BarLibrary) -> None:
    close = [f"{k}.5" for k in range(1, 41)]
    made = table(
        close=pa.array(close),
        high=pa.array(close).cast(pa.decimal128(9, 2)),
        symbol=pa.array(["KELP"] * 20 + ["SALT"] * 20).dictionary_encode(),
    )
    feather.write_feather(made, str(tmp_path / "a.feather"))
    found = import_files([tmp_path / "a.feather"], library)
    assert [i.symbol for i in found] == ["KELP", "SALT"]
    assert library.bars("SALT", ONE_DAY)["close"][0] == 21.5


def flipped(raw: bytes, seed: int) -> bytes:
    rng = random.Random(seed)
    made = bytearray(raw)
    for _ in range(rng.randint(1, 6)):
        made[rng.randrange(len(made))] ^= 1 << rng.randrange(8)
    return bytes(made[: rng.choice([len(made), len(made), rng.randrange(1, len(made))])])


def damaged_tables(tmp_path: Path, library: BarLibrary, seeds: range) -> list[float]:
    """Looks at tables with flipped bits and cut ends; each is read or refused in words. How long each took."""
    parquet.write_table(table(), tmp_path / "good.parquet")
    feather.write_feather(table(), str(tmp_path / "good.feather"))
    feather.write_feather(table(), str(tmp_path / "plain.feather"), compression="uncompressed")
    taken = []
    for seed in seeds:
        good = tmp_path / ("good.parquet", "good.feather", "plain.feather")[seed % 3]
        path = tmp_path / f"bad{good.suffix}"
        path.write_bytes(flipped(good.read_bytes(), seed))
        begin = time.monotonic()
        (found, *_) = look_at(path, library, Options())
        taken.append(time.monotonic() - begin)
        assert found.trouble or found.bars is not None
        assert "nobody foresaw" not in found.trouble, found.trouble
    return taken


def test_damaged_tables_take_nothing_down(tmp_path: Path, library: BarLibrary) -> None:
    assert len(damaged_tables(tmp_path, library, range(45))) == 45


def test_a_table_can_be_stopped_while_it_is_read(tmp_path: Path, library: BarLibrary) -> None:
    parquet.write_table(table(), tmp_path / "a.parquet")
    stop = threading.Event()
    stop.set()
    with pytest.raises((Stopped, DataProblem)):
        reading.read(tmp_path / "a.parquet", guess(tmp_path / "a.parquet"), stop.is_set)
    (found,) = look_at(tmp_path / "a.parquet", library, Options())  # and the next one is read again
    assert not found.trouble


# --- mutated files ------------------------------------------------------------------------------------


def mutated(rng: random.Random, lines: list[list[str]]) -> str:
    """A file of bars with something done to it that people and programs do to files."""
    made = [list(line) for line in lines]
    head = HEAD.split(",")
    for _ in range(rng.randint(1, 3)):
        k, c = rng.randrange(len(made)), rng.randrange(6)
        row = made[k]
        what = rng.randrange(14)
        if what == 0 and c < len(row):
            row[c] = rng.choice(
                ["", "x", "-1", "0", "1e17", "inf", "nan", "10.5K", '"10,5"', "1_000", "#REF!", "٣", "½"]
            )
        elif what == 1:
            del row[rng.randrange(len(row))]
        elif what == 2:
            row.append("9")
        elif what == 3:
            made.insert(rng.randrange(len(made)), list(row))
        elif what == 4:
            made[k], made[-1] = made[-1], made[k]
        elif what == 5 and row:
            row[0] = rng.choice(
                ["0001-01-01", "9999-12-31", "2022-13-01", "2022-02-30", "now", "1e9", "2022-01-10-11", ""]
            )
        elif what == 6:
            made.insert(k, [])
        elif what == 7:
            rng.shuffle(head)
        elif what == 8:
            head[c] = rng.choice(["", "x", "Close", "date", "symbol", "\x00", "名"])
        elif what == 9 and row:
            row[-1] = '"' + row[-1]
        elif what == 10 and len(row) > 4:
            row[2], row[3] = row[3], row[2]
        elif what == 11 and len(row) > 4:
            row[4] = str(float(row[4]) * 100) if row[4].replace(".", "").isdigit() else row[4]
        elif what == 12:
            made = made[: rng.randrange(1, len(made) + 1)]
        else:
            made = [[v.replace(".", rng.choice([",", ".", " "])) for v in line] for line in made]
    body = "\n".join([",".join(head), *(",".join(line) for line in made)])
    return body.replace("\n", rng.choice(["\n", "\n", "\r\n", "\r"])) + rng.choice(["\n", "", "\x1a", "\n\n\n"])


def check_mutations(tmp_path: Path, library: BarLibrary, seeds: range) -> int:
    """Imports mutated files: each is taken in sound and with every oddity told, or refused in words."""
    good = rows(40)
    expected = {line[0]: [float(v) for v in line[1:]] for line in good}
    told = 0
    for seed in seeds:
        rng = random.Random(seed)
        path = tmp_path / f"m{seed}.csv"
        path.write_text(mutated(rng, good), encoding="utf-8", newline="")
        for found in look_at(path, library, Options()):
            assert "nobody foresaw" not in found.trouble, f"{seed}: {found.trouble}"
            if found.trouble:
                told += 1
                continue
            assert found.bars is not None
            bars = found.bars
            assert (np.diff(bars.times) > 0).all()
            same = _same(bars, expected)
            if not (same and len(bars) == len(good)):
                # whatever is not as it was must have been said, or the file itself says other things
                told += bool(found.findings)
            with np.errstate(invalid="ignore"):
                assert not any((np.abs(bars[n]) > 1e12).any() or np.isinf(bars[n]).any() for n in COLUMNS)
        path.unlink()
    return told


def _same(bars, expected: dict[str, list[float]]) -> bool:  # type: ignore[no-untyped-def]
    for k, day in enumerate(bars.calendar.days(bars.times).tolist()):
        row = expected.get(str(np.datetime64(day, "D")))
        if row is None or [float(bars[n][k]) for n in COLUMNS] != row:
            return False
    return True


def test_mutated_files_are_read_or_refused_in_words(tmp_path: Path, library: BarLibrary) -> None:
    assert check_mutations(tmp_path, library, range(150)) > 50


# --- calendars ----------------------------------------------------------------------------------------


def test_days_that_are_missed_every_year_are_entered_in_the_calendar(tmp_path: Path, library: BarLibrary) -> None:
    every = rows(1200)
    kept = [line for line in every if line[0][5:] not in ("12-25", "07-01") and line[0] != "2023-03-15"]
    path = tmp_path / "reed.csv"
    path.write_text(text(kept))
    (found,) = import_files([path], library)
    holidays = library.infos["REED"].calendar.holidays
    assert {str(np.datetime64(d, "D"))[5:] for d in holidays} == {"12-25", "07-01"}
    holes = next(f for f in found.findings if f.trouble is Trouble.HOLE)
    assert holes.count == 1  # the one day in March is no holiday
    path.write_text(text(kept[:800]))
    (off,) = look_at(path, BarLibrary(tmp_path / "other"), Options(repairs={Trouble.CLOSED: Repair.DROP}))
    assert off.info is not None and not off.info.calendar.holidays


def test_days_without_bars_of_any_symbol_are_closed_and_weeks_end_before_them(
    tmp_path: Path, library: BarLibrary
) -> None:
    friday = "2022-04-15"
    kept = [line for line in rows(120) if line[0] != friday]
    for k in range(6):
        (tmp_path / f"s{k}.csv").write_text(text(kept))
    import_files([tmp_path / f"s{k}.csv" for k in range(6)], library)
    calendar = library.infos["S3"].calendar
    day = date.fromisoformat(friday).toordinal() - 719_163
    assert day in calendar.holidays
    thursday = np.array([(day - 1) * 86_400])
    assert calendar.closes(thursday, Timeframe.parse("1w"))[0] == calendar.day_close(np.array([day - 1]))[0]


def test_half_days_of_all_symbols_are_recognised_from_minutes(tmp_path: Path, library: BarLibrary) -> None:
    lines = []
    for day in days(20):
        last = 720 if str(day) == "2022-01-14" else 930
        lines += [f"{day} {m // 60:02}:{m % 60:02},1,2,1,2,5" for m in range(540, last, 5)]
    files = []
    for k in range(5):
        files.append(tmp_path / f"h{k}.csv")
        files[-1].write_text("time,open,high,low,close,volume\n" + "\n".join(lines) + "\n")
    import_files(files, library, Options(session_calendar("UTC", "09:00-15:30")))
    assert library.infos["H2"].calendar.halves == frozenset([(date(2022, 1, 14).toordinal() - 719_163, 720)])


def test_closed_days_are_entered_as_text_and_stay(tmp_path: Path, library: BarLibrary) -> None:
    said = closed_days("# our market\n2022-04-15\n\n2022-12-23 13:00  # before the feast\n")
    assert closed_text(said.of(Calendar())) == "2022-04-15\n2022-12-23 13:00\n"
    assert closed_words(said.of(Calendar())) == "1 closed day, 1 half day"
    path = tmp_path / "tide.csv"
    path.write_text(text(rows(40)))
    import_files([path], library)
    edit_symbols(library, ["TIDE"], Change(closed=said))
    import_files([path], library, Options(session_calendar("WET", "09:00-15:30")))
    calendar = BarLibrary(library.folder).infos["TIDE"].calendar
    assert calendar.zone == "WET" and (calendar.holidays, calendar.halves) == (said.holidays, said.halves)
    for wrong in ("2022-13-01", "Christmas", "2022-04-15\n2022-04-15 13:00", "2022-04-15 25:00", "2022-04-15 a b"):
        with pytest.raises(DataProblem):
            closed_days(wrong)
    with pytest.raises(DataProblem, match="half day ends"):
        edit_symbols(library, ["TIDE"], Change(closed=closed_days("2022-04-15 08:00")))


def test_hours_over_midnight_are_read_and_written() -> None:
    assert hours_of("18:00-17:00") == (-360, 1020)
    calendar = with_hours(Calendar(), (-360, 1020))
    assert hours_words(calendar) == "18:00-17:00 over midnight"
    assert with_hours(Calendar(), hours_of("09:00-15:30"), hours_of("06:00-22:00")).late == 22 * 60
    with pytest.raises(DataProblem):
        with_hours(Calendar(), (540, 930), (600, 700))


@pytest.mark.nightly
def test_two_thousand_mutated_files_and_a_thousand_damaged_tables(
    tmp_path: Path, library: BarLibrary, record_property: object
) -> None:
    told = check_mutations(tmp_path, library, range(1000, 3200))
    taken = damaged_tables(tmp_path, library, range(1000, 2000))
    print(f"2,200 mutated files, {told} with something told; 1,000 damaged tables, slowest {max(taken):.2f} s")
    assert max(taken) < 30 and os.path.isdir(tmp_path)
