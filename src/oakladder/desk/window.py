"""The window: the places, the line above them, the shortcuts, the palette."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

from PyQt6.QtCore import QPoint, QSize, QUrl
from PyQt6.QtGui import QAction, QCloseEvent, QDesktopServices, QKeySequence, QShowEvent
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.bars.timeframes import STANDARD, Timeframe
from oakladder.desk.actions import ACTIONS, Action, hinted
from oakladder.desk.bench.place import Bench
from oakladder.desk.chart_options import BarStyle, ChartOptions, ScaleKind
from oakladder.desk.data.place import DataPlace
from oakladder.desk.ladder.place import LadderPlace
from oakladder.desk.learning import Learning
from oakladder.desk.leaving import may_leave
from oakladder.desk.look.distances import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import DAY, NIGHT, palette, style_sheet
from oakladder.desk.palette import Palette, PaletteLine, day_of
from oakladder.desk.pick import PickedSymbol
from oakladder.desk.scan.place import ScanPlace
from oakladder.desk.session import Desk
from oakladder.desk.styling import Styling
from oakladder.desk.trial.place import TrialPlace
from oakladder.desk.widgets.activity import Activity
from oakladder.desk.widgets.status import StatusLine
from oakladder.desk.widgets.steps import StepStrip
from oakladder.engine.picture.parts import PRICE, VOLUME
from oakladder.log import log_file

#: Actions of the chart's menu that are ticked, and when; and those that a line stands above.
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

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk = desk
        self.setWindowTitle("Oak Ladder")
        self.bench, self.ladder, self.scan = Bench(desk), LadderPlace(desk), ScanPlace(desk)
        self.trial, self.data = TrialPlace(desk), DataPlace(desk)
        self.places = QStackedWidget()
        for place in self._places():
            self.places.addWidget(place)
        self._buttons = QButtonGroup(self)
        #: The actions by name, as menus show them.
        self.deeds: dict[str, QAction] = {}
        self.learning, self.step_strip = Learning(desk, self), StepStrip()
        self.learning.changed.connect(lambda: self.step_strip.show_steps(self.learning.steps))
        self.step_strip.put_away.connect(self.learning.put_away)
        self.bench.strip.asked.connect(lambda _: self.learning.went_to_signal())
        self.scan.ran.connect(self.learning.scanned)
        self.status = StatusLine()
        self.activity = Activity(desk.jobs.working)
        self.palette_dialog = Palette(self._made_of, self)
        self._styling = Styling(lambda: style_sheet(desk.looking.theme), self)
        self._lay_out()
        for action in ACTIONS:
            made = QAction(action.words, self)
            made.setShortcut(QKeySequence(action.shortcut))
            made.triggered.connect(self.doer(action))
            self.addAction(made)
            self.deeds[action.name] = made
        self._fill_show_menu()
        self.bench.chart.typed.connect(self.open_palette)
        self.bench.charts.typed.connect(self.open_palette)
        desk.looking.options_changed.connect(lambda _: self._tick_show_menu())
        self.scan.picked.connect(self._open)
        self.ladder.picked.connect(self._open)
        self.trial.picked.connect(self._open)
        self.trial.write_asked.connect(self.bench.script.write_trade)
        self.trial.text_asked.connect(self.bench.script.show_tried)
        self.data.taken.connect(self._library_changed)
        desk.looking.theme_changed.connect(lambda _: self._apply_theme())
        desk.status.connect(self.status.say)
        desk.trouble.connect(self.status.trouble)
        desk.lists_changed.connect(self._lists_changed)
        self._apply_theme()
        self.resize(QSize(1280, 800))
        self.setMinimumSize(800, 520)

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
        who = {"window": self, "bench": self.bench, "chart": self.bench.deeds, "script": self.bench.script}
        by = self.trial if action.by == "trial" else who[action.by]
        go: Callable[[], None] = getattr(by, action.name)

        def carry_out() -> None:
            if by is self.trial:
                self.show_trial()
            elif by is self.bench:
                self._show(0)
            go()

        return carry_out

    def _fill_show_menu(self) -> None:
        """The menu above the chart: the actions of its group."""
        menu = QMenu(self.bench)
        for group in ("Chart", "Replay"):
            for action in (a for a in ACTIONS if a.group == group):
                if action.name in _SEPARATED:
                    menu.addSeparator()
                made = self.deeds[action.name]
                made.setCheckable(action.name in _TICKED)
                menu.addAction(made)
            menu.addSeparator()
        self.bench.show_button.setMenu(menu)
        self._tick_show_menu()

    def _tick_show_menu(self) -> None:
        for name, test in _TICKED.items():
            self.deeds[name].setChecked(test(self.desk.looking.options))

    def _apply_theme(self) -> None:
        """Colours by day or by night, what is in sight first."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.setPalette(palette(self.desk.looking.theme))
        places = (part for p in (self.places.currentWidget(), *self._places()) for part in self._parts(p))
        self._styling.ask([self.top, self.step_strip, *places, self.palette_dialog])
        if self.isVisible():
            self._styling.go_on()

    def _places(self) -> list[QWidget]:
        return [self.bench, self.ladder, self.scan, self.trial, self.data]

    def _parts(self, place: QWidget | None, *, in_sight: bool = False) -> Sequence[QWidget | None]:
        return self.trial.parts(in_sight=in_sight) if place is self.trial else [place]

    def showEvent(self, event: QShowEvent | None) -> None:
        for part in (self.top, self.step_strip, *self._parts(self.places.currentWidget(), in_sight=True)):
            self._styling.now(part)
        self.step_strip.show_steps(self.learning.steps)
        self._styling.go_on()
        super().showEvent(event)

    # --- actions ----------------------------------------------------------------------------------

    def _show(self, k: int) -> None:
        if self.desk.library.fresh():
            self._library_changed()
        for part in self._parts(self.places.widget(k), in_sight=True):
            self._styling.now(part)
        if self.places.widget(k) is not self.trial:
            self.trial.leave()
        self.places.setCurrentIndex(k)
        button = self._buttons.button(k)
        assert button is not None
        button.setChecked(True)

    def show_bench(self) -> None:
        self._show(0)
        if self.bench.watchlist.lists.count():
            self.bench.show_list(self.desk.watched.list_name)  # lists may have changed in another place
        self.bench.chart.setFocus()

    def show_ladder(self) -> None:
        self._show(1)
        self.ladder.enter()

    def show_scan(self) -> None:
        self._show(2)
        self.scan.enter()

    def show_trial(self) -> None:
        self._show(3)
        self.trial.enter()

    def show_data(self) -> None:
        self._show(4)

    def next_trade(self) -> None:
        self.bench.step_trade(True)

    def previous_trade(self) -> None:
        self.bench.step_trade(False)

    def focus_list(self) -> None:
        self._show(0)
        self.bench.watchlist.show()
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
        self._show(0)
        self.bench.side.show()
        self.bench.script.editor.setFocus()

    def next_symbol(self) -> None:
        self.bench.watchlist.step(1)

    def previous_symbol(self) -> None:
        self.bench.watchlist.step(-1)

    def longer(self) -> None:
        self.desk.looking.step_timeframe(1)

    def shorter(self) -> None:
        self.desk.looking.step_timeframe(-1)

    def next_signal(self) -> None:
        self.bench.step_signal(True)
        self.learning.went_to_signal()

    def previous_signal(self) -> None:
        self.bench.step_signal(False)
        self.learning.went_to_signal()

    def fold_list(self) -> None:
        self.bench.fold(self.bench.watchlist)

    def fold_script(self) -> None:
        self.bench.fold(self.bench.side)

    def fold_why(self) -> None:
        self.bench.side.show()
        self.bench.fold_why()

    def go_to_date(self) -> None:
        self.open_palette("", "A date, as in 2026-03-12 or 12 Mar 2026")

    def new_script(self) -> None:
        self._show(0)
        self.bench.script.ask_new()

    def run_scan(self) -> None:
        if self.places.currentWidget() is not self.scan:
            self.show_scan()
        self.scan.run()

    def show_first_steps(self) -> None:
        self.learning.bring_back()

    def open_log(self) -> None:
        """Opens the file that errors nobody foresaw are written into, and says where it is."""
        path = log_file()
        if path.exists():
            QDesktopServices.openUrl(QUrl.fromLocalFile(str(path)))
        self.desk.status.emit(
            f"The log is {path}." if path.exists() else f"Nothing is in the log yet. It will be {path}."
        )

    def toggle_night(self) -> None:
        self.desk.looking.set_theme(NIGHT if self.desk.looking.theme is DAY else DAY)

    def quit(self) -> None:
        self.close()

    def open_palette(self, typed: str = "", hint: str = "") -> None:
        """Everything that can be done or opened, in one list; ``typed`` is there already."""
        corner = self.mapToGlobal(QPoint((self.width() - self.palette_dialog.width()) // 2, 60))
        self.palette_dialog.move(corner)
        self._styling.now(self.palette_dialog)
        self.palette_dialog.open_with(self._choices(), typed, hint)

    def _choices(self) -> list[PaletteLine]:
        made = [
            PaletteLine(f"{i.symbol}  {i.name}", i.sector, lambda s=i.symbol: self._go(symbol=s))  # type: ignore[misc]
            for i in self.desk.library.infos.values()
        ]
        made += [PaletteLine(f"Timeframe {t}", "", lambda t=t: self._go(timeframe=t)) for t in STANDARD]  # type: ignore[misc]
        hints = {"open_log": str(log_file())}
        made += [
            PaletteLine(a.words, hints.get(a.name, a.shortcut), self.doer(a))
            for a in ACTIONS
            if a.name != "open_palette"
        ]
        for path in self.desk.workspace.script_files():
            title = path.stem.replace("_", " ")
            made.append(PaletteLine(f"Script {title}", "", lambda p=path: self.desk.rule.open(p)))  # type: ignore[misc]
            made.append(PaletteLine(f"Beside: {title}", "", lambda p=path: self.bench.deeds.put_beside(p)))  # type: ignore[misc]
        for name, pane in self.bench.chart.panes.items():
            if name != PRICE:
                word = "Open" if pane.folded else "Fold"
                made.append(PaletteLine(f"{word} the pane {name}", "", lambda n=name: self.bench.chart.fold_pane(n)))  # type: ignore[misc]
            if name not in (PRICE, VOLUME):
                for words, by in (("up", -1), ("down", 1)):
                    go = partial(self.bench.chart.move_pane, name, by)
                    made.append(PaletteLine(f"Move the pane {name} {words}", "", go))
        return made

    def _made_of(self, typed: str) -> list[PaletteLine]:
        """What the typed words themselves mean: a timeframe of any length, a date, a line to draw."""
        made = []
        with contextlib.suppress(ValueError):
            frame = Timeframe.parse(typed)
            made.append(PaletteLine(f"Timeframe {frame}", "", lambda: self._go(timeframe=frame)))
        day = day_of(typed)
        if day is not None:
            made.append(PaletteLine(f"Go to {day.item():%d %b %Y}", "", lambda: self.bench.deeds.go_to_day(day)))
        return made

    def _go(self, symbol: str | None = None, timeframe: Timeframe | None = None) -> None:
        self.show_bench()
        self.desk.looking.go_to(symbol, timeframe)

    def _library_changed(self) -> None:
        """New symbols or bars are there: everything that shows symbols shows them too."""
        self.bench.show_list(self.desk.watched.list_name)
        self.desk.library_changed()

    def _open(self, pick: PickedSymbol) -> None:
        """Shows on the Bench what was picked elsewhere, with the script and settings that it was found by."""
        if pick.script is not None and (
            pick.script != self.desk.script.path or (pick.settings and dict(pick.settings) != self.desk.rule.settings)
        ):
            self.desk.rule.open(pick.script, dict(pick.settings))
        if pick.extended is not None and pick.extended != self.desk.looking.options.extended:
            self.desk.looking.set_options(replace(self.desk.looking.options, extended=pick.extended))
        self.show_bench()
        self.desk.looking.go_to(pick.symbol, pick.timeframe, pick.time)

    def _lists_changed(self) -> None:
        """Lists are otherwise, by another program: the place in sight shows them, the others when they are entered."""
        self.bench.show_list(self.desk.watched.list_name)
        if self.places.currentWidget() is self.ladder:
            self.ladder.enter()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Leaves, once every text is in its file or the user has said that it may stay out."""
        if event is None:
            return
        if not may_leave(self.desk, self.places.currentWidget() or self):
            event.ignore()
            return
        self.desk.close()
        event.accept()
