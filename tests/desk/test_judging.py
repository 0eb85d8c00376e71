"""Whether a rule is any good, driven on the screen: evidence, chance, sweeps, the notebook with its seal, honesty."""

from __future__ import annotations

import time
from collections.abc import Callable
from multiprocessing import active_children

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLabel

import windows
from helpers import Tune
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.app import make_app
from oakladder.desk.look.theme import NIGHT
from oakladder.desk.trial.place import TrialPlace
from oakladder.desk.trial.sweep.view import SweepView
from oakladder.desk.window import Window
from oakladder.trial.batch.task import Tried
from oakladder.trial.judge.evidence.study import evidence_of
from oakladder.trial.metrics.metrics import without_book
from oakladder.trial.notebook import Swept, Try
from oakladder.trial.sweep.ranges import Range

Calm = Callable[[Window], None]
_CTRL, _ALT, _SHIFT = (
    Qt.KeyboardModifier.ControlModifier,
    Qt.KeyboardModifier.AltModifier,
    Qt.KeyboardModifier.ShiftModifier,
)
RULE = """rung 1
title "Mine"
setting n = 20 range 2..200 "Days"
setting far = 3 range 1..10 "Room"
let top = highest(high, n)[1]
signal over = close > top bullish
signal under = close < lowest(low, n)[1] bearish
trade ride long
    enter when over
    stop far * atr(14)
    trail far * atr(14)
"""


def opened(window: Window, calm: Calm, text: str = RULE, name: str = "mine") -> None:
    windows.opened(window, calm, text, name)


@pytest.fixture
def place(window: Window, calm: Calm) -> TrialPlace:
    opened(window, calm)
    window.session.trials.set_ground(list_name="Ferries", timeframe=Timeframe.parse("1d"))
    QTest.keyClick(window, Qt.Key.Key_4, _ALT)
    calm(window)
    return window.trial


# --- evidence ---------------------------------------------------------------------------------------


def test_evidence_follows_the_typing(window: Window, calm: Calm) -> None:
    opened(window, calm)
    QTest.keyClick(window, Qt.Key.Key_T, _CTRL | _SHIFT)
    calm(window)
    glance = window.bench.below.evidence
    assert window.bench.below.currentWidget() is glance
    before = glance.list.text()
    assert "bars later" in before and "random shifts" in before and window.session.chart.symbol in glance.symbol.text()
    assert glance.fan.accessibleName() == before
    editor = window.bench.script.editor
    editor.setFocus()
    editor.setCursorPosition(2, len("setting n = 2"))
    QTest.keyClick(editor, Qt.Key.Key_Left)
    QTest.keyClicks(editor, "1")
    calm(window)
    after = glance.list.text()
    assert "bars later" in after and after != before
    # A script that does not compile leaves the last evidence; nothing is typed away.
    QTest.keyClicks(editor, "x")
    calm(window)
    assert glance.list.text() == after


def test_another_signal_is_judged_and_a_script_without_one_says_so(window: Window, calm: Calm) -> None:
    opened(window, calm)
    window.bench.read_evidence()
    calm(window)
    glance = window.bench.below.evidence
    assert [glance.signals.itemText(k) for k in range(glance.signals.count())] == ["over", "under"]
    over = glance.list.text()
    glance.signals.setFocus()
    QTest.keyClick(glance.signals, Qt.Key.Key_Down)
    glance.signals.activated.emit(glance.signals.currentIndex())
    calm(window)
    assert glance.signals.currentText() == "under" and glance.list.text() != over
    opened(window, calm, "rung 1\nline close\n", "plain")
    assert "no signal to judge" in glance.list.text() and glance.fan.evidence is None


def test_nothing_is_judged_that_nobody_looks_at(window: Window, calm: Calm) -> None:
    opened(window, calm)
    told: list[object] = []
    window.session.judging.glanced.connect(lambda *made: told.append(made))
    window.session.judging.judged.connect(told.append)
    window.session.rule.set_setting("n", 30.0)
    calm(window)
    assert told == []


