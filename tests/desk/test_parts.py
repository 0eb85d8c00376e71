"""Watchlist, editor, ladder, jobs and palette on their own."""

from __future__ import annotations

import threading
import time

import numpy as np
import pytest
from PyQt6.QtCore import QEventLoop, QObject, Qt
from PyQt6.QtGui import QImage, QStandardItem, QStandardItemModel
from PyQt6.QtWidgets import QApplication, QCheckBox

from oakladder.app.basis import BasisTracker
from oakladder.app.columns import ColumnPlace, open_columns
from oakladder.app.jobs import Jobs, Ticket
from oakladder.app.main_thread import MainThreadDispatcher
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, STANDARD
from oakladder.desk.app import make_app
from oakladder.desk.bench.timeframes import Ladder
from oakladder.desk.bench.watchlist import WatchlistPanel
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.theme import DAY
from oakladder.desk.palette import fits
from oakladder.desk.script.editor import ScriptEditor
from oakladder.desk.script.lexer import CLAUSE, COMMENT, FUNCTION, NAME, NUMBER, STATEMENT, TEXT
from oakladder.desk.trial.sweep.form import SweepForm
from oakladder.desk.widgets.histogram import Histogram
from oakladder.desk.widgets.rows import PaintedTable, RowPainter
from oakladder.desk.widgets.settings_strip import SettingsStrip
from oakladder.engine.columns.cells import Cell
from oakladder.engine.signal_ages import RecentSignal
from oakladder.rung import SettingInfo
from oakladder.rung.service.reference_docs import word_help


@pytest.fixture
def watchlist(qtbot, market: BarLibrary) -> WatchlistPanel:  # type: ignore[no-untyped-def]
    made = WatchlistPanel(list(market.infos.values()), BasisTracker(), DAY)
    qtbot.addWidget(made)
    return made


def shown(watchlist: WatchlistPanel) -> list[str]:
    return [watchlist.rows.index(k, 0).data() for k in range(watchlist.rows.rowCount())]


def test_the_watchlist_filters_by_symbol_name_and_sector(watchlist: WatchlistPanel, market: BarLibrary) -> None:
    watchlist.filter.setText("salt")
    assert set(shown(watchlist)) >= {s for s, i in market.infos.items() if i.sector == "Salt"}
    assert watchlist.count.text() == f"{len(shown(watchlist))} of 77 symbols"
    watchlist.filter.setText("flake")
    assert shown(watchlist) == ["FLAKE"]
    watchlist.filter.setText("")
    assert shown(watchlist) == list(market.infos)


def test_the_watchlist_sorts_by_the_order_that_the_script_gives(watchlist: WatchlistPanel) -> None:
    watchlist.show_columns(open_columns())
    watchlist.model.cells = {
        ColumnPlace(0, "1d"): {
            "BRINE": Cell("two", None, 2),
            "CROSS": Cell("ten", None, 10),
            "GULLW": Cell("one", "good", 1),
        }
    }
    watchlist.model.changed()
    watchlist.table.sortByColumn(3, Qt.SortOrder.AscendingOrder)
    assert shown(watchlist)[:3] == ["GULLW", "BRINE", "CROSS"]
    index = watchlist.model.index(2, 3)
    assert watchlist.model.painted(2, 3) == ("one", ("good", 1.0), "ink", False)
    assert "one" in watchlist.model.data(index, Qt.ItemDataRole.ToolTipRole)


def test_picking_a_row_tells_its_symbol_and_showing_one_does_not(watchlist: WatchlistPanel) -> None:
    told: list[str] = []
    watchlist.chosen.connect(told.append)
    watchlist.show_symbol("FLAKE")
    assert told == []
    watchlist.step(1)
    assert told == ["GRAIN"]


