"""A window and other programs on the same folders: what they change is shown, what they hold is waited for aside."""

from __future__ import annotations

import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from PyQt6.QtCore import QElapsedTimer, Qt, QTimer
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from oakladder.bars.store.library import BarLibrary
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace
from windows import answer, put_away

Calm = Callable[[Window], None]
LEFT = Qt.MouseButton.LeftButton
#: Seconds within which a window shows what another program has changed.
SOON = 5.0
HOLDS = """
import sys, time
from pathlib import Path
from oakladder.locks import Waiting, locked
Waiting.role = "oak scan"
with locked(Path(sys.argv[1])):
    print("held", flush=True)
    time.sleep(60)
"""


@pytest.fixture
def home(tmp_path: Path, market: BarLibrary, monkeypatch: pytest.MonkeyPatch) -> Workspace:
    """A workspace that the command line finds too, with a library of its own."""
    for name in ("DATA", "CONFIG"):
        monkeypatch.setenv(f"XDG_{name}_HOME", str(tmp_path / name.lower()))
    workspace = Workspace.default()
    workspace.data.mkdir(parents=True)
    shutil.copytree(market.folder, workspace.data / "bars")
    return workspace


@pytest.fixture
def window(qapp: QApplication, home: Workspace) -> Iterator[Window]:
    made = make_window(home)
    made.show()
    settle(make_app(), made.session)
    yield made
    put_away(made)


