"""The Data place, driven: files looked at, read otherwise, cleaned as the user says, and taken into the library."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from datetime import date, timedelta
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from helpers import daily_bars
from oakladder.bars.contract import Contract
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY
from oakladder.demo import companies
from oakladder.desk.app import make_app, make_window
from oakladder.desk.data.edit_dialog import EditDialog
from oakladder.desk.data.first_chart import FirstChart
from oakladder.desk.data.preview import form_words
from oakladder.desk.look.theme import DAY
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.intake.cleaning import Repair, Trouble
from oakladder.intake.importing import Intake, import_files
from oakladder.user.workspace import Workspace
from windows import answer, put_away


def write(path: Path, count: int = 60, separator: str = ",", spike: int | None = None) -> Path:
    rng = np.random.default_rng(3)
    close = np.round(40 + np.cumsum(rng.normal(0, 0.3, count)), 2)
    if spike is not None:
        close[spike] = 400
    day, rows = date(2025, 1, 6), [separator.join(["date", "open", "high", "low", "close", "volume"])]
    for c in close:
        while day.weekday() > 4:
            day += timedelta(days=1)
        rows.append(separator.join([f"{day:%d.%m.%Y}", *(f"{v:.2f}" for v in (c, c + 0.5, c - 0.5, c)), "1000"]))
        day += timedelta(days=1)
    path.write_text("\n".join(rows) + "\n")
    return path


@pytest.fixture
def own_window(qapp, tmp_path: Path, market: BarLibrary) -> Iterator[Window]:  # type: ignore[no-untyped-def]
    """A window with a library of its own, which a test may change."""
    workspace = Workspace(tmp_path / "data", tmp_path / "config")
    shutil.copytree(market.folder, workspace.data / "bars")
    app = make_app()
    made = make_window(workspace)
    made.show()
    settle(app, made.session)
    made.show_data()
    yield made
    put_away(made)


def test_files_are_looked_at_and_taken_in_and_can_be_charted(own_window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    window, place = own_window, own_window.data
    place.add([write(tmp_path / "seal.csv"), write(tmp_path / "otter.tsv", 80, "\t"), tmp_path / "gone.csv"])
    calm(window)
    assert place.files.count() == 3 and "2 symbols can be imported with 140 new bars. 1 cannot" in place.word.text()
    assert place.preview.item(0, 0).text() == "SEAL" and place.preview.rowCount() == 12  # type: ignore[union-attr]
    place.take_button.click()
    calm(window)
    assert "2 symbols imported, 140 bars written. 1 file could not" in place.word.text()
    assert window.bench.watchlist.model.rowCount() == 79
    window.session.chart.go_to("OTTER")
    calm(window)
    assert window.bench.chart.shown is not None and len(window.bench.chart.shown.bars) == 80
    assert BarLibrary(window.session.library.folder).bars("SEAL", ONE_DAY)["volume"].sum() == 60_000
    assert list(window.session.library.infos)[:3] == [i.symbol for i in companies.symbols()[:3]]


def test_a_wrong_guess_is_corrected_and_a_finding_mended(own_window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    place = own_window.data
    place.add([write(tmp_path / "seal.csv", 60, spike=30)])
    calm(own_window)
    path = tmp_path / "seal.csv"
    (intake,) = place.listing.seen[path]
    assert [f.trouble for f in intake.findings] == [Trouble.SPIKE] and place.findings.rowCount() == 1
    box = place.findings.cellWidget(0, 3)
    box.setCurrentIndex(box.findData(Repair.DROP))  # type: ignore[union-attr]
    box.activated.emit(1)  # type: ignore[union-attr]
    calm(own_window)
    assert place.listing.seen[path][0].bars is not None and len(place.listing.seen[path][0].bars) == 59
    close = place.reading.columns["close"]
    close.setCurrentIndex(close.findData(2))  # the highs
    close.activated.emit(close.currentIndex())
    calm(own_window)
    bars = place.listing.seen[path][0].bars
    assert bars is not None and place.listing.layouts[path].columns["close"] == 2
    place.reading.form.setCurrentIndex(place.reading.form.findData("%m/%d/%Y"))
    place.reading.form.activated.emit(0)
    calm(own_window)
    assert place.listing.seen[path][0].trouble
    place.reading.session.setText("nine to five")
    place.reading.session.editingFinished.emit()
    assert "no hours" in place.word.text()


def test_files_are_dropped_onto_the_place(own_window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    folder = tmp_path / "mine"
    folder.mkdir()
    write(folder / "seal.csv")
    data = QMimeData()
    data.setUrls([QUrl.fromLocalFile(str(folder))])
    event = QDropEvent(
        QPointF(50, 50), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
    )
    own_window.data.dropEvent(event)
    calm(own_window)
    assert own_window.data.files.count() == 1
    own_window.data.forget()
    assert own_window.data.files.count() == 0 and not own_window.data.take_button.isEnabled()
    own_window.data.add([tmp_path / "mine" / "none"])
    calm(own_window)


def test_forms_of_times_are_shown_by_example() -> None:
    assert form_words("%d.%m.%Y %H:%M") == "12.03.2026 09:30"
    assert "1970" in form_words("seconds")


def test_what_is_known_of_symbols_is_shown_and_changed_together(
    own_window: Window, calm, monkeypatch: pytest.MonkeyPatch
) -> None:  # type: ignore[no-untyped-def]
    view, session = own_window.data.symbols, own_window.session
    own_window.data.tabs.setCurrentIndex(1)
    calm(own_window)
    first = view.model.index(0, 0)
    assert view.model.rowCount() == 77 and view.model.data(first) == "BRINE"
    held, bars = view.model.held["BRINE"], session.library.bars("BRINE", ONE_DAY)
    assert held.days is not None and held.days.count == len(bars) and np.array_equal(held.closes, bars["close"][-90:])
    assert view.model.hint(0, 3).startswith(f"{len(bars):,} days, 30 Jun 2020 to 30 Jun 2026")
    assert view.model.text(0, 4) == "2026-06-30" and view.model.head(3) == "Bars, 2020 to 2026"
    view.table.grab()
    view.ask()
    assert "Select one or more" in view.word.text()
    view.filter.setText("Kelp")
    shown = view.rows.rowCount()
    assert 0 < shown < 77
    view.table.selectAll()
    asked: list[EditDialog] = []

    def fill_in(dialog: EditDialog) -> None:
        asked.append(dialog)
        assert not dialog.name.isEnabled()
        dialog.hours.setText("9-15")
        dialog._accept()
        assert "Write them as" in dialog.word.text() and dialog.made() is None
        dialog.hours.setText("08:00-16:00")
        for line, words in ((dialog.multiplier, "not a multiplier"), (dialog.margin, "Write a margin as 10%")):
            line.setText("much")
            assert dialog.made() is None and words in dialog.word.text()
            line.clear()
        dialog.tick.setText("0,05")
        dialog.group.setCurrentText("Weed")
        dialog.multiplier.setText("50")
        dialog.currency.setText("SHELL")
        dialog.margin.setText("10%")

    answer("Change", fill_in)
    view.button.click()
    calm(own_window)
    assert asked and view.word.text() == f"{shown} changed."
    changed = [i for i in session.library.infos.values() if i.sector == "Weed"]
    assert len(changed) == shown and all(
        (i.tick, i.calendar.start, i.calendar.end) == (0.05, 480, 960) for i in changed
    )
    assert {i.contract for i in changed} == {Contract(50.0, "SHELL", 0.1)}
    bars = session.library.bars(changed[0].symbol, ONE_DAY)
    assert (bars.calendar.minutes(bars.times) == 480).all()
    assert "Weed" in session.lists.names(session.library.infos)


def test_new_symbols_come_in_under_the_group_and_kind_that_is_said(own_window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    place = own_window.data
    place.reading.group.setText("Barges")
    place.reading.kind.setCurrentText("fund")
    place.add([write(tmp_path / "barge.csv")])
    calm(own_window)
    place.take_button.click()
    calm(own_window)
    info = own_window.session.library.infos["BARGE"]
    assert (info.sector, info.kind) == ("Barges", "fund")


def test_what_was_recognised_of_the_symbol_is_said_and_its_step_can_be_corrected(
    own_window: Window, calm, tmp_path: Path
) -> None:  # type: ignore[no-untyped-def]
    place = own_window.data
    place.add([write(tmp_path / "barge.csv")])
    calm(own_window)
    assert place.facts.text() == "BARGE: share, 1d bars, tick size 0.01, 24-hour session UTC; new, in My data"
    place.reading.tick.setText("a lot")
    place.reading.tick.editingFinished.emit()
    assert "not a tick size" in place.word.text()
    place.reading.tick.setText("0,05")
    place.reading.tick.editingFinished.emit()
    calm(own_window)
    assert "tick size 0.05" in place.facts.text()
    place.take_button.click()
    calm(own_window)
    assert own_window.session.library.infos["BARGE"].tick == 0.05
    place.add([write(tmp_path / "barge.csv", 70)])
    calm(own_window)
    assert "already in the library" in place.facts.text()


def test_what_another_copy_of_the_program_took_in_is_there_when_one_comes_back(
    own_window: Window, calm, tmp_path: Path
) -> None:  # type: ignore[no-untyped-def]
    other = BarLibrary(own_window.session.library.folder)
    import_files([write(tmp_path / "barge.csv")], other)
    own_window.show_bench()
    calm(own_window)
    assert "BARGE" in [i.symbol for i in own_window.bench.watchlist.model.infos]
    own_window.session.chart.go_to("BARGE")
    calm(own_window)
    assert own_window.session.chart.view is not None and len(own_window.session.chart.view.bars) == 60
    import_files([write(tmp_path / "barge.csv", 75)], other)
    own_window.show_scan()
    own_window.show_bench()
    calm(own_window)
    assert len(own_window.session.chart.view.bars) == 75


def test_bars_without_a_price_are_said_on_the_first_chart(qapp: QApplication, tmp_path: Path) -> None:
    chart = FirstChart(DAY)
    chart.resize(300, 150)
    for closes in ([float("nan")] * 5, [1.0, float("nan"), 2.0], []):
        chart.show_intake(Intake(tmp_path / "x.csv", "X", ONE_DAY, daily_bars(np.array(closes))))
        assert not chart.grab().isNull()


def priced(path: Path, close: float, count: int = 60) -> Path:
    """Days of a quiet price."""
    first = date(2025, 1, 6)
    rows = [f"{first + timedelta(days=k)},{close},{close},{close},{close + 0.01 * (k % 5)},10" for k in range(count)]
    path.write_text("date,open,high,low,close,volume\n" + "\n".join(rows) + "\n")
    return path


def chosen(place, path: Path) -> None:  # type: ignore[no-untyped-def]
    """Chooses a file of the list."""
    row = next(k for k in range(place.files.count()) if place.files.item(k).data(Qt.ItemDataRole.UserRole) == path)
    place.files.setCurrentRow(row)


def test_files_that_claim_one_symbol_are_asked_about(own_window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    place, library = own_window.data, own_window.session.library
    one, other = priced(tmp_path / "PUNT A.csv", 100), priced(tmp_path / "punt a.csv", 7)
    place.add([one])
    calm(own_window)
    assert place.row.line.text() == "PUNT A" and not place.row.same.isVisible() and not place.row.word.text()
    place.add([other])
    calm(own_window)
    assert "2 need an answer first" in place.word.text() and "0 symbols can be imported" in place.word.text()
    for path in (one, other):
        chosen(place, path)
        assert "PUNT A is claimed by 2 files" in place.row.word.text() and place.row.same.isVisible()
        assert place.preview.rowCount()  # which helps to tell them apart
    QTest.mouseDClick(place.row.line, Qt.MouseButton.LeftButton)
    place.row.line.selectAll()
    QTest.keyClicks(place.row.line, "punt b")
    QTest.keyClick(place.row.line, Qt.Key.Key_Return)
    calm(own_window)
    assert "2 symbols can be imported with 120 new bars." in place.word.text() and not place.row.same.isVisible()
    QTest.mouseClick(place.take_button, Qt.MouseButton.LeftButton)
    calm(own_window)
    assert library.bars("PUNT A", ONE_DAY)["close"][0] == 100 and library.bars("PUNT B", ONE_DAY)["close"][0] == 7


def test_files_that_belong_together_become_one_symbol_once_that_is_said(
    own_window: Window, calm, tmp_path: Path
) -> None:  # type: ignore[no-untyped-def]
    place, library = own_window.data, own_window.session.library
    (tmp_path / "early").mkdir()
    one, other = priced(tmp_path / "PUNT.csv", 100, 90), priced(tmp_path / "early/PUNT.csv", 100, 60)
    place.add([one, other])
    calm(own_window)
    QTest.mouseClick(place.take_button, Qt.MouseButton.LeftButton)
    calm(own_window)
    assert "PUNT" not in library.infos and place.files.count() == 2  # nothing is guessed
    chosen(place, one)
    assert place.row.same.text() == "Import together"
    QTest.mouseClick(place.row.same, Qt.MouseButton.LeftButton)
    calm(own_window)
    assert "2 symbols can be imported" in place.word.text() and place.row.same.isChecked()
    QTest.mouseClick(place.take_button, Qt.MouseButton.LeftButton)
    calm(own_window)
    assert len(library.bars("PUNT", ONE_DAY)) == 90 and not place.listing.seen


def test_prices_that_contradict_the_library_are_asked_about(own_window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    place, library = own_window.data, own_window.session.library
    place.add([priced(tmp_path / "PUNT.csv", 100)])
    calm(own_window)
    place.take_button.click()
    calm(own_window)
    place.add([priced(tmp_path / "PUNT.csv", 7)])
    calm(own_window)
    assert "contradict those in the library" in place.row.word.text() and "100" in place.row.word.text()
    assert place.row.same.text() == "Same symbol"
    place.row.line.selectAll()
    QTest.keyClicks(place.row.line, "%2f")
    QTest.keyClick(place.row.line, Qt.Key.Key_Return)
    calm(own_window)
    assert "Choose another symbol" in place.word.text() and place.row.line.text() == "PUNT"
    QTest.mouseClick(place.row.same, Qt.MouseButton.LeftButton)
    calm(own_window)
    assert "1 symbol can be imported with 0 new bars" in place.word.text()
    place.take_button.click()
    calm(own_window)
    assert library.bars("PUNT", ONE_DAY)["close"][0] == 7


def test_an_adjusted_close_is_found_shown_and_need_not_be_used(own_window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    place = own_window.data
    path = tmp_path / "seal.csv"
    lines = write(path, 60).read_text().splitlines()
    rows = [f"{line},{float(line.split(',')[4]) * (0.9 if k < 30 else 1.0):.4f}" for k, line in enumerate(lines[1:])]
    path.write_text("\n".join([lines[0] + ",Adj Close", *rows]) + "\n")
    place.add([path])
    calm(own_window)
    assert "adjusted for 1 dividend or split" in place.facts.text()
    assert place.reading.columns["adjusted"].currentText() == "Adj Close"
    box = place.findings.cellWidget(0, 3)
    assert place.findings.item(0, 0).text() == "dividends and splits" and box.currentText() == "adjusted for signals"  # type: ignore[union-attr]
    place.take_button.click()
    calm(own_window)
    adjusted, stored = (getattr(own_window.session.library, n)("SEAL", ONE_DAY)["close"] for n in ("bars", "base"))
    assert (adjusted[:30] == stored[:30] * 0.9).all() and (adjusted[30:] == stored[30:]).all()
    place.tabs.setCurrentWidget(place.symbols)
    calm(own_window)
    assert "adjusted for 1 dividend or split" in "".join(_row_texts(place.symbols.table, "SEAL"))


def _row_texts(table, symbol: str) -> list[str]:  # type: ignore[no-untyped-def]
    """The cells of a symbol's row."""
    model = table.model()
    for row in range(model.rowCount()):
        texts = [str(model.index(row, k).data()) for k in range(model.columnCount())]
        if symbol in texts:
            return texts
    return []
