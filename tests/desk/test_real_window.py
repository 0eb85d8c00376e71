"""Whole windows: on a virtual screen, with a part of it on no screen, and left while something runs."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

xvfb = pytest.mark.skipif(shutil.which("Xvfb") is None, reason="Xvfb is not installed; ./oak test installs it")

#: Types into the editor of a window that stands at argv[1], argv[2]; prints the text, and whether words were offered.
TYPING = """
import sys
from pathlib import Path
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.user.workspace import Workspace

app = make_app()
window = make_window(Workspace.default())
window.resize(1280, 800)
window.move(int(sys.argv[1]), int(sys.argv[2]))
window.show()
settle(app, window.session)
editor = window.bench.script.editor
editor.setFocus()
editor.load("rung 1\\n")
editor.setCursorPosition(1, 0)
offered = 0
for key in "line sma(close, 5) ":
    QTest.keyClick(editor, key)
    app.processEvents()
    offered += editor.helper.listing
QTest.mouseMove(editor.viewport(), editor.viewport().rect().center())
QTest.qWait(600)
settle(app, window.session)
print(repr(editor.text()), offered, len(window.session.rule.problems), window.windowHandle().screen() is not None)
window.close()
"""


@pytest.fixture
def screen(tmp_path: Path) -> Iterator[dict[str, str]]:
    """The environment of a screen of 1400 by 900."""
    number = 90 + os.getpid() % 400
    server = subprocess.Popen(["Xvfb", f":{number}", "-screen", "0", "1400x900x24"], stderr=subprocess.DEVNULL)
    try:
        yield {
            **os.environ,
            "DISPLAY": f":{number}",
            "QT_QPA_PLATFORM": "xcb",
            "XDG_DATA_HOME": str(tmp_path),
            "XDG_CONFIG_HOME": str(tmp_path / "config"),
        }
    finally:
        server.terminate()
        server.wait()


def run(code: list[str], environment: dict[str, str]) -> subprocess.CompletedProcess[str]:
    return subprocess.run([sys.executable, *code], env=environment, capture_output=True, text=True, timeout=120)


@xvfb
def test_a_picture_is_taken_from_a_real_window(screen: dict[str, str], tmp_path: Path) -> None:
    made = run(["-m", "oakladder", "shot", "bench", str(tmp_path / "bench.png")], screen)
    assert made.returncode == 0, made.stderr
    assert (tmp_path / "bench.png").stat().st_size > 50_000


@xvfb
@pytest.mark.parametrize(
    ("x", "y"),
    [
        (1200, 200),  # half off to the right
        pytest.param(-900, 100, marks=pytest.mark.nightly),
        pytest.param(3000, 3000, marks=pytest.mark.nightly),  # on no screen at all
    ],
)
def test_typing_where_there_is_no_screen_types(screen: dict[str, str], x: int, y: int) -> None:
    made = run(["-c", TYPING, str(x), str(y)], screen)
    assert made.returncode == 0, made.stderr
    text, offered, problems, _ = made.stdout.rsplit(" ", 3)
    assert text == repr("rung 1\nline sma(close, 5) ") and int(offered) > 2 and problems == "0"


#: Paints each place twice as fine. Of each widget of ours, prints how many squares of two by two dots hold several
#: colours for each edge between squares, as it is and as it would be if it were only blown up; and labels that are cut.
SHARP = """
import json
import numpy as np
from PyQt6.QtCore import QPoint, QRect, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtWidgets import QAbstractButton, QLabel, QWidget
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.user.workspace import Workspace

app = make_app()
window = make_window(Workspace.default())
window.resize(1280, 800)
window.show()
settle(app, window.session)

def fineness(image):
    wide, high = image.width() // 2, image.height() // 2
    if not wide or not high:
        return None
    dots = np.frombuffer(image.constBits().asarray(image.sizeInBytes()), np.uint32).reshape(image.height(), -1)
    squares = dots[: high * 2, : wide * 2].reshape(high, 2, wide, 2).transpose(0, 2, 1, 3).reshape(high, wide, 4)
    edges = int((squares[:, 1:, 0] != squares[:, :-1, 0]).sum())
    return int((squares != squares[..., :1]).any(axis=2).sum()) / edges if edges > 100 else None

told = {"fine": {}, "blown": 0.0, "cut": [], "size": 0}
for place in ("show_bench", "show_ladder", "show_scan", "show_trial", "show_data", "show_alerts"):
    window.action_by_name[place].trigger()
    settle(app, window.session)
    if place == "show_scan":
        window.run_scan()
        settle(app, window.session)
    picture = window.grab().toImage().convertToFormat(QImage.Format.Format_RGB32)
    told["size"] = [picture.width(), picture.height()]
    small = picture.scaled(1280, 800)
    told["blown"] = max(told["blown"], fineness(small.scaled(2560, 1600)))
    for widget in window.findChildren(QWidget):
        if widget.isVisible() and type(widget).__module__.startswith("oakladder"):
            corner = widget.mapTo(window, QPoint(0, 0)) * 2
            fine = fineness(picture.copy(QRect(corner, widget.size() * 2)))
            if fine is not None:
                told["fine"][place + " " + type(widget).__name__] = fine
    for kind in (QAbstractButton, QLabel):
        for said in window.findChildren(kind):
            words = said.text().replace("&", "")
            loose = kind is QLabel and (said.wordWrap() or "<" in words)
            if said.isVisible() and words and not loose and not said.toolTip():
                if said.fontMetrics().horizontalAdvance(words) > said.width() + 1:
                    told["cut"].append(words)
