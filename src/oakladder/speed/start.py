"""Whole processes, as a user waits for them: the command to a window with a chart, and a script checked."""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from oakladder.speed import Row
from oakladder.speed.compiling import script_of

#: The program as it starts, left as soon as the first chart has been painted.
_UNTIL_THE_CHART = """
import gc
import os
gc.disable()
from oakladder import log
log.set_up()
from oakladder.desk.app import make_app, open_window
from oakladder.user.workspace import Workspace
from PyQt6.QtCore import QEventLoop
app = make_app()
window = open_window(Workspace.default())
window.show()
while window.session.chart.view is None:
    app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
window.bench.chart.viewport().repaint()
os._exit(0)
"""
_ROUNDS = 5


def _taken(command: list[str], home: Path) -> float:
    homes = {f"XDG_{kind}_HOME": str(home / kind.lower()) for kind in ("CONFIG", "DATA", "STATE", "CACHE")}
    begin = time.perf_counter()
    subprocess.run(
        [sys.executable, *command],
        env={**os.environ, "QT_QPA_PLATFORM": "offscreen", **homes},
        check=True,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
    )
    return time.perf_counter() - begin


def measure() -> list[Row]:
    """First and later starts, and a check, each a process from its command to its end."""
    first, later, check = [], [], []
    with tempfile.TemporaryDirectory() as folder:
        home = Path(folder)
        script = home / "bench.rung"
        script.write_text(script_of(40), encoding="utf-8")
        for k in range(3):
            first.append(_taken(["-c", _UNTIL_THE_CHART], home / str(k)))
        for _ in range(_ROUNDS):
            later.append(_taken(["-c", _UNTIL_THE_CHART], home / "0"))
            check.append(_taken(["-m", "oakladder", "check", str(script)], home / "0"))
    return [
        _row("the command to a window with a chart, the first time, demo market made", first, "≤ 2 s"),
        _row("the command to a window with a chart, later", later, "≤ 1.2 s"),
        _row("check of a script of 40 lines", check, "≤ 0.4 s"),
    ]


def _row(words: str, seconds: list[float], reach: str) -> Row:
    return words, f"{statistics.median(seconds):.2f} s", f"{min(seconds):.2f} to {max(seconds):.2f} s", reach
