"""Which symbol a file's bars belong to: names that tell files apart, files that claim one symbol, prices that contradict."""

from __future__ import annotations

import csv
import itertools
from datetime import date, timedelta
from pathlib import Path

import numpy as np
import pytest

from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY
from oakladder.intake.cleaning import Trouble
from oakladder.intake.importing import Intake, Options, import_files
from oakladder.intake.names import symbol_of, trouble_of
from oakladder.intake.symbol_conflicts import Conflict

HEAD = ["date", "open", "high", "low", "close", "volume"]
FIRST = date(2024, 3, 4)


def closes_of(level: float, count: int, seed: int = 1) -> np.ndarray:
    return np.round(level * np.exp(np.cumsum(np.random.default_rng(seed).normal(0, 0.02, count))), 4)


def write(path: Path, closes: np.ndarray, first: date = FIRST, symbol: str = "") -> Path:
    days = (first + timedelta(days=k) for k in itertools.count())
    weekdays = (d for d in days if d.weekday() < 5)
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow([*(["symbol"] if symbol else []), *HEAD])
        for day, c in zip(weekdays, closes.tolist(), strict=False):
            writer.writerow([*([symbol] if symbol else []), day, c, c, c, c, 1000])
    return path


@pytest.fixture
def library(tmp_path: Path) -> BarLibrary:
    return BarLibrary(tmp_path / "library")


def said(done: list[Intake]) -> dict[str, str]:
    return {i.path.name: i.trouble for i in done if i.trouble}


def test_names_keep_what_tells_files_apart(tmp_path: Path, library: BarLibrary) -> None:
    names = ["KELP A.csv", "KELP B.csv", "KELP_B.csv", "kelp (1).csv", "kelp.x-2.csv"]
    levels = [100.0, 7.0, 50.0, 900.0, 3.0]
    files = [write(tmp_path / n, closes_of(v, 30)) for n, v in zip(names, levels, strict=True)]
    done = import_files(files, library)
    assert [i.symbol for i in done] == ["KELP A", "KELP B", "KELP_B", "KELP (1)", "KELP.X-2"] and not said(done)
    for name, level in zip(library.infos, levels, strict=True):
        assert library.bars(name, ONE_DAY)["close"][0] == pytest.approx(level, rel=0.1)


@pytest.mark.parametrize(
    ("stem", "symbol"),
    [
        ("kelp\u200bx", "KELP_X"),
        ("kelp\x1b[31m", "KELP_[31M"),
        ("a%2fb", "A_2FB"),
        ("<b>kelp</b>"[:7], "_B_KELP"),
        ("=SUM(A1)", "_SUM(A1)"),
        ("@kelp", "_KELP"),
        ("  kelp   a ", "KELP A"),
        ("ke\u202elp", "KE_LP"),
    ],
)
def test_signs_that_no_symbol_can_have_are_cleaned_and_it_is_said(
    tmp_path: Path, library: BarLibrary, stem: str, symbol: str
) -> None:
    assert symbol_of(Path(f"{stem}.csv")) == symbol and not trouble_of(symbol)
    (done,) = import_files([write(tmp_path / f"{stem}.csv", closes_of(10, 5))], library)
    assert done.symbol == symbol and list(library.infos) == [symbol]
    told = [f for f in done.findings if f.trouble is Trouble.RENAMED]
    assert len(told) == 1 and symbol in told[0].words()


def test_a_file_name_that_makes_no_symbol_is_refused(tmp_path: Path, library: BarLibrary) -> None:
    done = import_files([write(tmp_path / f"{stem}.csv", closes_of(10, 5)) for stem in ("---", "x" * 70)], library)
    assert all(i.trouble for i in done) and "no letter" in said(done)["---.csv"] and not library.infos


def test_two_files_that_claim_a_symbol_are_refused_and_the_others_come_in(tmp_path: Path, library: BarLibrary) -> None:
    one = write(tmp_path / "a" / "KELP.csv", closes_of(100, 8))
    two = write(tmp_path / "b" / "kelp.csv", closes_of(7, 8))
    other = write(tmp_path / "SALT.csv", closes_of(20, 8))
    done = import_files([tmp_path], library)
    assert list(library.infos) == ["SALT"]
    assert {i.path for i in done if i.doubt is Conflict.CLAIMED} == {one, two} and other not in said(done)
    assert all("KELP.csv" in words and "kelp.csv" in words for words in said(done).values())
    # What belongs together is joined where that is said.
    done = import_files(
        [one, write(two, closes_of(100, 20)[8:], date(2024, 3, 14))], library, Options(symbol="KELP", same=True)
    )
    assert not said(done) and len(library.bars("KELP", ONE_DAY)) == 20


