"""The Ladder, driven: columns over timeframes, filters, sorting, lists, notes, and the way to the Bench."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import QEvent, Qt
from PyQt6.QtGui import QHelpEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel

from helpers import taken
from oakladder.app.columns import ColumnPlace, ScriptColumn, read_columns
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.app import make_app
from oakladder.desk.ladder.model import FIXED
from oakladder.desk.ladder.sections import Section, read_sections
from oakladder.desk.screenshot import settle
from oakladder.desk.widgets.column_chooser import ColumnChooser
from oakladder.desk.window import Window
from oakladder.engine.columns.fill import cells
from oakladder.rung import compile_script
from windows import answer, close_popups, popup_actions

SCRIPT = """rung 1
setting n = 10 range 1..200
signal up = close > sma(close, n) bullish
column rsi(close, 14) fill warn when rsi(close, 14) > 60 named "Strength"
"""


@pytest.fixture
def place(window: Window, calm):  # type: ignore[no-untyped-def]
    path = window.session.workspace.scripts / "mine.rung"
    path.write_text(SCRIPT)
    window.session.remembered.ladder = {
        "columns": [
            ScriptColumn("mine.rung", "up", ["1w", "1d", "4h"], {"n": 20.0}).as_plain(),
            ScriptColumn("mine.rung", "Strength", ["1d"]).as_plain(),
        ]
    }
    window.show_ladder()
    calm(window)
    return window.ladder


def programs_of(place) -> dict[str, object]:  # type: ignore[no-untyped-def]
    """The scripts that can be chosen from, as the place gets them."""
    told: list[dict[str, object]] = []
    place.session.programs.when_read(told.append)
    settle(make_app(), place.session)
    return told[0]


def shown(place) -> list[str]:  # type: ignore[no-untyped-def]
    return [place.table.symbol_at(k) for k in range(place.table.rows.rowCount())]


def section(place, name: str, frame: str) -> int:  # type: ignore[no-untyped-def]
    for k, p in enumerate(place.table.source.places):
        if p.column >= 0 and place.columns[p.column].name == name and p.timeframe == frame:
            return k
    raise AssertionError(name)


def test_every_cell_is_what_the_engine_says(place, market: BarLibrary) -> None:  # type: ignore[no-untyped-def]
    program, model = compile_script(SCRIPT), place.table.source
    assert model.rowCount() == 77 and model.columnCount() == len(FIXED) + 4
    for name, frame, given in (("up", "1w", {"n": 20.0}), ("up", "4h", {"n": 20.0}), ("Strength", "1d", {})):
        expected, _ = cells(program, name, market, market.infos, Timeframe.parse(frame), given)
        k = section(place, name, frame)
        assert [model.text(row, k) for row in range(77)] == [expected[s].text for s in market.infos]
        assert model.shared_heads(k) == ("Mine", "up (n 20)" if name == "up" else "Strength")
    row = next(r for r in range(77) if (c := model.cell(r, section(place, "up", "1d"))) and c.holds)
    assert "true now" in model.hint(row, section(place, "up", "1d"))


def test_filters_narrow_the_rows_and_say_so(place) -> None:  # type: ignore[no-untyped-def]
    model, head = place.table.source, place.table.head
    k = section(place, "up", "1d")
    head.lines[k].setText("is true")
    kept = {s for r, s in enumerate(i.symbol for i in model.infos) if (c := model.cell(r, k)) and c.holds}
    assert set(shown(place)) == kept and 0 < len(kept) < 77
    head.lines[k].setText("on at least 3")
    agree = {
        i.symbol for r, i in enumerate(model.infos) if sum(bool(c and c.holds) for c in model.group_cells(r, k)) >= 3
    }
    assert set(shown(place)) == agree < kept
    head.lines[k].setText("")
    head.lines[section(place, "Strength", "1d")].setText(">= 60")
    strong = set(shown(place))
    assert strong and all(
        model.cell(r, section(place, "Strength", "1d")).order >= 60
        for r, i in enumerate(model.infos)
        if i.symbol in strong
    )
    head.lines[2].setText("salt")
    assert all(i.sector == "Salt" for i in model.infos if i.symbol in set(shown(place)))


def test_a_click_on_a_head_sorts_by_number(place) -> None:  # type: ignore[no-untyped-def]
    k = section(place, "Strength", "1d")
    place.table.sortByColumn(k, Qt.SortOrder.DescendingOrder)
    model = place.table.source
    orders = [model.order(place.table.rows.mapToSource(place.table.rows.index(r, 0)).row(), k) for r in range(77)]
    assert orders == sorted(orders, reverse=True)


def test_enter_opens_symbol_timeframe_and_script_on_the_bench(place, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    rows = place.table.rows
    place.table.setCurrentIndex(rows.index(5, section(place, "up", "4h")))
    symbol = place.table.symbol_at(5)
    QTest.keyClick(place.table, Qt.Key.Key_Return)
    calm(window)
    assert window.places.currentWidget() is window.bench
    assert (window.session.chart.symbol, str(window.session.chart.timeframe)) == (symbol, "4h")
    assert window.session.script.path is not None and window.session.script.path.name == "mine.rung"


def test_small_charts_show_the_selected_symbol_on_each_timeframe(place, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    place.table.setCurrentIndex(place.table.rows.index(3, 0))
    calm(window)
    assert place.minis.symbol == place.table.symbol_at(3)
    assert [g.timeframe for g in place.minis.series] == ["1w", "1d", "4h"]
    assert all(g.marks and g.span.startswith("70 bars") for g in place.minis.series[1:])  # the rule is marked on them
    place.minis.grab()


def test_columns_are_added_moved_changed_and_taken_away(place, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    chooser = ColumnChooser(programs_of(place), None, place)
    chooser.script.setCurrentText("Mine")
    chooser.output.setCurrentText("up")
    for name, box in chooser.frames.items():
        box.setChecked(name in ("1d", "1h"))
    chooser.other.setText("90m")
    chooser.settings.controls["n"].setValue(40)  # type: ignore[attr-defined]
    made = chooser.made()
    assert made == ScriptColumn("mine.rung", "up", ["1d", "90m", "1h"], {"n": 40.0})
    chooser.other.setText("soon")
    assert chooser.made() is None and "no timeframe" in chooser.word.text()
    place.add_column(made)
    calm(window)
    assert len(place.table.source.places) == len(FIXED) + 7
    place.move_column(2, -2)
    calm(window)
    assert place.columns[0] == made
    place.remove_column(0)
    place.remove_column(0)
    calm(window)
    assert [c.name for c in place.columns] == ["Strength"]
    place.table.setColumnHidden(1, True)
    place.show_hidden()
    assert not place.table.isColumnHidden(1)


def test_a_column_that_cannot_be_worked_out_harms_no_other(place, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    place.add_column(ScriptColumn("gone.rung", "up", ["1d"]))
    place.add_column(ScriptColumn("mine.rung", "nothing", ["1d"]))
    calm(window)
    assert "2 columns cannot be shown" in place.word.text() and place.word.toolTip().count("\n") >= 1
    assert place.table.source.text(0, section(place, "Strength", "1d"))


def test_lists_are_made_filled_noted_and_remembered(place, window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    place.table.selectRow(0)
    place.commands.make("Mine", [])
    calm(window)
    assert place.lists.currentText() == "Mine" and shown(place) == []
    place.commands.add("flake, BRINE nope")
    calm(window)
    assert shown(place) == ["FLAKE", "BRINE"] and "NOPE" in window.status.text()
    board = QApplication.clipboard()
    assert board is not None
    board.setText("GULLW")
    place.commands._paste()
    calm(window)
    assert shown(place) == ["FLAKE", "BRINE", "GULLW"]
    window.session.lists.note("Mine", "BRINE", "waits")
    place.refresh()
    calm(window)
    assert place.table.source.text(1, FIXED.index("Note")) == "waits"
    assert not place.table.isColumnHidden(FIXED.index("Note"))
    for ending in ("txt", "csv"):
        place.commands.write(tmp_path / f"Out.{ending}")
        calm(window)
        (tmp_path / f"Out.{ending}").rename(tmp_path / f"Back {ending}.{ending}")
        place.commands.read(tmp_path / f"Back {ending}.{ending}")
        calm(window)
        assert shown(place) == ["FLAKE", "BRINE", "GULLW"]
    place.commands.write(taken(tmp_path) / "x.txt")
    calm(window)
    assert "cannot be written" in window.status.text()
    place.commands.make("Mine", [])
    calm(window)
    assert "already" in window.status.text()
    window.session.remembered.now()
    calm(window)
    state = window.session.workspace.remembered().ladder
    assert read_columns(state["columns"]) == place.columns  # type: ignore[index,call-overload]


def test_what_was_written_down_wrongly_is_left_out() -> None:
    good = ScriptColumn("a.rung", "up", ["1d"])
    assert read_columns([good.as_plain(), {"script": 3}, {"script": "a", "name": "b", "timeframes": ["soon"]}, 7]) == [
        good
    ]
    assert read_columns("nothing") == []


def test_replay_shows_the_ladder_of_then(place, window: Window, calm, market: BarLibrary) -> None:  # type: ignore[no-untyped-def]
    window.show_bench()
    window.bench.chart.pin(1300)
    window.bench.commands.start_replay()
    calm(window)
    window.show_ladder()
    calm(window)
    moment = window.session.replay.moment
    assert moment is not None
    from oakladder.bars.store.as_of import LibraryAsOf

    expected, _ = cells(
        compile_script(SCRIPT), "Strength", LibraryAsOf(market, moment), ["BRINE"], Timeframe.parse("1d")
    )
    assert place.table.source.text(0, section(place, "Strength", "1d")) == expected["BRINE"].text
    assert np.isfinite(expected["BRINE"].order)


def test_the_current_cell_is_explained_beside_the_table(place, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    table, k = place.table, section(place, "up", "1d")
    row = next(r for r in range(77) if (c := table.source.cell(r, k)) and not c.holds)
    table.setCurrentIndex(table.rows.index(row, k))
    calm(window)
    words = place.minis.why.text().splitlines()
    assert words[0].startswith(f"{table.symbol_at(row)}  up (n 20) on 1d")
    assert (
        "not true now, last on" in words[1]
        and words[2].startswith("→ close > sma(close, n)")
        and "short by" in words[2]
    )
    assert place.minis.why.isVisible()
    QTest.keyClick(table, Qt.Key.Key_Right)
    calm(window)
    assert "on 4h" in place.minis.why.text()
    table.setCurrentIndex(table.rows.index(row, section(place, "Strength", "1d")))
    calm(window)
    assert "the bar before" in place.minis.why.text() and "Its colour:" in place.minis.why.text()
    table.setCurrentIndex(table.rows.index(row, 0))
    calm(window)
    assert not place.minis.why.isVisible()


def test_the_hover_tells_why_a_moment_later(place, window: Window, calm, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    told: list[str] = []
    monkeypatch.setattr("oakladder.desk.ladder.why_cell.QToolTip.showText", lambda at, words, *_: told.append(words))
    table, k = place.table, section(place, "up", "1d")
    viewport = table.viewport()
    monkeypatch.setattr(viewport, "underMouse", lambda: True)
    point = table.visualRect(table.rows.index(0, k)).center()
    QApplication.sendEvent(viewport, QHelpEvent(QEvent.Type.ToolTip, point, viewport.mapToGlobal(point)))
    assert "up (n 20) on 1d" in told[0]
    calm(window)
    assert "close > sma(close, n)" in told[-1] and told[-1].endswith("Enter opens it on the Bench.")


def test_enter_on_a_cell_opens_its_bar_with_its_settings(place, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    table, k = place.table, section(place, "up", "1d")
    row = next(r for r in range(77) if (c := table.source.cell(r, k)) and c.age > 0)
    age = table.source.cell(row, k).age
    table.setCurrentIndex(table.rows.index(row, k))
    QTest.keyClick(table, Qt.Key.Key_Return)
    calm(window)
    chart = window.bench.chart
    assert window.session.rule.settings == {"n": 20.0} and chart.pinned == len(chart.shown.bars) - 1 - age


def test_rows_are_painted_with_their_fills_by_day_and_night(place, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    table, k = place.table, section(place, "Strength", "1d")
    row = next(r for r in range(77) if (c := table.source.cell(r, k)) and c.fill)
    table.scrollTo(table.rows.index(row, k))
    for _ in range(2):
        image = table.viewport().grab().toImage()
        box = table.visualRect(table.rows.index(row, k))
        plain = table.visualRect(table.rows.index(row, 2))
        filled, other = (image.pixelColor(b.left() + 2, b.top() + 3) for b in (box, plain))
        assert filled.name() != other.name()
        assert len({image.pixelColor(x, box.center().y()).name() for x in range(box.left(), box.right())}) > 2
        window.toggle_night()
        calm(window)


def test_the_narrow_watchlist_shows_columns_of_any_script(window: Window, market: BarLibrary, calm) -> None:  # type: ignore[no-untyped-def]
    (window.session.workspace.scripts / "mine.rung").write_text(SCRIPT)
    watchlist, session = window.bench.watchlist, window.session
    assert [watchlist.model.headerData(k, Qt.Orientation.Horizontal) for k in range(3, 5)] == ["1d", "1h"]
    assert window.bench.watching.put(ScriptColumn("mine.rung", "Strength", ["1w"]))
    calm(window)
    expected, _ = cells(compile_script(SCRIPT), "Strength", market, market.infos, Timeframe.parse("1w"))
    shown = [watchlist.model.index(r, 5).data() for r in range(77)]
    assert shown == [expected[s].text for s in market.infos]
    assert watchlist.model.caption(5) == "Mine: Strength on 1w"
    assert not window.bench.watching.put(ScriptColumn("mine.rung", "up", ["1d"]))
    assert "at most 3 columns" in window.status.text() and len(session.watchlist.columns) == 2
    before = dict(session.watchlist.cells)
    window.bench.script.editor.load("rung 1\nsignal up = close > 1\n")
    session.rule.set_text("rung 1\nsignal up = close > 1\n")
    calm(window)
    key = ColumnPlace(1, "1w")
    assert session.watchlist.cells[key] is before[key]  # another script's columns are not worked out at every key
    assert session.watchlist.cells[ColumnPlace(0, "1d")] != before[ColumnPlace(0, "1d")]
    window.bench.watching.remove(0)
    calm(window)
    assert watchlist.model.columnCount() == 4
    session.remembered.now()
    calm(window)
    assert read_columns(session.workspace.remembered().watched) == session.watchlist.columns
    window.bench.show_list("Salt")
    calm(window)
    salt = [s for s, i in market.infos.items() if i.sector == "Salt"]
    assert list(session.watchlist.cells[ColumnPlace(0, "1w")]) == salt
    window.bench.watching.remove(0)
    assert session.watchlist.columns[0].script == "" and watchlist.model.columnCount() == 5


def test_the_menu_of_the_watchlists_columns_offers_what_can_be_done(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.choose_columns()
    menu = QApplication.activePopupWidget()
    assert menu is not None
    words = [a.text() for a in menu.actions() if a.text()]
    menu.close()
    assert words == ["Remove The open script on 1d, 1h", "Add a script column …", "Only the open script's"]


def test_what_the_user_does_to_sections_stays(place, window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    table, k, strength = place.table, section(place, "up", "1w"), section(place, "Strength", "1d")
    table.head.resizeSection(k, 111)
    table.setColumnHidden(2, True)
    table.head.moveSection(table.head.visualIndex(strength), 1)
    table.head.lines[k].setText("is true")
    count = table.rows.rowCount()
    assert 0 < count < 77
    place.add_column(ScriptColumn("mine.rung", "down", ["1mo"]))
    calm(window)
    assert table.columnWidth(k) == 111 and table.isColumnHidden(2) and table.head.visualIndex(strength) == 1
    assert table.rows.rowCount() == count and table.head.lines[k].text() == "is true"
    place.remove_column(0)  # and its filter with it
    calm(window)
    assert table.rows.rowCount() == 77 and table.head.visualIndex(section(place, "Strength", "1d")) == 1
    window.session.remembered.now()
    calm(window)
    kept = window.session.workspace.remembered().ladder
    made = read_sections(kept["sections"])
    assert made["Sector"].hidden and made["mine.rung up (n 20) 1w"].width == 111
    assert read_sections({"a": [1], "b": "x", "c": [9999, 0, None]}) == {"c": Section(600)}
    place.show_hidden()
    assert not table.isColumnHidden(2)
    place.move_column(0, 1)
    assert [table.head.visualIndex(j) for j in range(8)] == list(range(8))


def test_a_list_is_deleted_only_when_it_is_said_twice(
    place, window: Window, calm, monkeypatch: pytest.MonkeyPatch
) -> None:  # type: ignore[no-untyped-def]
    lists = window.session.lists
    place.commands.make("Mine", ["BRINE", "FLAKE"])
    calm(window)
    lists.note("Mine", "BRINE", "watch the gap")
    asked: list[str] = []

    def delete() -> None:
        place.list_button.click()
        (entry,) = (action for words, action in popup_actions().items() if words.startswith("Delete"))
        assert entry.isEnabled()
        entry.trigger()
        close_popups()
        calm(window)

    answer("Cancel", lambda question: asked.append(question.findChildren(QLabel)[0].text()))
    delete()
    assert "2 symbols and 1 note" in asked[0] and "Mine" in lists.user_lists
    answer("Delete")
    delete()
    assert "Mine" not in lists.user_lists and place.lists.currentText() == "All symbols"


def test_a_watched_script_that_is_gone_is_said(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    path = window.session.workspace.scripts / "mine.rung"
    path.write_text(SCRIPT)
    assert window.bench.watching.put(ScriptColumn("mine.rung", "Strength", ["1w"]))
    calm(window)
    path.unlink()
    window.bench.show_list("Salt")
    calm(window)
    assert window.status.text().startswith("A column of the watchlist:") and "mine.rung" in window.status.text()
    assert window.bench.watchlist.model.index(0, 3).data() not in ("", "…")  # the open script's column stays


def test_coming_back_to_the_bench_asks_for_nothing_that_is_there(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    calm(window)
    before = dict(window.session.watchlist.cells)
    window.show_ladder()
    calm(window)
    window.show_bench()
    calm(window)
    assert all(window.session.watchlist.cells[place] is made for place, made in before.items())
    window.session.library_changed()
    calm(window)
    assert not any(window.session.watchlist.cells[place] is made for place, made in before.items())
