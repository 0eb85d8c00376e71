"""The places beside the Bench are made late, and stand then as if they had been there from the start."""

from __future__ import annotations

from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractButton, QAbstractItemView, QComboBox, QLabel, QLineEdit, QWidget

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.library import BarLibrary
from oakladder.desk.app import make_app, make_window
from oakladder.desk.look.theme import DAY, NIGHT, style_sheet
from oakladder.desk.screenshot import settle
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace

_ALT = Qt.KeyboardModifier.AltModifier


def made_in(tmp_path: Path, qtbot) -> Window:  # type: ignore[no-untyped-def]
    """A window that has only just been made."""
    made = make_window(Workspace(tmp_path / "data", tmp_path / "config"))
    qtbot.addWidget(made)
    return made


def sheet_of(widget: QWidget) -> str:
    """The style sheet that holds for a widget: its own, or that of what it stands in."""
    above: QWidget | None = widget
    while above is not None and not above.styleSheet():
        above = above.parentWidget()
    return "" if above is None else above.styleSheet()


def controls_of(window: Window) -> list[QWidget]:
    kinds = (QLabel, QAbstractButton, QAbstractItemView, QComboBox, QLineEdit)
    place = window.places.currentWidget()
    assert place is not None
    return [w for w in place.findChildren(QWidget) if isinstance(w, kinds)]


@pytest.fixture
def fresh(qtbot, tmp_path: Path) -> Window:  # type: ignore[no-untyped-def]
    return made_in(tmp_path, qtbot)


def test_a_window_shows_its_chart_before_the_other_places_are_made(qtbot, tmp_path: Path) -> None:  # type: ignore[no-untyped-def]
    fresh = made_in(tmp_path, qtbot)  # between a fixture and its test events are handled: the chart may come then
    there: list[list[object]] = []
    fresh.session.chart.view_changed.connect(lambda: there.append(list(fresh.places.there())))
    fresh.show()
    qtbot.waitSignal(fresh.places.complete, timeout=20_000).wait()
    assert there and there[0] == [fresh.bench]
    assert len(fresh.places.there()) == fresh.places.count() == 6


def test_a_place_is_made_when_it_is_asked_for_however_early(qtbot, fresh: Window) -> None:  # type: ignore[no-untyped-def]
    fresh.show()
    QTest.qWaitForWindowActive(fresh)
    for key, name in (
        (Qt.Key.Key_4, "trial"),
        (Qt.Key.Key_2, "ladder"),
        (Qt.Key.Key_5, "data"),
        (Qt.Key.Key_3, "scan"),
    ):
        QTest.keyClick(fresh, key, _ALT)
        assert fresh.places.currentWidget() is getattr(fresh, name)
        assert {sheet_of(w) for w in controls_of(fresh) if w.isVisible()} == {style_sheet(DAY)}
    settle(make_app(), fresh.session)


def test_every_control_takes_part_in_day_and_night(qtbot, fresh: Window) -> None:  # type: ignore[no-untyped-def]
    """Those behind tabs, and menus and dialogs, too."""
    fresh.show()
    settle(make_app(), fresh.session)
    QTest.keyClick(fresh, Qt.Key.Key_F9)
    settle(make_app(), fresh.session)
    for k in range(fresh.places.count()):
        QTest.keyClick(fresh, Qt.Key(Qt.Key.Key_1 + k), _ALT)
        settle(make_app(), fresh.session)
        qtbot.waitUntil(lambda: {sheet_of(w) for w in controls_of(fresh)} == {style_sheet(NIGHT)})
    menu = fresh.bench.show_button.menu()
    assert menu is not None
    for theme in (NIGHT, DAY):
        menu.popup(fresh.pos())
        assert sheet_of(menu) == style_sheet(theme)
        menu.hide()
        QTest.keyClick(fresh, Qt.Key.Key_F9)
    settle(make_app(), fresh.session)


@pytest.mark.nightly
def test_what_is_made_at_night_is_dark(qtbot, fresh: Window) -> None:  # type: ignore[no-untyped-def]
    fresh.session.chart.set_theme(NIGHT)
    fresh.show()
    for key in (Qt.Key.Key_4, Qt.Key.Key_2, Qt.Key.Key_5, Qt.Key.Key_3):
        QTest.keyClick(fresh, key, _ALT)
        settle(make_app(), fresh.session)
        image = fresh.grab().toImage()
        light = sum(
            image.pixelColor(x, y).lightnessF() > 0.7
            for x in range(0, image.width(), 7)
            for y in range(0, image.height(), 7)
        )
        assert light < 0.12 * (image.width() // 7) * (image.height() // 7)


@pytest.mark.nightly
def test_what_was_made_late_follows_the_theme_in_every_line(qtbot, fresh: Window) -> None:  # type: ignore[no-untyped-def]
    fresh.show()
    qtbot.waitSignal(fresh.places.complete, timeout=10_000).wait()
    fresh.session.chart.set_theme(NIGHT)
    for show in (fresh.show_trial, fresh.show_scan, fresh.show_ladder, fresh.show_data, fresh.show_alerts):
        show()
        settle(make_app(), fresh.session)
        QTest.qWait(400)  # what is not in sight is coloured one part after the other
        image = fresh.places.currentWidget().grab().toImage()  # type: ignore[union-attr]
        line = DAY.color("line").rgb()
        assert not any(image.pixel(x, y) == line for x in range(image.width()) for y in range(0, image.height(), 20))


def test_what_happened_before_a_place_was_made_is_seen_in_it(qtbot, fresh: Window) -> None:  # type: ignore[no-untyped-def]
    fresh.show()
    settle(make_app(), fresh.session)
    fresh.session.rule.set_setting("long", 44)
    fresh.session.watchlist.list_name = "Ferries"
    QTest.keyClick(fresh, Qt.Key.Key_4, _ALT)
    settle(make_app(), fresh.session)
    assert fresh.trial.trials.outcome is not None and fresh.trial.trials.outcome.trial is not None
    fresh.trial.show_sweep()
    settle(make_app(), fresh.session)
    assert fresh.trial.sweep.map.current["long"] == 44


def test_a_window_that_is_shown_again_is_not_made_ready_again(qtbot, fresh: Window) -> None:  # type: ignore[no-untyped-def]
    told: list[int] = []
    fresh.places.complete.connect(lambda: told.append(1))
    fresh.show()
    qtbot.waitUntil(lambda: bool(told), timeout=10_000)
    for _ in range(2):
        fresh.hide()
        fresh.show()
        QTest.qWait(600)
    assert told == [1]


def test_the_places_are_made_where_there_is_no_chart(qtbot, request, monkeypatch) -> None:  # type: ignore[no-untyped-def]
    def away(*_: object, **__: object) -> None:
        raise DataProblem("The disk is away.")

    for name in ("bars", "panel"):
        monkeypatch.setattr(BarLibrary, name, away)
    fresh = request.getfixturevalue("fresh")
    fresh.show()
    qtbot.waitSignal(fresh.places.complete, timeout=10_000).wait()
    assert fresh.session.chart.view is None
    assert "The disk is away." in fresh.bench.chart.panes["price"].overlay.content.trouble
