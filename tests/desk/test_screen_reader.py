"""What a screen reader reads out over the accessibility bus: the bar under the cursor, a cell, a hit, every field."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import IO

import pytest

from screen_reader import Heard, Reader

pytestmark = [
    pytest.mark.skipif(
        not all(map(shutil.which, ("Xvfb", "dbus-daemon"))), reason="Xvfb or D-Bus is not installed; ./oak test does it"
    ),
]

#: A window that does what it reads, line for line: a key on what has the keys, or the name of an action.
DRIVEN = """
import sys, threading
from PyQt6.QtCore import QObject, Qt, pyqtSignal
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.user.workspace import Workspace

app = make_app()
window = make_window(Workspace.default())
window.resize(1280, 800)
window.show()
window.activateWindow()

class Lines(QObject):
    came = pyqtSignal(str)

def follow(line):
    if line.startswith("key "):
        QTest.keyClick(QApplication.focusWidget(), getattr(Qt.Key, "Key_" + line[4:]))
    elif line == "leave":
        app.quit()
    else:
        window.action_by_name[line].trigger()
    settle(app, window.session)
    print("done", flush=True)

lines = Lines()
lines.came.connect(follow)
threading.Thread(target=lambda: [lines.came.emit(l.strip()) for l in sys.stdin], daemon=True).start()
settle(app, window.session)
print("done", flush=True)
app.exec()
"""


class Driven:
    """A window in a process of its own, on a screen and a bus of its own, and what is read out of it."""

    def __init__(self, process: subprocess.Popen[str], session: str):
        self._say, self._told = process.stdin, process.stdout
        self._wait()
        self.reader = Reader(session)

    def _wait(self) -> None:
        told: IO[str] | None = self._told
        assert told is not None and told.readline() == "done\n"

    def do(self, *lines: str) -> None:
        """Does what the lines say, one after the other."""
        assert self._say is not None
        for line in lines:
            self._say.write(line + "\n")
            self._say.flush()
            self._wait()

    def focused(self) -> Heard:
        return self.reader.await_focus()


@pytest.fixture(scope="module")
def driven(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Driven]:
    home, number = tmp_path_factory.mktemp("heard"), 500 + os.getpid() % 400
    screen = subprocess.Popen(["Xvfb", f":{number}", "-screen", "0", "1400x900x24"], stderr=subprocess.DEVNULL)
    bus = subprocess.Popen(
        ["dbus-daemon", "--session", "--nofork", "--print-address"],
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
        env={**os.environ, "DISPLAY": f":{number}", **homes(home)},
    )
    assert bus.stdout is not None
    session = bus.stdout.readline().strip()
    window = subprocess.Popen(
        [sys.executable, "-c", DRIVEN],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        env={
            **os.environ,
            **homes(home),
            "DISPLAY": f":{number}",
            "DBUS_SESSION_BUS_ADDRESS": session,
            "QT_QPA_PLATFORM": "xcb",
            "QT_LINUX_ACCESSIBILITY_ALWAYS_ON": "1",
        },
    )
    try:
        yield Driven(window, session)
    finally:
        for process in (window, bus, screen):
            process.terminate()
            process.wait()


def homes(home: Path) -> dict[str, str]:
    return {f"XDG_{kind}_HOME": str(home / kind.lower()) for kind in ("DATA", "CONFIG", "CACHE", "STATE")}


PLACES = ("show_bench", "show_ladder", "show_scan", "show_trial", "show_data", "show_alerts")
#: What holds many parts, each of them read when it is gone to.
WHOLE = ("table", "tree", "list", "text")


@pytest.mark.parametrize("place", PLACES)
def test_whatever_takes_keys_says_what_it_is(driven: Driven, place: str) -> None:
    driven.do(place)
    found = [h for h in driven.reader.all(lambda h: h.role not in WHOLE) if h.focusable]
    silent = [h for h in found if not h.name.strip() and not h.description.strip()]
    assert len(found) > 8 and not silent


def test_the_bar_under_the_cursor_is_read(driven: Driven) -> None:
    driven.do("show_bench", "focus_chart", "previous_signal")
    pinned = driven.focused()
    assert "Chart" in pinned.name and "BRINE  1d" in pinned.description and " C " in pinned.description
    driven.do("previous_signal")
    earlier = driven.reader.again(pinned)
    assert earlier.description != pinned.description and " C " in earlier.description


def test_a_cell_is_read_with_what_it_means(driven: Driven) -> None:
    driven.do("show_ladder")
    heads = [h.name for h in driven.reader.all() if h.role == "column header"]
    assert {"Tide turn, flow, 1d", "Quiet water, Calm bars, 1h"} <= set(heads)
    driven.do("show_bench", "focus_list", *["key Home"], *["key Right"] * 3)
    cell = driven.focused()
    assert (cell.role, cell.name) == ("cell", "93 bars") and "Since flow" in cell.description
    driven.do("key Down")
    below = driven.focused()
    assert below.role == "cell" and below.where != cell.where


def test_a_hit_is_read(driven: Driven) -> None:
    driven.do("show_scan", "run_scan")
    sheet = next(h for h in driven.reader.all() if h.name == "Matches as small charts")
    assert sheet.role == "graphic" and sheet.focusable and "GULLW" in sheet.description and "now" in sheet.description


def test_the_timeframes_are_read_with_their_ages(driven: Driven) -> None:
    driven.do("show_bench")
    ladder = next(h for h in driven.reader.all() if h.name == "Timeframes")
    assert ladder.role == "graphic" and "1w: " in ladder.description and "bars ago" in ladder.description
