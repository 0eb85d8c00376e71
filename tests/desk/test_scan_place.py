"""The Scan, driven: conditions of several kinds, results, the past, saved scans, lists, and the way to the Bench."""

from __future__ import annotations

import csv
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from helpers import taken
from oakladder.app import programs as programs_module
from oakladder.app.columns import ScriptColumn, read_columns
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.desk.scan.card import LineCard
from oakladder.desk.scan.cards import GroupEditor
from oakladder.desk.scan.place import ScanPlace
from oakladder.desk.scan.result_models import HEADS
from oakladder.desk.scan.rule_settings import Given
from oakladder.desk.window import Window
from oakladder.engine.columns.fill import cells
from oakladder.engine.scan.conditions import Field, FieldFilter, Group, Join, Rule, TriggerMode
from oakladder.engine.scan.run import occurrences, run_scan
from oakladder.rung import compile_script
from oakladder.user.scans import GROUP, SCRIPT, SavedScan, SavedScans, ScanLine, as_plain, read_scan
from windows import answer

SCRIPT_TEXT = """rung 1
signal up = close > sma(close, 20) bullish
signal cross = crosses_up(close, sma(close, 20))
column rsi(close, 14) named "Strength"
"""
PROGRAM = compile_script(SCRIPT_TEXT)


def rule(name: str = "up", **given: object) -> ScanLine:
    return ScanLine(SCRIPT, script="mine.rung", name=name, **given)  # type: ignore[arg-type]


@pytest.fixture
def place(window: Window, calm) -> ScanPlace:  # type: ignore[no-untyped-def]
    (window.session.workspace.scripts / "mine.rung").write_text(SCRIPT_TEXT)
    window.show_scan()
    calm(window)
    window.scan.lines.show_lines([])
    return window.scan


def show(place: ScanPlace, *lines: ScanLine) -> None:
    place.lines.show_lines(list(lines))


