"""From a key press to the repainted chart, offscreen."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE
from oakladder.speed import Row
from oakladder.speed.compiling import script_of
from oakladder.speed.scan import KEPT, RULE, make_market

_BARS_TIMEFRAME = "5m"


def measure() -> list[Row]:
    """A key press in a 40-line script on about 5,000 bars, to the painted picture; a change of symbol likewise."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QEventLoop
    from PyQt6.QtTest import QTest

    from oakladder.bars.timeframes import Timeframe
    from oakladder.desk.app import make_app, make_window
    from oakladder.desk.screenshot import settle
    from oakladder.disk import write_atomic
    from oakladder.user.workspace import Workspace

    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Path(folder) / "data", Path(folder) / "config")
        app = make_app()
        window = make_window(workspace)
        window.show()
        session = window.session
        settle(app, session)
        path = workspace.scripts / "bench.rung"
        write_atomic(path, script_of(40))
        session.rule.open(path)
        session.chart.go_to(timeframe=Timeframe.parse(_BARS_TIMEFRAME))
        settle(app, session)
        assert session.chart.view is not None
        bars = len(session.chart.view.bars)

        def until_painted(act: object) -> float:
            loop = QEventLoop()
            session.chart.view_changed.connect(loop.quit)
            begin = time.perf_counter()
            act()  # type: ignore[operator]
            loop.exec()
            window.bench.chart.viewport().repaint()
            taken = time.perf_counter() - begin
            session.chart.view_changed.disconnect(loop.quit)
            settle(app, session)
            return taken

        editor = window.bench.script.editor
        editor.setCursorPosition(2, len("let s = 1"))
        keys = [until_painted(lambda k=k: QTest.keyClicks(editor, str(k))) for k in (1, 2, 3, 4, 5)]
        names = list(session.library.infos)[1:6]
        for name in names:
            session.library.bars(name, session.chart.timeframe)
        moves = [until_painted(lambda n=n: session.chart.go_to(symbol=n)) for n in names]
        window.close()
    return [
        *_frames(),
        *_ladder(),
        (
            f"a key press to the repainted chart, 40 lines, {bars:,} bars",
            f"{np.median(keys) * 1e3:.0f} ms",
            "",
            "≤ 50 ms",
        ),
        (f"another symbol to the repainted chart, {bars:,} bars", f"{np.median(moves) * 1e3:.0f} ms", "", "≤ 40 ms"),
    ]


def _ladder() -> list[Row]:
    """A Ladder of 1,000 symbols and 12 columns: from nothing to the last cell painted, and a frame of scrolling."""
    from PyQt6.QtCore import QEventLoop

    from oakladder.app.columns import ScriptColumn
    from oakladder.app.session import Session
    from oakladder.desk.app import make_app
    from oakladder.desk.ladder.place import LadderPlace
    from oakladder.desk.look.theme import THEMES
    from oakladder.disk import write_atomic
    from oakladder.user.workspace import Workspace

    app = make_app()
    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Path(folder) / "data", Path(folder) / "config")
        write_atomic(workspace.scripts / "rule.rung", RULE)
        write_atomic(workspace.scripts / "kept.rung", KEPT)
        session = Session(workspace, make_market(Path(folder) / "bars", 1000, 2520, ONE_DAY), THEMES)
        place = LadderPlace(session)
        place.resize(1280, 740)
        place.show()
        frames = ["1mo", "1w", "1d"]
        columns = [ScriptColumn(f"{s}.rung", name, frames) for s in ("rule", "kept") for name in ("over", "dip")]
        session.remembered.ladder = {"columns": [c.as_plain() for c in columns]}
        session.watchlist.ask_quotes()

        def fill(act: object) -> float:
            begin = time.perf_counter()
            act()  # type: ignore[operator]
            while place.is_waiting:
                app.processEvents(QEventLoop.ProcessEventsFlag.WaitForMoreEvents)
            place.grab()
            return time.perf_counter() - begin

        first = fill(place.enter)
        again = [fill(place.refresh) for _ in range(5)]
        bar, viewport = place.table.verticalScrollBar(), place.table.viewport()
        assert bar is not None and viewport is not None
        taken = []
        for k in range(120):
            begin = time.perf_counter()
            bar.setValue(k if k < 60 else 7 * k)
            viewport.grab()
            taken.append(time.perf_counter() - begin)
        session.close()
        place.close()
    size = "a Ladder of 1,000 symbols × 12 columns"
    return [
        (f"{size}, from nothing to the last cell", f"{first:.2f} s", f"again {np.median(again):.2f} s", "≤ 1 s"),
        (
            f"{size}, a frame of scrolling, painted whole",
            f"{np.median(taken) * 1e3:.0f} ms",
            f"worst {max(taken) * 1e3:.0f} ms",
            "≤ 16 ms",
        ),
    ]


