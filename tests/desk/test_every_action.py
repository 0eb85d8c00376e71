"""Every action of the window, done as a user would by its name; and the menus of the Ladder and the chart."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import QPoint
from PyQt6.QtGui import QAction
from PyQt6.QtWidgets import QApplication, QDialog, QFileDialog

from helpers import taken
from oakladder.app.actions import ACTIONS
from oakladder.app.chart_options import BarStyle, ScaleKind
from oakladder.desk.window import Window
from windows import answer, close_popups, popup_actions, reply


@pytest.fixture
def answers(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> dict[str, str]:
    """What dialogs are answered with: nothing, unless a test says otherwise."""
    given = {"says": "", "save": "", "open": ""}
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *_, **__: (given["save"], ""))
    monkeypatch.setattr(QFileDialog, "getOpenFileName", lambda *_, **__: (given["open"], ""))
    monkeypatch.setattr(QDialog, "exec", lambda dialog: reply(dialog, given["says"]))
    return given


@pytest.mark.parametrize("times", [1, pytest.param(2, marks=pytest.mark.nightly)])
@pytest.mark.parametrize("group", list(dict.fromkeys(a.group for a in ACTIONS)))
def test_every_action_can_be_done_at_any_time(window: Window, calm, answers, group: str, times: int) -> None:  # type: ignore[no-untyped-def]
    """Behind whatever the actions of its group have left, in the order of the list and back; twice over by night."""
    # Live prices would be written into the market that all tests read: see `test_live_window.py`.
    names = [a.name for a in ACTIONS if a.group == group and a.name not in ("quit", "toggle_live")]
    for name in [n for n in (*names, *reversed(names)) for _ in range(times)]:
        window.action_by_name[name].trigger()
        calm(window)
        close_popups()
        assert "went wrong" not in window.status.text(), name
        view = window.session.chart.view
        assert view is not None and len(view.bars) > 0, name


def test_bars_and_scales_are_chosen_by_their_actions(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    for name, style in (
        ("show_bars", BarStyle.BARS),
        ("show_line", BarStyle.LINE),
        ("show_averaged", BarStyle.AVERAGED),
        ("show_candles", BarStyle.CANDLES),
    ):
        window.action_by_name[name].trigger()
        calm(window)
        assert window.session.chart.options.style is style and window.action_by_name[name].isChecked()
    for name, scale in (
        ("scale_log", ScaleKind.LOG),
        ("scale_percent", ScaleKind.PERCENT),
        ("scale_plain", ScaleKind.PLAIN),
    ):
        window.action_by_name[name].trigger()
        assert window.session.chart.options.scale is scale and window.action_by_name[name].isChecked()
    window.action_by_name["toggle_as_known"].trigger()
    assert window.session.chart.options.as_known and "became known" in window.status.text()


def test_a_line_and_a_script_are_asked_for_and_put_beside(window: Window, calm, answers) -> None:  # type: ignore[no-untyped-def]
    answers["says"] = "ema(close, 12)"
    window.action_by_name["add_line"].trigger()
    answers["says"] = "Quiet water"
    window.action_by_name["add_beside"].trigger()
    window.action_by_name["copy_beside"].trigger()
    calm(window)
    assert [u.caption for u in window.session.overlays.uses] == ["ema(close, 12)", "Quiet water", "Tide turn"]
    answers["says"] = "ema(close"
    window.action_by_name["add_line"].trigger()
    assert "cannot be drawn" in window.status.text() and len(window.session.overlays.uses) == 3


@pytest.mark.parametrize("ending", ["png", "svg", "csv"])
def test_the_chart_is_saved_where_it_is_said(window: Window, calm, answers, tmp_path: Path, ending: str) -> None:  # type: ignore[no-untyped-def]
    path = tmp_path / f"chart.{ending}"
    answers["save"] = str(path)
    window.action_by_name["save_chart_data" if ending == "csv" else "save_chart"].trigger()
    calm(window)
    assert path.stat().st_size > 1000 and window.status.text() == f"Saved as chart.{ending}."
    answers["save"] = str(taken(tmp_path) / f"chart.{ending}")
    window.action_by_name["save_chart_data" if ending == "csv" else "save_chart"].trigger()
    calm(window)
    assert "cannot be written" in window.status.text()
    window.action_by_name["copy_picture"].trigger()
    board = QApplication.clipboard()
    assert board is not None and board.pixmap().width() == window.bench.chart.width()


def test_a_pane_folds_and_moves_from_its_menu(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.session.rule.set_text(
        'rung 1\nline rsi(close, 14) in pane "strength"\nline stdev(close, 9) in pane "spread"\n'
    )
    calm(window)
    chart = window.bench.chart
    window.bench.commands.pane_menu("strength", QPoint(5, 5))
    actions = popup_actions()
    assert {"Move up", "Move down", "Collapse", "Copy the picture"} <= set(actions)
    at = list(chart.panes).index("strength")
    actions["Move down"].trigger()
    assert list(chart.panes).index("strength") == at + 1
    actions["Collapse"].trigger()
    close_popups()
    assert chart.panes["strength"].folded
    window.bench.commands.pane_menu("strength", QPoint(5, 5))
    assert "Expand" in popup_actions()
    close_popups()


def test_the_ladders_head_offers_what_can_be_done_with_a_column(window: Window, calm) -> None:  # type: ignore[no-untyped-def]
    window.show_ladder()
    calm(window)
    place = window.ladder
    table, first = place.table, place.table.first_script
    names = [c.name for c in place.columns]

    def head(section: int) -> dict[str, QAction]:
        close_popups()
        x = table.head.sectionViewportPosition(section) + 5
        place._head_menu(QPoint(x, 5))
        return popup_actions()

    assert "Remove this column" not in head(1) and "Hide" in head(1)
    head(1)["Hide"].trigger()
    assert table.isColumnHidden(1)
    head(2)["Show all columns"].trigger()
    assert not table.isColumnHidden(1)
    head(first)["Move right"].trigger()
    calm(window)
    assert [c.name for c in place.columns] == names[::-1]
    head(first + 4)["Move left"].trigger()
    calm(window)
    assert [c.name for c in place.columns] == names
    answer("Add", lambda dialog: dialog.frames["1d"].setChecked(False))
    head(first)["Change this column …"].trigger()
    calm(window)
    assert place.columns[0].timeframes == ["1w", "4h", "1h"]
    head(first)["Remove this column"].trigger()
    calm(window)
    assert [c.name for c in place.columns] == names[1:]
    answer("Add")
    place.ask_column()
    calm(window)
    assert len(place.columns) == 2
    close_popups()


def test_the_ladders_rows_and_lists_are_handled_from_their_menus(window: Window, calm, answers, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    window.show_ladder()
    calm(window)
    place, lists = window.ladder, window.session.lists

    def row(k: int) -> dict[str, QAction]:
        close_popups()
        place._row_menu(place.table.visualRect(place.table.rows.index(k, 0)).center())
        return popup_actions()

    answers["says"] = "Mine"
    place.list_button.click()
    popup_actions()["New list …"].trigger()
    close_popups()
    calm(window)
    assert place.lists.currentText() == "Mine" and "There is nothing" not in window.status.text()
    answers["says"] = "BRINE FLAKE GULLW"
    place.list_button.click()
    popup_actions()["Add symbols …"].trigger()
    close_popups()
    calm(window)
    assert lists.user_lists["Mine"].symbols == ["BRINE", "FLAKE", "GULLW"]
    row(0)["Move down"].trigger()
    calm(window)
    assert lists.user_lists["Mine"].symbols == ["FLAKE", "BRINE", "GULLW"]
    answers["says"] = "earnings on Friday"
    row(1)["Note …"].trigger()
    calm(window)
    assert lists.user_lists["Mine"].notes == {"BRINE": "earnings on Friday"}
    place.table.selectRow(2)
    row(2)["Remove from the list"].trigger()
    calm(window)
    assert lists.user_lists["Mine"].symbols == ["FLAKE", "BRINE"]
    answers["says"] = "Ours"
    place.list_button.click()
    popup_actions()["Rename …"].trigger()
    close_popups()
    calm(window)
    assert "Ours" in lists.user_lists and "Mine" not in lists.user_lists
    answers["save"] = answers["open"] = str(tmp_path / "Shared.csv")
    place.list_button.click()
    popup_actions()["Export this list …"].trigger()
    popup_actions()["Import a list …"].trigger()
    close_popups()
    calm(window)
    assert lists.user_lists["Shared"].symbols == ["FLAKE", "BRINE"]
    row(0)["Add to Ours"].trigger()
    calm(window)
    row(0)["Open on the Bench"].trigger()
    calm(window)
    assert window.places.currentWidget() is window.bench and window.session.chart.symbol == "FLAKE"
    close_popups()