def test_the_place_shows_all_of_it(window: Window, calm: Calm, place: TrialPlace) -> None:
    QTest.keyClick(window, Qt.Key.Key_E, _CTRL | _ALT)
    calm(window)
    view = place.evidence
    assert place.views.currentWidget() is view
    program, ground = window.session.rule.program, place.trials.outcome.trial.ground  # type: ignore[union-attr]
    assert program is not None
    told = evidence_of(program, ground, "over", {"n": 20.0})
    assert view.horizons.horizons == told.horizons
    ten = view.sentence.text()
    view.horizons.setFocus()
    QTest.keyClick(view.horizons, Qt.Key.Key_Down)
    assert view.horizons.bars == 20 and view.fan.bars == 20
    assert "20 bars later" in view.sentence.text() and "10 bars later" in ten
    for k in range(view.parts.chooser.count()):
        view.parts.chooser.setCurrentIndex(k)
        view.parts.chooser.activated.emit(k)
        calm(window)
        rows = view.parts.bars.rows
        if view.parts.chooser.currentText() == "hour":
            assert rows == []
        else:
            assert sum(int(r.words[1].replace(",", "")) for r in rows) == told.at(20).count
    place.trials.set_ground(list_name="All symbols")
    calm(window)
    assert view.horizons.horizons != told.horizons


