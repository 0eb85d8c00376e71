"""From a key press to the repainted chart, offscreen."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

import numpy as np

from . import Row
from .compiling import script_of

_BARS_TIMEFRAME = "5m"


def measure() -> list[Row]:
    """A key press in a 40-line script on about 5,000 bars, to the painted picture; a change of symbol likewise."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QEventLoop
    from PyQt6.QtTest import QTest

    from oakladder.bars.timeframes import Timeframe
    from oakladder.desk.app import make_app, make_window
    from oakladder.desk.shot import settle
    from oakladder.workspace import Workspace

    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Path(folder) / "data", Path(folder) / "config")
        app = make_app()
        start = time.perf_counter()
        window = make_window(workspace)
        window.show()
        desk = window.desk
        while desk.view is None:
            app.processEvents(QEventLoop.ProcessEventsFlag.AllEvents, 5)
        cold = time.perf_counter() - start
        settle(app, desk)
        path = workspace.scripts / "bench.rung"
        workspace.save_script(path, script_of(40))
        desk.open_script(path)
        desk.go_to(timeframe=Timeframe.parse(_BARS_TIMEFRAME))
        settle(app, desk)
        assert desk.view is not None
        bars = len(desk.view.bars)

        def until_painted(act: object) -> float:
            loop = QEventLoop()
            desk.view_changed.connect(loop.quit)
            begin = time.perf_counter()
            act()  # type: ignore[operator]
            loop.exec()
            window.bench.chart.viewport().repaint()
            taken = time.perf_counter() - begin
            desk.view_changed.disconnect(loop.quit)
            settle(app, desk)
            return taken

        editor = window.bench.script.editor
        editor.setCursorPosition(2, len("let s = 1"))
        keys = [until_painted(lambda k=k: QTest.keyClicks(editor, str(k))) for k in (1, 2, 3, 4, 5)]
        names = list(desk.library.infos)[1:6]
        for name in names:
            desk.library.bars(name, desk.timeframe)
        moves = [until_painted(lambda n=n: desk.go_to(symbol=n)) for n in names]
        window.close()
    return [
        (
            f"a key press to the repainted chart, 40 lines, {bars:,} bars",
            f"{np.median(keys) * 1e3:.0f} ms",
            "",
            "≤ 100 ms",
        ),
        (f"another symbol to the repainted chart, {bars:,} bars", f"{np.median(moves) * 1e3:.0f} ms", "", "≤ 100 ms"),
        ("empty folders to a window with a chart, demo market made", f"{cold:.2f} s", "", "≤ 2 s"),
    ]
