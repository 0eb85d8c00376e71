"""The library on disk and CSV files: what is written comes back, what is wrong is said."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pyarrow as pa
import pytest

from helpers import daily_bars, values
from oakladder.bars.bars import Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.time_words import iso
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.demo import upkeep
from oakladder.intake.one_symbol import read_one

HEAD = "time,open,high,low,close,volume\n"


def small_library(folder: Path) -> BarLibrary:
    library = BarLibrary(folder)
    library.add_symbols([SymbolInfo("TEST", "Test", "Salt", "share", 0.01, Calendar())])
    return library


def test_bars_come_back_as_they_were_written(tmp_path: Path) -> None:
    library = small_library(tmp_path)
    bars = daily_bars([1.5, 2.25, np.nan, 4])
    library.write(bars)
    again = BarLibrary(tmp_path).bars("TEST", ONE_DAY)
    assert np.array_equal(again.times, bars.times)
    assert all(np.array_equal(again[k], bars[k], equal_nan=True) for k in bars.columns)
    assert not list(tmp_path.glob("*.partial"))


def test_files_are_plain_arrow(tmp_path: Path) -> None:
    small_library(tmp_path).write(daily_bars([1, 2, 3]))
    with pa.memory_map(str(tmp_path / "TEST.1d.arrow")) as source:
        table = pa.ipc.open_file(source).read_all()
    assert table.column_names == ["time", "open", "high", "low", "close", "volume"]
    assert table["close"].to_pylist() == [1, 2, 3]


@pytest.mark.parametrize("damage", [b"", b"not arrow at all", None])
def test_a_damaged_file_is_named_set_aside_and_made_again(tmp_path: Path, damage: bytes | None) -> None:
    library = BarLibrary(tmp_path)
    upkeep.prepare(library)
    good = library.bars("BRINE", ONE_DAY)["close"].copy()
    path = library.path("BRINE", ONE_DAY)
    content = path.read_bytes()
    path.unlink()
    path.write_bytes(content[: len(content) // 2] if damage is None else damage)
    again = BarLibrary(tmp_path)
    again.maker = upkeep.make
    np.testing.assert_array_equal(again.bars("BRINE", ONE_DAY)["close"], good)
    assert "BRINE.1d.arrow was damaged" in again.notices[0]
    assert list(tmp_path.glob("BRINE.1d.damaged-*.arrow"))


def test_two_who_want_the_same_missing_bars_get_them_once(tmp_path: Path) -> None:
    library = small_library(tmp_path)
    made: list[str] = []

    def make(info: SymbolInfo, base: Timeframe) -> Bars:
        made.append(info.symbol)
        time.sleep(0.05)
        return daily_bars([1.0, 2.0, 3.0])

    library.maker = make
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda _: library.base("TEST", ONE_DAY)["close"].tolist(), range(8)))
    assert found == [[1.0, 2.0, 3.0]] * 8
    assert made == ["TEST"]
    assert not library.notices


def test_a_symbol_without_bars_is_said(tmp_path: Path) -> None:
    with pytest.raises(DataProblem, match="no 1d bars of TEST"):
        small_library(tmp_path).bars("TEST", ONE_DAY)


def write(path: Path, text: str) -> Path:
    file = path / "bars.csv"
    file.write_text(text, encoding="utf-8")
    return file


def test_a_csv_file_is_read(tmp_path: Path) -> None:
    bars = read_one(
        write(
            tmp_path,
            HEAD
            + "2026-03-02T09:00:00+00:00,1,3,0.5,2,100\n2026-03-02T09:05:00Z,2,2,2,2,\n2026-03-02T11:10:00+02:00,2,2,1,2,7\n",
        )
    )
    assert bars.timeframe == Timeframe.parse("5m")
    assert [iso(t) for t in bars.times] == [f"2026-03-02T09:{m:02}:00+00:00" for m in (0, 5, 10)]
    assert bars["high"].tolist() == [3, 2, 2]
    assert np.isnan(bars["volume"][1])


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "is empty"),
        (HEAD, "has a first line and no bars"),
        ("open,high,low,close,volume\n1,1,1,1,1\n", "it is not known which column is the time"),
        (HEAD + "2026-03-02,1,1,1,1,1\n2026-03-02,1,1,1,1,1\n", "line 3: the time 2026-03-02 is there twice"),
        (HEAD + "2026-03-03,1,1,1,1,1\n2026-03-02,1,1,1,1,1\n", "line 3: the time 2026-03-02 comes after a later one"),
        (HEAD + "2026-03-02,1,1,1,one,1\n", "line 2: `one` in the column close is no number"),
        (HEAD + "2026-03-02,1,1,2,1,1\n", "line 2: the high 1 is below the low 2"),
        (HEAD + "2026-03-02,5,3,2,3,1\n", "line 2: the open or close lies outside"),
        (HEAD + "yesterday,1,1,1,1,1\n", "line 2: `yesterday` is no time"),
        (HEAD + "2026-03-02-11,1,1,1,1,1\n", "line 2: `2026-03-02-11` is no time"),
        (HEAD + "0001-03-02,1,1,1,1,1\n", "line 2: `0001-03-02` is no time"),
        (HEAD + "2026-03-02,1_0,1,1,1,1\n", "line 2: `1_0` in the column open is no number"),
        (
            HEAD + "2026-03-02,1,1e999,1,1,1\n",
            "line 2: `1e999` in the column high is too large: numbers are less than 1e+18",
        ),
        (HEAD + "2026-03-02,1,inf,1,1,1\n", "line 2: `inf` in the column high is no number"),
        (HEAD + "2026-03-02,1," + "9" * 200_000 + ",1,1,1\n", "line 2 has about 200,000 bytes or more"),
        (HEAD + "2026-03-02,1,1,1\n", "line 2: the line has 4 values, and the first line names 6"),
    ],
)
def test_a_csv_file_that_is_wrong_is_refused_with_its_line(tmp_path: Path, text: str, words: str) -> None:
    with pytest.raises(DataProblem) as error:
        read_one(write(tmp_path, text))
    assert words in str(error.value)


def test_a_file_that_is_no_text_is_refused(tmp_path: Path) -> None:
    file = tmp_path / "bars.csv"
    file.write_bytes(b"\xff\xfe\x00\x80")
    with pytest.raises(DataProblem, match="no bars"):
        read_one(file)


def test_minutes_without_days_behind_them_still_make_longer_bars(tmp_path: Path, market: BarLibrary) -> None:
    library = BarLibrary(tmp_path / "minutes")
    library.add_symbols([market.infos["BRINE"]])
    library.write(market.base("BRINE", ONE_MINUTE))
    panel = library.panel(["BRINE"], Timeframe.parse("1h"))
    assert panel.background is not None and panel.background.earlier(panel, Timeframe.parse("1w")) is not None
    made = values("let x = close on 1d", panel)["x"]
    assert np.isnan(made[0]) and not np.isnan(made[-1])


def test_two_copies_of_the_program_see_what_the_other_writes(tmp_path: Path) -> None:
    one, two = BarLibrary(tmp_path), BarLibrary(tmp_path)
    one.add_symbols([SymbolInfo("AAA", "A", "", "share", 0.01, Calendar())])
    one.write(daily_bars(np.arange(1.0, 20), symbol="AAA"))
    assert not one.fresh()
    assert two.fresh() and list(two.infos) == ["AAA"] and not two.fresh()
    assert len(two.bars("AAA", ONE_DAY)) == 19
    one.write(daily_bars(np.arange(1.0, 30), symbol="AAA"))
    assert len(two.bars("AAA", ONE_DAY)) == 29  # every reader compares the generation
    assert two.fresh() and not two.fresh()
    two.add_symbols([SymbolInfo("BBB", "B", "", "share", 0.01, Calendar())])
    one.add_symbols([SymbolInfo("CCC", "C", "", "share", 0.01, Calendar())])
    assert one.fresh() or set(one.infos) == {"AAA", "BBB", "CCC"}
    two.fresh()
    assert set(one.infos) == set(two.infos) == {"AAA", "BBB", "CCC"}
