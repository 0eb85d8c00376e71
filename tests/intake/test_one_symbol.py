"""A file for one run is read as an import reads it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY
from oakladder.intake.importing import import_files
from oakladder.intake.one_symbol import read_one

ROWS = [("2026-03-02", 1, 3, 0.5, 2, 100), ("2026-03-03", 2, 2.5, 2, 2.25, 50), ("2026-03-04", 2, 4, 2, 3, 70)]


def lines(form: str = "{}", separator: str = ",", decimal: str = ".") -> str:
    made = []
    for day, *numbers in ROWS:
        year, month, number = day.split("-")
        when = form.format(day, y=year, m=month, d=number)
        made.append(separator.join([when, *(f"{n:g}".replace(".", decimal) for n in numbers)]))
    return "\n".join(made) + "\n"


@pytest.mark.parametrize(
    "text",
    [
        "date,open,high,low,close,volume\n" + lines(),
        "Date;Open;High;Low;Close;Volume\n" + lines("{d}.{m}.{y}", ";", ","),
        "timestamp\topen\thigh\tlow\tclose\tvolume\n" + lines(separator="\t"),
        "made by somebody\ntime,open,high,low,close,volume\n" + lines("{}T00:00:00Z"),
        lines("{y}{m}{d}"),
    ],
)
def test_one_reader_for_a_run_and_an_import(tmp_path: Path, text: str) -> None:
    path = tmp_path / "KELP.csv"
    path.write_text(text)
    made = read_one(path)
    library = BarLibrary(tmp_path / "library")
    import_files([path], library)
    there = library.bars("KELP", ONE_DAY)
    assert made.symbol == "KELP" and made.timeframe == ONE_DAY and made.times.tolist() == there.times.tolist()
    for name, column in made.columns.items():
        np.testing.assert_array_equal(column, there[name])
    assert made["close"].tolist() == [2, 2.25, 3]


def test_a_file_without_a_volume_can_be_run(tmp_path: Path) -> None:
    path = tmp_path / "a.csv"
    path.write_text("date,open,high,low,close\n2026-03-02,1,1,1,1\n")
    assert np.isnan(read_one(path)["volume"]).all()


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("symbol,date,open,high,low,close\nA,2026-03-02,1,1,1,1\nB,2026-03-02,1,1,1,1\n", "has 2 symbols (A, B)"),
        ("a," * 100_000 + "\n", "line 1 has about 200,000 bytes or more"),
        ("date,open,high,low,close\n2026-03-02,1,1,1,1\n2026-03-03,1,2,3,1\n", "line 3: the high 2 is below the low 3"),
        ("date,open,high,low,close\n2026-03-02,1,1,1,1\n2026-03-03,1,1,1\n", "line 3: the line has 4 values"),
    ],
)
def test_the_first_doubtful_row_is_refused(tmp_path: Path, text: str, words: str) -> None:
    path = tmp_path / "a.csv"
    path.write_text(text)
    with pytest.raises(DataProblem) as error:
        read_one(path)
    assert words in str(error.value)


def test_adjusted_closes_are_read_for_a_run_too(tmp_path: Path) -> None:
    rows = ["date,open,high,low,close,adj close,volume"]
    rows += [f"2026-03-{d:02},10,11,9,10,{5 if d < 10 else 10},1" for d in (2, 3, 4, 5, 6, 9, 10, 11, 12, 13)]
    path = tmp_path / "KELP.csv"
    path.write_text("\n".join(rows) + "\n")
    bars = read_one(path)
    assert bars["high"].tolist() == [5.5] * 6 + [11] * 4
    assert bars.adjustments is not None and bars.adjustments.steps == 1
    jumpy = [f"2026-03-{d:02},10,11,9,10,{5 + d % 3},1" for d in range(2, 14)]
    path.write_text("\n".join([rows[0], *jumpy]) + "\n")
    with pytest.raises(DataProblem, match="changes too often against the close"):
        read_one(path)
