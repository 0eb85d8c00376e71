"""The Trial place, and trades on the Bench, driven: typing, variants, terms, tables, pictures, files, keys."""

from __future__ import annotations

import csv
import time
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from threading import Event

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel, QMenu

import windows
from helpers import Tune
from oakladder.app import trials as trials_module
from oakladder.app.picked_symbol import PickedSymbol
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.app import make_app, make_window
from oakladder.desk.look.theme import NIGHT
from oakladder.desk.trial.place import TrialPlace
from oakladder.desk.window import Window
from oakladder.trial.spec import Change, ChangeKind
from oakladder.user.workspace import Workspace
from windows import once_asked, put_away, reply

Calm = Callable[[Window], None]
RULE = """rung 1
title "Mine"
setting n = 20 range 2..200 "Days"
let top = highest(high, n)[1]
signal over = close > top bullish
trade ride long
    enter when over
    stop 3 * atr(14)
    trail 3 * atr(14)
"""


def opened(window: Window, calm: Calm, text: str = RULE, name: str = "mine") -> None:
    windows.opened(window, calm, text, name)


@pytest.fixture
def place(window: Window, calm: Calm) -> TrialPlace:
    opened(window, calm)
    QTest.keyClick(window, Qt.Key.Key_4, Qt.KeyboardModifier.AltModifier)
    calm(window)
    assert window.places.currentWidget() is window.trial
    return window.trial


def trial_of(place: TrialPlace):  # type: ignore[no-untyped-def]
    outcome = place.trials.outcome
    assert outcome is not None and outcome.trial is not None, outcome
    return outcome.trial


def menu() -> QMenu:
    found = QApplication.activePopupWidget()
    assert isinstance(found, QMenu)
    return found


def test_the_open_rule_stands_on_trial_and_follows_the_typing(window: Window, calm: Calm, place: TrialPlace) -> None:
    before = trial_of(place)
    assert len(before.ground.panel) == 77 and before.metrics["trades"] > 100
    assert "77 symbols" in place.word.text() and "is sealed" in place.word.text()
    assert place.table.source.rowCount() == int(before.book.done.sum() + before.book.open.sum())
    editor = window.bench.script.editor
    window.show_bench()
    editor.setFocus()
    editor.setCursorPosition(2, len("setting n = 2"))
    QTest.keyClicks(editor, "2")  # 220 is outside its range: the rule does not compile and the trial stays
    QTest.keyClick(editor, Qt.Key.Key_Backspace)
    QTest.keyClick(editor, Qt.Key.Key_Left)
    QTest.keyClicks(editor, "1")
    window.show_trial()
    calm(window)
    after = trial_of(place)
    assert "setting n = 120" in after.program.text and after.metrics["trades"] != before.metrics["trades"]


def test_a_changed_setting_changes_the_trial_without_compiling(window: Window, calm: Calm, place: TrialPlace) -> None:
    before = trial_of(place)
    window.session.rule.set_setting("n", 60.0)
    calm(window)
    after = trial_of(place)
    assert after.program is before.program and after.metrics["trades"] < before.metrics["trades"]


def test_what_is_looked_at_comes_before_what_is_out_of_sight(
    window: Window, calm: Calm, place: TrialPlace, tune: Tune
) -> None:
    tune(put_off_most=1_000)  # on a machine that is busy, too
    came: list[str] = []
    place.trials.changed.connect(lambda _: came.append("trial"))
    window.session.chart.signal_ages_changed.connect(lambda _: came.append("pips"))
    for n in (21.0, 22.0, 23.0, 24.0):
        came.clear()
        window.session.rule.set_setting("n", n)
        calm(window)
        assert came == ["trial", "pips"]


def test_a_long_trial_keeps_nothing_else_from_coming(
    window: Window, calm: Calm, place: TrialPlace, monkeypatch: pytest.MonkeyPatch
) -> None:
    held, came = Event(), []
    put_on_trial = trials_module.run_trial

    def slowly(*args: object, **named: object) -> object:
        held.wait(20)
        return put_on_trial(*args, **named)  # type: ignore[arg-type]

    monkeypatch.setattr(trials_module, "run_trial", slowly)
    window.session.chart.signal_ages_changed.connect(lambda _: came.append("pips"))
    window.session.rule.set_setting("n", 31.0)
    end = time.monotonic() + 10
    while not came and time.monotonic() < end:
        QTest.qWait(20)
    assert came and window.session.jobs.busy_with("trial")
    held.set()
    calm(window)


