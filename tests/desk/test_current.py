"""What is in sight belongs to what is open now: after other scripts, settings and lists it is new, greyed or gone."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtTest import QTest

from oakladder.bars.timeframes import Timeframe
from oakladder.desk.app import make_app, make_window
from oakladder.desk.screenshot import settle
from oakladder.desk.widgets.status import reading_time
from oakladder.desk.window import Window
from oakladder.user.scans import SCRIPT, ScanLine
from windows import cells, opened, outdated, put_away

Calm = Callable[[Window], None]

ONE = (
    'rung 1\ntitle "One"\nsetting n = 20 range 2..60\nlet a = sma(close, n)\nline a\n'
    'signal go = close > a bullish "over"\n'
)
TWO = 'rung 1\ntitle "Two"\nlet a = rsi(close, 14)\nsignal go = a < 60 bearish "low"\nsignal hot = a > 90\n'
LEFT = Qt.MouseButton.LeftButton


@pytest.fixture
def rules(window: Window, calm: Calm) -> Window:
    """A window with the first rule open, and a second one in the folder."""
    (window.session.workspace.scripts / "two.rung").write_text(TWO)
    opened(window, calm, ONE, "one")
    return window


def open_by_palette(window: Window, calm: Calm, title: str) -> None:
    QTest.keyClick(window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    QTest.keyClicks(window.palette_dialog.line, title)
    QTest.keyClick(window.palette_dialog.line, Qt.Key.Key_Return)
    window.activateWindow()  # as the screen does where a dialog closes
    calm(window)
    assert window.session.script.path is not None and window.session.script.path.stem == title.lower()


def why(window: Window) -> str:
    """What the Why panel says, as far as it does not say itself that it is out of date."""
    panel = window.bench.why
    if outdated(panel.tree):
        return ""
    tables = [cells(view.model()) for view in (panel.tree, panel.misses)]  # type: ignore[arg-type]
    return f"{panel.signals.currentText()} {tables}"


def test_why_explains_the_script_that_is_open(rules: Window, calm: Calm) -> None:
    chart = rules.bench.chart
    rules.bench.below.setCurrentWidget(rules.bench.why)
    viewport = chart.viewport()
    middle = viewport.rect().center()
    QTest.mouseClick(viewport, LEFT, pos=middle)
    calm(rules)
    assert "close > a" in why(rules)
    QTest.keyClick(rules, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    calm(rules)
    open_by_palette(rules, calm, "Two")
    QTest.keyClick(rules, Qt.Key.Key_1, Qt.KeyboardModifier.AltModifier)
    calm(rules)
    assert "close > a" not in why(rules) and "a < 60" in why(rules)
    QTest.mouseClick(viewport, LEFT, pos=middle + QPoint(60, 0))
    calm(rules)
    assert "close > a" not in why(rules) and "a < 60" in why(rules)


def test_the_watchlists_head_names_the_script_whose_numbers_stand_below(rules: Window, calm: Calm) -> None:
    model = rules.bench.watchlist.model
    heads = lambda: [model.caption(k) for k in range(3, model.columnCount())]  # noqa: E731
    assert all("One" in head for head in heads())
    open_by_palette(rules, calm, "Two")
    assert heads() and all("Two" in head for head in heads())


def test_what_was_said_of_another_place_or_state_goes(rules: Window, calm: Calm) -> None:
    window = rules
    window.show_scan()
    calm(window)
    window.scan.keep_list()
    said = window.status.text()
    assert said == "Run the scan first."
    for key in (Qt.Key.Key_2, Qt.Key.Key_1, Qt.Key.Key_4):
        QTest.keyClick(window, key, Qt.KeyboardModifier.AltModifier)
        calm(window)
    QTest.qWait(reading_time(said) + 100)  # it may be read to its end
    assert window.status.text() != said


def test_sweep_ranges_follow_the_script_and_not_what_was_half_typed(rules: Window, calm: Calm) -> None:
    window, editor = rules, rules.bench.script.editor
    QTest.keyClick(window, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    window.trial.show_sweep()
    calm(window)
    ((_, first),) = window.trial.sweep.form.rows
    whole = first.text()
    for text in (ONE.replace("range 2..60", "range 2..6"), ONE.replace("range 2..60", "range 2..60")):
        editor.selectAll()
        editor.replaceSelectedText(text)
        calm(window)
    ((_, line),) = window.trial.sweep.form.rows
    assert line.text() == whole
    open_by_palette(window, calm, "Two")
    assert window.trial.sweep.form.rows == []


def test_results_that_take_long_are_greyed_or_gone_once_they_are_of_something_else(rules: Window, calm: Calm) -> None:
    """A scan, a sweep and the check of honesty are asked for; nobody asks for them again by switching."""
    window, session = rules, rules.session
    window.show_trial()
    window.trial.check_look_ahead()
    window.trial.show_sweep()
    calm(window)
    window.trial.sweep.form.rows[0][0].setChecked(True)
    window.trial.sweep.form.rows[0][1].setText("10..12")
    QTest.mouseClick(window.trial.sweep.form.sweep_button, LEFT)
    calm(window)
    window.show_scan()
    calm(window)
    window.scan.lines.show_lines([ScanLine(SCRIPT, script="one.rung", name="go", fresh="is true")])
    QTest.mouseClick(window.scan.run_button, LEFT)
    calm(window)
    assert window.scan.result is not None and window.trial.sweep.map.map is not None
    said = window.trial.honesty.words.text()
    assert "stood" in said or "found" in said.lower()
    assert not any(outdated(part) for part in (window.scan.results, window.trial.sweep.map))
    session.rule.set_setting("n", 30.0)
    calm(window)
    assert window.trial.honesty.words.text() != said
    (session.workspace.scripts / "one.rung").write_text(ONE.replace("close > a", "close < a"))
    session.script.look()
    for _ in range(100):
        QTest.qWait(30)
        if "close < a" in session.script.text:
            break
    calm(window)
    window.show_scan()
    calm(window)
    assert outdated(window.scan.results)
    window.show_trial()
    calm(window)
    assert outdated(window.trial.sweep.map) and window.trial.honesty.words.text() != said


def test_progress_is_not_told_beside_its_result(rules: Window, calm: Calm) -> None:
    window = rules
    window.show_trial()
    window.trial.check_look_ahead()
    calm(window)
    assert "honesty" not in window.activity.text() and not window.trial.progress.isVisible()


def test_a_broken_script_leaves_no_other_rule_in_sight(rules: Window, calm: Calm) -> None:
    window = rules
    opened(window, calm, "rung 1\nsignal broken = close >\n", "broken")
    for show in (window.show_bench, window.show_trial):
        show()
        calm(window)
    assert "close > a" not in why(window) and window.trial.sentence.text() != "One"
    model = window.bench.watchlist.model
    heads = [model.caption(k) for k in range(3, model.columnCount())]
    assert heads and not any("One" in head for head in heads) and not window.bench.watchlist.is_outdated
    window.session.chart.go_to(timeframe=Timeframe.parse("1w"))
    calm(window)
    assert "close > a" not in why(window)


def test_a_symbol_that_is_asked_for_while_a_mistake_is_typed_is_shown(rules: Window, calm: Calm) -> None:
    session = rules.session
    for symbol in ("FLAKE", "KEELS", "GULLW"):
        session.chart.go_to(symbol)
        session.rule.set_text(f"{ONE}line close >\n-- {symbol}\n")
        session.rule.compile()  # before the chart has come
        calm(rules)
        assert session.chart.view is not None and session.chart.view.bars.symbol == symbol
        assert not outdated(rules.bench.chart)
        session.rule.set_text(ONE)
        calm(rules)


def test_a_window_that_opens_on_a_broken_script_shows_the_bars(rules: Window, calm: Calm) -> None:
    workspace = rules.session.workspace
    opened(rules, calm, "rung 1\nsignal broken = close >\n", "broken")
    assert rules.bench.script.settings.isHidden()  # which were those of the rule before
    rules.session.remembered.now()
    calm(rules)
    again = make_window(workspace)
    again.show()
    settle(make_app(), again.session)
    try:
        view = again.session.chart.view
        assert again.session.script.path is not None and again.session.script.path.stem == "broken"
        assert view is not None and len(view.bars) and again.bench.heading.text().startswith(view.bars.symbol)
        assert again.bench.watchlist.model.quotes
    finally:
        put_away(again)