def test_the_editor_gives_each_word_its_style(qtbot) -> None:  # type: ignore[no-untyped-def]
    editor = ScriptEditor(DAY)
    qtbot.addWidget(editor)
    text = 'let é = sma(close, 9) -- a remark\nline é named "mean"\n'
    editor.load(text)
    editor.recolor()
    raw = text.encode()

    def style(word: str) -> int:
        return editor.SendScintilla(editor.SCI_GETSTYLEAT, raw.index(word.encode()))

    styles = {w: style(w) for w in ("let", "sma", "close", "9", "-- a", "line", "named", '"mean"')}
    assert styles == {
        "let": STATEMENT,
        "sma": FUNCTION,
        "close": NAME,
        "9": NUMBER,
        "-- a": COMMENT,
        "line": STATEMENT,
        "named": CLAUSE,
        '"mean"': TEXT,
    }


@pytest.mark.parametrize(
    ("word", "part"), [("rsi", "strength"), ("close", "last price"), ("signal", "named event"), ("sum", "last n bars")]
)
def test_hovering_explains_words(word: str, part: str) -> None:
    assert part in word_help(word)
    assert word_help("qwertz") == ""


def test_the_settings_strip_has_a_control_for_each_kind(qtbot) -> None:  # type: ignore[no-untyped-def]
    strip = SettingsStrip()
    assert strip.isHidden() and strip._foot.isHidden()  # before a script has something to set
    qtbot.addWidget(strip)
    told: list[tuple[str, object]] = []
    strip.changed.connect(lambda n, v: told.append((n, v)))
    infos = (
        SettingInfo("n", "number", 9.0, "Length", 1, 50),
        SettingInfo("k", "number", 1.5, "Width", 0.5, 4, 0.1),
        SettingInfo("on", "flag", True, "On"),
        SettingInfo("how", "text", "a", "How", choices=("a", "b")),
        SettingInfo("span", "timeframe", "1d", "Span"),
    )
    strip.show_settings(infos, {"n": 12})
    controls = strip.controls
    assert controls["n"].value() == 12  # type: ignore[attr-defined]
    controls["n"].stepUp()  # type: ignore[attr-defined]
    controls["k"].stepDown()  # type: ignore[attr-defined]
    controls["on"].click()  # type: ignore[attr-defined]
    controls["how"].setCurrentIndex(1)  # type: ignore[attr-defined]
    assert told == [("n", 13.0), ("k", pytest.approx(1.4)), ("on", False), ("how", "b")]
    assert all(c.toolTip() for c in controls.values())


def test_the_ladder_finds_the_rung_under_the_mouse(qtbot) -> None:  # type: ignore[no-untyped-def]
    ladder = Ladder(DAY)
    qtbot.addWidget(ladder)
    ladder.resize(58, 600)
    ladder.show_signal_ages(
        {ONE_DAY: [RecentSignal("a", "bullish", 2), RecentSignal("b", "bearish", 40), RecentSignal("c", "neutral", 7)]}
    )
    ladder.repaint()
    assert ladder.step_at(1) == STANDARD[-1]
    assert ladder.step_at(599) == STANDARD[0]
    assert [ladder.step_at(25 + 50 * k) for k in range(12)] == list(STANDARD[::-1])


def test_the_newest_job_of_a_kind_wins(qtbot) -> None:  # type: ignore[no-untyped-def]
    jobs = Jobs()
    gate = threading.Event()
    got: list[str] = []

    def slow(ticket: Ticket) -> str:
        gate.wait(5)
        return "stopped" if ticket.cancelled() else "old"

    jobs.start("a", slow, got.append)
    jobs.start("a", lambda ticket: "new", got.append)
    assert jobs.busy()
    gate.set()
    qtbot.waitUntil(lambda: not jobs.busy())
    assert got == ["new"]
    jobs.close()


def test_a_job_tells_its_progress_and_its_failure(qtbot) -> None:  # type: ignore[no-untyped-def]
    jobs = Jobs()
    shares: list[float] = []
    errors: list[Exception] = []

    def work(ticket: Ticket) -> None:
        ticket.report(0.5)
        time.sleep(0.01)
        raise ValueError("no luck")

    jobs.start("b", work, lambda _: None, errors.append, shares.append, slow=True)
    qtbot.waitUntil(lambda: bool(errors))
    assert shares == [0.5] and str(errors[0]) == "no luck"
    jobs.close()