def test_variants_stand_beside_the_rule_and_go_again(window: Window, calm: Calm, place: TrialPlace) -> None:
    QTest.mouseClick(place.variants.add, Qt.MouseButton.LeftButton)
    next(a for a in menu().actions() if a.text() == "Reverse long/short").trigger()
    menu().close()
    place.trials.add_change(Change(ChangeKind.SETTING, "60", "n"))
    place.trials.add_change(Change(ChangeKind.TIMEFRAME, "1w"))
    place.trials.add_change(Change(ChangeKind.SETTING, "many", "n"))
    calm(window)
    rows = place.variants.rows
    assert [o.words for o in rows.outcomes] == ["the rule", "reversed long/short", "n 60", "on 1w", "n many"]
    assert rows.outcomes[-1].trial is None and "is a number" in rows.outcomes[-1].trouble
    swapped = rows.outcomes[1].trial
    assert swapped is not None and (swapped.trades.side == -1).all()
    rows.setFocus()
    QTest.keyClick(rows, Qt.Key.Key_Down)
    QTest.keyClick(rows, Qt.Key.Key_Down)
    assert place.curve.front is rows.outcomes[2].trial
    assert len(place.curve.curves) == 4  # the plain rule stays in sight
    other = place.trials.outcome
    assert other is not None and other.trial is not None
    beside = [label.text() for label in place.metrics.findChildren(QLabel) if label.text().startswith("the rule ")]
    assert f"the rule {other.trial.metrics['trades']:,.0f}" in beside
    QTest.keyClick(rows, Qt.Key.Key_Up)
    QTest.keyClick(rows, Qt.Key.Key_Space)  # any two are compared
    QTest.keyClick(rows, Qt.Key.Key_Down)
    beside = [label.text() for label in place.metrics.findChildren(QLabel)]
    assert f"reversed long/short {swapped.metrics['trades']:,.0f}" in beside
    QTest.keyClick(rows, Qt.Key.Key_Delete)
    calm(window)
    assert [o.words for o in rows.outcomes] == ["the rule", "reversed long/short", "on 1w", "n many"]
    QTest.mouseClick(rows, Qt.MouseButton.LeftButton, pos=QPoint(40, 10))
    assert place.curve.front is trial_of(place)


def test_each_kind_of_variant_is_another_trial(window: Window, calm: Calm, place: TrialPlace) -> None:
    for what, value in (
        (ChangeKind.COST, "0.5%"),
        (ChangeKind.SLIPPAGE, "9t"),
        (ChangeKind.STOP, "5%"),
        (ChangeKind.TURNED, ""),
        (ChangeKind.LIST, "Ferries"),
    ):
        place.trials.add_change(Change(what, value))
    calm(window)
    ends = {trial_of(place).metrics["end"]}
    for made in place.trials.variants:
        assert made.trial is not None, made.trouble
        ends.add(made.trial.metrics["end"])
    assert len(ends) == 6


def test_a_variant_that_makes_no_sense_is_refused_with_a_sentence(
    window: Window, calm: Calm, place: TrialPlace
) -> None:
    for change in (
        Change(ChangeKind.TIMEFRAME, "7x"),
        Change(ChangeKind.COST, "much"),
        Change(ChangeKind.SLIPPAGE, "2"),
    ):
        place.trials.add_change(change)
        assert window.status.text()
    calm(window)
    assert place.trials.changes == []


def test_terms_change_the_account_and_nonsense_loses_nothing(window: Window, calm: Calm, place: TrialPlace) -> None:
    QTest.keyClick(window, Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.AltModifier)
    assert place.terms.isVisible()
    before = trial_of(place)
    sizing = place.terms.sizing
    sizing.setFocus()
    QTest.keyClicks(sizing, "a lot")
    QTest.keyClick(sizing, Qt.Key.Key_Return)
    assert "Write a position size as 100%" in window.status.text() and sizing.text() == "a lot"
    sizing.selectAll()
    QTest.keyClicks(sizing, "1%r")
    QTest.keyClick(sizing, Qt.Key.Key_Return)
    place.terms.most.setValue(3)
    calm(window)
    after = trial_of(place)
    assert after.account.most == 3 and str(after.account.size) == "1%r"
    assert after.equity.positions.max() == 3 and after.metrics["end"] != before.metrics["end"]