def oak(*words: str) -> str:
    done = subprocess.run([sys.executable, "-m", "oakladder", *words], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    return done.stdout


def becomes(true: Callable[[], bool], seconds: float = SOON) -> bool:
    end = time.monotonic() + seconds
    while not true() and time.monotonic() < end:
        QTest.qWait(20)
    return true()


def days(path: Path, count: int, close: float = 20.0) -> Path:
    rows = "".join(f"2025-{1 + k // 28:02}-{1 + k % 28:02},{close},{close},{close},{close},10\n" for k in range(count))
    path.write_text("date,open,high,low,close,volume\n" + rows)
    return path


def test_what_the_command_line_imports_stands_in_every_place(window: Window, calm: Calm, tmp_path: Path) -> None:
    window.show_data()
    window.data.tabs.setCurrentIndex(1)
    calm(window)
    oak("import", str(days(tmp_path / "SKIFF.csv", 60)))
    symbols = window.data.symbols.model
    assert becomes(lambda: "SKIFF" in [i.symbol for i in symbols.infos])
    window.show_bench()
    assert "SKIFF" in [i.symbol for i in window.bench.watchlist.model.infos]
    window.session.chart.go_to("SKIFF")
    window.show_ladder()
    calm(window)
    assert "SKIFF" in [i.symbol for i in window.ladder.table.source.infos]
    assert window.session.chart.view is not None and len(window.session.chart.view.bars) == 60
    oak("import", str(days(tmp_path / "SKIFF.csv", 75)))
    assert becomes(lambda: len(window.session.chart.view.bars) == 75)  # type: ignore[union-attr]
    oak("symbols", "SKIFF", "--sector", "Boats")
    assert becomes(lambda: window.session.symbols.infos["SKIFF"].sector == "Boats")
    calm(window)
    assert becomes(lambda: "Boats" in [window.ladder.lists.itemText(k) for k in range(window.ladder.lists.count())])


def test_listed_files_are_looked_at_again_when_the_library_has_changed(
    window: Window, calm: Calm, tmp_path: Path
) -> None:
    window.show_data()
    path = days(tmp_path / "SKIFF.csv", 60)
    window.data.add([path])
    calm(window)
    assert "60 new bars" in window.data.word.text()
    oak("import", str(path))
    assert becomes(lambda: "0 new bars" in window.data.word.text())


def test_a_move_by_the_command_line_is_followed(window: Window, calm: Calm, tmp_path: Path) -> None:
    oak("library", "--move", str(tmp_path / "elsewhere"))
    assert becomes(lambda: window.session.library.folder == tmp_path / "elsewhere")
    calm(window)
    window.show_data()
    window.data.add([days(tmp_path / "SKIFF.csv", 60)])
    calm(window)
    QTest.mouseClick(window.data.take_button, LEFT)
    calm(window)
    assert "SKIFF" in oak("symbols") and "SKIFF" in window.session.symbols.infos


class Heartbeat:
    """How long the window was held up at most, in seconds of the clock."""

    def __init__(self) -> None:
        self.longest = 0.0
        self._clock = QElapsedTimer()
        self._timer = QTimer(interval=5)
        self._timer.timeout.connect(self._beat)
        self._clock.start()
        self._timer.start()

    def _beat(self) -> None:
        self.longest = max(self.longest, self._clock.restart() / 1000)


@pytest.fixture
def holder(home: Workspace) -> Iterator[subprocess.Popen[str]]:
    """Another program that holds the file of lists."""
    home.config.mkdir(parents=True, exist_ok=True)
    lock = home.config / ".watchlists.json.lock"
    made = subprocess.Popen([sys.executable, "-c", HOLDS, str(lock)], stdout=subprocess.PIPE, text=True)
    assert made.stdout is not None and made.stdout.readline() == "held\n"
    yield made
    made.kill()
    made.wait()


def test_a_list_waits_aside_for_another_program_and_is_written_when_that_lets_go(
    window: Window, calm: Calm, holder: subprocess.Popen[str]
) -> None:
    window.show_ladder()
    calm(window)
    beat = Heartbeat()
    window.ladder.commands.make("First", [])
    window.ladder.commands.add("BRINE")  # into what is shown, which is no list of the user's yet
    window.session.change_lists(lambda: window.session.lists.make("Second", ["FLAKE"]))
    assert becomes(lambda: f"oak scan (process {holder.pid})" in window.status.text())
    assert "stop waiting" in window.status.text()
    QTest.qWait(1500)
    assert (
        beat.longest < 1.0 and not window.session.lists.user_lists
    )  # a second holds the slowest machine: it waits for a minute
    holder.kill()
    holder.wait()
    calm(window)
    assert list(window.session.lists.user_lists) == ["First", "Second"]  # in the order in which they were asked for
    assert window.ladder.lists.findText("Second") >= 0


def test_waiting_for_another_program_can_be_given_up(
    window: Window, calm: Calm, holder: subprocess.Popen[str], home: Workspace
) -> None:
    window.show_ladder()
    calm(window)
    window.ladder.commands.make("First", [])
    assert becomes(lambda: "stop waiting" in window.status.text())
    QTest.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClicks(window.palette_dialog.line, "stop waiting")
    QTest.keyClick(window.palette_dialog.line, Qt.Key.Key_Return)
    assert becomes(lambda: not window.session.jobs.busy())
    assert any("Cancelled" in said for said in window.status.said)
    holder.kill()
    holder.wait()
    QTest.qWait(200)
    calm(window)
    assert "First" not in home.lists().user_lists
    window.ladder.commands.make("After", [])
    calm(window)
    assert list(home.lists().user_lists) == ["After"]


def test_leaving_says_what_it_waits_for_and_can_be_taken_back(
    window: Window, calm: Calm, holder: subprocess.Popen[str], home: Workspace, monkeypatch: pytest.MonkeyPatch
) -> None:
    said: list[str] = []

    window.ladder.commands.make("First", [])
    assert becomes(lambda: "stop waiting" in window.status.text())
    answer("Cancel", lambda dialog: said.append(dialog.words.text()))
    window.close()
    assert window.isVisible() and f"oak scan (process {holder.pid})" in said[0]
    answer("Quit without saving")
    begin = time.monotonic()
    window.close()
    assert not window.isVisible() and time.monotonic() - begin < 6
    assert home.lists().user_lists == {}


def test_leaving_writes_what_was_asked_for_first(qapp: QApplication, home: Workspace) -> None:
    made = make_window(home)
    made.show()
    settle(make_app(), made.session)
    for k in range(12):
        made.ladder.commands.make(f"List {k}", [])
    put_away(made)
    assert list(home.lists().user_lists) == [f"List {k}" for k in range(12)]


def test_lists_that_change_twice_at_once_are_shown(window: Window, calm: Calm, home: Workspace) -> None:
    window.show_ladder()
    calm(window)
    for k in range(6):
        home.lists().make(f"Theirs {k}", ["BRINE"])
        QTest.qWait(15 * k)
    assert becomes(lambda: window.ladder.lists.findText("Theirs 5") >= 0)
    assert all(window.ladder.lists.findText(f"Theirs {k}") >= 0 for k in range(6))
