"""Live prices in the window: a real feed, a real watch beside the window, and what is in sight follows."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import numpy as np
import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QDialog

from oakladder.alerts.store import AlertStore, LogRow, new_id
from oakladder.app.live import LiveState
from oakladder.bars.bars import COLUMNS
from oakladder.bars.store.append_log import Tail
from oakladder.bars.store.appending import Appender
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_MINUTE, Timeframe
from oakladder.demo.ahead import MarketAhead
from oakladder.desk.app import make_app, make_window, show_alert
from oakladder.desk.bench.watch_signal import WatchSignal
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace
from windows import opened, put_away, wait

FIVE = Timeframe.parse("5m")
RULE = 'rung 1\ntitle "Often"\nsignal up = close > open\nsignal down = close < open\n'


@pytest.fixture
def live_window(
    qapp: QApplication, tmp_path: Path, market_copies: Callable[[Path], None], loaded: None
) -> Iterator[Window]:
    """A window over a copy of the market: live minutes are written into it."""
    workspace = Workspace(tmp_path / "data", tmp_path / "config")
    market_copies(workspace.data / "bars")
    made = make_window(workspace)
    made.show()
    settle(make_app(), made.session)
    yield made
    put_away(made)


def test_a_chart_forms_and_an_alert_is_made_with_three_keys_and_tells(live_window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window, session = live_window, live_window.session
    opened(window, calm, RULE, "often")
    session.watchlist.show_list("Ferries")
    session.chart.go_to("BRINE", FIVE)
    calm(window)
    before = session.chart.view.bars  # type: ignore[union-attr]
    asked: list[str] = []

    def accept(dialog: QDialog) -> int:
        assert isinstance(dialog, WatchSignal)
        settle(make_app(), session)
        asked.append(dialog.often.text())
        return int(QDialog.DialogCode.Accepted)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(QDialog, "exec", accept)
        QTest.keyClick(window, Qt.Key.Key_W, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    calm(window)
    assert "Over the last year" in asked[0]
    QTest.keyClick(window, Qt.Key.Key_F5)
    live = session.live
    assert live.is_on and window.live.isChecked()
    wait(window, lambda _: None, lambda: live.state is LiveState.CONNECTED and bool(live.now), 90)
    assert "UTC" in window.live.text()
    seen = {len(before)}
    session.chart.view_changed.connect(lambda view: seen.add(len(view.bars)))
    wait(window, lambda _: None, lambda: len(seen) > 2, 60)  # it forms, bar after bar
    store = AlertStore(session.workspace.data / "alerts.sqlite")
    wait(window, lambda _: None, lambda: any(r.told for r in store.log()), 60)
    QTest.keyClick(window, Qt.Key.Key_6, Qt.KeyboardModifier.AltModifier)
    wait(window, lambda _: None, lambda: window.alerts.log_source.count() > 0, 20)
    (alert,) = window.alerts.source.alerts
    assert alert.name == "Often: up 5m" and alert.saved.list_name == "Ferries"
    QTest.keyClick(window, Qt.Key.Key_F5)
    assert not live.is_on and window.live.text() == "Live"
    calm(window)

    def is_final() -> bool:
        shown, now = session.chart.view.bars, session.library.bars("BRINE", FIVE)  # type: ignore[union-attr]
        return len(shown) == len(now) and all(np.array_equal(shown[c], now[c]) for c in COLUMNS)

    wait(window, calm, is_final, 20)  # what was in progress is gone from the chart
    assert len(session.library.bars("BRINE", FIVE)) > len(before) and session.library.damaged() == []


def test_minutes_that_another_program_appends_are_shown_though_live_is_off(live_window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    session, ahead = live_window.session, MarketAhead()
    session.chart.go_to("BRINE", FIVE)
    calm(live_window)
    before = len(session.chart.view.bars)  # type: ignore[union-attr]
    last = int(session.library.base("BRINE", ONE_MINUTE).times[-1])
    some = ahead.minutes("BRINE", ahead.next_opening(last + 60), ahead.next_opening(last + 60) + 1800)
    Appender(BarLibrary(session.library.folder)).append(
        {"BRINE": Tail(some.times, some.columns)}, {}, int(some.times[-1])
    )
    wait(live_window, calm, lambda: len(session.chart.view.bars) > before, 20)  # type: ignore[union-attr]
    assert session.chart.view.bars["close"][-1] == some["close"][-1]  # type: ignore[union-attr]
    wait(live_window, calm, lambda: session.watchlist.quotes["BRINE"][0] > 0, 20)


def test_a_bar_of_the_log_opens_on_the_bench_and_buttons_do_what_they_say(window: Window, calm, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    opened(window, calm, RULE, "often")
    session = window.session
    made = session.alerts.of_signal(session.script.path, RULE, "down", FIVE, "Ferries", {}, False, "Often")  # type: ignore[arg-type]
    session.alerts.add(made)
    calm(window)
    store = AlertStore(session.workspace.data / "alerts.sqlite")
    session.alerts.add(session.alerts.of_signal(session.script.path, RULE, "down", FIVE, "Ferries", {}, False, "Often"))  # type: ignore[arg-type]
    calm(window)  # the same again, before the place was ever looked at
    second = store.alerts()[1]
    assert second.name == f"{made.name} 2"
    store.remove(second.id)
    long = session.alerts.of_signal(session.script.path, RULE, "down", FIVE, "Ferries", {}, False, "Long " * 40)  # type: ignore[arg-type]
    assert len(long.name) < 80 and long.name.endswith(": down 5m")
    window.show_alerts()
    wait(window, calm, lambda: window.alerts.source.count() == 1)
    place = window.alerts
    assert place.counted.text() == "1 alert, 1 on" and place.empty.isHidden()
    QTest.mouseClick(place.switch, Qt.MouseButton.LeftButton)
    wait(window, calm, lambda: place.switch.text() == "Switch on")
    assert not store.alerts()[0].is_on
    QTest.mouseClick(place.switch, Qt.MouseButton.LeftButton)
    wait(window, calm, lambda: place.switch.text() == "Switch off")
    QTest.mouseClick(place.mute, Qt.MouseButton.LeftButton)
    wait(window, calm, lambda: store.alerts()[0].snoozed_until is not None)
    assert place.renew.isHidden()
    (session.workspace.scripts / "often.rung").write_text(RULE.replace("down = close < open", "down = close < low[1]"))
    wait(window, calm, lambda: not place.renew.isHidden())
    assert "script changed" in place.source.text(0, 1) and store.alerts()[0].scripts[0].text == RULE
    QTest.mouseClick(place.renew, Qt.MouseButton.LeftButton)
    wait(window, calm, lambda: place.renew.isHidden())
    assert "low[1]" in store.alerts()[0].scripts[0].text
    (session.workspace.scripts / "often.rung").write_text("rung 1\nsignal up = close > open")
    wait(window, calm, lambda: not place.renew.isHidden())
    QTest.mouseClick(place.renew, Qt.MouseButton.LeftButton)
    wait(window, calm, lambda: "keeps the text that it has" in window.status.text())
    assert "low[1]" in store.alerts()[0].scripts[0].text
    bars = session.library.bars("GULLW", FIVE)
    rows = [
        LogRow(new_id(), made.id, made.name, "GULLW", "5m", int(bars.times[k]), "down", 1.0, "down on GULLW 5m, 1.00", told=told, missed=told is None, script="often.rung")
        for k, told in ((-9, 1.0), (-5, None))
    ]  # fmt: skip
    store.write(rows, {})
    wait(window, calm, lambda: place.log_source.count() == 2)
    place.shown.setCurrentText("Told")
    assert place.log_source.count() == 1
    place.filter.setText("nothing")
    assert place.log_source.count() == 0
    place.filter.setText("gull")
    place.log.setCurrentIndex(place.log_rows.index(0, 0))
    QTest.keyClick(place.log, Qt.Key.Key_Return)
    calm(window)
    assert (session.chart.symbol, session.chart.timeframe) == ("GULLW", FIVE)
    assert window.bench.chart.pinned_time == int(bars.times[-9])
    session.chart.go_to("BRINE", Timeframe.parse("1d"))
    show_alert(session, rows[1].id)  # as a click on a notification does, in a window that it opens
    calm(window)
    assert session.chart.symbol == "GULLW" and window.bench.chart.pinned_time == int(bars.times[-5])
    show_alert(session, "nothing")
    assert "no longer in the log" in window.status.text()
    window.show_alerts()
    monkeypatch.setattr(QDialog, "exec", lambda dialog: int(QDialog.DialogCode.Accepted))
    QTest.mouseClick(place.remove, Qt.MouseButton.LeftButton)
    wait(window, calm, lambda: place.source.count() == 0)
    assert not place.empty.isHidden() and len(store.log()) == 2


def test_a_feed_that_is_not_there_is_said_in_the_top_line(live_window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    session = live_window.session
    session.workspace.config.mkdir(exist_ok=True)
    (session.workspace.config / "feed.json").write_text('{"url": "ws://127.0.0.1:9"}')
    QTest.mouseClick(live_window.live, Qt.MouseButton.LeftButton)
    wait(live_window, lambda _: None, lambda: session.live.state is LiveState.LOST, 60)
    assert live_window.live.text() == "Live  no connection" and "There is no feed at" in live_window.live.toolTip()
    QTest.mouseClick(live_window.live, Qt.MouseButton.LeftButton)
    assert not session.live.is_on
    (session.workspace.config / "feed.json").write_text("nonsense")
    QTest.mouseClick(live_window.live, Qt.MouseButton.LeftButton)
    assert not session.live.is_on and "cannot be read as a feed's address" in live_window.status.text()