_MILLION = 1_000_000
_LONG = """rung 1
let slow = sma(close, 5000)
line sma(close, 50) color teal
line sma(close, 500) color amber
line slow color plum
mark bar mod 2000 == 0 below shape wedge_up color good
lane "Up" color if close > slow then good else bad when known(slow)
lane "Busy" color warn when volume > 1500
"""


#: As many marks, labels, zones and trades as people draw by mistake.
_CROWDED = """rung 1
let fast = sma(close, 20)
let slow = sma(close, 60)
line fast
line slow
signal up = crosses_up(close, fast)
mark up below shape wedge_up color good
mark crosses_down(close, fast) above shape arrow_down color bad
label "{close}" at high when up
zone fast to slow lasting 30 bars color teal when crosses_up(fast, slow)
trade ride long
    enter when up
    stop 1%
    leave when crosses_down(close, fast)
"""


def _million() -> Bars:
    """A million bars of minutes."""
    rng = np.random.default_rng(5)
    close = 100 * np.exp(np.cumsum(rng.normal(0, 0.0005, _MILLION)))
    open_ = np.concatenate([close[:1], close[:-1]])
    columns = {
        "open": open_,
        "high": np.maximum(open_, close) * 1.0004,
        "low": np.minimum(open_, close) * 0.9996,
        "close": close,
        "volume": np.floor(rng.exponential(900, _MILLION)),
    }
    times = 86_400 * 12_000 + 60 * np.arange(_MILLION, dtype=np.int64)
    return Bars("LONG", ONE_MINUTE, Calendar(weekend=True), times, columns)


def _frames() -> list[Row]:
    """Panning and zooming over a million bars with three lines, 500 marks and two lanes, and with far too many marks,
    each frame painted whole."""
    from PyQt6.QtTest import QTest

    from oakladder.app.chart_view import ChartView
    from oakladder.desk.app import make_app
    from oakladder.desk.chart.chart import Chart
    from oakladder.desk.look.theme import DAY
    from oakladder.engine.picture.draw import draw
    from oakladder.engine.run.execute import run
    from oakladder.rung import compile_script
    from oakladder.trial.on_chart import asked_of, chart_trades

    app = make_app()
    bars = _million()
    result = run(compile_script(_LONG), panel_of([bars]))
    chart = Chart(DAY)
    chart.resize(900, 640)
    chart.show()
    QTest.qWaitForWindowExposed(chart)
    chart.show_view(ChartView(bars, result, draw(result, DAY.paint)), 2)
    app.processEvents()  # the panes find their heights

    viewport = chart.viewport()

    def frame(first: float, last: float) -> float:
        begin = time.perf_counter()
        chart.see(first, last)
        viewport.repaint()
        return time.perf_counter() - begin

    frame(0, _MILLION)
    rows: list[Row] = []
    for width in (_MILLION, 100_000, 5_000, 300):
        room = max(_MILLION - width, 0)
        taken = [frame(room * k / 20 + k, room * k / 20 + k + width) for k in range(20)]
        words = f"pan over a million bars, {width:,} seen, 3 lines, 500 marks, 2 lanes"
        rows.append((words, f"{np.median(taken) * 1e3:.0f} ms", f"worst {max(taken) * 1e3:.0f} ms", "≤ 8 ms"))
    taken = [frame(500_000 - 400 * 1.3**k, 500_000 + 400 * 1.3**k) for k in range(28)]
    rows.append(
        (
            "zoom from 800 to a million bars",
            f"{np.median(taken) * 1e3:.0f} ms",
            f"worst {max(taken) * 1e3:.0f} ms",
            "≤ 8 ms",
        )
    )
    program = compile_script(_CROWDED)
    result = run(program, panel_of([bars]), extra=asked_of(program))
    chart.show_view(ChartView(bars, result, draw(result, DAY.paint), trades=chart_trades(result)), 2)
    taken = [frame(k, k + _MILLION) for k in range(10)]
    words = "… all seen, with 60,000 labels, twice as many marks, zones and trades"
    rows.append((words, f"{np.median(taken) * 1e3:.0f} ms", f"worst {max(taken) * 1e3:.0f} ms", "≤ 100 ms"))
    chart.close()
    return rows
