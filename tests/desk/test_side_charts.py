"""Charts beside the main one: other timeframes or symbols, with the rule's marks, linked by time."""

from __future__ import annotations

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from oakladder.app.side_charts import SideCharts
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.app import make_window
from oakladder.desk.window import Window
from windows import put_away

LEFT = Qt.MouseButton.LeftButton


def more(window: Window, calm, times: int = 1) -> None:  # type: ignore[no-untyped-def]
    for _ in range(times):
        QTest.keyClick(window, Qt.Key.Key_F10)
    calm(window)


def shown(window: Window) -> list[str]:
    return [b.go.text() for b in window.bench.charts.beside]


def test_a_key_puts_other_timeframes_beside_and_another_goes_back(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    more(window, calm)
    assert shown(window) == ["BRINE  1w"]
    more(window, calm, 2)
    assert shown(window) == ["BRINE  1w", "BRINE  4h", "BRINE  2h"]
    for beside in window.bench.charts.beside:
        view = beside.chart.shown
        assert view is not None and view.picture is not None and len(view.picture.marks) == 2
        flow = view.result.program.signal("flow")
        hits = np.flatnonzero(view.result.flag(flow.roles["value"]) == 1)
        age = len(view.bars) - 1 - int(hits[-1])
        assert beside.ages.text().startswith(f"flow {age} bar" if age else "flow now")
        beside.grab()
    more(window, calm)  # behind the fourth there is one again
    assert shown(window) == []
    more(window, calm, 2)
    QTest.keyClick(window, Qt.Key.Key_F10, Qt.KeyboardModifier.ShiftModifier)
    calm(window)
    assert shown(window) == [] and window.bench.chart.isVisible()


def test_a_bar_pinned_on_one_is_marked_on_all(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    more(window, calm, 2)
    chart, (week, hours) = window.bench.chart, window.bench.charts.beside
    at = len(chart.shown.bars) - 30
    window.bench.mark_bar(at)
    time = int(chart.shown.bars.times[at])
    for beside in (week, hours):
        bars = beside.chart.shown.bars
        assert beside.chart.pinned == int(np.searchsorted(bars.times, time, "right")) - 1
        first, last = beside.chart.seen
        assert first <= beside.chart.pinned <= last
    week.chart.pin(40)
    week_time = int(week.chart.shown.bars.times[40])
    assert chart.pinned == int(np.searchsorted(chart.shown.bars.times, week_time, "right")) - 1
    assert week.chart.pinned == 40  # what was pinned there stays
    window.bench.mark_bar(900)
    assert week.chart.pinned is not None and hours.chart.pinned is None  # there are no hours of that year
    chart.pin(None)
    assert week.chart.pinned is None and hours.chart.pinned is None


def test_other_symbols_stand_beside_and_follow(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    more(window, calm, 2)
    QTest.keyClick(window, Qt.Key.Key_F10, Qt.KeyboardModifier.ControlModifier)
    calm(window)
    assert shown(window) == ["CROSS  1d", "GULLW  1d"]
    window.session.chart.go_to(timeframe=Timeframe.parse("4h"))
    calm(window)
    assert shown(window) == ["CROSS  4h", "GULLW  4h"]
    window.session.rule.set_setting("short", 20)
    calm(window)
    QTest.mouseClick(window.bench.charts.beside[1].go, LEFT)
    calm(window)
    assert window.bench.heading.text() == "GULLW  4h" and "GULLW  4h" not in shown(window)


def test_they_follow_the_typing_and_come_back_after_a_restart(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    more(window, calm, 2)
    window.session.rule.set_text("rung 1\nsignal up = close > close[1] bullish\nmark up below\n")
    calm(window)
    assert all(b.ages.text().startswith("up ") for b in window.bench.charts.beside)
    window.session.rule.set_text("rung 1\nsignal up = close >\n")
    calm(window)
    assert all(b.chart.shown.picture.marks for b in window.bench.charts.beside)  # the last that was sound
    window.session.remembered.write()
    again = make_window(window.session.workspace)
    try:
        assert again.session.side_charts.count == 2 and len(again.bench.charts.beside) == 2
    finally:
        put_away(again)


@pytest.mark.parametrize("state", [{}, {"count": 99, "kind": "symbols"}, {"count": True}, {"count": "two", "kind": 3}])
def test_what_makes_no_sense_is_none_or_as_many_as_there_can_be(window: Window, state: dict[str, object]) -> None:
    companions: SideCharts = window.session.side_charts
    companions.restore(state)
    assert companions.count == (3 if state.get("count") == 99 else 0)
    assert len(window.bench.charts.beside) == companions.count


def test_a_wider_window_shows_more_bars_and_keeps_the_script(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    chart, side = window.bench.chart, window.bench.side
    first, last = chart.seen
    wide, narrow = chart.width(), side.width()
    window.resize(2200, 800)
    calm(window)
    assert side.width() == narrow and chart.width() > wide + 700
    assert chart.seen[1] == pytest.approx(last)
    assert (chart.seen[1] - chart.seen[0]) / (last - first) == pytest.approx(chart.width() / wide, rel=0.02)
    window.resize(1280, 800)
    calm(window)
    assert chart.seen == pytest.approx((first, last), abs=1)


def test_charts_beside_are_painted_after_a_change_of_size_and_by_night(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    more(window, calm, 3)
    window.resize(1400, 820)
    window.toggle_night()
    calm(window)
    QTest.qWait(150)
    for beside in window.bench.charts.beside:
        assert beside.chart.updatesEnabled()
        mean = beside.chart.grab().toImage().scaled(1, 1).pixelColor(0, 0)
        assert mean.lightness() < 110
    window.bench.one_chart()
    more(window, calm)
    QTest.qWait(150)
    assert window.bench.charts.beside[0].chart.updatesEnabled()


def test_where_there_is_nothing_beside_it_is_said(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    lists = window.session.lists
    lists.make("Two")
    for symbol in ("BRINE", "CROSS"):
        lists.add("Two", symbol, window.session.library.infos)
    window.bench.show_list("Two")
    more(window, calm, 2)
    window.bench.turn_charts()
    calm(window)
    first, second = window.bench.charts.beside
    assert first.go.text() == "CROSS  1d" and first.chart.isVisible()
    assert not second.chart.isVisible() and "no other symbol" in second.ages.text()
    window.bench.turn_charts()
    calm(window)
    assert second.chart.isVisible() and second.go.text() == "BRINE  4h"


def test_what_is_wrong_with_a_chart_beside_stands_on_it(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    more(window, calm, 1)
    window.session.rule.set_text("rung 1\nlet days = close on 1d\nsignal up = close > days bullish\n")
    calm(window)
    (week,) = window.bench.charts.beside  # days are shorter than its weeks
    assert "shorter than" in week.chart.panes["price"].overlay.content.trouble
    assert not window.bench.chart.panes["price"].overlay.content.trouble


def test_charts_beside_show_bars_as_the_main_one_does(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    more(window, calm, 1)
    for name in ("show_line", "scale_log"):
        window.action_by_name[name].trigger()
    calm(window)
    (beside,) = window.bench.charts.beside
    assert beside.chart.options == window.session.chart.options == window.bench.chart.options
