"""Awkward files of every kind: recognised, shown, cleaned as the user says, taken in once and only what is new."""

from __future__ import annotations

import csv
from datetime import UTC, date, datetime, timedelta
from pathlib import Path

import numpy as np
import pyarrow as pa
import pyarrow.parquet as parquet
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.as_of import LibraryAsOf
from oakladder.bars.store.infer_metadata import tick_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.engine.columns.fill import ColumnRequest, fill
from oakladder.engine.scan.conditions import Rule
from oakladder.engine.scan.run import run_scan
from oakladder.intake.cleaning import CHOICES, Repair, Trouble
from oakladder.intake.file_layout import guess, time_form
from oakladder.intake.file_search import files_of
from oakladder.intake.importing import Options, import_files, look_at, session_calendar
from oakladder.intake.reading import read
from oakladder.intake.times import TIME_FORMS, parse_times
from oakladder.rung import compile_script

FIRST = datetime(2024, 3, 4, tzinfo=UTC)  # a Monday


def days(count: int) -> list[datetime]:
    made = []
    at = FIRST
    while len(made) < count:
        if at.weekday() < 5:
            made.append(at)
        at += timedelta(days=1)
    return made


def prices(count: int, seed: int = 1) -> np.ndarray:
    """Rows of open, high, low, close, volume."""
    rng = np.random.default_rng(seed)
    close = np.round(50 + np.cumsum(rng.normal(0, 0.5, count)), 2)
    open_ = np.round(close + rng.normal(0, 0.2, count), 2)
    high = np.round(np.maximum(open_, close) + 0.3, 2)
    low = np.round(np.minimum(open_, close) - 0.3, 2)
    return np.stack([open_, high, low, close, np.floor(rng.uniform(1000, 9000, count))], axis=1)


def write(
    path: Path, head: list[str] | None, rows: list[list[object]], separator: str = ",", encoding: str = "utf-8"
) -> Path:
    with path.open("w", newline="", encoding=encoding) as file:
        writer = csv.writer(file, delimiter=separator)
        if head is not None:
            writer.writerow(head)
        writer.writerows(rows)
    return path


HEAD = ["Date", "Expand", "High", "Low", "Close", "Volume"]


def plain(path: Path, count: int = 60, form: str = "%Y-%m-%d", seed: int = 1, start: int = 0) -> Path:
    rows = [[d.strftime(form), *p] for d, p in zip(days(count), prices(count, seed).tolist(), strict=True)]
    return write(path, HEAD, rows[start:])


@pytest.fixture
def library(tmp_path: Path) -> BarLibrary:
    return BarLibrary(tmp_path / "library")


def taken(library: BarLibrary, symbol: str) -> np.ndarray:
    bars = library.bars(symbol, ONE_DAY)
    return np.stack([bars[n] for n in ("open", "high", "low", "close", "volume")], axis=1)


def kinds(path: Path, library: BarLibrary, options: Options | None = None) -> dict[Trouble, int]:
    (intake,) = look_at(path, library, options or Options())
    assert not intake.trouble, intake.trouble
    return {f.trouble: f.count for f in intake.findings}