def test_a_number_is_never_cut(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.show_evidence()
    window.resize(1000, 700)
    calm(window)
    rows = place.evidence.horizons
    wide = rows.grab().toImage()
    rows.resize(330, rows.height())
    assert not rows.grab().isNull() and wide.width() > 300
    # In the leftmost column of pixels nothing is written: what does not fit is left out as a whole column.
    ground = rows.theme.color("ground").rgb()
    picture = rows.grab().toImage()
    assert {picture.pixel(0, y) for y in range(30, 46)} == {ground}


# --- chance -----------------------------------------------------------------------------------------


def test_the_trial_stands_beside_chance(window: Window, calm: Calm, place: TrialPlace) -> None:
    QTest.keyClick(window, Qt.Key.Key_C, _CTRL | _ALT)
    calm(window)
    view = place.chance
    assert (
        "shifted through time together" in view.moved_words.text() and "Expected max drawdown" in view.fall_words.text()
    )
    assert "first try" in view.discount_words.text() and " runs, the rule at " in view.moved.accessibleName()
    before = view.moved_words.text()
    window.session.rule.set_setting("n", 60.0)
    calm(window)
    assert view.moved_words.text() != before
    opened(window, calm, "rung 1\nsignal go = close > 1e9\n", "never")
    assert "no closed trade" in view.trouble.text() and not view.moved.isVisible()


# --- sweeps -----------------------------------------------------------------------------------------


def swept_by_one(window: Window, calm: Calm, place: TrialPlace) -> SweepView:
    """The first setting swept alone."""
    place.show_sweep()
    calm(window)
    for box, _ in place.sweep.form.rows[1:]:
        box.setChecked(False)
    place.sweep.form.sweep_button.click()
    calm(window)
    return place.sweep


def test_settings_are_swept_and_a_square_is_taken(window: Window, calm: Calm, place: TrialPlace) -> None:
    QTest.keyClick(window, Qt.Key.Key_W, _CTRL | _ALT)
    calm(window)
    view, form = place.sweep, place.sweep.form
    for name, text in (("n", "10..40/10"), ("far", "2,3,4")):
        line = next(edit for _, edit in form.rows if edit.accessibleName() == f"Values of {name}")
        line.setFocus()
        line.selectAll()
        QTest.keyClicks(line, text)
    assert "12 combinations" in form.count.text()
    QTest.mouseClick(form.sweep_button, Qt.MouseButton.LeftButton)
    calm(window)
    made = view.map.map
    assert made is not None and len(view.map.tried) == 12 and "12 combinations" in view.words.text()
    # Every metric is that of the trial with these settings.
    number = next(k for k, t in enumerate(view.map.tried) if t.settings == {"n": 40.0, "far": 2.0})
    cell = view.map.cell(number).center().toPoint()
    QTest.mouseClick(view.map, Qt.MouseButton.LeftButton, pos=cell)
    calm(window)
    assert window.session.rule.settings["n"] == 40.0 and window.session.rule.settings["far"] == 2.0
    assert place.trials.outcome.trial is not None
    assert without_book(place.trials.outcome.trial.metrics) == view.map.tried[number].metrics  # type: ignore[union-attr]
    QTest.keyClick(view.map, Qt.Key.Key_Right)
    QTest.keyClick(view.map, Qt.Key.Key_Down)
    QTest.keyClick(view.map, Qt.Key.Key_Return)
    calm(window)
    assert (window.session.rule.settings["n"], window.session.rule.settings["far"]) == (30.0, 3.0)
    # It is kept, and counts as so many tries.
    windows.wait(window, calm, lambda: len(window.session.notebook.book.tries) >= 12)
    assert view.earlier.isVisible() and view.earlier.count() == 2
    form.metrics.setCurrentText("Max drawdown")
    form.metrics.activated.emit(form.metrics.currentIndex())
    calm(window)
    assert view.map.map is not None and view.map.map.metric == "drawdown"


def test_a_sweep_that_was_kept_is_shown_again(window: Window, calm: Calm, place: TrialPlace) -> None:
    view = swept_by_one(window, calm, place)
    windows.wait(window, calm, lambda: any(isinstance(e, Swept) for e in window.session.notebook.book.entries))
    rows = list(view.map.tried)
    opened(window, calm, "rung 1\nsignal go = close > open\n", "other")
    assert view.map.map is None and "no numeric setting" in view.form.count.text()
    opened(window, calm)
    windows.wait(window, calm, lambda: view.earlier.count() == 2)
    view.earlier.setCurrentIndex(1)
    view.earlier.activated.emit(1)
    calm(window)
    assert list(view.map.tried) == rows and len(view.map.map.ranges) == 1  # type: ignore[union-attr]


def test_two_sweeps_are_compared(window: Window, calm: Calm, place: TrialPlace) -> None:
    view = swept_by_one(window, calm, place)
    assert "Beside" not in view.words.text()
    window.session.trials.set_ground(list_name="Salt")
    calm(window)
    view.form.sweep_button.click()
    calm(window)
    before, now = view.map.before, view.map.tried
    better = sum((t.metrics["sharpe"] or 0) > (before[f"n {t.settings['n']:g}"].metrics["sharpe"] or 0) for t in now)
    assert f"better in {better} of {len(now)} combinations" in view.words.text()
    assert "in the sweep before" in view.map.words_of(0)


def test_a_field_of_very_many_squares_is_painted_and_read(window: Window, calm: Calm, place: TrialPlace) -> None:
    """It costs no more than a few hundred squares do, the better are bluer, and each is found again."""
    place.show_sweep()
    calm(window)
    view, taken = place.sweep, {}
    for side in (30, 200):
        rows = [
            Tried({"n": float(k // side), "far": float(k % side)}, {"sharpe": k / side**2, "trades": 3.0})
            for k in range(side**2)
        ]
        view.look_at(tuple(Range(n, tuple(map(float, range(side)))) for n in ("n", "far")), rows)
        calm(window)
        times = []
        for _ in range(3):
            begin = time.process_time()
            picture = view.map.grab().toImage()
            times.append(time.process_time() - begin)
        taken[side] = min(times)
        box = view.map.box()
        assert view.map.variant_at(box.topRight() + QPointF(-1, 1)) == side**2 - 1
        assert view.map.variant_at(box.bottomLeft() + QPointF(1, -1)) == 0
        ratio = picture.devicePixelRatio()
        for corner, by in ((box.topRight(), QPointF(-14, 24)), (box.bottomLeft(), QPointF(34, -24))):
            dot = picture.pixelColor(((corner + by) * ratio).toPoint())
            assert (dot.blue() > dot.red()) == (corner == box.topRight()), side
    assert view.map.map is not None and view.map.map.best == 39_999
    assert taken[200] < 4 * taken[30]


def test_a_wrong_range_gets_a_sentence_and_keeps_what_was_typed(  # type: ignore[no-untyped-def]
    window: Window, calm: Calm, place: TrialPlace
) -> None:
    place.show_sweep()
    calm(window)
    said: list[str] = []
    window.session.status.connect(said.append)
    line = place.sweep.form.rows[0][1]
    for typed, sentence in (("40..10", "must rise"), ("many", "A range is written"), ("", "A range is written")):
        said.clear()
        line.setFocus()
        line.selectAll()
        QTest.keyClick(line, Qt.Key.Key_Delete)
        QTest.keyClicks(line, typed)
        QTest.mouseClick(place.sweep.form.sweep_button, Qt.MouseButton.LeftButton)
        calm(window)
        assert sentence in place.sweep.form.count.text() and any(sentence in s for s in said)
        assert line.text() == typed and place.sweep.map.map is None


def test_a_long_sweep_is_stopped(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.show_sweep()
    calm(window)
    place.trials.set_ground(list_name="All symbols")
    calm(window)
    form = place.sweep.form
    form.rows[0][1].setText("2..200")
    form.rows[1][1].setText("1..10/0.1")
    QTest.mouseClick(form.sweep_button, Qt.MouseButton.LeftButton)
    wait_for = time.monotonic() + 2
    while not place.stop_button.isVisible() and time.monotonic() < wait_for:
        make_app().processEvents()
    begin = time.monotonic()
    QTest.mouseClick(place.stop_button, Qt.MouseButton.LeftButton)
    calm(window)
    assert time.monotonic() - begin < 3 and place.sweep.map.map is None and not place.stop_button.isVisible()


def test_a_long_sweep_is_shared_with_processes_that_end_with_the_window(
    window: Window, calm: Calm, place: TrialPlace, tune: Tune
) -> None:
    alone = swept_by_one(window, calm, place).map.tried
    tune(threads_seconds=1e-6)
    tune(processes_seconds=1e-6)
    window.session.sweeps.workers.count = 2
    place.sweep.form.sweep_button.click()
    calm(window)
    assert place.sweep.map.tried == alone and active_children()
    window.close()
    windows.wait(window, calm, lambda: not active_children())


def test_a_rule_is_walked_forward(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.show_sweep()
    calm(window)
    form = place.sweep.form
    form.rows[0][1].setText("10..40/10")
    form.rows[1][0].setChecked(False)
    QTest.mouseClick(form.walk_button, Qt.MouseButton.LeftButton)
    calm(window)
    view = place.sweep
    assert view.walk.walk is not None and len(view.walk.walk.steps) == 5
    assert "hindsight" in view.walk_words.text() and view.tabs.currentIndex() == 1
    assert not view.walk.grab().isNull()


# --- the notebook -----------------------------------------------------------------------------------


def test_what_stands_in_sight_is_noted_and_what_is_typed_over_is_not(
    window: Window, calm: Calm, place: TrialPlace
) -> None:
    notes = window.session.notebook
    for n in (30.0, 40.0, 50.0):
        window.session.rule.set_setting("n", n)
        calm(window)
    windows.wait(window, calm, lambda: len(notes.book.tries) == 1)
    (one,) = notes.book.tries.values()
    assert one.what.settings["n"] == "50" and one.sealed
    assert one.metrics["trades"] == place.trials.outcome.trial.metrics["trades"]  # type: ignore[union-attr]
    window.session.rule.set_setting("n", 60.0)
    windows.wait(window, calm, lambda: len(notes.book.tries) == 2)
    place.show_chance()
    calm(window)
    assert "2 tries" in place.chance.discount_words.text()
    place.views.setCurrentIndex(0)
    window.session.rule.set_setting("n", 50.0)
    calm(window)
    assert any("after 2 tries" in label.text() for label in place.metrics.findChildren(QLabel))
    # Back at a variant that was tried before: nothing new.
    window.session.rule.set_setting("n", 50.0)
    calm(window)
    QTest.qWait(1900)
    calm(window)
    assert len(notes.book.tries) == 2 and len([e for e in notes.book.entries if isinstance(e, Try)]) == 2


def test_notes_are_written_and_stay(window: Window, calm: Calm, place: TrialPlace) -> None:
    QTest.keyClick(window, Qt.Key.Key_N, _CTRL | _ALT)
    calm(window)
    view = place.notebook
    view.note.setFocus()
    QTest.keyClicks(view.note, "found on 2021")
    QTest.keyClick(view.note, Qt.Key.Key_Return)

    def has_note() -> bool:  # beside what was looked at, on a slow machine
        return "found on 2021" in [view.source.text(row, 1) for row in range(view.source.rowCount())]

    windows.wait(window, calm, has_note)
    assert view.note.text() == ""
    opened(window, calm, "rung 1\nsignal go = close > open\n", "other")
    assert not has_note()
    opened(window, calm)
    windows.wait(window, calm, has_note)


def test_the_seal_is_broken_once_and_for_this_rule_alone(window: Window, calm: Calm, place: TrialPlace) -> None:
    view, notes = place.notebook, window.session.notebook
    place.show_notebook()
    calm(window)
    sealed = place.trials.outcome.trial  # type: ignore[union-attr]
    assert sealed is not None and sealed.ground.seal is not None
    view.ask = lambda: False
    QTest.mouseClick(view.break_button, Qt.MouseButton.LeftButton)
    calm(window)
    assert not notes.breaks()
    view.ask = lambda: True
    QTest.mouseClick(view.break_button, Qt.MouseButton.LeftButton)
    windows.wait(window, calm, lambda: bool(notes.breaks()))
    (broken,) = notes.book.breaks
    assert broken is not None and broken.promised["growth"] == sealed.metrics["growth"] and broken.tries == 1
    assert "the sealed part then had" in view.seal.text() and "promised" in view.compared.text()
    assert not view.break_button.isVisible()
    whole = place.trials.outcome.trial  # type: ignore[union-attr]
    assert whole is not None and whole.ground.seal is None and "Its seal is broken" in place.word.text()
    assert whole.equity.times[-1] > sealed.equity.times[-1] + 200 * 86_400
    # What the sealed part showed is what was traded there.
    late = whole.trades.decided[whole.book.done]
    assert broken.showed["trades"] is not None
    assert broken.showed["trades"] <= (whole.ground.panel.times[late] >= broken.sealed_from).sum() + 5
    # A copy has seen it too; another rule has not, and is told who has.
    opened(window, calm, RULE, "copy")
    windows.wait(window, calm, lambda: bool(notes.breaks()))
    opened(window, calm, RULE.replace("    trail", "    pause 1 bars\n    trail"), "another")
    assert not notes.breaks() and place.trials.outcome.trial.ground.seal is not None  # type: ignore[union-attr]
    assert view.break_button.isVisible() and "1 other rule has seen this part of history before" in view.seal.text()


def test_a_try_is_looked_at_again(window: Window, calm: Calm, place: TrialPlace) -> None:
    notes = window.session.notebook
    window.session.rule.set_setting("n", 44.0)
    windows.wait(window, calm, lambda: len(notes.book.tries) == 1)
    window.session.rule.set_setting("n", 20.0)
    place.trials.set_ground(list_name="All symbols")
    calm(window)
    place.show_notebook()
    calm(window)
    table = place.notebook.table
    table.setFocus()
    first = place.notebook.source.rowCount() - 1  # the latest is on top, and there may be one of 20 on a slow machine
    table.selectRow(first)
    table.activated.emit(place.notebook.rows.index(first, 0))
    calm(window)
    assert window.session.rule.settings["n"] == 44.0 and place.trials.list_name == "Ferries"
    # With another text in the script the one that was tried is shown beside it.
    editor = window.bench.script.editor
    editor.replace_all(RULE.replace("atr(14)", "atr(20)"))
    calm(window)
    table.activated.emit(place.notebook.rows.index(place.notebook.source.rowCount() - 1, 0))
    calm(window)
    dialog = window.bench.script.earlier
    assert dialog is not None and "atr(14)" in dialog.view.toPlainText()
    dialog.reject()


def test_a_notebook_out_of_reach_is_said_and_keeps_nothing_back(window: Window, calm: Calm) -> None:
    said: list[str] = []
    window.session.status.connect(said.append)
    (window.session.workspace.data / "notebooks").write_text("in the way")
    opened(window, calm)
    window.show_trial()
    calm(window)
    window.trial.show_notebook()
    window.trial.notebook.note.setText("kept?")
    window.trial.notebook.note_button.click()
    windows.wait(window, calm, lambda: any("notebook cannot be" in s for s in said))
    assert window.trial.trials.outcome.trial is not None  # type: ignore[union-attr]


# --- honesty ----------------------------------------------------------------------------------------


def test_findings_open_their_bar(window: Window, calm: Calm, place: TrialPlace) -> None:
    text = "rung 1\nlet top = swing_high(3, 3)\nmark known(top) above ago 3 shape dot\nsignal go = known(top)\n"
    opened(window, calm, text, "swings")
    QTest.keyClick(window, Qt.Key.Key_O, _CTRL | _ALT)
    calm(window)
    view = place.honesty
    assert place.views.currentWidget() is view and "1 thing found" in view.words.text()
    assert [view.source.text(0, k) for k in range(2)] == ["before known", "line 3"]
    # What was looked for and not found is told below.
    assert [view.source.text(1, k) for k in (0, 2)] == ["changed", "nothing found: cut at 40 moments"]
    assert view.source.rowCount() == 8 and view.source.text(7, 2).startswith("nothing found on ")
    finding = view.source.checked.rows[0]  # type: ignore[union-attr]
    table = view.table
    spot = table.visualRect(view.source.index(0, 2)).center()
    viewport = table.viewport()
    assert viewport is not None
    QTest.mouseClick(viewport, Qt.MouseButton.LeftButton, pos=QPoint(spot))
    calm(window)
    assert window.places.currentWidget() is window.bench
    shown = window.bench.chart.shown
    assert window.session.chart.symbol == finding.symbol and shown is not None
    assert window.bench.chart.pinned is not None and shown.bars.times[window.bench.chart.pinned] == finding.time
    opened(window, calm)
    assert view.source.rowCount() == 0  # it was another rule


def test_an_honest_rule_is_told_so(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.show_notebook()
    opened(window, calm, "rung 1\nsignal go = crosses_up(close, sma(close, 20))\n", "honest")
    place.check_look_ahead()
    calm(window)
    assert "Nothing found" in place.honesty.words.text() or "undecided" in place.honesty.source.text(0, 0)


# --- all of it --------------------------------------------------------------------------------------


def test_every_view_is_painted_by_night_and_small(window: Window, calm: Calm, place: TrialPlace) -> None:
    window.resize(1000, 700)
    QTest.keyClick(window, Qt.Key.Key_F9)
    calm(window)
    assert window.session.chart.theme is NIGHT
    place.sweep.form.sweep_button.click()
    calm(window)
    for k in range(place.views.count()):
        place.views.setCurrentIndex(k)
        calm(window)
        picture = place.grab().toImage()
        assert not picture.isNull()
        colours = {picture.pixel(x, y) for x in range(300, 960, 7) for y in range(150, 640, 7)}
        assert len(colours) > 3


def test_a_replay_knows_no_later_bars(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.show_evidence()
    calm(window)
    before = place.evidence.horizons.horizons[0].count
    times = place.trials.outcome.trial.ground.panel.times  # type: ignore[union-attr]
    window.session.replay.stand_at(int(np.quantile(times, 0.5)))
    calm(window)
    assert place.evidence.horizons.horizons[0].count < 0.6 * before
    window.session.replay.stand_at(None)
    calm(window)
    assert place.evidence.horizons.horizons[0].count == before
    assert QApplication.activeModalWidget() is None


def test_a_sweep_of_another_rule_is_kept_nowhere_else(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.show_sweep()
    calm(window)
    place.trials.set_ground(list_name="All symbols")
    calm(window)
    place.sweep.form.rows[0][1].setText("2..60")
    place.sweep.form.sweep_button.click()
    opened(window, calm, RULE.replace("20 range", "21 range"), "other")
    QTest.qWait(300)
    calm(window)
    assert place.sweep.map.map is None
    books = window.session.workspace.notebooks()
    for rule in ("mine", "other"):
        assert not any(isinstance(e, Swept) for e in books.read(rule).entries)


def test_a_broken_script_is_not_judged_by_the_one_before(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.show_notebook()
    opened(window, calm, "rung 1\nsignal go = close >\n", "broken")
    assert place.trials.outcome is not None and place.trials.outcome.trial is None
    assert "has errors" in place.word.text() and window.session.rule.program is None
    place.notebook.ask = lambda: True
    said: list[str] = []
    window.session.status.connect(said.append)
    place.notebook.break_button.click()
    place.sweep.form.sweep_button.click()
    place.honesty.button.click()
    calm(window)
    assert not window.session.notebook.breaks() and len([s for s in said if "has errors" in s]) == 3
    QTest.qWait(1700)
    calm(window)
    assert window.session.notebook.rule == "broken" and not window.session.notebook.book.entries
    opened(window, calm)
    assert place.trials.outcome.trial is not None


def test_findings_are_of_the_text_that_was_checked(window: Window, calm: Calm, place: TrialPlace) -> None:
    text = "rung 1\nlet top = swing_high(3, 3)\nmark known(top) above ago 3 shape dot\n"
    opened(window, calm, text, "swings")
    window.action_by_name["check_look_ahead"].trigger()
    calm(window)
    assert place.honesty.source.rowCount() == 8
    window.bench.script.editor.replace_all(text.replace(" ago 3", ""))
    calm(window)
    assert place.honesty.source.rowCount() == 0


def test_a_sweep_in_a_replay_is_no_try(window: Window, calm: Calm, place: TrialPlace) -> None:
    times = place.trials.outcome.trial.ground.panel.times  # type: ignore[union-attr]
    window.session.replay.stand_at(int(np.quantile(times, 0.8)))
    calm(window)
    place.show_sweep()
    place.sweep.form.sweep_button.click()
    calm(window)
    assert place.sweep.map.map is not None
    QTest.qWait(200)
    calm(window)
    assert not window.session.notebook.book.entries