def test_holding_slippage_and_limits_are_terms_too(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.terms_button.click()
    before = trial_of(place)
    for line, text in (
        (place.terms.financing, "12%"),
        (place.terms.borrow, "3%"),
        (place.terms.slip, "1t+10%range"),
        (place.terms.currency, "SHELL"),
    ):
        line.setFocus()
        line.selectAll()
        QTest.keyClicks(line, text)
        QTest.keyClick(line, Qt.Key.Key_Return)
    QTest.mouseClick(place.terms.through, Qt.MouseButton.LeftButton, pos=QPoint(8, place.terms.through.height() // 2))
    calm(window)
    after = trial_of(place)
    costs = after.account.costs
    assert (costs.financing, costs.borrow, str(costs.slippage)) == (0.12, 0.03, "1t+10%range")
    assert after.account.through and after.account.currency == "SHELL"
    assert after.metrics["end"] < before.metrics["end"]
    assert "fill only where prices go beyond them: trades" in place.word.text()
    window.session.remembered.write()
    made = make_window(Workspace(window.session.workspace.data, window.session.workspace.config))
    assert made.session.trials.account == after.account
    put_away(made)


def test_another_list_and_timeframe_and_one_that_there_is_not(window: Window, calm: Calm, place: TrialPlace) -> None:
    line = place.frames.lineEdit()
    assert line is not None
    line.selectAll()
    QTest.keyClicks(line, "1w")
    QTest.keyClick(line, Qt.Key.Key_Return)
    place.trials.set_ground(list_name="Ferries")
    calm(window)
    assert str(trial_of(place).ground.panel.timeframe) == "1w" and 1 < len(trial_of(place).ground.panel) < 77
    line.selectAll()
    QTest.keyClicks(line, "soon")
    QTest.keyClick(line, Qt.Key.Key_Return)
    assert place.frames.currentText() == "1w" and window.status.text()


def test_a_trade_of_the_table_opens_at_its_bar(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.table.setFocus()
    place.table.selectRow(4)
    index = place.table.source.index(4, 0)
    symbol = index.data()
    QTest.keyClick(place.table, Qt.Key.Key_Return)
    calm(window)
    assert window.places.currentWidget() is window.bench and window.session.chart.symbol == symbol
    pinned = window.bench.chart.pinned
    assert pinned is not None and "Entered here" in window.bench.why.story.text()


def test_trades_are_sorted_by_any_column(window: Window, calm: Calm, place: TrialPlace) -> None:
    net = trial_of(place).book.net
    for order, sign in ((Qt.SortOrder.DescendingOrder, -1), (Qt.SortOrder.AscendingOrder, 1)):
        place.table.sortByColumn(8, order)
        shown = net[place.table.source.which]
        assert (np.diff(sign * shown) >= 0).all()
        assert place.table.source.index(0, 8).data() == f"{shown[0]:,.2f}"
    place.table.go_to(int(place.table.source.which[30]))
    assert place.table.currentIndex().row() == 30


def test_every_tab_shows_the_trial_in_front(window: Window, calm: Calm, place: TrialPlace) -> None:
    for k in range(place.tabs.count()):
        place.tabs.setCurrentIndex(k)
        calm(window)
        assert not place.grab().isNull()
    place.tabs.setCurrentWidget(place.months)
    assert "2021" in place.months.accessibleName() and "%" in place.months.accessibleName()
    place.tabs.setCurrentWidget(place.groups)
    assert "long" in place.groups.bars.accessibleName()
    place.groups.chooser.setCurrentText("symbol")
    place.groups.chooser.activated.emit(1)
    nets = [row.value for row in place.groups.bars.rows]
    assert len(nets) > 10 and nets == sorted(nets, reverse=True)  # type: ignore[type-var]
    place.tabs.setCurrentWidget(place.left_out)
    assert "entries were not taken" in place.left_out.words.text()
    assert place.left_out.table.source.rowCount() == int((trial_of(place).book.taken != 0).sum())


def test_each_symbol_has_a_small_equity_curve_and_leads_to_its_trades(
    window: Window, calm: Calm, place: TrialPlace
) -> None:
    place.tabs.setCurrentWidget(place.by_symbol)
    calm(window)
    sheet, trial = place.by_symbol.sheet, trial_of(place)
    assert sheet.count() == len(trial.ground.panel) == 77
    results = [c.result for c in sheet.curves]
    assert results == sorted(results, reverse=True) and "each with its own money" in place.by_symbol.words.text()
    place.by_symbol.order.setFocus()
    QTest.keyClick(place.by_symbol.order, Qt.Key.Key_Down)
    place.by_symbol.order.activated.emit(1)
    groups = [window.session.symbols.infos[c.symbol].sector for c in sheet.curves]
    assert len(set(groups)) > 3 and sum(a != b for a, b in pairwise(groups)) == len(set(groups)) - 1
    assert groups[0] in sheet.hint(0) and "%" in sheet.hint(0)
    picked: list[PickedSymbol] = []
    place.picked.connect(picked.append)
    sheet.setFocus()
    QTest.keyClick(sheet, Qt.Key.Key_Right)
    QTest.keyClick(sheet, Qt.Key.Key_Return)
    assert [p.symbol for p in picked] == [sheet.curves[1].symbol]
    assert not place.grab().isNull()


@pytest.mark.parametrize("kind", ["year", "trend of the index", "volatility of the index"])
def test_trades_are_broken_down_by_the_market(window: Window, calm: Calm, place: TrialPlace, kind: str) -> None:
    place.tabs.setCurrentWidget(place.groups)
    place.groups.chooser.setCurrentText(kind)
    place.groups.chooser.activated.emit(place.groups.chooser.currentIndex())
    rows = place.groups.bars.rows
    assert len(rows) > 1
    assert sum(r.value or 0.0 for r in rows) == pytest.approx(trial_of(place).metrics["net"])


def test_small_charts_turn_by_keys_and_open(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.tabs.setCurrentWidget(place.charts)
    calm(window)
    place.charts.setFocus()
    told: list[int] = []
    place.charts.picked.connect(told.append)
    for key in (Qt.Key.Key_PageDown, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Home, Qt.Key.Key_Right):
        QTest.keyClick(place.charts, key)
    QTest.keyClick(place.charts, Qt.Key.Key_Return)
    calm(window)
    trades = trial_of(place).trades
    entered = np.sort(trades.panel.times[trades.entered[trial_of(place).book.done]])
    assert trades.panel.times[trades.entered[told[0]]] in entered[-3:]
    assert window.places.currentWidget() is window.bench


@pytest.mark.parametrize("part", ["curve", "scatter"])
def test_a_click_on_a_dot_opens_its_trade(window: Window, calm: Calm, place: TrialPlace, part: str) -> None:
    if part == "scatter":
        place.tabs.setCurrentWidget(place.scatter)
        calm(window)
    view = getattr(place, part)
    view.grab()
    found = next(
        (QPoint(x, y), trade)
        for x in range(0, view.width(), 3)
        for y in range(0, view.height(), 3)
        if (trade := view.trade_at(QPointF(x, y))) is not None
    )
    QTest.mouseMove(view, found[0])
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=found[0])
    calm(window)
    trial = trial_of(place)
    assert window.places.currentWidget() is window.bench
    assert window.session.chart.symbol == trial.ground.panel.symbols[trial.trades.symbol[found[1]]]


def test_a_script_without_trade_is_composed_and_can_be_written(window: Window, calm: Calm) -> None:
    opened(window, calm, "rung 1\nsignal up = close > close[3] bullish\nsignal down = close < close[3] bearish\n")
    window.show_trial()
    calm(window)
    place = window.trial
    assert "Composed from its signals: long at `up`, out at `down`" in place.word.text()
    assert trial_of(place).metrics["trades"] > 100
    QTest.mouseClick(place.write_button, Qt.MouseButton.LeftButton)
    calm(window)
    assert "trade ride long\n    enter when up\n    leave when down" in window.session.script.text
    assert not place.write_button.isVisible() and trial_of(place).metrics["trades"] > 100
    window.action_by_name["write_trade"].trigger()
    assert "already has a trade" in window.status.text()


def test_what_cannot_be_tried_is_said(window: Window, calm: Calm) -> None:
    window.show_trial()
    for text, words in (
        ("rung 1\nline close\n", "neither a `trade` nor a `signal`"),
        (RULE + "    flat at session end\n", "makes no sense on 1d bars"),
        ("rung 1\ntrade a long\n    enter when close > 1000000\n", "No trades here."),
    ):
        opened(window, calm, text)
        assert words in window.trial.word.text()
        window.grab()


def test_a_list_with_one_symbol_and_with_none(window: Window, calm: Calm, place: TrialPlace) -> None:
    lists = window.session.lists
    lists.make("One")
    lists.add("One", "FLAKE", window.session.library.infos)
    lists.make("None")
    place.trials.set_ground(list_name="One")
    calm(window)
    assert place.trials.account.size_for(1).amount == 1.0 and len(trial_of(place).ground.panel) == 1
    place.trials.set_ground(list_name="None")
    calm(window)
    assert "The list is empty" in place.word.text() and not place.save_button.isEnabled()


def test_trades_curve_and_report_are_saved(
    window: Window, calm: Calm, place: TrialPlace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    for k, name in enumerate(("trades.csv", "curve.csv", "report", "report.pdf")):
        monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, n=name: (str(tmp_path / n), ""))
        QTest.mouseClick(place.save_button, Qt.MouseButton.LeftButton)
        popup = menu()
        popup.actions()[k].trigger()
        popup.close()
        calm(window)
    trial = trial_of(place)
    rows = list(csv.DictReader((tmp_path / "trades.csv").read_text().splitlines()))
    assert len(rows) == int(trial.book.done.sum() + trial.book.open.sum())
    net = sum(float(r["net"]) for r in rows if r["left"])
    assert net == pytest.approx(trial.metrics["net"], abs=0.01)
    curve = list(csv.DictReader((tmp_path / "curve.csv").read_text().splitlines()))
    assert float(curve[-1]["value"]) == trial.metrics["end"]
    page = (tmp_path / "report.html").read_text()
    assert "<title>Mine</title>" in page and "<svg" in page and "src=" not in page and "href" not in page
    assert (tmp_path / "report.pdf").read_bytes().startswith(b"%PDF")


def test_a_report_that_cannot_be_written_is_said(
    window: Window, calm: Calm, place: TrialPlace, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    nowhere = tmp_path / "file"
    nowhere.write_text("")
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_: (str(nowhere / "report.html"), ""))
    place.save(2)
    calm(window)
    assert "report.html" in window.status.text()


def test_trades_stand_on_the_chart_and_keys_go_through_them(window: Window, calm: Calm) -> None:
    opened(window, calm)
    window.show_bench()
    calm(window)
    trades = window.session.chart.view.trades  # type: ignore[union-attr]
    assert trades is not None and len(trades.entered) > 10
    window.bench.chart.setFocus()
    keys = Qt.KeyboardModifier.AltModifier | Qt.KeyboardModifier.ShiftModifier
    QTest.keyClick(window, Qt.Key.Key_Left, keys)
    assert window.bench.chart.pinned == int(trades.entered[-1])
    QTest.keyClick(window, Qt.Key.Key_Left, keys)
    assert window.bench.chart.pinned == int(trades.entered[-2]) and "in at" in window.status.text()
    QTest.keyClick(window, Qt.Key.Key_Right, keys)
    assert window.bench.chart.pinned == int(trades.entered[-1])
    for name in ("show_averaged", "scale_percent"):
        window.action_by_name[name].trigger()
        calm(window)
        again = window.session.chart.view.trades  # type: ignore[union-attr]
        assert np.array_equal(again.entry, trades.entry)  # fills are on real prices, however bars are shown
        window.bench.chart.grab()
    window.session.chart.set_theme(NIGHT)
    calm(window)
    window.bench.chart.grab()


def test_without_a_trade_the_keys_say_so(window: Window, calm: Calm) -> None:
    opened(window, calm, "rung 1\nline close\n")
    window.action_by_name["next_trade"].trigger()
    assert "it has no `trade`" in window.status.text()


def test_why_takes_the_decisions_of_trades_apart(window: Window, calm: Calm) -> None:
    opened(window, calm, RULE + "    leave when close < low[1]\n")
    window.show_bench()
    why = window.bench.why
    offered = [why.signals.itemText(k) for k in range(why.signals.count())]
    assert offered == ["over", "enter ride", "leave ride"]
    why.signals.setCurrentText("leave ride")
    why.signals.activated.emit(2)
    window.action_by_name["previous_trade"].trigger()
    calm(window)
    assert why.tree.topLevelItemCount() == 1 and "Entered here" in why.story.text()
    trades = window.session.chart.view.trades  # type: ignore[union-attr]
    left = int(trades.ends[np.flatnonzero(~trades.is_open)[-1]])
    window.bench.mark_bar(left)
    QTest.qWait(80)
    assert "Left here" in why.story.text()


def test_the_trial_below_the_script_follows_the_chart(window: Window, calm: Calm) -> None:
    opened(window, calm)
    window.session.chart.go_to("FLAKE")
    calm(window)
    assert not window.session.trials.outcome  # nothing is tried while nobody looks
    QTest.keyClick(window, Qt.Key.Key_T, Qt.KeyboardModifier.ControlModifier)
    calm(window)
    glance = window.bench.below.trial
    assert glance.symbol.text().startswith("FLAKE 1d:") and glance.list.text().startswith("All symbols 1d:")
    window.session.chart.go_to("SALTR", Timeframe.parse("1w"))
    calm(window)
    assert glance.symbol.text().startswith("SALTR 1w:") and glance.list.text().startswith("All symbols 1w:")
    QTest.keyClick(window, Qt.Key.Key_F6)
    assert window.bench.below.currentWidget() is window.bench.why
    QTest.keyClick(window, Qt.Key.Key_F6)
    assert not window.bench.below.isVisible()


def test_the_ladder_tells_which_timeframes_hold_a_position(window: Window, calm: Calm) -> None:
    opened(window, calm, "rung 1\ntrade ride long\n    enter when bar == 5\n")
    window.show_bench()
    calm(window)
    held = [p for p in window.session.chart.signal_ages[Timeframe.parse("1d")] if p.held is not None]
    assert len(held) == 1 and held[0].held.side == 1 and "bars" in held[0].held.words()


def test_stopping_keeps_what_was_shown(window: Window, calm: Calm, place: TrialPlace) -> None:
    before = place.trials.outcome
    place.trials.set_ground(finer=True)
    QTest.qWait(30)
    window.action_by_name["stop_trial"].trigger()
    calm(window)
    assert place.trials.outcome is before and not place.stop_button.isVisible()
    place.trials.set_ground(finer=False)


def test_what_is_tried_comes_back_after_a_restart(window: Window, calm: Calm, place: TrialPlace) -> None:
    place.trials.set_ground(list_name="Ferries", timeframe=Timeframe.parse("1w"))
    place.terms.most.setValue(2)
    place.trials.add_change(Change(ChangeKind.SWAPPED))
    calm(window)
    window.session.remembered.write()
    workspace = Workspace(window.session.workspace.data, window.session.workspace.config)
    made = make_window(workspace)
    trials = made.session.trials
    assert (trials.list_name, str(trials.timeframe), trials.account.most) == ("Ferries", "1w", 2)
    assert trials.changes == [Change(ChangeKind.SWAPPED)]
    for odd in ("1e308", "inf", "nan", "-5"):
        trials.restore({"most": odd, "money": odd, "lot": odd, "list": "Ferries"})
        assert trials.account.most == 2  # what makes no sense is left as it was
        made.trial.terms.show_account(trials.account, trials.finer)
    put_away(made)


def test_asked_settings_become_variants(
    window: Window, calm: Calm, place: TrialPlace, monkeypatch: pytest.MonkeyPatch
) -> None:
    once_asked(lambda: reply(QApplication.activeModalWidget(), "40"))
    popup = place.variants.menu(QPoint(0, 0))
    popup.actions()[0].trigger()
    calm(window)
    assert place.trials.changes == [Change(ChangeKind.SETTING, "40", "n")]
    make_app().processEvents()


def test_bars_that_change_while_they_are_read_are_read_again(
    window: Window, calm: Calm, place: TrialPlace, monkeypatch: pytest.MonkeyPatch
) -> None:
    library, frame = window.session.library, Timeframe.parse("1w")
    plain, begun, go, reads = library.panel, Event(), Event(), []

    def panel(symbols, timeframe, *more):  # type: ignore[no-untyped-def]
        read = plain(symbols, timeframe, *more)
        if timeframe == frame:
            reads.append(len(symbols))
            begun.set()
            assert go.wait(20)
        return read

    monkeypatch.setattr(library, "panel", panel)
    place.trials.set_ground(timeframe=frame)
    for _ in range(400):
        QTest.qWait(25)
        if begun.is_set():
            break
    place.trials.bars_changed()  # an import, or a step of a replay
    go.set()
    calm(window)
    assert reads == [77, 77] and trial_of(place).ground.panel.timeframe == frame
    place.trials.set_ground(finer=False)
    calm(window)
    assert reads == [77, 77]


def test_a_broken_script_is_said_where_its_last_sound_text_is_shown(
    window: Window, calm: Calm, place: TrialPlace
) -> None:
    rule = window.session.rule
    rule.set_text(RULE.replace("n)[1]", "n)[1"))
    calm(window)
    assert "last valid text" in place.word.text() and trial_of(place).metrics["trades"] > 100
    rule.set_text(RULE)
    calm(window)
    assert "last valid text" not in place.word.text() and "77 symbols" in place.word.text()
