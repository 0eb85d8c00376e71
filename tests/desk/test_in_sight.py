"""Nothing in sight is left over: after any switches the window says what a window opened fresh on the same state says."""

from __future__ import annotations

import random
from collections.abc import Callable, Iterator

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QAbstractSpinBox,
    QComboBox,
    QHeaderView,
    QLabel,
    QLineEdit,
    QTableView,
    QTabWidget,
    QWidget,
)

from oakladder.app.columns import ScriptColumn, open_columns
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.app import make_app, make_window
from oakladder.desk.places import BENCH, LADDER, SCAN, TRIAL
from oakladder.desk.screenshot import settle
from oakladder.desk.script.editor import ScriptEditor
from oakladder.desk.widgets.activity import Activity
from oakladder.desk.widgets.status import StatusLine
from oakladder.desk.widgets.steps import StepStrip
from oakladder.desk.widgets.veil import Veil
from oakladder.desk.window import Window
from oakladder.user.workspace import Workspace
from windows import cells, outdated, put_away

Calm = Callable[[Window], None]

#: Two rules with a signal of the same name, two with settings, one that trades, one without a title or a signal,
#: one with a mistake.
SCRIPTS = {
    "one": 'rung 1\ntitle "One"\nsetting n = 20 range 2..60\nlet a = sma(close, n)\nline a\n'
    'signal go = crosses_up(close, a) bullish "over"\n',
    "two": 'rung 1\ntitle "Two"\nlet a = rsi(close, 14)\nsignal go = a < 30 bearish "low"\ncolumn a named "Strength"\n',
    "three": 'rung 1\ntitle "Three"\nsetting n = 5 range 2..9\nsetting m = 2 range 1..4\n'
    "signal up = rising(close, m)\nsignal down = falling(close, n)\n",
    "trader": 'rung 1\ntitle "Trader"\nsignal go = crosses_up(close, sma(close, 30))\n'
    "trade ride long\n    enter when go\n    stop 5%\n    at most 10 bars\n",
    "untitled_line": "rung 1\nline ema(close, 12)\n",
    "broken": 'rung 1\ntitle "Broken"\nsignal go = close >\nline close\n',
}


def written(workspace: Workspace) -> None:
    for name, text in SCRIPTS.items():
        (workspace.scripts / f"{name}.rung").write_text(text)


# --- what is in sight -----------------------------------------------------------------------------------


def heads(table: QTableView) -> list[object]:
    header, model = table.horizontalHeader(), table.model()
    assert header is not None and model is not None
    horizontal, spoken = Qt.Orientation.Horizontal, Qt.ItemDataRole.AccessibleTextRole
    return [
        (model.headerData(k, horizontal), model.headerData(k, horizontal, spoken)) for k in range(model.columnCount())
    ]


def said_by(widget: QWidget) -> list[object]:
    """All that a widget says, to the eye and to a screen reader."""
    made: list[object] = [widget.toolTip(), widget.accessibleName(), widget.accessibleDescription(), widget.isEnabled()]
    match widget:
        case ScriptEditor():
            made.append(widget.text())
        case QLabel() | QLineEdit():
            made.append(widget.text())
        case QAbstractSpinBox():
            made.append(widget.text())
        case QAbstractButton():
            made += [widget.text(), widget.isChecked()]
        case QComboBox():
            made += [widget.currentText(), [widget.itemText(k) for k in range(widget.count())]]
        case QTabWidget():
            made += [widget.currentIndex(), [widget.tabText(k) for k in range(widget.count())]]
        case QTableView():
            made += [heads(widget), cells(widget.model())]  # type: ignore[arg-type]
        case QAbstractItemView() if widget.model() is not None and not isinstance(widget, QHeaderView):
            made.append(cells(widget.model()))  # type: ignore[arg-type]
    return made


def path_of(widget: QWidget) -> str:
    names: list[str] = []
    at: QWidget | None = widget
    while at is not None:
        parent = at.parentWidget()
        beside = parent.findChildren(type(at), options=Qt.FindChildOption.FindDirectChildrenOnly) if parent else []
        beside = [w for w in beside if w.isVisible()]
        names.append(f"{type(at).__name__}{beside.index(at) if at in beside else ''}")
        at = at.parentWidget()
    return "/".join(reversed(names))


def in_sight(window: Window) -> dict[str, tuple[QWidget, list[object]]]:
    """What everything in sight says, by where it stands. What only tells of the moment is left out."""
    left_out = (StatusLine, Activity, StepStrip, Veil)
    made = {}
    for widget in window.findChildren(QWidget):
        owners = []
        at: QWidget | None = widget
        while at is not None:
            owners.append(at)
            at = at.parentWidget()
        if widget.isVisible() and not any(isinstance(o, left_out) for o in owners):
            made[path_of(widget)] = (widget, said_by(widget))
    return made


def differences(window: Window, fresh: Window) -> list[str]:
    """What a window says otherwise than a fresh one, without saying that it is out of date."""
    here, there = in_sight(window), in_sight(fresh)
    made = []
    for path in {**here, **there}:
        old = here.get(path)
        if old is not None and outdated(old[0]):
            continue
        if old is None or path not in there:
            made.append(
                f"{path}: {'only in the window' if old is not None else 'only in the fresh one'}: {(old or there[path])[1]}"
            )
        elif old[1] != there[path][1]:
            made.append(f"{path}: {old[1]} where the fresh one says {there[path][1]}")
    if window.bench.isVisible() and window.bench.watchlist.is_outdated:
        made.append("the watchlist is out of date")
    return made


# --- the window, and a fresh one on the same state ------------------------------------------------------