print(json.dumps(told))
window.session.jobs.close()
"""


@pytest.mark.nightly
def test_twice_as_fine_a_screen_is_painted_twice_as_fine(tmp_path: Path) -> None:
    """A picture that is only blown up has squares of one colour throughout."""
    scaled = {**os.environ, "QT_SCALE_FACTOR": "2", "QT_QPA_PLATFORM": "offscreen", "XDG_DATA_HOME": str(tmp_path)}
    made = run(["-c", SHARP], {**scaled, "XDG_CONFIG_HOME": str(tmp_path / "config")})
    assert made.returncode == 0, made.stderr
    told = json.loads(made.stdout)
    print(json.dumps(told, indent=1))
    assert told["size"] == [2560, 1600] and not told["cut"]
    assert len(told["fine"]) > 30 and told["blown"] == 0
    assert min(told["fine"].values()) > 0.3


#: Opens the window, begins work that cannot be stopped, and leaves as by Ctrl+Q.
LEAVING = """
import threading
from PyQt6.QtCore import QTimer
from oakladder.desk import app as app_module
real = app_module.open_window

def opened(workspace):
    window = real(workspace)
    going = threading.Event()
    window.session.jobs.start("deaf", lambda ticket: (going.set(), threading.Event().wait(90)), lambda _: None, slow=True)
    going.wait(20)
    window.session.rule.set_text(window.session.script.text + "-- typed last")
    QTimer.singleShot(200, window.quit)
    return window

app_module.open_window = opened
raise SystemExit(app_module.run_desk())
"""


def test_leaving_saves_and_ends_over_work_that_cannot_be_stopped(tmp_path: Path) -> None:
    home = {name: str(tmp_path / name) for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME")}
    made = subprocess.run(
        [sys.executable, "-c", LEAVING],
        env={**os.environ, **home, "QT_QPA_PLATFORM": "offscreen"},
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert made.returncode == 0, made.stderr
    scripts = tmp_path / "XDG_DATA_HOME" / "oakladder" / "scripts"
    assert (scripts / "tide_turn.rung").read_text().endswith("-- typed last")
    assert not (tmp_path / "XDG_STATE_HOME" / "oakladder" / "log" / "oakladder.log").exists()


#: Opens the window, shows a script with many panes and one without, visits every place; takes the window down itself if
#: argv[1] says so, or leaves that to the end of the process.
TAKEN_DOWN = """
import sys
from PyQt6 import sip
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.user.workspace import Workspace

app = make_app()
window = make_window(Workspace.default())
window.show()
settle(app, window.session)
for body in ('line rsi(close, 5)\\nlane "Up" when close > open\\nline roc(close, 3) in pane "Pace"', "", "line rsi(close, 9)"):
    window.session.rule.set_text("rung 1\\n" + body)
    settle(app, window.session)
for place in ("show_ladder", "show_scan", "show_trial", "show_data", "show_alerts", "show_bench"):
    window.action_by_name[place].trigger()
    settle(app, window.session)
window.session.jobs.close()
if sys.argv[1] == "itself":
    sip.delete(window)
print("so far")
"""


@pytest.mark.parametrize("by", ["itself", pytest.param("the end", marks=pytest.mark.nightly)])
def test_a_window_is_taken_down_with_all_that_it_holds(tmp_path: Path, by: str) -> None:
    """Where something in it asks for what went before it, the process falls instead of ending."""
    homes = {name: str(tmp_path / name) for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME")}
    made = run(["-c", TAKEN_DOWN, by], {**os.environ, **homes, "QT_QPA_PLATFORM": "offscreen"})
    assert (made.returncode, made.stdout, made.stderr) == (0, "so far\n", "")


@xvfb
@pytest.mark.nightly
def test_a_picture_can_be_taken_again_and_again(screen: dict[str, str], tmp_path: Path) -> None:
    """Each in a process of its own with a new home, several at once: each ends as it should."""

    def taken(k: int) -> tuple[int, str, str]:
        home = {f"XDG_{kind}_HOME": str(tmp_path / str(k) / kind) for kind in ("DATA", "CONFIG", "STATE", "CACHE")}
        made = run(["-m", "oakladder", "shot", "bench", str(tmp_path / f"{k}.png")], {**screen, **home})
        return made.returncode, made.stdout, made.stderr

    with ThreadPoolExecutor(3) as pool:
        ended = list(pool.map(taken, range(60)))
    assert {code for code, _, _ in ended} == {0}, [told for told in ended if told[0]]
    assert not any(errors for _, _, errors in ended)
