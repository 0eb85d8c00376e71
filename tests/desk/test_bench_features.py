"""Why, replay, scripts beside, other timeframes, dates, and coming back after a crash: driven in the window."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from helpers import taken
from oakladder.app.chart_options import BarStyle, ScaleKind
from oakladder.app.columns import ColumnPlace
from oakladder.app.script_overlays import ScriptUse, line_use, read_use
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.desk.app import make_app, make_window
from oakladder.desk.bench.replay_bar import SPEEDS
from oakladder.desk.palette import day_of
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace

RULE = """rung 1
setting n = 5 range 1..50
let mean = sma(close, n)
signal up = close > mean and close > open bullish
signal down = crosses_down(close, mean) bearish
line mean named "Mean"
"""


def type_script(window: Window, text: str) -> None:
    editor = window.bench.script.editor
    editor.selectAll()
    editor.replaceSelectedText(text)


def closes(window: Window) -> np.ndarray:
    shown = window.bench.chart.shown
    assert shown is not None
    return shown.bars["close"]


# --- Why ----------------------------------------------------------------------------------------------


def test_why_explains_the_bar_that_is_read(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, RULE)
    calm(window)
    panel, chart = window.bench.why, window.bench.chart
    assert [panel.signals.itemText(k) for k in range(panel.signals.count())] == ["up", "down"]
    assert panel.why is not None and panel.why.signal == "up"
    view = window.session.chart.view
    assert view is not None and view.result is not None
    flags = view.result.flag(view.result.output("signal", "up").roles["value"])
    for bar in (int(np.flatnonzero(flags == 1)[-1]), int(np.flatnonzero(flags == 0)[-1])):
        chart.pin(bar)
        panel._show_bar()
        top = panel.tree.topLevelItem(0)
        assert top is not None and top.childCount() == 2
        assert top.text(2) == ("yes" if flags[bar] == 1 else "no")
        assert panel.verdict.text().startswith("true" if flags[bar] == 1 else "not true")
        first = top.child(0)
        assert first is not None and first.text(0) == "close > mean"
        assert f"{closes(window)[bar]:.5g}" in first.text(1)
    assert panel.missed.text() != "Every part of it holds."


def test_another_signal_is_explained_and_its_near_misses_lead_to_their_bars(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, RULE)
    calm(window)
    panel = window.bench.why
    panel.signals.setCurrentText("down")
    panel.signals.activated.emit(1)
    calm(window)
    assert panel.why is not None and panel.why.signal == "down"
    assert panel.misses.count() > 2
    item = panel.misses.item(0)
    assert item is not None
    panel.misses.itemClicked.emit(item)
    assert window.bench.chart.pinned == item.data(Qt.ItemDataRole.UserRole)
    window.fold_why()
    assert not panel.isVisible()
    window.fold_why()
    assert panel.isVisible()


def test_a_script_without_signals_has_nothing_to_explain(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, "rung 1\nline sma(close, 5)\n")
    calm(window)
    assert window.bench.why.verdict.text() == "The script has no signal."
    assert window.bench.why.tree.topLevelItemCount() == 0


# --- replay -------------------------------------------------------------------------------------------


def test_replay_shows_everything_as_it_was_known(window: Window, market: BarLibrary, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, RULE + "column close\n")
    calm(window)
    chart, replay = window.bench.chart, window.bench.replay
    whole = closes(window).copy()
    chart.pin(1400)
    window.bench.commands.start_replay()
    calm(window)
    assert replay.isVisible() and replay.when.text().startswith("As of")
    assert len(closes(window)) == 1401
    np.testing.assert_array_equal(closes(window), whole[:1401])
    then = market.bars("GULLW", ONE_DAY)
    moment = window.session.replay.moment
    assert moment is not None
    known = int((then.calendar.closes(then.times, ONE_DAY) <= moment).sum())
    assert window.session.watchlist.cells[ColumnPlace(0, "1d")]["GULLW"].order == then["close"][known - 1]
    for step, expected in ((1, 1402), (1, 1403), (-1, 1402)):
        replay.step(step)
        calm(window)
        assert len(closes(window)) == expected
    window.bench.commands.leave_replay()
    calm(window)
    assert not replay.isVisible() and len(closes(window)) == len(whole)


def test_a_bar_in_progress_is_played_minute_by_minute(window: Window, market: BarLibrary, calm) -> None:  # type: ignore[no-untyped-def]
    hour = Timeframe.parse("1h")
    window.session.chart.go_to(timeframe=hour)
    calm(window)
    whole = closes(window).copy()
    window.bench.chart.pin(100)
    window.bench.commands.start_replay()
    calm(window)
    window.bench.replay.unit.setCurrentIndex(1)
    minutes = market.bars(window.session.chart.symbol, ONE_MINUTE)
    for _ in range(3):
        window.bench.replay.step(1)
        calm(window)
        moment = window.session.replay.moment
        assert moment is not None
        made = closes(window)
        assert len(made) == 102
        assert made[-1] == minutes["close"][minutes.times + 60 <= moment][-1]
        np.testing.assert_array_equal(made[:101], whole[:101])


def test_playing_steps_by_itself_and_stops_at_the_end(window: Window, calm, qtbot) -> None:  # type: ignore[no-untyped-def]
    window.bench.chart.pin(len(closes(window)) - 4)
    window.bench.commands.start_replay()
    calm(window)
    replay = window.bench.replay
    replay.speed.setCurrentText("fast")
    assert replay._timer.interval() == SPEEDS["fast"]
    count = len(closes(window))
    window.bench.commands.replay_play()
    assert replay.playing and replay.buttons["Play"].text() == "Pause"
    qtbot.waitUntil(lambda: not replay.playing, timeout=8000)
    calm(window)
    assert len(closes(window)) == count + 3


# --- beside -------------------------------------------------------------------------------------------


def test_a_line_and_the_same_script_twice_stand_beside_it(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, RULE)
    calm(window)
    commands = window.bench.commands
    commands.put_line("sma(close, 50)")
    commands.copy_beside()
    calm(window)
    window.session.overlays.set(1, "n", 30)
    window.session.rule.set_setting("n", 9)
    calm(window)
    chart = window.bench.chart
    title = window.bench.script.beside.captions[1].text()
    lines = {line.name: line.values for line in chart.panes["price"].lines.lines}
    close = closes(window)
    assert list(lines) == ["Mean", "sma(close, 50)", f"Mean · {window.session.overlays.uses[1].caption}"]
    for name, n in zip(lines, (9, 50, 30), strict=True):
        assert lines[name][-1] == pytest.approx(close[-n:].mean())
    assert "Beside" in title
    tones = [line.colours[-1] for line in chart.panes["price"].lines.lines]
    assert len(set(tones)) == 3  # each use has a tint of its own
    window.session.overlays.remove(0)
    window.session.overlays.remove(0)
    calm(window)
    assert [line.name for line in chart.panes["price"].lines.lines] == ["Mean"]


def test_marks_of_two_scripts_are_told_apart(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    rule = "rung 1\nsignal up = close > close[1] bullish\nmark up below shape arrow_up color good\n"
    type_script(window, rule)
    calm(window)
    alone = window.session.chart.view.picture.marks[0].colours
    path = window.session.workspace.scripts / "other.rung"
    path.write_text(rule.replace("rung 1", 'rung 1\ntitle "Other"'))
    for _ in range(2):
        window.bench.commands.put_beside(path)
    calm(window)
    marks = window.session.chart.view.picture.marks
    assert np.array_equal(marks[0].colours, alone)  # the open script's are as it says
    assert len({int(m.colours[m.colours != 0][0]) for m in marks}) == 3
    entries = [e.name for e in window.bench.chart.panes["price"].overlay.content.entries]
    assert entries.count("marks of Other") == 2


def test_what_cannot_be_drawn_beside_is_said_and_harms_nothing(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    type_script(window, RULE)
    calm(window)
    told: list[str] = []
    window.session.trouble.connect(told.append)
    window.session.status.connect(told.append)
    window.bench.commands.put_line("smma(close, 5)")
    assert "cannot be drawn" in told[-1] and "sma" in told[-1] and window.session.overlays.uses == []
    path = window.session.workspace.scripts / "needs_hours.rung"
    path.write_text("rung 1\nline close on 1h\n")
    window.bench.commands.put_beside(path)
    calm(window)
    trouble = window.bench.chart.panes["price"].overlay.content.trouble
    assert "Needs hours is not shown" in trouble and "shorter than" in trouble
    assert [line.name for line in window.bench.chart.panes["price"].lines.lines] == ["Mean"]


def test_a_use_is_remembered_as_text(workspace: Workspace) -> None:
    folder = workspace.scripts
    path = workspace.script_files()[0]
    use = ScriptUse("One", path, "", {"n": 3.0})
    assert read_use(use.as_plain(), folder) == use
    line = line_use('sma(close, 5) of "REED"')
    assert read_use(line.as_plain(), folder) == line
    for nonsense in (None, {}, {"title": 3}, {"title": "x", "file": "gone.rung"}):
        assert read_use(nonsense, folder) is None


# --- going elsewhere ----------------------------------------------------------------------------------


def test_letters_on_the_chart_look_for_a_symbol(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.bench.chart.setFocus()
    QTest.keyClick(window.bench.chart, Qt.Key.Key_F)
    dialog = window.palette_dialog
    assert dialog.isVisible() and dialog.line.text() == "f"
    QTest.keyClicks(dialog.line, "lake")
    QTest.keyClick(dialog.line, Qt.Key.Key_Return)
    calm(window)
    assert window.session.chart.symbol == "FLAKE"


def test_a_timeframe_of_any_length_and_a_date_are_typed(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.open_palette("45m")
    window.palette_dialog.line.setText("50m")
    QTest.keyClick(window.palette_dialog.line, Qt.Key.Key_Return)
    calm(window)
    assert str(window.session.chart.timeframe) == "50m" and window.session.chart.timeframe in window.bench.ladder.steps
    assert len(window.bench.ladder.signal_ages) == 13
    window.session.chart.go_to(timeframe=ONE_DAY)
    calm(window)
    window.go_to_date()
    window.palette_dialog.line.setText("2024-03-13")
    QTest.keyClick(window.palette_dialog.line, Qt.Key.Key_Return)
    chart = window.bench.chart
    assert chart.pinned is not None and chart.shown is not None
    local = chart.shown.bars.calendar.local(chart.shown.bars.times[chart.pinned : chart.pinned + 1])[0]
    assert np.datetime64(int(local), "s").astype("datetime64[D]") == np.datetime64("2024-03-13")


@pytest.mark.parametrize(
    ("text", "day"),
    [
        ("2026-03-12", "2026-03-12"),
        ("12.3.2026", "2026-03-12"),
        ("12 Mar 2026", "2026-03-12"),
        ("2026-03", "2026-03-01"),
    ],
)
def test_a_day_is_read_in_several_forms(text: str, day: str) -> None:
    assert day_of(text) == np.datetime64(day)
    assert day_of(text + "x") is None


def test_a_pinned_bar_stays_pinned_on_every_timeframe(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    chart = window.bench.chart
    assert chart.shown is not None
    chart.pin(len(chart.shown.bars) - 20)
    time = int(chart.shown.bars.times[chart.pinned])  # type: ignore[index]
    for frame in ("1w", "1h", "15m", "1d"):
        window.session.chart.go_to(timeframe=Timeframe.parse(frame))
        calm(window)
        assert chart.pinned is not None and chart.shown is not None
        bars = chart.shown.bars
        assert bars.times[chart.pinned] <= time
        assert chart.pinned == len(bars) - 1 or bars.times[chart.pinned + 1] > time
        assert chart.seen[0] <= chart.pinned <= chart.seen[1]
    assert int(bars.times[chart.pinned]) == time


def test_early_and_late_hours_are_a_switch(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.session.chart.go_to(timeframe=Timeframe.parse("1h"))
    calm(window)
    regular = len(closes(window))
    window.bench.commands.toggle_extended()
    calm(window)
    assert len(closes(window)) > regular
    assert window.action_by_name["toggle_extended"].isChecked()


# --- taking it away and coming back -------------------------------------------------------------------


def test_the_chart_is_copied_and_saved(window: Window, calm, tmp_path) -> None:  # type: ignore[no-untyped-def]
    window.bench.commands.copy_picture()
    board = QApplication.clipboard()
    assert board is not None and not board.pixmap().isNull()
    for name in ("a.png", "a.svg", "a.csv"):
        window.bench.commands.write_chart(tmp_path / name)
        calm(window)
        assert (tmp_path / name).stat().st_size > 1000
        assert window.status.text() == f"Saved as {name}."
    window.bench.commands.write_chart(taken(tmp_path) / "a.csv")
    calm(window)
    assert "cannot be written" in window.status.text()


def test_what_was_open_comes_back_after_a_crash(window: Window, workspace: Workspace, calm, qtbot) -> None:  # type: ignore[no-untyped-def]
    type_script(window, RULE + 'line rsi(close, 5) named "Strength"\n')
    calm(window)
    commands = window.bench.commands
    commands.put_line("sma(close, 50)")
    commands.show_bars()
    commands.scale_log()
    window.bench.chart.fold_pane("percent points")
    window.bench.chart.toggle("Mean")
    window.session.rule.set_setting("n", 9)
    window.session.chart.go_to("FLAKE", Timeframe.parse("1h"))
    calm(window)
    qtbot.waitUntil(lambda: not window.session.remembered.waiting, timeout=4000)
    again = make_window(workspace)  # nothing was closed: the first is as good as gone
    again.show()
    settle(make_app(), again.session)
    try:
        assert (again.session.chart.symbol, str(again.session.chart.timeframe)) == ("FLAKE", "1h")
        assert again.session.chart.options.style is BarStyle.BARS and again.session.chart.options.scale is ScaleKind.LOG
        assert again.session.rule.settings == {"n": 9.0}
        assert [u.title for u in again.session.overlays.uses] == ["sma(close, 50)"]
        chart = again.bench.chart
        assert chart.panes["percent points"].folded
        assert [line.name for line in chart.panes["price"].lines.lines] == ["sma(close, 50)"]
        assert again.bench.script.editor.text().startswith(RULE)
        assert [c.text() for c in again.bench.script.beside.captions] == ["Beside: sma(close, 50)"]
    finally:
        again.close()


def test_the_narrow_watchlist_shows_any_list(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    watchlist = window.bench.watchlist
    window.session.lists.make("Mine", ["FLAKE", "BRINE"])
    window.show_ladder()
    window.show_bench()
    calm(window)
    assert [watchlist.lists.itemText(k) for k in range(2)] == ["All symbols", "Mine"]
    watchlist.lists.setCurrentText("Mine")
    watchlist.lists.activated.emit(1)
    assert [watchlist.rows.index(r, 0).data() for r in range(watchlist.rows.rowCount())] == ["FLAKE", "BRINE"]
    window.session.remembered.now()
    calm(window)
    assert window.session.workspace.remembered().list_name == "Mine"
