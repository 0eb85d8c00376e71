"""What must hold for hours: nothing piles up, sentences can be read, errors are said and written down."""

from __future__ import annotations

import gc
import logging
import os
import subprocess
import sys
import threading
import time
from pathlib import Path

import pytest
from PyQt6.QtCore import QEvent, QPoint, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QApplication,
    QDialog,
    QFileDialog,
    QMenu,
    QWidget,
)

from oakladder.app.jobs import Jobs, sentence_of
from oakladder.app.main_thread import MainThreadDispatcher
from oakladder.bars.errors import DataProblem
from oakladder.desk import app as app_module
from oakladder.desk.look.theme import NIGHT
from oakladder.desk.widgets.status import StatusLine, reading_time
from oakladder.desk.widgets.transient import answered
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace
from windows import close_popups

LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def unasked(monkeypatch: pytest.MonkeyPatch) -> None:
    """Dialogs that ask are left without an answer."""
    for name in ("getSaveFileName", "getOpenFileName", "getOpenFileNames"):
        monkeypatch.setattr(QFileDialog, name, lambda *_, **__: ("", ""))
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_, **__: "")
    monkeypatch.setattr(QDialog, "exec", lambda _: 0)


def swept() -> int:
    """How many widgets there are once what is to go has gone."""
    for _ in range(3):
        QApplication.processEvents()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
    return len(QApplication.allWidgets())


@pytest.mark.parametrize("place", ["show_bench", "show_ladder", "show_scan", "show_data", "show_alerts"])
def test_every_button_can_be_clicked_with_the_mouse(window: Window, calm, unasked: None, place: str) -> None:  # type: ignore[no-untyped-def]
    getattr(window, place)()
    calm(window)
    clicked = 0
    closer = QTimer(window, interval=30)  # a button with a menu waits until that is closed
    closer.timeout.connect(close_popups)
    closer.start()
    for button in window.findChildren(QAbstractButton):
        try:
            usable = button.isVisible() and button.isEnabled() and button.window() is window
        except RuntimeError:
            continue  # it went away with what another button did
        if not usable:
            continue
        QTest.mouseClick(button, LEFT, pos=button.rect().center())
        clicked += 1
        calm(window)
        close_popups()
        for dialog in [w for w in QApplication.topLevelWidgets() if isinstance(w, QDialog) and w.isVisible()]:
            dialog.close()
        getattr(window, place)()
        assert not any("went wrong" in s for s in window.status.said)
    assert clicked > 6


def test_what_is_opened_again_and_again_leaves_nothing_behind(window: Window, calm, unasked: None) -> None:  # type: ignore[no-untyped-def]
    # A part makes its popups when it is styled, and that happens behind the window's first picture.
    for show in (window.show_scan, window.show_trial, window.show_data, window.show_alerts, window.show_ladder):
        show()
        calm(window)
    QTest.qWait(600)
    table = window.ladder.table

    def use_everything() -> None:
        window.open_palette()
        window.palette_dialog.close()
        window.action_by_name["open_gallery"].trigger()
        window.bench.script.gallery.close()
        window.action_by_name["go_to_definition"].trigger()
        window.bench.script.source.close()
        window.action_by_name["earlier_versions"].trigger()
        calm(window)
        window.bench.script.earlier.close()
        window.bench.watching.menu(QPoint(5, 5))
        close_popups()
        window.bench.commands.pane_menu("price", QPoint(5, 5))
        close_popups()
        table.customContextMenuRequested.emit(table.visualRect(table.rows.index(0, 0)).center())
        close_popups()
        table.head.customContextMenuRequested.emit(QPoint(5, 5))
        close_popups()
        window.ladder.list_button.click()
        close_popups()
        window.scan.results.ask_column()
        window.ladder.ask_column()
        calm(window)

    use_everything()
    before = swept()
    menus = len(window.findChildren(QMenu))
    for _ in range(8):
        use_everything()
    assert swept() <= before and len(window.findChildren(QMenu)) == menus


