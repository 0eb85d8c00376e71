"""The window: the places, the line above them, the shortcuts, the palette."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import TYPE_CHECKING

from PyQt6.QtCore import QPoint, QSize, QUrl
from PyQt6.QtGui import QAction, QCloseEvent, QDesktopServices, QKeySequence, QShowEvent
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.actions import ACTIONS, Action, hinted
from oakladder.app.basis import Part
from oakladder.app.chart_options import BarStyle, ChartOptions, ScaleKind
from oakladder.app.first_steps import FirstStepsTracker
from oakladder.app.picked_symbol import PickedSymbol
from oakladder.app.session import Session
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.bench.place import Bench
from oakladder.desk.bench.watch_signal import watch_signal
from oakladder.desk.choices import choices, made_of
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import DAY, NIGHT, palette, style_sheet, theme_of
from oakladder.desk.palette import Palette
from oakladder.desk.places import ALERTS, BENCH, DATA, LADDER, SCAN, TRIAL, Places
from oakladder.desk.quit_dialogs import may_leave
from oakladder.desk.styling import Styling
from oakladder.desk.widgets.activity import Activity
from oakladder.desk.widgets.live_switch import LiveSwitch
from oakladder.desk.widgets.status import StatusLine
from oakladder.desk.widgets.steps import StepStrip
from oakladder.desk.widgets.transient import SHEET, PlainMenu
from oakladder.log import log_file

if TYPE_CHECKING:  # see `places`
    from oakladder.desk.alerts.place import AlertsPlace
    from oakladder.desk.data.place import DataPlace
    from oakladder.desk.ladder.place import LadderPlace
    from oakladder.desk.scan.place import ScanPlace
    from oakladder.desk.trial.place import TrialPlace

#: Checkable actions of the chart's menu, and when they are checked; and the actions after a separator.
_TICKED: dict[str, Callable[[ChartOptions], bool]] = {
    "show_candles": lambda o: o.style is BarStyle.CANDLES,
    "show_bars": lambda o: o.style is BarStyle.BARS,
    "show_line": lambda o: o.style is BarStyle.LINE,
    "show_averaged": lambda o: o.style is BarStyle.AVERAGED,
    "scale_plain": lambda o: o.scale is ScaleKind.PLAIN,
    "scale_log": lambda o: o.scale is ScaleKind.LOG,
    "scale_percent": lambda o: o.scale is ScaleKind.PERCENT,
    "toggle_extended": lambda o: o.extended,
    "toggle_as_known": lambda o: o.as_known,
}
_SEPARATED = frozenset(["scale_plain", "toggle_extended", "go_to_date", "add_line", "copy_picture"])


class Window(QMainWindow):
    """Holds the places and dispatches the actions of `actions.ACTIONS` to the methods of the same name."""

    def __init__(self, session: Session):
        super().__init__()
        self.session = session
        self.setWindowTitle("Oak Ladder")
        self.places = Places(session)
        self._buttons = QButtonGroup(self)
        #: The actions by name, as menus show them.
        self.action_by_name: dict[str, QAction] = {}
        self.learning, self.step_strip = FirstStepsTracker(session, self), StepStrip()
        self.learning.changed.connect(lambda: self.step_strip.show_steps(self.learning.steps))
        self.step_strip.put_away.connect(self.learning.put_away)
        self.bench.strip.asked.connect(lambda _: self.learning.went_to_signal())
        self.places.scanned.connect(self.learning.scanned)
        self.status = StatusLine(self._state)
        self.live = LiveSwitch(session.live)
        self.activity = Activity(session.jobs)
        self.palette_dialog = Palette(lambda typed: made_of(typed, self.bench, self.go_to), self)
        self._styling = Styling(lambda: style_sheet(theme_of(session)), self)
        session.waits.append(self._styling.is_waiting)
        self._lay_out()
        for action in ACTIONS:
            made = QAction(action.words, self)
            made.setShortcut(QKeySequence(action.shortcut))
            made.triggered.connect(self.doer(action))
            self.addAction(made)
            self.action_by_name[action.name] = made
        self._fill_show_menu()
        self.bench.chart.typed.connect(self.open_palette)
        self.bench.charts.typed.connect(self.open_palette)
        session.chart.options_changed.connect(lambda _: self._tick_show_menu())
        self.places.picked.connect(self._open)
        self.places.taken.connect(session.library_changed)
        session.bars_changed.connect(self._library_changed)
        self.places.built.connect(self._style_place)
        session.chart.theme_changed.connect(lambda _: self._apply_theme())
        session.status.connect(self.status.say)
        session.basis.changed.connect(self.status.look)
        self.places.currentChanged.connect(lambda _: self.status.look())
        session.trouble.connect(self.status.trouble)
        session.lists_changed.connect(self._lists_changed)
        self._apply_theme()
        self.resize(QSize(1280, 800))
        self.setMinimumSize(800, 560)

    @property
    def bench(self) -> Bench:
        return self.places.bench

    @property
    def ladder(self) -> LadderPlace:
        return self.places.ladder

    @property
    def scan(self) -> ScanPlace:
        return self.places.scan

    @property
    def trial(self) -> TrialPlace:
        return self.places.trial

    @property
    def alerts(self) -> AlertsPlace:
        return self.places.alerts

    @property
    def data(self) -> DataPlace:
        return self.places.data

    def _state(self) -> object:
        """What sentences may be about; None while a script is being opened, which changes several things in turn."""
        if not self.session.rule.is_judged:
            return None
        parts = (Part.RULE, Part.SETTINGS, Part.SYMBOL, Part.FRAME, Part.LIST, Part.GROUND)
        return self.places.currentIndex(), [self.session.basis.value(part) for part in parts]

    def _lay_out(self) -> None:
        self.top = QWidget(objectName="top")
        row = QHBoxLayout(self.top)
        row.setContentsMargins(TIGHT, 0, GAP, 0)
        row.setSpacing(HAIR)
        row.addWidget(QLabel("Oak Ladder", objectName="brand"))
        shown = (
            ("Bench", self.show_bench),
            ("Ladder", self.show_ladder),
            ("Scan", self.show_scan),
            ("Trial", self.show_trial),
            ("Data", self.show_data),
            ("Alerts", self.show_alerts),
        )
        for k, (words, go_there) in enumerate(shown):
            button = QToolButton(text=words, checkable=True, objectName="place")
            button.setToolTip(f"{words} (Alt+{k + 1})")
            button.clicked.connect(lambda _, go=go_there: go())
            self._buttons.addButton(button, k)
            button.setChecked(not k)
            row.addWidget(button)
        row.addSpacing(14)
        row.addWidget(self.status, 1)
        row.addWidget(self.activity)
        row.addSpacing(GAP)
        row.addWidget(self.live)
        for words, hint, go in (
            ("Find  Ctrl+K", hinted("Find an action, symbol, timeframe or script", "open_palette"), self.open_palette),
            ("Day / night  F9", hinted("Day or night theme", "toggle_night"), self.toggle_night),
        ):
            button = QToolButton(text=words)
            button.setToolTip(hint)
            button.clicked.connect(lambda _, go=go: go())
            row.addWidget(button)
        whole = QWidget(objectName="place")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.top)
        column.addWidget(self.step_strip)
        column.addWidget(self.places, 1)
        self.setCentralWidget(whole)

    def doer(self, action: Action) -> Callable[[], None]:
        """What carries out an action."""
        who = {"window": self, "bench": self.bench, "chart": self.bench.commands, "script": self.bench.script}

        def run() -> None:
            if action.by == "trial":
                self.show_trial()
            elif action.by == "bench":
                self._show(BENCH)
            by = self.trial if action.by == "trial" else who[action.by]
            go: Callable[[], None] = getattr(by, action.name)
            go()

        return run

    def _fill_show_menu(self) -> None:
        """The menu above the chart: the actions of its group."""
        menu = PlainMenu(self.bench)
        for group in ("Chart", "Replay"):
            for action in (a for a in ACTIONS if a.group == group):
                if action.name in _SEPARATED:
                    menu.addSeparator()
                made = self.action_by_name[action.name]
                made.setCheckable(action.name in _TICKED)
                menu.addAction(made)
            menu.addSeparator()
        self.bench.show_button.setMenu(menu)
        self._tick_show_menu()

    def _tick_show_menu(self) -> None:
        for name, test in _TICKED.items():
            self.action_by_name[name].setChecked(test(self.session.chart.options))

    def _apply_theme(self) -> None:
        """Colours by day or by night, what is in sight first."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.setPalette(palette(theme_of(self.session)))
        self.setProperty(SHEET, style_sheet(theme_of(self.session)))
        there = sorted(self.places.there(), key=lambda place: place is not self.places.currentWidget())
        self._styling.ask([self.top, self.step_strip, *there, self.palette_dialog])
        if self.isVisible():
            self._styling.go_on()

    def _style_place(self, place: QWidget) -> None:
        """A place that has just been made is styled when there is time, if it is not shown before."""
        self._styling.also(place)

    def showEvent(self, event: QShowEvent | None) -> None:
        for part in (self.top, self.step_strip, self.places.place(self.places.currentIndex())):
            self._styling.now(part)
        self.step_strip.show_steps(self.learning.steps)
        self._styling.go_on()
        self.places.make_the_rest()
        super().showEvent(event)

    # --- actions ----------------------------------------------------------------------------------

    def _show(self, k: int) -> None:
        self.session.library_watch.soon()
        self._styling.now(self.places.place(k))
        self.places.go_to(k)
        button = self._buttons.button(k)
        assert button is not None
        button.setChecked(True)

    def show_bench(self) -> None:
        self._show(BENCH)
        if self.bench.watchlist.lists.count():
            self.bench.show_list(self.session.watchlist.list_name)  # lists may have changed in another place
        self.bench.chart.setFocus()

    def show_ladder(self) -> None:
        self._show(LADDER)
        self.ladder.enter()

    def show_scan(self) -> None:
        self._show(SCAN)
        self.scan.enter()

    def show_trial(self) -> None:
        self._show(TRIAL)
        self.trial.enter()

    def show_alerts(self) -> None:
        self._show(ALERTS)

    def show_data(self) -> None:
        self._show(DATA)
        self.data.enter()

    def next_trade(self) -> None:
        self.bench.step_trade(True)

    def previous_trade(self) -> None:
        self.bench.step_trade(False)

    def focus_list(self) -> None:
        self._show(BENCH)
        self.bench.folding.show(self.bench.watchlist)
        self.bench.watchlist.table.setFocus()

    def choose_columns(self) -> None:
        self.focus_list()
        self.bench.watchlist.columns_button.click()

    def add_column(self) -> None:
        self.show_ladder()
        self.ladder.ask_column()

    def focus_chart(self) -> None:
        self.show_bench()

    def focus_script(self) -> None:
        self._show(BENCH)
        self.bench.folding.show(self.bench.side)
        self.bench.script.editor.setFocus()

    def next_symbol(self) -> None:
        self.bench.watchlist.step(1)

    def previous_symbol(self) -> None:
        self.bench.watchlist.step(-1)

    def longer_timeframe(self) -> None:
        self.session.chart.step_timeframe(1)

    def shorter_timeframe(self) -> None:
        self.session.chart.step_timeframe(-1)

    def next_signal(self) -> None:
        self.bench.step_signal(True)
        self.learning.went_to_signal()

    def previous_signal(self) -> None:
        self.bench.step_signal(False)
        self.learning.went_to_signal()

    def fold_list(self) -> None:
        self.bench.folding.turn(self.bench.watchlist)

    def fold_script(self) -> None:
        self.bench.folding.turn(self.bench.side)

    def fold_why(self) -> None:
        self.bench.folding.show(self.bench.side)
        self.bench.fold_why()

    def go_to_date(self) -> None:
        self.open_palette("", "A date, as in 2026-03-12 or 12 Mar 2026")

    def new_script(self) -> None:
        self._show(BENCH)
        self.bench.script.ask_new()

    def run_scan(self) -> None:
        if self.places.currentIndex() != SCAN:
            self.show_scan()
        self.scan.run()

    def show_first_steps(self) -> None:
        self.learning.bring_back()

    def open_log(self) -> None:
        """Opens the log of unexpected errors, and shows its path."""
        path = log_file()
        if path.exists():
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))
        self.session.status.emit(f"The log is {path}." if path.exists() else f"The log is empty. It will be {path}.")

    def watch_signal(self) -> None:
        """Makes an alert of the signal that Why explains."""
        names = self.bench.why.signals
        offered = [names.itemText(k) for k in range(names.count())]
        program = self.session.rule.program
        signals = [o.name for o in program.signals] if program is not None else []
        chosen = names.currentText() if names.currentText() in signals else ""
        watch_signal(self.session, [s for s in offered if s in signals] or signals, chosen, self)

    def toggle_live(self) -> None:
        self.session.live.toggle()

    def toggle_night(self) -> None:
        self.session.chart.set_theme(NIGHT if theme_of(self.session) is DAY else DAY)

    def stop_waiting(self) -> None:
        """Gives up what waits to be written while another program holds its place."""
        stopped = self.session.jobs.stop_writing()
        words = "Cancelled. What was not written yet stays as it was."
        self.session.status.emit(words if stopped else "Nothing waits for another program.")

    def quit(self) -> None:
        self.close()

    def open_palette(self, typed: str = "", hint: str = "") -> None:
        """Everything that can be done or opened, in one list; ``typed`` is there already."""
        corner = self.mapToGlobal(QPoint((self.width() - self.palette_dialog.width()) // 2, 60))
        self.palette_dialog.move(corner)
        self._styling.now(self.palette_dialog)
        self.palette_dialog.open_with(choices(self.session, self.bench, self.doer, self.go_to), typed, hint)

    def go_to(self, symbol: str | None = None, timeframe: Timeframe | None = None) -> None:
        self.show_bench()
        self.session.chart.go_to(symbol, timeframe)

    def _library_changed(self) -> None:
        """New symbols or bars are there: everything that shows symbols shows them too."""
        self.bench.show_list(self.session.watchlist.list_name)
        self._fill_lists()

    def _open(self, pick: PickedSymbol) -> None:
        """Shows on the Bench what was picked elsewhere, with the script and settings that it was found by."""
        if pick.script is not None and (
            pick.script != self.session.script.path
            or (pick.settings and dict(pick.settings) != self.session.rule.settings)
        ):
            self.session.rule.open(pick.script, dict(pick.settings))
        if pick.extended is not None and pick.extended != self.session.chart.options.extended:
            self.session.chart.set_options(replace(self.session.chart.options, extended=pick.extended))
        self.show_bench()
        self.session.chart.go_to(pick.symbol, pick.timeframe, pick.time)

    def _lists_changed(self) -> None:
        """Lists are otherwise, by another program: the place in sight shows them, the others when they are entered."""
        self.bench.show_list(self.session.watchlist.list_name)
        self._fill_lists()

    def _fill_lists(self) -> None:
        """The place in sight offers the lists that there are now; the others do when they are entered."""
        place = self.places.currentIndex()
        if place == LADDER:
            self.ladder.fill_lists(self.ladder.lists.currentText())
        elif place == SCAN:
            self.scan.refresh()
        elif place == TRIAL:
            self.trial.fill_lists()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Leaves, once every text is in its file or the user has said that it may stay out."""
        if event is None:
            return
        if not may_leave(self.session, self.places.currentWidget() or self):
            event.ignore()
            return
        self.places.make_no_more()
        if self.session.live.is_on:
            self.hide()  # what follows the feed beside the window takes a moment to end
        self.session.close()
        event.accept()