@pytest.mark.parametrize(
    ("words", "typed", "fine"),
    [("Next signal", "sig", True), ("Next signal", "next sig", True), ("Next signal", "scan", False)],
)
def test_the_palette_matches_parts_of_words(words: str, typed: str, fine: bool) -> None:
    assert (fits(words, typed) is not None) is fine
    assert (fits("Scan", "sc") or 0) < (fits("A rescan", "sc") or 0)


def test_circles_of_objects_are_freed_on_the_windows_thread(qapp) -> None:  # type: ignore[no-untyped-def]
    app = make_app()
    freed: list[threading.Thread] = []

    class Ring(QObject):
        def __init__(self) -> None:
            super().__init__()
            self.me = self

        def __del__(self) -> None:
            freed.append(threading.current_thread())

    def litter() -> None:
        for _ in range(20_000):
            circle: list[object] = []
            circle.append(circle)

    Ring()
    worker = threading.Thread(target=litter)
    worker.start()
    worker.join()
    assert not freed
    end = time.monotonic() + 10
    while not freed and time.monotonic() < end:
        app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
    assert freed == [threading.main_thread()]


def test_what_was_on_its_way_when_a_relay_was_closed_does_not_arrive(qapp: QApplication) -> None:
    came: list[object] = []
    relay = MainThreadDispatcher(came.append)
    relay("before")
    qapp.processEvents()
    relay("on its way")
    relay.close()
    relay("after")
    qapp.processEvents()
    assert came == ["before"]


@pytest.mark.parametrize(("width", "whole"), [(56, False), (140, True)])
def test_of_an_age_that_does_not_fit_the_unit_is_left_out_first(qtbot, width: int, whole: bool) -> None:  # type: ignore[no-untyped-def]
    class Words(QStandardItemModel):
        theme = DAY

        def painted(self, row: int, section: int) -> tuple[str, None, str, bool]:
            return self.item(row, section).text(), None, "ink", True  # type: ignore[union-attr]

    def picture(words: str) -> QImage:
        table = PaintedTable()
        qtbot.addWidget(table)
        model = Words(1, 1, table)
        model.setItem(0, 0, QStandardItem(words))
        table.setModel(model)
        table.setColumnWidth(0, width)
        table.painter = RowPainter(table, None, model, ui_font(SMALL))
        return table.viewport().grab().toImage()  # type: ignore[union-attr]

    assert (picture("over 23 bars") == picture("over 23")) != whole
    assert picture("over 23 bars") != picture("")
    assert picture("beneath it all 23 bars") != picture("beneath it all 48 bars"), "the number is always there"


def test_values_that_rounding_alone_tells_apart_are_painted(qtbot) -> None:  # type: ignore[no-untyped-def]
    for base in (0.0125, -3e7, 1e-300, 0.0):
        view = Histogram(DAY)
        qtbot.addWidget(view)
        view.resize(900, 300)
        view.show_values(np.array([base, np.nextafter(base, 1), base]), np.nextafter(base, -1), str)
        assert not view.grab().isNull()


def test_the_settings_of_another_script_are_never_painted_over_those_before(qtbot) -> None:  # type: ignore[no-untyped-def]
    form = SweepForm()
    qtbot.addWidget(form)
    form.show_settings(
        [SettingInfo("short", "number", 9.0, "", 1, 50), SettingInfo("long", "number", 30.0, "", 1, 90)], {}
    )
    form.show()
    form.show_settings([SettingInfo("days", "number", 20.0, "", 1, 50)], {})
    # No turn of the event loop has gone by.
    assert not {"short", "long"} & {box.text() for box in form.findChildren(QCheckBox) if not box.isHidden()}
    QApplication.processEvents()
    assert [box.text() for box, _ in form.rows if box.isVisible()] == ["days"]