def test_a_symbol_in_a_column_and_in_a_name_is_claimed_twice(tmp_path: Path, library: BarLibrary) -> None:
    table = write(tmp_path / "all.csv", closes_of(100, 8), symbol="KELP")
    named = write(tmp_path / "kelp.csv", closes_of(100, 8))
    done = import_files([table, named], library)
    assert [bool(i.trouble) for i in done] == [False, True] and done[1].doubt is Conflict.CLAIMED


def test_tables_of_single_days_come_in_together(tmp_path: Path, library: BarLibrary) -> None:
    closes = closes_of(100, 6)
    files = [
        write(tmp_path / f"day{k}.csv", closes[k : k + 1], FIRST + timedelta(days=k if k < 5 else 7), symbol="KELP")
        for k in range(6)
    ]
    assert not said(import_files(files, library)) and len(library.bars("KELP", ONE_DAY)) == 6


@pytest.mark.parametrize(
    ("new", "first", "words"),
    [
        (closes_of(7, 30), FIRST, "closes such as"),
        (closes_of(100, 30, seed=5), FIRST, "move differently"),
        (closes_of(7, 30), date(2024, 6, 3), "next to"),
        (closes_of(9, 30), date(2023, 6, 5), "next to"),
    ],
)
def test_prices_that_contradict_the_library_are_refused(
    tmp_path: Path, library: BarLibrary, new: np.ndarray, first: date, words: str
) -> None:
    old = closes_of(100, 60)
    import_files([write(tmp_path / "KELP.csv", old)], library)
    before = library.bars("KELP", ONE_DAY)["close"].tolist()
    (done,) = import_files([write(tmp_path / "new" / "KELP.csv", new, first)], library)
    assert done.doubt is Conflict.CONTRADICTS and words in done.trouble
    assert library.bars("KELP", ONE_DAY)["close"].tolist() == before
    (done,) = import_files([tmp_path / "new" / "KELP.csv"], library, Options(symbol="KELP", same=True))
    assert not done.trouble and library.bars("KELP", ONE_DAY)["close"].tolist() != before


@pytest.mark.parametrize("change", ["corrected", "adjusted", "a half missing", "one spike", "the same"])
def test_corrections_are_no_contradiction(tmp_path: Path, library: BarLibrary, change: str) -> None:
    old = closes_of(100, 80)
    import_files([write(tmp_path / "KELP.csv", old)], library)
    new = old.copy()
    if change == "corrected":
        new[10:20] *= 1.04
    elif change == "adjusted":
        new *= 0.93
    elif change == "one spike":
        new[40] *= 10
    elif change == "a half missing":
        new = new[:40]
    (done,) = import_files([write(tmp_path / "new" / "KELP.csv", new)], library)
    assert not done.trouble


def test_a_name_for_several_files_asks_whether_they_are_the_same(tmp_path: Path, library: BarLibrary) -> None:
    files = [write(tmp_path / n, closes_of(50, 5)) for n in ("a.csv", "b.csv")]
    done = import_files(files, library, Options(symbol="KELP"))
    assert len(said(done)) == 2 and not library.infos
    assert not said(import_files(files[:1], library, Options(symbol="KELP"))) and list(library.infos) == ["KELP"]


def test_a_table_of_several_symbols_cannot_be_named(tmp_path: Path, library: BarLibrary) -> None:
    path = write(tmp_path / "all.csv", closes_of(50, 5), symbol="KELP")
    path.write_text(path.read_text() + "SALT,2024-03-11,1,1,1,1,1\n")
    (done,) = import_files([path], library, Options(symbol="KELP"))
    assert "names several symbols" in done.trouble and not library.infos


def test_each_file_is_told_as_it_is_done(tmp_path: Path, library: BarLibrary) -> None:
    files = [write(tmp_path / f"S{k:03}.csv", closes_of(50, 5)) for k in range(40)]
    told: list[tuple[str, int]] = []
    shares: list[tuple[int, int]] = []
    import_files(
        files,
        library,
        done=lambda intake: told.append((intake.symbol, len(library.infos))),
        progress=lambda count, of: shares.append((count, of)),
    )
    assert told == [(f"S{k:03}", k + 1) for k in range(40)]
    assert shares == [(k + 1, 40) for k in range(40)]