def test_find_is_opened_by_its_button_and_finds(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    button = next(b for b in window.findChildren(QAbstractButton) if b.text().startswith("Find"))
    QTest.mouseClick(button, LEFT)
    assert window.palette_dialog.isVisible() and window.palette_dialog.line.text() == ""
    QTest.keyClicks(window.palette_dialog.line, "night")
    QTest.keyClick(window.palette_dialog.line, Qt.Key.Key_Return)
    calm(window)
    assert window.session.chart.theme is NIGHT and not window.palette_dialog.isVisible()
    window.action_by_name["open_palette"].trigger()
    assert window.palette_dialog.line.text() == "" and window.palette_dialog.list.count() > 20
    close_popups()


def test_the_heads_of_tables_have_their_menus_after_hours_too(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.show_scan()
    calm(window)
    gc.collect()  # as between the window's events; what Python held of Qt's own parts has gone
    for table in (window.scan.results.table, window.bench.watchlist.table):
        header = table.horizontalHeader()
        assert header is not None
        header.customContextMenuRequested.emit(QPoint(5, 5))
        menu = QApplication.activePopupWidget()
        assert isinstance(menu, QMenu) and len(menu.actions()) > 1
        close_popups()


# --- sentences ----------------------------------------------------------------------------------------


def test_a_sentence_that_was_pushed_away_comes_back_and_troubles_hold(qtbot, monkeypatch: pytest.MonkeyPatch) -> None:  # type: ignore[no-untyped-def]
    line = StatusLine()
    qtbot.addWidget(line)
    monkeypatch.setattr("oakladder.desk.widgets.status._BACK_MS", 60)
    monkeypatch.setattr("oakladder.desk.widgets.status.reading_time", lambda s: 120)
    line.say("Saved as chart.png.")
    line.say("The replay has reached the last bar.")
    assert line.text().startswith("The replay")
    qtbot.waitUntil(lambda: line.text() == "Saved as chart.png.", timeout=3000)
    line.trouble("")  # a chart without trouble says nothing about anything else
    assert line.text() == "Saved as chart.png."
    line.trouble("There are no 1m bars of TIDEX.")
    line.say("Saved again.")
    assert line.text() == "Saved again."
    qtbot.waitUntil(lambda: line.text().startswith("There are no"), timeout=3000)
    line.trouble("There are no 1m bars of TIDEX.")
    line.trouble("")
    assert not line.text().startswith("There are no")
    assert line.said[:2] == ["Saved again.", "There are no 1m bars of TIDEX."] and "Saved again." in line.toolTip()


def test_longer_sentences_stay_longer() -> None:
    assert reading_time("x" * 100) > reading_time("x") >= 1000


def test_a_refresh_wipes_no_sentence(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.session.status.emit("Something to be read.")
    window.session.chart.refresh()
    calm(window)
    assert window.status.text() == "Something to be read."


# --- errors -------------------------------------------------------------------------------------------


def test_an_error_aside_is_said_and_written_down_with_where_it_happened(
    window: Window, calm, caplog: pytest.LogCaptureFixture
) -> None:  # type: ignore[no-untyped-def]
    def broken(ticket: object) -> None:
        raise ValueError("boom")

    with caplog.at_level(logging.ERROR):
        window.session.jobs.start("odd", broken, lambda _: None)
        calm(window)
    assert "went wrong (" in window.status.text() and "log" in window.status.text()
    assert any(r.exc_info and "broken" in caplog.text for r in caplog.records)
    caplog.clear()

    def wrong(ticket: object) -> None:
        raise DataProblem("There is no such bar.")

    window.session.jobs.start("odd", wrong, lambda _: None)
    calm(window)
    assert window.status.text() == "There is no such bar." and not caplog.records
    assert "KELP A" not in sentence_of(KeyError("KELP A")) and "log" in sentence_of(KeyError("KELP A"))
    assert sentence_of(OSError(28, "No space left on device", "/x/y.csv")) == "y.csv: the disk is full."


def test_what_comes_from_the_windows_own_thread_comes_between_its_events(qtbot) -> None:  # type: ignore[no-untyped-def]
    told: list[int] = []

    def then(number: int) -> None:
        told.append(number)
        if number < 3:
            relay(number + 1)  # as the answer to a job starts another, which has ended before it can be asked about

    relay = MainThreadDispatcher(then)
    relay(0)
    assert told == []
    qtbot.waitUntil(lambda: told == [0, 1, 2, 3], timeout=3000)
    relay(1)
    relay.close()
    relay(2)
    QApplication.processEvents()
    assert 2 not in told[4:]


def test_a_file_that_was_promised_is_written_before_the_window_is_gone(window: Window, tmp_path: Path) -> None:
    for k in range(6):  # more than there are threads
        window.bench.commands.write_chart(tmp_path / f"{k}.csv")
    window.bench.commands.write_chart(tmp_path / "chart.png")
    assert window.close()
    assert all((tmp_path / f"{k}.csv").stat().st_size > 1000 for k in range(6))
    assert (tmp_path / "chart.png").read_bytes().startswith(b"\x89PNG")


def test_closing_does_not_wait_for_what_cannot_be_stopped(qapp: QApplication) -> None:
    jobs, going, end = Jobs(), threading.Event(), threading.Event()

    def deaf(ticket: object) -> None:
        going.set()
        end.wait(30)

    jobs.start("deaf", deaf, lambda _: None)
    assert going.wait(5)
    begun = time.monotonic()
    assert not jobs.close(0.2) and time.monotonic() - begun < 10 and not jobs.ended()
    end.set()


def test_the_window_says_why_it_cannot_be_opened_and_tries_again(
    qapp: QApplication, workspace: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    tried: list[str] = []

    def make(_: Workspace) -> str:
        tried.append("once")
        if len(tried) < 3:
            raise DataProblem("The bars cannot be read: the disk is full.")
        return "window"

    said: list[str] = []

    def answer(dialog: QWidget) -> bool:
        from PyQt6.QtWidgets import QLabel

        said.extend(label.text() for label in dialog.findChildren(QLabel))
        return len(tried) < 3

    monkeypatch.setattr(app_module, "make_window", make)
    monkeypatch.setattr(app_module, "answered", answer)
    assert app_module.open_window(workspace) == "window"
    assert len(tried) == 3 and "the disk is full" in said[0]
    monkeypatch.setattr(app_module, "answered", lambda dialog: False)
    tried.clear()
    assert app_module.open_window(workspace) is None


# --- what changes under one's hands -------------------------------------------------------------------


def test_bars_that_are_gone_are_pinned_marked_and_explained_without_harm(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    session, bench = window.session, window.bench
    last = len(session.chart.view.bars) - 1  # type: ignore[union-attr]
    bench.mark_bar(last)
    calm(window)
    near = last
    session.chart.go_to(timeframe=type(session.chart.timeframe).parse("1mo"))
    session.chart.ask_why("flow")  # of the bars that are shown still
    calm(window)
    for bar in (near, last + 5, -3):
        bench.mark_bar(bar)
        bench.why.went.emit(bar)
        bench.strip.asked.emit(bar)
    calm(window)
    assert bench.chart.pinned is None and bench.chart.read_bar() == len(session.chart.view.bars) - 1  # type: ignore[union-attr]
    bench.mark_bar(3)
    calm(window)
    assert bench.why.why is not None and bench.why.why.result.panel.size == len(session.chart.view.bars)  # type: ignore[union-attr]


def test_a_rows_menu_opens_its_symbol_though_the_table_was_filled_anew(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.show_ladder()
    calm(window)
    ladder, table = window.ladder, window.ladder.table
    picked: list[str] = []
    ladder.picked.connect(lambda pick: picked.append(pick.symbol))
    for _ in range(5):
        window.show_ladder()
        symbol = table.symbol_at(3)
        table.customContextMenuRequested.emit(table.visualRect(table.rows.index(3, 0)).center())
        menu = QApplication.activePopupWidget()
        assert isinstance(menu, QMenu)
        ladder.lists.setCurrentText("Ferries")
        ladder.refresh()
        table.rows.invalidate()
        ladder.lists.setCurrentText("All symbols")
        ladder.refresh()
        calm(window)
        menu.actions()[0].trigger()
        menu.close()
        calm(window)
        assert picked[-1] == symbol and window.session.chart.symbol == symbol


def test_a_list_that_is_deleted_while_it_is_watched_gives_way_to_all_symbols(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    session = window.session
    session.lists.make("Mine", ["BRINE", "FLAKE"])
    window.bench.show_list("Mine")
    calm(window)
    other = Workspace(session.workspace.data, session.workspace.config).lists()
    other.make("Theirs", ["GULLW"])
    other.delete("Mine")
    for _ in range(400):
        QApplication.processEvents()
        if session.watchlist.list_name != "Mine":
            break
        QTest.qWait(10)
    calm(window)
    names = [window.bench.watchlist.lists.itemText(k) for k in range(window.bench.watchlist.lists.count())]
    assert session.watchlist.list_name == "All symbols" and "Theirs" in names and "Mine" not in names
    session.watchlist.list_name = "Mine"  # asked for before anything was told
    session.chart.refresh()
    calm(window)
    assert session.watchlist.list_name == "All symbols" and "no longer exists" in " ".join(window.status.said)


def test_a_scan_never_writes_over_a_list_of_the_users_nor_in_a_replay(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    session, scan = window.session, window.scan
    window.show_scan()
    calm(window)
    session.lists.make("Dips", ["BRINE"])
    scan.run()
    calm(window)
    found = [f.symbol for f in scan.result.found]  # type: ignore[union-attr]
    scan.saves.save_as("Dips")
    calm(window)
    scan.keep_list()
    calm(window)
    assert session.lists.user_lists["Dips"].symbols == ["BRINE"] and session.lists.user_lists["Dips 2"].symbols == found
    session.replay.stand_at(int(session.chart.view.bars.times[-200]))  # type: ignore[union-attr]
    calm(window)
    scan.run()
    calm(window)
    assert [f.symbol for f in scan.result.found] != found  # type: ignore[union-attr]
    assert session.lists.user_lists["Dips 2"].symbols == found
    session.replay.stand_at(None)
    calm(window)
    session.lists.delete("Dips 2")
    session.lists.make("Dips 2", ["FLAKE"])  # by hand, under the name that the scan had
    scan.run()
    calm(window)
    assert session.lists.user_lists["Dips 2"].symbols == ["FLAKE"] and "stays as it was" in " ".join(window.status.said)


def test_the_program_goes_on_without_its_folders(window: Window, calm, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    import shutil

    shutil.rmtree(window.session.workspace.scripts)
    for place in ("show_ladder", "show_scan", "show_data", "show_alerts", "show_bench"):
        getattr(window, place)()
        calm(window)
    QTest.keyClicks(window.bench.script.editor, "-- on ")
    calm(window)
    window.session.script.save()
    files = [p.stem for p in window.session.workspace.script_files()]
    assert "tide_turn" in files and len(files) > 3  # the open one and the demo scripts are there again


def test_a_dialog_that_goes_with_its_owner_is_no_yes_and_no_error(qtbot) -> None:  # type: ignore[no-untyped-def]
    owner = QWidget()
    dialog = QDialog(owner)
    QTimer.singleShot(20, owner.deleteLater)
    assert answered(dialog) is False


_LARGE_AND_SMALL = """
import sys, time
from pathlib import Path
from oakladder.engine.run.malloc_tuning import return_freed_memory
if sys.argv[1] == "given back":
    return_freed_memory(0.1)
def held():
    return int(Path("/proc/self/statm").read_text().split()[1]) * 4096 / 1e6
before = held()
blocks = [bytearray(60_000) for _ in range(4000)]
kept = blocks[::100]
del blocks
time.sleep(0.6)
print(held() - before)
"""


def test_freed_memory_goes_back_to_the_system() -> None:
    def held(how: str) -> float:
        done = subprocess.run([sys.executable, "-c", _LARGE_AND_SMALL, how], capture_output=True, text=True, check=True)
        return float(done.stdout)

    assert held("given back") < 40 < 150 < held("unchanged")


_WRITTEN_TO = """
import sys, threading, time
from pathlib import Path
from oakladder.desk.app import make_app, make_window
from oakladder.user.workspace import Workspace

folder = Path(sys.argv[1])
workspace = Workspace(folder / "data", folder / "config")
app = make_app()
window = make_window(workspace)
window.show()

def write():
    for k in range(100_000):
        (workspace.scripts / f"{k % 9}.rung").write_text(f"rung 1\\n# {k}\\n")
        time.sleep(0.002)

threading.Thread(target=write, daemon=True).start()
for _ in range(40):
    app.processEvents()
    time.sleep(0.01)
import atexit
atexit._run_exitfuncs()  # as at the end of the process, which would be over before anybody looks
time.sleep(0.4)
"""


def test_folders_that_change_while_the_process_ends_are_told_to_nobody(tmp_path: Path) -> None:
    """Ended without being closed: what is told by other threads must not touch what has been taken down."""
    made = subprocess.run(
        [sys.executable, "-c", _WRITTEN_TO, str(tmp_path)],
        capture_output=True,
        text=True,
        timeout=60,
        env=os.environ | {"QT_QPA_PLATFORM": "offscreen"},
    )
    assert "Traceback" not in made.stderr and made.returncode == 0, made.stderr