def test_a_first_scan_asks_the_open_script(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.show_scan()
    calm(window)
    (line,) = window.scan.lines.lines()
    assert line.script == "tide_turn.rung" and line.fresh == TriggerMode.WITHIN.value
    window.run_scan()
    calm(window)
    assert window.scan.verdict.text().split(" of ")[1].startswith("77 symbols")


def test_conditions_of_scripts_and_filters_find_what_the_engine_finds(
    place: ScanPlace, window: Window, market: BarLibrary, calm
) -> None:  # type: ignore[no-untyped-def]
    show(
        place,
        rule(),
        rule(timeframe="1w"),
        rule("Strength", relation=">=", number=55.0),
        rule("cross", fresh=TriggerMode.WITHIN.value, bars=30),
        ScanLine(Field.PRICE.value, relation=">=", number=5.0),
        ScanLine(Field.SECTOR.value, negated=True, words=("Salt",)),
    )
    QTest.mouseClick(place.run_button, Qt.MouseButton.LeftButton)
    calm(window)
    expected = run_scan(
        Group(
            Join.ALL,
            (
                Rule(PROGRAM, "up"),
                Rule(PROGRAM, "up", Timeframe.parse("1w")),
                Rule(PROGRAM, "Strength", relation=">=", number=55),
                Rule(PROGRAM, "cross", fresh=TriggerMode.WITHIN, bars=30),
                FieldFilter(Field.PRICE, ">=", 5),
                Group(Join.NONE, (FieldFilter(Field.SECTOR, words=frozenset(["Salt"])),)),
            ),
        ),
        market,
        market.infos,
    )
    assert place.result is not None and place.result.found == expected.found and expected.found
    assert place.verdict.text().startswith(f"{len(expected.found)} of 77 symbols in ")
    assert place.results.model.rules == ["up 1d", "up 1w", "Strength 1d", "cross 1d"]
    assert [
        place.results.model.data(place.results.model.index(r, 0)) for r in range(place.results.model.rowCount())
    ] == [f.symbol for f in expected.found]
    place.results.table.grab()


def test_the_parts_of_a_line_follow_its_kind(place: ScanPlace) -> None:
    card = place.lines.add(rule("Strength", relation="<", number=30))
    assert isinstance(card, LineCard)
    editor = card.unfold()
    assert not editor.number.isHidden() and editor.relation.isEnabled() and editor.bars.isHidden()
    editor.name.setCurrentText("up")
    assert editor.number.isHidden() and not editor.relation.isEnabled()
    editor.fresh.setCurrentText(TriggerMode.LASTING.value)
    assert not editor.bars.isHidden()
    editor.kind.setCurrentIndex(editor.kind.findData(Field.CHANGE.value))
    assert editor.script.isHidden() and editor.number.suffix() == " %"
    editor.relation.setCurrentText(">")
    editor.number.setValue(2.5)
    assert editor.line() == ScanLine(Field.CHANGE.value, relation=">", number=0.025)
    editor.kind.setCurrentIndex(editor.kind.findData(Field.SYMBOLS.value))
    editor.word.setCurrentText("Ferries")
    assert editor.line().words == ("Ferries",)
    card.remove.click()
    assert place.lines.editors == [] and not place.lines.empty.isHidden()


def test_enter_opens_the_bar_since_which_it_holds(place: ScanPlace, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    show(place, rule())
    place.run()
    calm(window)
    place.results.table.selectRow(2)
    QTest.keyClick(place.results.table, Qt.Key.Key_Return)
    calm(window)
    one = place.results.model.found[2]
    chart = window.bench.chart
    assert window.places.currentWidget() is window.bench and chart.shown is not None
    assert window.session.chart.symbol == one.symbol and chart.pinned is not None
    assert chart.shown.bars.times[chart.pinned] == one.since
    assert window.session.script.path is not None and window.session.script.path.name == "mine.rung"


def test_the_table_sorts_by_what_its_numbers_mean(place: ScanPlace, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    show(place, rule())
    place.run()
    calm(window)
    place.results.table.sortByColumn(7, Qt.SortOrder.DescendingOrder)
    changes = [f.change for f in place.results.model.found]
    assert changes == sorted(changes, reverse=True) and len(changes) > 5
    place.results.table.sortByColumn(9, Qt.SortOrder.AscendingOrder)
    ages = [f.ages[0] for f in place.results.model.found]
    assert ages == sorted(ages)
    action = place.results.column_menu().actions()[1]
    action.trigger()
    assert place.results.table.isColumnHidden(2)


def test_past_occurrences_stand_in_the_almanac_and_lead_to_their_bars(
    place: ScanPlace, window: Window, market: BarLibrary, calm
) -> None:  # type: ignore[no-untyped-def]
    show(place, rule("cross"))
    place.days.setValue(500)  # back to before the sealed part of history
    place.past_button.click()
    calm(window)
    expected, _ = occurrences(Rule(PROGRAM, "cross"), market, market.infos, ONE_DAY, 500)
    places = [(o.symbol, o.time) for o in expected]
    assert [(o.symbol, o.time) for o in place.results.past.all] == places
    assert place.results.currentWidget() is place.results.past_part
    one = next(k for k, o in enumerate(place.results.past.all) if o.after == o.after)
    bars = market.bars(expected[one].symbol, ONE_DAY)
    at = int(np.searchsorted(bars.times, expected[one].time))
    followed = bars["close"][at + 20] / bars["close"][at] - 1
    assert place.results.past.text(one, 3) == f"{followed:+.1%}"
    young = next(k for k, o in enumerate(expected) if o.after != o.after)
    assert place.results.past.text(young, 3) == "·" and "Fewer than 20" in place.results.past.hint(young, 3)
    assert "20 bars later the middle one stood" in place.verdict.text()
    assert place.verdict.text().startswith(f"It was true {len(expected):,} times")
    day = expected[0].day
    box = place.results.almanac.place_of(day)
    place.results.almanac.grab()
    QTest.mouseClick(place.results.almanac, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    assert [o.symbol for o in place.results.past.rows] == [o.symbol for o in expected if o.day == day]
    calm(window)
    sheet = place.results.past_sheet
    shown = sheet.glances[0]
    assert sheet.count() == len(place.results.past.rows) and shown is not None and shown.here is not None
    assert shown.here in [bar for bar, _ in shown.marks]  # the rule's own mark stands on the bar
    place.results.past_table.clicked.emit(place.results.past.index(0, 0))
    calm(window)
    chart = window.bench.chart
    assert chart.shown is not None and chart.pinned is not None
    assert chart.shown.bars.times[chart.pinned] == expected[0].time


def test_each_condition_shows_what_it_lets_through(place: ScanPlace, window: Window, market: BarLibrary, calm) -> None:  # type: ignore[no-untyped-def]
    show(place, rule(), ScanLine(Field.PRICE.value, relation=">=", number=20.0))
    place.run()
    calm(window)
    first = {f.symbol for f in run_scan(Rule(PROGRAM, "up"), market, market.infos).found}
    dear = {s for s in market.infos if market.bars(s, ONE_DAY)["close"][-1] >= 20}
    assert [e.funnel.words for e in place.lines.editors] == [
        f"{len(first)} remain, {len(first)} on its own",
        f"{len(first & dear)} remain, {len(dear)} on its own",
    ]
    window.toggle_night()
    calm(window)
    assert {e.funnel.theme for e in place.lines.editors} == {window.session.chart.theme}
    shown = place.lines.editors[0].funnel.grab().toImage()
    pixels = [shown.pixelColor(x, y).lightness() for x in range(155, shown.width()) for y in range(shown.height())]
    assert max(pixels) > 180  # its words are light by night
    place.lines.editors[1].unfold().number.setFocus()  # type: ignore[union-attr]
    QTest.keyClicks(place.lines.editors[1].form.number, "1")  # type: ignore[union-attr]
    assert not any(e.funnel.words for e in place.lines.editors)  # that was said of another condition


def test_a_symbol_is_told_what_keeps_it_out(place: ScanPlace, window: Window, market: BarLibrary, calm) -> None:  # type: ignore[no-untyped-def]
    last = float(market.bars("BRINE", ONE_DAY)["close"][-1])
    cheap = ScanLine(Field.PRICE.value, relation="<=", number=last - 4)
    show(place, ScanLine(Field.PRICE.value, relation=">=", number=0.01), cheap, rule())
    place.asked.setFocus()
    QTest.keyClicks(place.asked, "brine")
    QTest.keyClick(place.asked, Qt.Key.Key_Return)
    calm(window)
    assert place.verdict.text().startswith("BRINE does not match, because of condition 2: it is ")
    answers = [e.answer.text() for e in place.lines.editors]
    assert answers[0].startswith("yes for BRINE") and "over by 4 (" in answers[1]
    assert place.lines.editors[1].answer.objectName() == "trouble" != place.lines.editors[0].answer.objectName()
    QTest.keyClicks(place.asked, "x")
    QTest.keyClick(place.asked, Qt.Key.Key_Return)
    assert "There is no symbol BRINEX" in place.verdict.text() and place.asked.text() == "brinex"
    place.asked.clear()
    assert not any(e.answer.isVisible() for e in place.lines.editors)


def test_what_is_found_stands_on_a_sheet_of_charts(place: ScanPlace, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    assert "as small charts" in place.results.sheet.empty and "Ctrl+R" in place.results.sheet.empty
    show(place, ScanLine(Field.PRICE.value, relation=">=", number=1e9))
    place.run()
    calm(window)
    assert place.results.sheet.count() == 0 and "No match now" in place.results.sheet.empty
    show(place, rule())
    place.run()
    calm(window)
    sheet, found = place.results.sheet, place.results.model.found
    assert place.results.currentWidget() is sheet and sheet.count() == len(found) > 12
    page = sheet.page()
    calm(window)
    assert set(page) <= set(sheet.glances) and all(sheet.glances[k].symbol == found[k].symbol for k in page)  # type: ignore[union-attr]
    assert any(sheet.glances[k].marks for k in page)  # type: ignore[union-attr]
    QTest.keyClick(sheet, Qt.Key.Key_PageDown)
    assert sheet.page().start == page.stop
    sheet.grab()
    calm(window)
    assert sheet.page().start in sheet.glances  # read when it is turned to
    QTest.keyClick(sheet, Qt.Key.Key_Right)
    asked = found[sheet.at]
    QTest.keyClick(sheet, Qt.Key.Key_Return)
    calm(window)
    assert window.session.chart.symbol == asked.symbol and window.places.currentWidget() is window.bench


def test_delete_takes_a_condition_away(place: ScanPlace) -> None:
    show(place, rule(), ScanLine(Field.PRICE.value, relation=">=", number=20.0))
    place.lines.editors[0].sentence.setFocus()  # type: ignore[union-attr]
    QTest.keyClick(place.lines.editors[0].sentence, Qt.Key.Key_Delete)  # type: ignore[union-attr]
    assert [line.kind for line in place.lines.lines()] == [Field.PRICE.value]


def test_a_scan_can_be_stopped(place: ScanPlace, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    show(place, rule(timeframe="1m"))
    place.run()
    assert place.stop_button.isEnabled() and not place.run_button.isEnabled()
    place.stop()
    calm(window)
    assert place.verdict.text().startswith("Stopped") and place.run_button.isEnabled()


@pytest.mark.parametrize(
    ("line", "words"),
    [
        (ScanLine(SCRIPT, script="gone.rung", name="up"), "is missing"),
        (rule(timeframe="fortnight"), "no timeframe"),
        (ScanLine(Field.SYMBOLS.value, words=("No such list",)), None),
    ],
)
def test_what_cannot_run_is_said(place: ScanPlace, window: Window, calm, line: ScanLine, words: str | None) -> None:  # type: ignore[no-untyped-def]
    scan = SavedScan("x", lines=[line])
    if words is None:
        with pytest.raises(Exception, match="no list"):
            place._condition(scan)
        return
    with pytest.raises(Exception, match=words):
        place._condition(scan)
    show(place)
    place.run()
    calm(window)
    assert "no condition" in place.verdict.text() and place.run_button.isEnabled()


def test_scans_are_saved_copied_turned_round_and_come_back(
    place: ScanPlace, window: Window, calm, monkeypatch: pytest.MonkeyPatch
) -> None:  # type: ignore[no-untyped-def]
    show(place, rule(), ScanLine(Field.PRICE.value, relation=">", number=20.0))
    place.join.setCurrentIndex(place.join.findData(Join.ANY.value))
    place.saves.save_as("Afloat")
    place.run()
    calm(window)
    assert place.result is not None
    found = {f.symbol for f in place.result.found}
    place.saves.with_chosen(lambda n: window.session.scans.opposite(n).name)
    calm(window)
    assert place.saves.box.currentText() == "Not: Afloat"
    place.run()
    calm(window)
    others = {f.symbol for f in place.result.found}
    assert found and others and not found & others and len(found | others) == 77
    place.saves.with_chosen(lambda n: window.session.scans.copy(n).name)
    calm(window)
    again = SavedScans(window.session.workspace.config / "scans.json")
    assert list(again.scans) == ["Afloat", "Not: Afloat", "Not: Afloat 2"]
    assert again.scans["Afloat"].lines == [rule(), ScanLine(Field.PRICE.value, relation=">", number=20.0)]
    answer("Cancel")
    place.saves.ask_delete()
    calm(window)
    assert "Not: Afloat 2" in window.session.scans.scans
    answer("Delete")
    place.saves.ask_delete()
    calm(window)
    assert len(window.session.scans.scans) == 2
    place.saves.save_as("  ")
    calm(window)
    assert "needs a name" in window.status.text()


def test_what_is_found_is_kept_as_a_list_and_exported(place: ScanPlace, window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    place.keep_list()
    assert "Run the scan first" in window.status.text()
    show(place, rule())
    place.saves.save_as("Afloat")
    place.run()
    calm(window)
    place.keep_list()
    calm(window)
    kept = window.session.lists.user_lists["Afloat"]
    assert kept.symbols == [f.symbol for f in place.results.model.found] and kept.scan == "Afloat"
    kept.symbols = []
    place.run()
    calm(window)
    assert window.session.lists.user_lists["Afloat"].symbols  # kept up to date by the scan
    place.results.export(tmp_path / "found.csv")
    calm(window)
    rows = list(csv.DictReader((tmp_path / "found.csv").open()))
    assert [r["symbol"] for r in rows] == [f.symbol for f in place.results.model.found]
    place.results.export(taken(tmp_path) / "x.csv")
    calm(window)
    assert "cannot be written" in window.status.text()


def test_a_scan_is_written_down_as_it_is() -> None:
    scan = SavedScan(
        "A",
        Join.NONE.value,
        [rule(settings={"n": 3.0}), ScanLine(Field.SECTOR.value, words=("Salt",))],
        "Salt",
        "1w",
        True,
        "L",
    )
    assert read_scan(as_plain(scan)) == scan
    spoiled = as_plain(scan) | {
        "join": "some",
        "timeframe": "x",
        "lines": [3, {"kind": "?"}, {"kind": "price", "relation": "~"}],
    }
    made = read_scan(spoiled)
    assert made is not None and made.lines == [] and (made.join, made.timeframe) == ("all", "1d")
    assert read_scan([]) is None
    assert "not sector Salt" in ScanLine(Field.SECTOR.value, negated=True, words=("Salt",)).said()
    assert (
        rule("Strength", relation="<", number=30.0, fresh=TriggerMode.WITHIN.value).said()
        == "Strength < 30 on 1d within 5"
    )


def test_groups_within_groups_are_put_together_and_run(
    place: ScanPlace, window: Window, market: BarLibrary, calm
) -> None:  # type: ignore[no-untyped-def]
    show(place, rule())
    place.lines.group_button.click()
    group = place.lines.editors[1]
    assert isinstance(group, GroupEditor) and group.join.currentText() == "any of these holds"
    group.inner.show_lines([rule("cross", fresh=TriggerMode.WITHIN.value, bars=4), rule(timeframe="1w")])
    group.inner.group_button.click()
    deep = group.inner.editors[2]
    assert isinstance(deep, GroupEditor)
    deep.negated.setChecked(True)
    deep.inner.show_lines([ScanLine(Field.PRICE.value, relation="<", number=20.0)])
    place.run()
    calm(window)
    expected = run_scan(
        Group(
            Join.ALL,
            (
                Rule(PROGRAM, "up"),
                Group(
                    Join.ANY,
                    (
                        Rule(PROGRAM, "cross", fresh=TriggerMode.WITHIN, bars=4),
                        Rule(PROGRAM, "up", Timeframe.parse("1w")),
                        Group(Join.NONE, (FieldFilter(Field.PRICE, "<", 20),)),
                    ),
                ),
            ),
        ),
        market,
        market.infos,
    )
    assert place.result is not None and place.result.found == expected.found and expected.found
    place.saves.save_as("Nested")
    calm(window)
    again = SavedScans(window.session.workspace.config / "scans.json").scans["Nested"]
    assert again.lines == place.lines.lines() and again.lines[1].lines[2].kind == GROUP
    assert again.lines[1].said() == ("any of (cross on 1d within 4; up on 1w is true; not any of (price < 20))")
    deep.remove.click()
    assert len(group.inner.editors) == 2
    group.inner.show_lines([])
    place.run()
    assert "a group in it" in place.verdict.text() or not window.session.idle()
    calm(window)
    assert "a group in it" in place.verdict.text()


@pytest.mark.parametrize(
    "entry",
    [
        {"kind": "group", "join": "most", "lines": []},
        {"kind": "group", "lines": []},
        {"kind": "group", "join": "any", "lines": "no"},
        {"kind": "group", "join": "any", "lines": [1, {"kind": "nothing"}]},
    ],
)
def test_a_spoiled_group_in_the_file_spoils_nothing_else(entry: dict[str, object]) -> None:
    good = as_plain(SavedScan("x", lines=[rule()]))["lines"]
    made = read_scan({"name": "x", "lines": [*good, entry]})  # type: ignore[misc]
    assert made is not None and made.lines[0] == rule()
    assert all(not inner.lines for inner in made.lines[1:])


def test_a_condition_has_settings_and_hours_of_its_own(
    place: ScanPlace, window: Window, market: BarLibrary, calm, monkeypatch: pytest.MonkeyPatch
) -> None:  # type: ignore[no-untyped-def]
    text = "rung 1\nsetting n = 20 range 2..200\nsignal up = close > sma(close, n)\n"
    (window.session.workspace.scripts / "mine.rung").write_text(text)
    window.show_scan()
    calm(window)
    place.lines.show_lines([rule(timeframe="2h")])
    (card,) = place.lines.editors
    assert isinstance(card, LineCard)
    editor = card.unfold()
    asked: list[Given] = []

    def fill_in(dialog: Given) -> None:
        asked.append(dialog)
        dialog.strip.changed.emit("n", 7.0)
        dialog.extended.setChecked(True)

    answer("Apply", fill_in)
    editor.given.click()
    assert asked and editor.given.text() == "n 7, all hours"
    line = editor.line()
    assert (line.settings, line.extended) == ({"n": 7.0}, True) and "n 7, all hours" in line.said()
    place.run()
    calm(window)
    program = compile_script(text)
    expected = run_scan(Rule(program, "up", Timeframe.parse("2h"), {"n": 7.0}, extended=True), market, market.infos)
    assert place.result is not None and [f.symbol for f in place.result.found] == [f.symbol for f in expected.found]
    place.results.table.selectRow(0)
    QTest.keyClick(place.results.table, Qt.Key.Key_Return)
    calm(window)
    assert window.session.rule.settings == {"n": 7.0}

    answer("Apply", lambda dialog: dialog.strip.drop.click())
    editor.given.click()
    assert editor.line().settings == {}


def test_scripts_are_read_aside_and_only_when_they_change(
    window: Window, calm, monkeypatch: pytest.MonkeyPatch
) -> None:  # type: ignore[no-untyped-def]
    read: list[str] = []
    real = programs_module.compile_script
    monkeypatch.setattr(
        programs_module, "compile_script", lambda text, *more: (read.append(text), real(text, *more))[1]
    )
    scripts = window.session.workspace.scripts
    (scripts / "broken.rung").write_text("rung 1\nlet = 3")
    told: list[dict[str, object]] = []
    window.session.programs.when_read(told.append)
    window.session.programs.when_read(told.append)  # asked twice before it is there: both are told
    calm(window)
    assert len(told) == 2 and told[0] == told[1] and "broken.rung" not in told[0] and "tide_turn.rung" in told[0]
    read.clear()
    (scripts / "broken.rung").write_text("rung 1\nlet x = 3")
    window.session.programs.when_read(told.append)
    calm(window)
    assert read == ["rung 1\nlet x = 3"] and "broken.rung" in told[2]


def test_a_scan_that_is_asked_for_before_the_scripts_are_read_runs_then(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.run_scan()
    assert window.scan.result is None
    calm(window)
    assert window.scan.result is not None and window.scan.result.looked_at == 77
    window.scan.results.table.setColumnWidth(1, 222)
    window.run_scan()
    calm(window)
    assert window.scan.results.table.columnWidth(1) == 222  # what the user has made wider stays
    window.show_scan()
    window.scan.look_back()
    calm(window)
    assert (
        window.scan.results.currentWidget() is window.scan.results.past_part
        and "It was true" in window.scan.verdict.text()
    )


def test_columns_of_scripts_stand_with_what_is_found(
    place: ScanPlace, window: Window, market: BarLibrary, calm, tmp_path: Path
) -> None:  # type: ignore[no-untyped-def]
    show(place, rule())
    place.run()
    calm(window)
    place.results.add_column(ScriptColumn("mine.rung", "Strength", ["1w", "1d"]))
    calm(window)
    first = len(HEADS) + 1
    assert [place.results.model.head(k) for k in range(first, first + 2)] == ["Strength 1w", "Strength 1d"]
    names = [f.symbol for f in place.results.model.found]
    expected, _ = cells(PROGRAM, "Strength", market, names, Timeframe.parse("1w"))
    assert [place.results.model.index(r, first).data() for r in range(len(names))] == [expected[s].text for s in names]
    place.results.table.sortByColumn(first, Qt.SortOrder.DescendingOrder)
    orders = [expected[f.symbol].order for f in place.results.model.found]
    assert orders == sorted(orders, reverse=True)
    place.results.export(tmp_path / "found.csv")
    calm(window)
    rows = list(csv.reader((tmp_path / "found.csv").open()))
    assert rows[0][-2:] == ["Strength 1w", "Strength 1d"]
    assert rows[1][-2] == expected[place.results.model.found[0].symbol].text
    place._remember()
    assert read_columns(window.session.remembered.scan["columns"]) == place.results.model.columns
    place.run()
    calm(window)
    assert place.results.model.index(0, first).data() == expected[place.results.model.found[0].symbol].text
    place.results.remove_column(0)
    assert place.results.model.columnCount() == first
    window.session.remembered.now()


def test_many_conditions_scroll_and_leave_room_for_what_is_found(place: ScanPlace, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    show(place, *[rule(timeframe="1d") for _ in range(14)])
    calm(window)
    window.resize(1000, 700)
    QTest.qWait(20)
    assert place.card_scroll.height() <= place.height() * 2 // 5 < place.lines.sizeHint().height()
    assert place.results.table.height() > 150
    show(place, rule())
    QTest.qWait(20)
    assert place.card_scroll.height() < 120


def test_a_condition_stays_as_it_was_while_its_script_or_list_cannot_be_used(
    place: ScanPlace, window: Window, calm
) -> None:  # type: ignore[no-untyped-def]
    mine = window.session.workspace.scripts / "mine.rung"
    window.session.lists.make("Picked", ["BRINE"])
    window.show_scan()
    calm(window)
    strength = rule("Strength", relation="<", number=30.0, timeframe="4h", negated=True)
    asked = [rule("up", fresh=TriggerMode.WITHIN.value, bars=7), strength, ScanLine("list", words=("Picked",))]
    group = ScanLine(GROUP, join="any", lines=(rule("cross"), strength))
    show(place, *asked, group)
    before, editors = place.lines.lines(), list(place.lines.editors)
    assert [x.name for x in before[:2]] == ["up", "Strength"] and before[2].words == ("Picked",)

    mine.write_text("rung 1\nlet = 3")
    window.session.lists.delete("Picked")
    window.show_bench()
    window.show_scan()
    calm(window)
    assert place.lines.lines() == before
    assert place.lines.editors == editors  # refilled, not made anew
    place.run()
    calm(window)
    assert "mine.rung" in place.verdict.text()

    mine.write_text(SCRIPT_TEXT)
    window.show_bench()
    window.show_scan()
    calm(window)
    assert place.lines.lines() == before
    assert isinstance(editors[0], LineCard) and editors[0].unfold().name.count() == 3


def test_a_condition_is_a_sentence_that_unfolds_into_its_form(place: ScanPlace, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    show(
        place,
        rule("Strength", relation="<", number=30.5, timeframe="4h", settings={"n": 7.0}, negated=True),
        ScanLine(Field.CHANGE.value, relation=">", number=0.025),
        ScanLine(GROUP, join="any", lines=(rule("cross", fresh=TriggerMode.WITHIN.value, bars=4),)),
        rule("nothing"),
        ScanLine(Field.SYMBOLS.value, words=("Nowhere",)),
    )
    one, change, group, nothing, nowhere = place.lines.editors
    assert isinstance(one, LineCard) and isinstance(change, LineCard) and isinstance(group, GroupEditor)
    (inner,) = group.inner.editors
    assert isinstance(inner, LineCard) and isinstance(nothing, LineCard) and isinstance(nowhere, LineCard)
    assert one.sentence.accessibleName() == "not: Mine: Strength < 30.5 with n 7 on 4h"
    assert change.sentence.accessibleName() == "the last bar's change is > 2.5 %"
    assert inner.sentence.accessibleName() == "Mine: cross on 1d, true within the last 4 bars"
    assert "has no nothing" in nothing.sentence.text() and "list is missing" in nowhere.sentence.text()

    QTest.mouseClick(one.sentence, Qt.MouseButton.LeftButton)
    assert one.form is not None and one.form.number.value() == 30.5
    before = place.lines.lines()
    inner.sentence.setFocus()
    QTest.keyClick(inner.sentence, Qt.Key.Key_Return)
    assert inner.form is not None and one.form is None  # one at a time
    assert place.lines.lines() == before
    inner.form.bars.setFocus()
    inner.form.bars.selectAll()
    QTest.keyClicks(inner.form.bars, "9")
    assert inner.sentence.accessibleName().endswith("within the last 9 bars") and inner.line().bars == 9
    QTest.keyClick(inner.sentence, Qt.Key.Key_Space)
    assert inner.form is None and inner.line().bars == 9
    QTest.mouseClick(place.lines.add_button, Qt.MouseButton.LeftButton)
    made = place.lines.editors[-1]
    assert isinstance(made, LineCard) and made.form is not None
    QTest.mouseClick(made.remove, Qt.MouseButton.LeftButton)
    assert len(place.lines.editors) == 5


def test_a_condition_is_changed_with_the_keyboard_alone(place: ScanPlace, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    show(place, rule("Strength", relation="<", number=30.0), rule())
    calm(window)
    first, second = place.lines.editors
    assert isinstance(first, LineCard) and isinstance(second, LineCard)
    first.sentence.setFocus()
    QTest.keyClick(first.sentence, Qt.Key.Key_Return)
    form = first.form
    assert form is not None and form.kind.hasFocus()
    for _ in range(4):  # script, value, relation, number
        QTest.keyClick(QApplication.focusWidget(), Qt.Key.Key_Tab)
    assert form.number.hasFocus()
    QTest.keyClicks(form.number, "25")
    assert first.line().number == 25
    QTest.keyClick(form.number, Qt.Key.Key_Escape)
    assert first.form is None and first.sentence.hasFocus() and first.line().number == 25
    QTest.keyClick(first.sentence, Qt.Key.Key_Tab)
    assert first.remove.hasFocus()
    QTest.keyClick(first.remove, Qt.Key.Key_Tab)
    assert second.sentence.hasFocus()


def test_what_is_proposed_follows_the_open_script_until_it_is_the_users(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    """Changed, run, saved or emptied conditions are the user's, whatever script is opened then."""
    scripts, scan = window.session.workspace.scripts, window.scan

    def opens(name: str) -> list[str]:
        window.session.rule.open(scripts / f"{name}.rung")
        calm(window)
        return [line.script for line in scan.lines.lines()]

    window.show_scan()
    calm(window)
    assert opens("quiet_water") == ["quiet_water.rung"] and opens("tide_turn") == ["tide_turn.rung"]
    scan.saves.save_as("Mine")
    calm(window)
    assert opens("quiet_water") == ["tide_turn.rung"] and scan.saves.name == "Mine"
    scan.lines.show_lines([])
    for show in (window.show_bench, window.show_scan, window.show_bench, window.show_scan):
        show()
        calm(window)
    assert opens("tide_turn") == []


def test_conditions_that_were_looked_back_with_stay(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.show_scan()
    calm(window)
    scan, before = window.scan, window.scan.lines.lines()
    scan.look_back()
    calm(window)
    window.session.rule.open(window.session.workspace.scripts / "quiet_water.rung")
    calm(window)
    assert scan.lines.lines() == before and scan.results.past.rows


def test_a_list_that_is_renewed_leaves_the_focus_where_it_is(place: ScanPlace, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    show(place, rule())
    place.saves.save_as("Afloat")
    calm(window)
    place.run()
    calm(window)
    place.keep_list()
    calm(window)
    place.asked.setFocus()
    place.run()
    at = QApplication.focusWidget()
    calm(window)
    assert window.session.lists.user_lists["Afloat"].symbols
    assert QApplication.focusWidget() in (at, place.results.sheet, place.results.table)  # never the button
