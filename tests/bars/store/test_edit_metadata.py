"""What is known of symbols can be changed later, and their bars stay what they are."""

from __future__ import annotations

import sqlite3
from pathlib import Path

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.bars import Bars
from oakladder.bars.contract import PLAIN, Contract, margin_text, parse_margin
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe


@pytest.fixture
def library(tmp_path: Path) -> BarLibrary:
    made = BarLibrary(tmp_path)
    for name in ("AAA", "BBB"):
        bars = daily_bars(np.arange(1.0, 30), symbol=name)
        made.add_symbols([SymbolInfo(name, name, "Salt", "share", 0.01, bars.calendar)])
        made.write(bars)
    times = Calendar().day_open(np.array([15_000]))[0] + 60 * np.arange(1440, dtype=np.int64)
    close = np.arange(1.0, 1441)
    made.write(
        Bars("AAA", ONE_MINUTE, Calendar(), times, dict.fromkeys(("open", "high", "low", "close", "volume"), close))
    )
    return made


@pytest.mark.parametrize("zone", ["WET", "Etc/GMT+9", "Etc/GMT-11"])
def test_days_stay_the_same_days_in_another_zone(library: BarLibrary, zone: str) -> None:
    before = library.bars("AAA", ONE_DAY)
    days = before.calendar.days(before.times)
    assert edit_symbols(library, ["AAA"], Change(zone=zone, hours=(540, 930))) == 1
    again = BarLibrary(library.folder)
    for seen in (library, again):
        bars = seen.bars("AAA", ONE_DAY)
        assert bars.calendar.zone == zone and (bars.calendar.start, bars.calendar.end) == (540, 930)
        np.testing.assert_array_equal(bars.calendar.days(bars.times), days)
        np.testing.assert_array_equal(bars.calendar.minutes(bars.times), 540)
        np.testing.assert_array_equal(bars["close"], before["close"])
    assert library.bars("BBB", ONE_DAY).calendar == Calendar()


def test_minutes_are_moments_and_stay_but_other_hours_are_regular(library: BarLibrary) -> None:
    whole = library.bars("AAA", ONE_MINUTE)
    edit_symbols(library, ["AAA"], Change(hours=(540, 600)))
    assert len(library.bars("AAA", ONE_MINUTE)) == 60
    np.testing.assert_array_equal(library.bars("AAA", ONE_MINUTE, extended=True).times, whole.times)
    assert library.bars("AAA", Timeframe.parse("1h"))["close"].tolist() == [600.0]


def test_names_ticks_and_groups_change_alone(library: BarLibrary) -> None:
    stamp = library.path("AAA", ONE_DAY).stat().st_mtime_ns
    assert edit_symbols(library, ["AAA", "BBB"], Change(sector="Kelp", kind="fund", tick=0.5)) == 2
    assert edit_symbols(library, ["AAA", "BBB"], Change(sector="Kelp")) == 0
    info = BarLibrary(library.folder).infos["BBB"]
    assert (info.sector, info.kind, info.tick, info.decimals, info.name) == ("Kelp", "fund", 0.5, 1, "BBB")
    assert library.path("AAA", ONE_DAY).stat().st_mtime_ns == stamp


def test_what_a_unit_is_worth_and_ties_up_stays_with_its_bars(library: BarLibrary) -> None:
    change = Change(multiplier=50.0, currency="SHELL", margin=(0.1, 300.0))
    assert edit_symbols(library, ["AAA"], change) == 1 and edit_symbols(library, ["AAA"], change) == 0
    again = BarLibrary(library.folder)
    assert again.infos["AAA"].contract == Contract(50.0, "SHELL", 0.1, 300.0) and again.infos["BBB"].contract == PLAIN
    assert "contract" in again.infos["AAA"].by_hand
    for frame in ("1d", "1w"):
        panel = again.panel(["BBB", "AAA"], Timeframe.parse(frame))
        assert panel.contracts == (PLAIN, Contract(50.0, "SHELL", 0.1, 300.0))
    # An import does not overwrite it, and a rebuilt catalogue knows it.
    again.write(daily_bars(np.arange(1.0, 40), symbol="AAA"))
    assert again.infos["AAA"].contract.multiplier == 50


@pytest.mark.parametrize(
    ("text", "made", "words"),
    [("10%", (0.1, 0.0), "10%"), ("1200", (0.0, 1200.0), "1200"), ("5% + 300", (0.05, 300.0), "5%+300")],
)
def test_margins_are_read_and_written(text: str, made: tuple[float, float], words: str) -> None:
    assert parse_margin(text) == pytest.approx(made)
    assert margin_text(Contract(margin=made[0], margin_money=made[1])) == words


@pytest.mark.parametrize("text", ["", "ten", "10%%", "-5", "inf"])
def test_a_margin_that_makes_no_sense_gets_a_sentence(text: str) -> None:
    with pytest.raises(ValueError, match="Write a margin as 10%"):
        parse_margin(text)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (Change(multiplier=0.0), "A multiplier is a number above 0"),
        (Change(multiplier=float("nan")), "A multiplier is a number above 0"),
        (Change(margin=(1.5, 0.0)), "up to 100%"),
        (Change(margin=(0.0, 0.0)), "up to 100%"),
        (Change(tick=0), "above 0"),
        (Change(tick=float("nan")), "above 0"),
        (Change(hours=(600, 500)), "within one day"),
        (Change(hours=(540, 930), all_hours=(600, 700)), "within one day"),
    ],
)
def test_what_makes_no_sense_changes_nothing(library: BarLibrary, change: Change, words: str) -> None:
    before = dict(library.infos)
    with pytest.raises(DataProblem, match=words):
        edit_symbols(library, ["AAA", "BBB"], change)
    assert dict(BarLibrary(library.folder).infos) == before


def test_bars_that_cannot_be_written_leave_the_catalogue_as_it_was(
    library: BarLibrary, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = library.bars("AAA", ONE_DAY).times.copy()

    def full(self: BarLibrary, bars: Bars, info: object) -> None:
        raise DataProblem("AAA.1d.arrow cannot be written: No space left on device.")

    with monkeypatch.context() as patched:
        patched.setattr(BarLibrary, "write", full)
        with pytest.raises(DataProblem, match="No space"):
            edit_symbols(library, ["AAA"], Change(zone="WET", hours=(540, 930)))
    assert library.infos["AAA"].calendar == Calendar()
    np.testing.assert_array_equal(BarLibrary(library.folder).bars("AAA", ONE_DAY).times, before)


def test_stopping_leaves_each_symbol_whole(library: BarLibrary) -> None:
    shares: list[float] = []
    assert (
        edit_symbols(
            library, ["AAA", "BBB"], Change(kind="fund"), progress=shares.append, cancelled=lambda: bool(shares)
        )
        == 1
    )
    assert [i.kind for i in library.infos.values()] == ["fund", "share"]


def test_a_catalogue_of_an_older_version_is_taken_over(tmp_path: Path) -> None:
    library = BarLibrary(tmp_path)
    library.add_symbols([SymbolInfo("AAA", "A", "", "share", 0.01, Calendar())])
    with sqlite3.connect(tmp_path / "catalogue.sqlite") as db:
        db.execute("alter table symbols drop column step")
    again = BarLibrary(tmp_path)
    assert again.infos["AAA"].step == 1
    again.add_symbols([SymbolInfo("BBB", "B", "", "share", 0.01, Calendar(), 5)])
    assert BarLibrary(tmp_path).infos["BBB"].step == 5