@pytest.fixture
def both(window: Window, workspace: Workspace, calm: Calm) -> Iterator[Callable[[], list[str]]]:
    """Gives what a window says otherwise than a fresh one."""
    written(workspace)
    window.session.scripts_changed.emit()
    window.learning.put_away()
    calm(window)

    def compare() -> list[str]:
        session = window.session
        wait_for_notes(window, calm)
        session.remembered.now()
        calm(window)
        fresh = make_window(workspace)
        try:
            fresh.resize(window.size())
            fresh.show()
            settle(make_app(), fresh.session)
            show_the_same(window, fresh, calm)
            return differences(window, fresh)
        finally:
            put_away(fresh)

    yield compare


def wait_for_notes(window: Window, calm: Calm) -> None:
    calm(window)
    while window.session.notebook.waiting:
        QTest.qWait(50)
    calm(window)


def show_the_same(window: Window, fresh: Window, calm: Calm) -> None:
    """What a window does not remember is chosen in the fresh one as a user would."""
    fresh.session.judging.set_signal(window.session.judging.signal)
    fresh.bench.below.setCurrentIndex(window.bench.below.currentIndex())
    for show, place in (
        (fresh.show_bench, BENCH),
        (fresh.show_ladder, LADDER),
        (fresh.show_scan, SCAN),
        (fresh.show_trial, TRIAL),
    ):
        if window.places.currentIndex() == place:
            show()
    calm(fresh)
    if window.places.currentIndex() == TRIAL:
        fresh.trial.views.setCurrentIndex(window.trial.views.currentIndex())
        fresh.trial.tabs.setCurrentIndex(window.trial.tabs.currentIndex())
    names = [window.bench.why.signals.itemText(k) for k in range(window.bench.why.signals.count())]
    if window.bench.why.signals.currentText() in names[1:]:
        fresh.bench.why.signals.setCurrentText(window.bench.why.signals.currentText())
        fresh.bench.why.signals.activated.emit(0)
    wait_for_notes(fresh, calm)


# --- what a user does -----------------------------------------------------------------------------------


class Switcher:
    """Switches scripts, settings, symbols, lists, timeframes and places at random, often before anything has come."""

    def __init__(self, window: Window, calm: Calm, seed: int):
        self.window, self.session, self.calm = window, window.session, calm
        self.random = random.Random(seed)
        self.done: list[str] = []

    def act(self) -> None:
        go = self.random.choice(
            (
                self.open,
                self.open,
                self.type,
                self.set,
                self.symbol,
                self.timeframe,
                self.list,
                self.columns,
                self.ground,
                self.place,
                self.place,
                self.tab,
                self.wait,
                self.wait,
            )
        )
        self.done.append(go.__name__)
        go()

    def open(self) -> None:
        self.session.rule.open(self.session.workspace.scripts / f"{self.random.choice(list(SCRIPTS))}.rung")

    def type(self) -> None:
        editor = self.window.bench.script.editor
        editor.append(f"let extra{len(self.done)} = close\n")

    def set(self) -> None:
        program = self.session.rule.program
        if program is not None and program.settings:
            info = self.random.choice(program.settings)
            self.session.rule.set_setting(
                info.name, float(self.random.randrange(int(info.low or 1), int(info.high or 9)))
            )

    def symbol(self) -> None:
        self.session.chart.go_to(symbol=self.random.choice(list(self.session.symbols.infos)[:12]))

    def timeframe(self) -> None:
        self.session.chart.go_to(timeframe=Timeframe.parse(self.random.choice(["1d", "1w", "1h", "4h"])))

    def list(self) -> None:
        names = self.session.lists.names(self.session.symbols.infos)
        self.window.bench.show_list(self.random.choice(names))

    def columns(self) -> None:
        other = ScriptColumn(f"{self.random.choice(['one', 'two', 'three'])}.rung", "", ["1d"])
        self.session.watchlist.show_columns(self.random.choice([open_columns(), [*open_columns(), other], [other]]))

    def ground(self) -> None:
        names = self.session.lists.names(self.session.symbols.infos)
        self.session.trials.set_ground(self.random.choice(names), Timeframe.parse(self.random.choice(["1d", "1w"])))
        if self.window.places.currentIndex() == TRIAL:
            self.window.trial.enter()

    def place(self) -> None:
        self.random.choice(
            [self.window.show_bench, self.window.show_ladder, self.window.show_scan, self.window.show_trial]
        )()

    def tab(self) -> None:
        part = self.random.choice([self.window.bench.below, self.window.trial.tabs, self.window.trial.views])
        part.setCurrentIndex(self.random.randrange(min(part.count(), 5)))

    def wait(self) -> None:
        if self.random.random() < 0.4:
            self.calm(self.window)
        else:
            QTest.qWait(self.random.choice([0, 5, 30, 120]))


def switches_leave_nothing_over(window: Window, calm: Calm, both, seed: int, rounds: int, acts: int) -> None:  # type: ignore[no-untyped-def]
    switcher = Switcher(window, calm, seed)
    for _ in range(rounds):
        for _ in range(acts):
            switcher.act()
        assert not (found := both()), "\n".join([f"after {switcher.done[-acts:]}:", *found])


def test_what_is_in_sight_is_as_a_fresh_window_shows_it(window: Window, calm: Calm, both) -> None:  # type: ignore[no-untyped-def]
    switches_leave_nothing_over(window, calm, both, 0, 2, 12)


@pytest.mark.nightly
@pytest.mark.parametrize("seed", range(100, 130))
def test_what_is_in_sight_is_as_a_fresh_window_shows_it_again(window: Window, calm: Calm, both, seed: int) -> None:  # type: ignore[no-untyped-def]
    switches_leave_nothing_over(window, calm, both, seed, 6, 14)