# --- recognising --------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("separator", "decimal", "head", "form"),
    [
        (",", ".", HEAD, "%Y-%m-%d"),
        (";", ",", ["Day", "First", "Max", "Min", "Last", "Qty"], "%d.%m.%Y"),
        ("\t", ".", ["<DATE>", "<OPEN>", "<HIGH>", "<LOW>", "<CLOSE>", "<VOL>"], "%Y%m%d"),
        ("|", ".", ["close", "volume", "open", "low", "high", "timestamp"], "%Y/%m/%d"),
        (",", ".", HEAD, "%m/%d/%Y"),
        (",", ".", HEAD, "%d/%m/%Y"),
        (",", ".", HEAD, "%d-%b-%Y"),
        (",", ".", HEAD, "seconds"),
        (",", ".", HEAD, "milliseconds"),
        (",", ".", None, "%Y-%m-%d"),
    ],
)
def test_separators_columns_decimals_and_times_are_recognised(
    tmp_path: Path, library: BarLibrary, separator: str, decimal: str, head: list[str] | None, form: str
) -> None:
    data, stamps = prices(70), days(70)
    order = list(range(6))
    if head is not None and head[0] == "close":
        order = [4, 5, 1, 3, 2, 0]
    rows = []
    for stamp, price in zip(stamps, data.tolist(), strict=True):
        scale = {"seconds": 1, "milliseconds": 1000}.get(form)
        when = str(int(stamp.timestamp()) * scale) if scale else stamp.strftime(form)
        cells = [when, *(f"{v:.2f}".replace(".", decimal) for v in price)]
        rows.append([cells[k] for k in order])
    path = write(tmp_path / "reed.csv", head, rows, separator)
    (intake,) = import_files([path], library)
    assert not intake.trouble and intake.symbol == "REED" and intake.new == 70
    np.testing.assert_allclose(taken(library, "REED"), data)
    local = library.bars("REED", ONE_DAY).times // 86_400
    assert local.tolist() == [int(s.timestamp()) // 86_400 for s in stamps]


def test_minutes_with_the_date_apart_and_a_zone_of_their_own(tmp_path: Path, library: BarLibrary) -> None:
    data = prices(300)
    starts = [datetime(2024, 7, 1, 9, 0) + timedelta(minutes=k) for k in range(300)]
    rows = [[s.strftime("%Y%m%d"), s.strftime("%H:%M"), *p] for s, p in zip(starts, data.tolist(), strict=True)]
    path = write(tmp_path / "MOLE_1min.txt", ["date", "time", "o", "h", "l", "c", "v"], rows)
    options = Options(session_calendar("WET", "09:00-15:30"), zone="WET")
    (intake,) = import_files([path], library, options)
    assert (intake.symbol, str(intake.timeframe)) == ("MOLE_1MIN", "1m") and not intake.trouble
    bars = library.bars("MOLE_1MIN", ONE_MINUTE)
    assert bars.times[0] == int(datetime(2024, 7, 1, 8, 0, tzinfo=UTC).timestamp())  # summer time
    hourly = library.bars("MOLE_1MIN", Timeframe.parse("1h"))
    assert len(hourly) == 5 and hourly["volume"].sum() == data[:, 4].sum()


def test_five_minute_bars_keep_their_place(tmp_path: Path, library: BarLibrary) -> None:
    starts = [datetime(2024, 7, 1, 9, 0) + timedelta(minutes=5 * k) for k in range(60)]
    rows = [[s.isoformat(), *p] for s, p in zip(starts, prices(60).tolist(), strict=True)]
    (intake,) = import_files([write(tmp_path / "five.csv", ["time", *HEAD[1:]], rows)], library)
    assert len(library.bars("FIVE", Timeframe.parse("5m"))) == 60 and not intake.trouble


def test_many_symbols_in_one_parquet_file(tmp_path: Path, library: BarLibrary) -> None:
    data = prices(40)
    stamps = pa.array([d.replace(tzinfo=None) for d in days(40)] * 2, pa.timestamp("us"))
    columns = {n: np.tile(data[:, k], 2) for k, n in enumerate(("open", "high", "low", "close"))}
    table = pa.table({"ticker": ["ALGA"] * 40 + ["BUOY"] * 40, "date": stamps, **columns, "trades": np.arange(80)})
    parquet.write_table(table, tmp_path / "all.parquet")
    done = import_files([tmp_path / "all.parquet"], library)
    assert [i.symbol for i in done] == ["ALGA", "BUOY"] and all(i.counted for i in done)
    assert "volume counts trades" in done[0].words()
    assert library.bars("BUOY", ONE_DAY)["volume"].tolist() == list(range(40, 80))


def test_a_file_in_an_old_encoding_with_lines_above_the_table(tmp_path: Path, library: BarLibrary) -> None:
    path = tmp_path / "quai.csv"
    body = "\n".join(
        f"{d:%d.%m.%Y};{p[0]:.2f};{p[1]:.2f};{p[2]:.2f};{p[3]:.2f};{p[4]:.0f}"
        for d, p in zip(days(30), prices(30), strict=True)
    )
    text = f"Börse der Inseln\n\ndate;open;high;low;close;volume\n{body}\n"
    path.write_bytes(text.encode("cp1252"))
    (intake,) = import_files([path], library)
    assert not intake.trouble and intake.new == 30
    utf16 = tmp_path / "wide.csv"
    utf16.write_bytes(plain(tmp_path / "x.csv").read_text().encode("utf-16"))
    (intake,) = look_at(utf16, library, Options())
    assert not intake.trouble and intake.new == 60


def test_a_guess_can_be_corrected(tmp_path: Path) -> None:
    rows = [[f"{m:02d}/{d:02d}/2024", 1, 2, 1, 2, 5] for m in (3, 4) for d in (1, 2, 3)]
    path = write(tmp_path / "a.csv", HEAD, rows)
    layout = guess(path)
    from dataclasses import replace

    day_first, month_first = (
        read(path, replace(layout, time_form=f)).symbols[0].times for f in ("%d/%m/%Y", "%m/%d/%Y")
    )
    assert day_first[0] == int(datetime(2024, 3, 1, tzinfo=UTC).timestamp()) or day_first[0] != month_first[0]
    swapped = layout.with_column("close", layout.columns["open"])
    assert swapped.columns["close"] == layout.columns["open"] and "open" not in swapped.columns
    assert read(path, swapped).symbols[0].columns["close"].tolist() == [1.0] * 6


@given(st.sampled_from([f for f in TIME_FORMS if f.startswith("%")]), st.integers(0, 400))
@settings(max_examples=60, deadline=None)
def test_a_form_reads_what_it_writes(form: str, start: int) -> None:
    stamps = [datetime(2019, 1, 1, tzinfo=UTC) + timedelta(days=start + 9 * k, minutes=17 * k) for k in range(50)]
    texts = [s.strftime(form) for s in stamps]
    seconds, good = parse_times(texts, form)
    assert good.all()
    written = [datetime.fromtimestamp(int(s), UTC).strftime(form) for s in seconds]
    assert written == texts
    guessed, fine = parse_times(texts, time_form(texts))
    assert fine.all() and (np.diff(guessed) > 0).all()


# --- tidying ------------------------------------------------------------------------------------------


def rows_of(path: Path) -> list[list[str]]:
    return list(csv.reader(path.open()))


def spoil(path: Path, change: object) -> Path:
    rows = rows_of(path)
    change(rows)  # type: ignore[operator]
    return write(path, None, rows)  # type: ignore[arg-type]


def test_a_sound_file_has_nothing_wrong(tmp_path: Path, library: BarLibrary) -> None:
    assert kinds(plain(tmp_path / "a.csv", 300), library) == {}


def test_newest_first_is_a_manner_of_writing(tmp_path: Path, library: BarLibrary) -> None:
    path = plain(tmp_path / "a.csv")
    spoil(path, lambda rows: rows.__setitem__(slice(1, None), rows[:0:-1]))
    assert kinds(path, library) == {}
    import_files([path], library)
    np.testing.assert_allclose(taken(library, "A"), prices(60))


def test_everything_that_is_wrong_is_counted_and_cleaned(tmp_path: Path, library: BarLibrary) -> None:
    path = plain(tmp_path / "a.csv", 100)

    def change(rows: list[list[str]]) -> None:
        rows[10][2] = "1"  # the high below everything
        rows[20][1:] = ["0", "0", "0", "0", "0"]
        rows[30][5] = "-7"
        rows[40][0] = "the ides of March"
        rows.insert(51, list(rows[50]))
        rows[51][4] = str(float(rows[50][3]) + 0.01)
        rows[60], rows[61] = rows[61], rows[60]

    spoil(path, change)
    (intake,) = look_at(path, library, Options())
    found = {f.trouble: f for f in intake.findings}
    assert {t: f.count for t, f in found.items()} == {
        Trouble.UNREAD: 1,
        Trouble.ORDER: 1,
        Trouble.REPEAT: 1,
        Trouble.EMPTY: 1,
        Trouble.IMPOSSIBLE: 1,
        Trouble.NEGATIVE: 1,
        Trouble.HOLE: 2,
    }
    assert found[Trouble.IMPOSSIBLE].places[0][0] == 11 and "row 11" in found[Trouble.IMPOSSIBLE].words()
    import_files([path], library)
    bars = library.bars("A", ONE_DAY)
    assert len(bars) == 98 and (np.diff(bars.times) > 0).all()
    assert (bars["high"] >= bars["low"]).all() and np.isnan(bars["volume"]).sum() == 1
    assert bars["low"].min() > 40  # the high of 1 has not become a low


def test_a_high_and_low_that_are_exchanged_are_put_right(tmp_path: Path, library: BarLibrary) -> None:
    path = plain(tmp_path / "a.csv", 60)
    spoil(path, lambda rows: rows.__setitem__(20, [*rows[20][:2], rows[20][3], rows[20][2], *rows[20][4:]]))
    import_files([path], library)
    np.testing.assert_allclose(taken(library, "A"), prices(60))


@pytest.mark.parametrize(("repair", "left"), [(Repair.KEEP, 100), (Repair.DROP, 99)])
def test_a_spike_is_kept_or_dropped_as_the_user_says(
    tmp_path: Path, library: BarLibrary, repair: Repair, left: int
) -> None:
    path = plain(tmp_path / "a.csv", 100)
    spoil(path, lambda rows: rows.__setitem__(50, [rows[50][0], "500", "500", "500", "500", "10"]))
    options = Options(repairs={Trouble.SPIKE: repair})
    found = kinds(path, library, options)
    assert found.pop(Trouble.SPIKE) == 1 and found == ({} if repair is Repair.KEEP else {Trouble.HOLE: 1})
    import_files([path], library, options)
    assert len(library.bars("A", ONE_DAY)) == left


@pytest.mark.parametrize(
    ("ratio", "repair"), [(2.0, Repair.MEND), (3.0, Repair.MEND), (0.1, Repair.MEND), (2.0, Repair.KEEP)]
)
def test_a_split_is_found_and_adjusted_if_asked(
    tmp_path: Path, library: BarLibrary, ratio: float, repair: Repair
) -> None:
    path = plain(tmp_path / "a.csv", 100)
    data = prices(100)
    data[:60, :4] *= ratio
    data[:60, 4] /= ratio
    rows = [[d.strftime("%Y-%m-%d"), *(f"{x:.6f}" for x in p)] for d, p in zip(days(100), data, strict=True)]
    write(path, HEAD, rows)  # type: ignore[arg-type]
    options = Options(repairs={Trouble.SPLIT: repair})
    assert kinds(path, library, options) == {Trouble.SPLIT: 1}
    import_files([path], library, options)
    expected = prices(100) if repair is Repair.MEND else data
    np.testing.assert_allclose(taken(library, "A"), expected, rtol=1e-4)


def test_a_fall_of_a_third_in_a_day_is_no_split(tmp_path: Path, library: BarLibrary) -> None:
    data = prices(100)
    data[60:, :4] *= 0.66
    rows = [[d.strftime("%Y-%m-%d"), *(f"{x:.4f}" for x in p)] for d, p in zip(days(100), data, strict=True)]
    path = write(tmp_path / "a.csv", HEAD, rows)  # type: ignore[arg-type]
    (intake,) = look_at(path, library, Options())
    assert sum(f.count for f in intake.findings if f.trouble is Trouble.SPLIT) <= 1  # told at most, never done
    import_files([path], library)
    np.testing.assert_allclose(taken(library, "A"), data, rtol=1e-4)  # and nothing is changed unasked


def test_bars_without_volume_and_closes_alone(tmp_path: Path, library: BarLibrary) -> None:
    rows = [[d.strftime("%Y-%m-%d"), f"{p[3]:.2f}"] for d, p in zip(days(30), prices(30), strict=True)]
    path = write(tmp_path / "index.csv", ["date", "close"], rows)  # type: ignore[arg-type]
    (intake,) = look_at(path, library, Options())
    assert not intake.trouble and {f.trouble for f in intake.findings} == {Trouble.NO_VOLUME}
    import_files([path], library)
    bars = library.bars("INDEX", ONE_DAY)
    np.testing.assert_array_equal(bars["open"], bars["close"])
    assert not bars["volume"].any()


def test_lines_of_another_width_are_counted_and_not_dropped_in_silence(tmp_path: Path, library: BarLibrary) -> None:
    path = plain(tmp_path / "a.csv", 40)
    lines = path.read_text().splitlines()
    lines[10] += ",7,8"
    lines[20] = "half a line"
    path.write_text("\n".join(lines) + "\n")
    found = kinds(path, library)
    assert found[Trouble.UNREAD] == 2 and found[Trouble.HOLE] == 2


@pytest.mark.parametrize(("column", "factor"), [(2, 9.0), (3, 0.1)])
def test_a_high_or_low_that_stands_alone_is_a_spike(
    tmp_path: Path, library: BarLibrary, column: int, factor: float
) -> None:
    path = plain(tmp_path / "a.csv", 60)
    lines = path.read_text().splitlines()
    cells = lines[30].split(",")
    cells[column] = str(round(float(cells[column]) * factor, 4))
    lines[30] = ",".join(cells)
    path.write_text("\n".join(lines) + "\n")
    (kept,) = look_at(path, library, Options())
    spike = next(f for f in kept.findings if f.trouble is Trouble.SPIKE)
    assert (spike.count, spike.places[0][0], spike.repair) == (1, 31, Repair.KEEP)
    (dropped,) = look_at(path, library, Options(repairs={Trouble.SPIKE: Repair.DROP}))
    assert kept.bars is not None and dropped.bars is not None and len(dropped.bars) == len(kept.bars) - 1


def test_findings_name_the_line_of_the_file(tmp_path: Path, library: BarLibrary) -> None:
    path = plain(tmp_path / "a.csv", 60)
    lines = path.read_text().splitlines()
    lines[10] += ",7,8"
    lines.insert(5, "")
    cells = lines[40].split(",")
    lines[40] = ",".join([cells[0], *(str(float(c) * 30) for c in cells[1:5]), *cells[5:]])
    path.write_text("\n".join(lines) + "\n")
    (intake,) = look_at(path, library, Options())
    spike = next(f for f in intake.findings if f.trouble is Trouble.SPIKE)
    assert spike.places[0][0] == 41


def test_bars_of_weeks_are_refused_with_the_reason(tmp_path: Path, library: BarLibrary) -> None:
    rows = [[f"{date(2020, 1, 3) + timedelta(days=7 * k)}", *p] for k, p in enumerate(prices(30).tolist())]
    (intake,) = import_files([write(tmp_path / "weeks.csv", ["date", *HEAD[1:]], rows)], library)
    assert "its bars are 1w" in intake.trouble and "WEEKS" not in library.infos


def test_longer_minutes_make_what_they_can_and_say_what_not(tmp_path: Path, library: BarLibrary) -> None:
    def file(name: str, minutes: int, first: datetime) -> Path:
        starts = [first + timedelta(minutes=minutes * k) for k in range(60)]
        rows = [[s.isoformat(), *p] for s, p in zip(starts, prices(60).tolist(), strict=True)]
        return write(tmp_path / name, ["time", *HEAD[1:]], rows)

    tide = Options(symbol="TIDE")
    import_files([file("TIDE 10.csv", 10, datetime(2024, 7, 1, 9, 0))], library, tide)
    assert library.infos["TIDE"].step == 10 and BarLibrary(library.folder).infos["TIDE"].finest == Timeframe.parse(
        "10m"
    )
    assert len(library.bars("TIDE", Timeframe.parse("20m"))) == 30
    program = compile_script("rung 1\nsignal up = close > 0")
    for frame in ("1m", "15m"):
        with pytest.raises(DataProblem, match="bars of 10m, which cannot make"):
            library.bars("TIDE", Timeframe.parse(frame))
        found = run_scan(Rule(program, "up", Timeframe.parse(frame)), library, ["TIDE"], Timeframe.parse(frame))
        assert not found.found and "cannot make" in found.skipped[0].reason
    frames = [Timeframe.parse(f) for f in ("5m", "20m", "1h")]
    made = fill([ColumnRequest(program, "up", f) for f in frames], library, ["TIDE"])
    assert ["cannot make 5m" in m.cells["TIDE"].reason for m in made] == [True, False, False]
    half_past = int(datetime(2024, 7, 1, 9, 35, tzinfo=UTC).timestamp())
    then = LibraryAsOf(library, half_past).bars("TIDE", Timeframe.parse("1h"))
    whole = library.bars("TIDE", Timeframe.parse("10m"))
    assert len(then) == 1 and then["close"][-1] == whole["close"][2]  # three bars were complete
    known = run_scan(Rule(program, "up", frames[1]), LibraryAsOf(library, half_past), ["TIDE"], frames[1])
    assert [(f.symbol, f.last) for f in known.found] == [("TIDE", float(whole["close"][2]))]
    import_files([file("TIDE 5.csv", 5, datetime(2024, 7, 3, 9, 0))], library, tide)
    assert library.infos["TIDE"].step == 5 and len(library.bars("TIDE", Timeframe.parse("5m"))) == 120


def test_every_trouble_has_choices() -> None:
    assert set(CHOICES) == set(Trouble) and all(CHOICES.values())


# --- taking in ----------------------------------------------------------------------------------------


def test_a_newer_file_adds_only_what_is_new(tmp_path: Path, library: BarLibrary) -> None:
    path = plain(tmp_path / "a.csv", 60)
    (first,) = import_files([path], library)
    assert (first.new, first.changed) == (60, 0)
    stamp = library.path("A", ONE_DAY).stat().st_mtime_ns
    (again,) = import_files([path], library)
    assert (again.new, again.changed) == (0, 0) and library.path("A", ONE_DAY).stat().st_mtime_ns == stamp
    plain(tmp_path / "a.csv", 80, start=40)
    spoil(tmp_path / "a.csv", lambda rows: rows[3].__setitem__(5, "77"))
    (more,) = import_files([tmp_path / "a.csv"], library)
    made = taken(library, "A")
    assert len(made) == 80 and more.changed >= 1
    np.testing.assert_allclose(made[:40], prices(60)[:40])
    assert made[42][4] == 77


def test_one_bad_file_never_spoils_a_folder(tmp_path: Path, library: BarLibrary) -> None:
    folder = tmp_path / "mine"
    (folder / "deeper").mkdir(parents=True)
    plain(folder / "good.csv")
    plain(folder / "deeper" / "fine.tsv")
    (folder / "empty.csv").write_text("")
    (folder / "head.csv").write_text("date,open,high,low,close,volume\n")
    (folder / "words.csv").write_text("this is\nno table\nat all\n")
    (folder / "picture.csv").write_bytes(b"\x89PNG\r\n\0\0\0\0")
    (folder / "bad.parquet").write_bytes(b"PAR1 but no more")
    (folder / "notes.md").write_text("not data")
    done = import_files([folder, tmp_path / "nowhere.csv"], library)
    fine = {i.symbol for i in done if not i.trouble}
    assert fine == {"GOOD", "FINE"} == set(library.infos)
    told = {i.path.name: i.trouble for i in done if i.trouble}
    assert set(told) == {"empty.csv", "head.csv", "words.csv", "picture.csv", "bad.parquet", "nowhere.csv"}
    assert all(len(t) > 15 for t in told.values())
    assert "notes.md" not in {p.name for p in files_of([folder]).files}


def test_a_dry_run_writes_nothing(tmp_path: Path, library: BarLibrary) -> None:
    done = import_files([plain(tmp_path / "a.csv")], library, dry_run=True)
    assert done[0].new == 60 and not library.infos and not list(library.folder.glob("*.arrow"))


def test_a_library_that_cannot_be_written_is_said_and_stays_whole(
    tmp_path: Path, library: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    import_files([plain(tmp_path / "a.csv", 60)], library)
    before = library.path("A", ONE_DAY).read_bytes()

    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.replace", full)
    (done,) = import_files([plain(tmp_path / "a.csv", 80)], library)
    assert "the disk is full" in done.trouble
    assert library.path("A", ONE_DAY).read_bytes() == before and not list(library.folder.glob("*.partial"))


def test_an_import_that_was_stopped_is_finished_by_running_it_again(tmp_path: Path, library: BarLibrary) -> None:
    files = [plain(tmp_path / f"s{k}.csv", seed=k) for k in range(6)]

    def cancelled() -> bool:
        return len(library.infos) >= 3

    assert len(import_files(files, library, cancelled=cancelled)) == 3
    done = import_files(files, library)
    assert [i.new for i in done] == [0, 0, 0, 60, 60, 60] and len(library.infos) == 6
    assert list(library.infos) == [f"S{k}" for k in range(6)]


@pytest.mark.parametrize(
    ("values", "tick"), [([10, 11, 12], 1.0), ([10.5, 10.25], 0.01), ([1.2345, 2.0], 0.0001), ([0.1, 0.2], 0.1)]
)
def test_the_tick_is_what_all_prices_share(values: list[float], tick: float) -> None:
    assert tick_of(np.array(values)) == pytest.approx(tick)


@pytest.mark.parametrize(("zone", "hours"), [("Nowhere/Land", None), ("UTC", "9 to 5"), ("UTC", "15:30-15:30")])
def test_hours_and_zones_that_make_no_sense_are_refused(zone: str, hours: str | None) -> None:
    with pytest.raises(DataProblem):
        session_calendar(zone, hours)


def test_what_came_in_can_be_read_by_any_arrow_program(tmp_path: Path, library: BarLibrary) -> None:
    import_files([plain(tmp_path / "a.csv")], library)
    with pa.memory_map(str(library.path("A", ONE_DAY))) as source:
        table = pa.ipc.open_file(source).read_all()
    assert table.column_names == ["time", "open", "high", "low", "close", "volume"] and table.num_rows == 60


def with_adjusted(path: Path, count: int = 60, *, head: str = "Adj Close", upto: int | None = None) -> Path:
    """Days with a dividend of 4% after 20 and a split of two for one after 40, as a source writes them: real prices, and
    what the close is worth today."""
    rows, factor = [], np.repeat([0.48, 0.5, 1.0], [20, 20, count - 40])[:upto]
    real = np.repeat([1.0, 1.0, 0.5], [20, 20, count - 40])
    for k, (day, numbers) in enumerate(zip(days(count)[:upto], prices(count).tolist(), strict=False)):
        o, h, low, c = (round(x * real[k], 2) for x in numbers[:4])
        rows.append([day.strftime("%Y-%m-%d"), o, h, low, c, round(c * factor[k] / factor[-1], 4), numbers[4]])
    return write(path, ["Date", "Expand", "High", "Low", "Close", head, "Volume"], rows)


def test_adjusted_closes_are_for_signals_and_real_prices_are_kept(library: BarLibrary, tmp_path: Path) -> None:
    path = with_adjusted(tmp_path / "KELP.csv")
    (made,) = import_files([path], library)
    assert made.words() == "KELP.csv: KELP 1d, 60 bars, 60 new"
    told = [f.words() for f in made.findings]
    assert told == ["dividends and splits: 2, adjusted for signals"]  # and no split is asked about
    stored, read = library.base("KELP", ONE_DAY), library.bars("KELP", ONE_DAY)
    factor = np.repeat([0.48, 0.5, 1.0], 20)
    assert stored["close"][0] == pytest.approx(prices(60)[0, 3], abs=0.005)
    np.testing.assert_allclose(read["close"], stored["close"] * factor, rtol=2e-4)
    np.testing.assert_allclose(read["low"], stored["low"] * factor, rtol=2e-4)
    (again,) = import_files([path], library)
    assert (again.new, again.changed) == (0, 0) and library.bars("KELP", ONE_DAY)["close"].tolist() == read[
        "close"
    ].tolist()


def test_a_newer_file_adjusts_what_came_before_it(library: BarLibrary, tmp_path: Path) -> None:
    import_files([with_adjusted(tmp_path / "KELP.csv", upto=30)], library)
    assert library.infos["KELP"].adjustments is not None and library.infos["KELP"].adjustments.steps == 1
    import_files([with_adjusted(tmp_path / "KELP.csv")], library)
    np.testing.assert_allclose(
        library.bars("KELP", ONE_DAY)["close"],
        library.base("KELP", ONE_DAY)["close"] * np.repeat([0.48, 0.5, 1.0], 20),
        rtol=2e-4,
    )


def test_minutes_without_an_adjusted_close_follow_the_days(library: BarLibrary, tmp_path: Path) -> None:
    import_files([with_adjusted(tmp_path / "KELP.csv")], library)
    rows = [[f"{d:%Y-%m-%d} {h:02}:00", 50, 51, 49, 50, 9] for d in days(60)[10:50:10] for h in (10, 11, 12)]
    folder = tmp_path / "minutes"
    folder.mkdir()
    (made,) = import_files([write(folder / "KELP.csv", HEAD, rows)], library, Options(same=True))
    assert made.trouble == ""
    closes = library.bars("KELP", Timeframe.parse("1h"), True)["close"]
    np.testing.assert_allclose(closes, np.repeat([24, 25, 25, 50], 3), rtol=2e-4)


@pytest.mark.parametrize("head", ["adjusted close", "ADJ_CLOSE", "AdjClose"])
def test_the_adjusted_close_need_not_be_used(library: BarLibrary, tmp_path: Path, head: str) -> None:
    path = with_adjusted(tmp_path / "KELP.csv", head=head)
    (made,) = import_files([path], library, Options(repairs={Trouble.ADJUSTED: Repair.DROP}))
    assert "dividends and splits: 2, real prices alone" in [f.words() for f in made.findings]
    assert library.infos["KELP"].adjustments is None
    (made,) = import_files([path], library)
    assert library.infos["KELP"].adjustments is not None and (made.new, made.changed) == (0, 0)


def test_a_column_that_is_no_adjusted_close_is_said_and_not_used(library: BarLibrary, tmp_path: Path) -> None:
    rng = np.random.default_rng(4)
    rows = [
        [f"{d:%Y-%m-%d}", *p[:4], round(p[3] * rng.uniform(0.8, 1), 2), p[4]]
        for d, p in zip(days(60), prices(60), strict=True)
    ]
    path = write(tmp_path / "KELP.csv", ["date", "open", "high", "low", "close", "adj close", "volume"], rows)
    (made,) = import_files([path], library)
    assert [f.words() for f in made.findings] == ["adjusted close that changes too often: 1, not used"]
    assert library.infos["KELP"].adjustments is None


def test_real_prices_alone_can_be_had_again(library: BarLibrary, tmp_path: Path) -> None:
    path = with_adjusted(tmp_path / "KELP.csv")
    import_files([path], library)
    import_files([path], library, Options(repairs={Trouble.ADJUSTED: Repair.DROP}))
    assert library.infos["KELP"].adjustments is None
    assert library.bars("KELP", ONE_DAY)["close"].tolist() == library.base("KELP", ONE_DAY)["close"].tolist()
