"""The first five steps, done in the real window with keys and the mouse."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from oakladder.bars.timeframes import Timeframe
from oakladder.desk.app import make_window
from oakladder.desk.window import Window
from oakladder.user.first_steps import STEPS, FirstSteps
from windows import put_away

LEFT = Qt.MouseButton.LeftButton


def said(window: Window) -> list[str]:
    return [b.text() for b in window.step_strip.buttons]


def test_five_steps_are_done_and_noticed(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    strip = window.step_strip
    assert strip.isVisible() and strip.how.text() == STEPS[0].how
    window.session.chart.go_to("BRINE", Timeframe.parse("1h"))
    calm(window)
    assert said(window)[0] == f"✓ {STEPS[0].words}" and strip.how.text() == STEPS[1].how
    QTest.keyClick(window, Qt.Key.Key_Left, Qt.KeyboardModifier.AltModifier)
    calm(window)
    assert said(window)[1].startswith("✓")
    window.bench.script.settings.controls["short"].setValue(12)  # type: ignore[attr-defined]
    calm(window)
    assert said(window)[2].startswith("✓") and strip.how.text() == STEPS[3].how
    window.session.rule.new("My rule")
    calm(window)
    path = window.session.script.path
    assert path is not None
    assert not said(window)[3].startswith("✓")  # it is still the one that every new script begins with
    window.session.rule.set_text(
        window.session.script.text.replace("crosses_up(close, average)", "close > 1.1 * average")
    )
    calm(window)
    assert said(window)[3].startswith("✓")
    window.show_scan()
    calm(window)
    assert window.scan.lines.lines()[0].script == path.name  # the open rule stands there already
    QTest.keyClick(window, Qt.Key.Key_R, Qt.KeyboardModifier.ControlModifier)
    calm(window)
    assert said(window)[4].startswith("✓") and "All five" in strip.how.text()
    QTest.mouseClick(strip.leave, LEFT)
    assert not strip.isVisible()
    window.action_by_name["show_first_steps"].trigger()
    assert strip.isVisible()


def test_a_strip_that_was_put_away_stays_away(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    QTest.mouseClick(window.step_strip.buttons[3], LEFT)
    assert window.step_strip.how.text() == STEPS[3].how  # a click tells how another is done
    QTest.mouseClick(window.step_strip.leave, LEFT)
    window.session.remembered.write()
    again = make_window(window.session.workspace)
    again.show()
    try:
        assert not again.step_strip.isVisible()
    finally:
        put_away(again)


def test_who_knows_the_program_is_not_taught() -> None:
    assert FirstSteps.read({}, known=True).away and not FirstSteps.read({}, known=False).away
    half = FirstSteps.read({"done": ["hour", "nonsense", 3], "away": False}, known=True)
    assert half.done == {"hour"} and not half.away and half.next() is STEPS[1]
    assert FirstSteps.read(half.as_plain(), known=True).as_plain() == half.as_plain()
