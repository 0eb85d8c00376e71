"""The window: the places, the line above them, the shortcuts, the palette."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QSize, Qt
from PyQt6.QtGui import QAction, QCloseEvent, QKeySequence
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.bars.timeframes import STANDARD, Timeframe

from .actions import ACTIONS
from .bench.place import Bench
from .look.theme import DAY, NIGHT, palette, style_sheet
from .model import Desk
from .palette import Choice, Palette
from .scan.place import ScanPlace


class Window(QMainWindow):
    """Holds the places and dispatches the actions of `actions.ACTIONS` to the methods of the same name."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk = desk
        self.setWindowTitle("Oak Ladder")
        self.bench, self.scan = Bench(desk), ScanPlace(desk)
        self.places = QStackedWidget()
        self.places.addWidget(self.bench)
        self.places.addWidget(self.scan)
        self._buttons = QButtonGroup(self)
        self.status = QLabel(objectName="status")
        self._lay_out()
        for action in ACTIONS:
            made = QAction(action.words, self)
            made.setShortcut(QKeySequence(action.shortcut))
            made.triggered.connect(getattr(self, action.name))
            self.addAction(made)
        self.scan.picked.connect(self._open_hit)
        desk.theme_changed.connect(lambda _: self._apply_theme())
        desk.status.connect(self._say)
        desk.trouble.connect(self._say)
        self._apply_theme()
        self.resize(QSize(1280, 800))
        self.setMinimumSize(800, 520)

    def _lay_out(self) -> None:
        top = QWidget(objectName="top")
        row = QHBoxLayout(top)
        row.setContentsMargins(4, 0, 8, 0)
        row.setSpacing(2)
        row.addWidget(QLabel("Oak Ladder", objectName="brand"))
        for k, (words, hint) in enumerate((("Bench", "Alt+1"), ("Scan", "Alt+2"))):
            button = QToolButton(text=words, checkable=True, objectName="place")
            button.setToolTip(f"{words} ({hint})")
            button.clicked.connect(self.show_bench if k == 0 else self.show_scan)
            self._buttons.addButton(button, k)
            row.addWidget(button)
        row.addSpacing(14)
        row.addWidget(self.status, 1)
        self.status.setMinimumWidth(20)
        for words, hint, go in (
            ("Find  Ctrl+K", "Find an action, symbol, timeframe or script", self.open_palette),
            ("Day / night  F9", "Day or night theme", self.toggle_night),
        ):
            button = QToolButton(text=words)
            button.setToolTip(hint)
            button.clicked.connect(go)
            row.addWidget(button)
        whole = QWidget(objectName="place")
        column = QVBoxLayout(whole)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(top)
        column.addWidget(self.places, 1)
        self.setCentralWidget(whole)
        first = self._buttons.button(0)
        assert first is not None
        first.setChecked(True)

    def _say(self, sentence: str) -> None:
        self.status.setText(sentence)
        self.status.setToolTip(sentence)

    def _apply_theme(self) -> None:
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        app.setPalette(palette(self.desk.theme))
        app.setStyleSheet(style_sheet(self.desk.theme))

    # --- actions ----------------------------------------------------------------------------------

    def _show(self, k: int) -> None:
        self.places.setCurrentIndex(k)
        button = self._buttons.button(k)
        assert button is not None
        button.setChecked(True)

    def show_bench(self) -> None:
        self._show(0)
        self.bench.chart.setFocus()

    def show_scan(self) -> None:
        self._show(1)
        self.scan.enter()

    def focus_list(self) -> None:
        self._show(0)
        self.bench.watchlist.show()
        self.bench.watchlist.table.setFocus()

    def focus_chart(self) -> None:
        self.show_bench()

    def focus_script(self) -> None:
        self._show(0)
        self.bench.script.show()
        self.bench.script.editor.setFocus()

    def next_symbol(self) -> None:
        self.bench.watchlist.step(1)

    def previous_symbol(self) -> None:
        self.bench.watchlist.step(-1)

    def longer(self) -> None:
        self.desk.step_timeframe(1)

    def shorter(self) -> None:
        self.desk.step_timeframe(-1)

    def next_signal(self) -> None:
        self.bench.step_signal(True)

    def previous_signal(self) -> None:
        self.bench.step_signal(False)

    def fold_list(self) -> None:
        self.bench.fold(self.bench.watchlist)

    def fold_script(self) -> None:
        self.bench.fold(self.bench.script)

    def new_script(self) -> None:
        self._show(0)
        self.bench.script.ask_new()

    def run_scan(self) -> None:
        if self.places.currentWidget() is not self.scan:
            self.show_scan()
        self.scan.run()

    def toggle_night(self) -> None:
        self.desk.set_theme(NIGHT if self.desk.theme is DAY else DAY)

    def quit(self) -> None:
        self.close()

    def open_palette(self) -> None:
        """Everything that can be done or opened, in one list."""
        self.palette_dialog = Palette(self._choices(), self)
        corner = self.mapToGlobal(QPoint((self.width() - self.palette_dialog.width()) // 2, 60))
        self.palette_dialog.move(corner)
        self.palette_dialog.show()
        self.palette_dialog.line.setFocus(Qt.FocusReason.PopupFocusReason)

    def _choices(self) -> list[Choice]:
        made = [Choice(a.words, a.shortcut, getattr(self, a.name)) for a in ACTIONS if a.name != "open_palette"]
        made += [Choice(f"Timeframe {t}", "", lambda t=t: self._go(timeframe=t)) for t in STANDARD]  # type: ignore[misc]
        made += [
            Choice(f"Script {p.stem.replace('_', ' ')}", "", lambda p=p: self.desk.open_script(p))  # type: ignore[misc]
            for p in self.desk.workspace.script_files()
        ]
        made += [
            Choice(f"{i.symbol}  {i.name}", i.sector, lambda s=i.symbol: self._go(symbol=s))  # type: ignore[misc]
            for i in self.desk.library.infos.values()
        ]
        return made

    def _go(self, symbol: str | None = None, timeframe: Timeframe | None = None) -> None:
        self.show_bench()
        self.desk.go_to(symbol, timeframe)

    def _open_hit(self, symbol: str, timeframe: Timeframe, time: int) -> None:
        path = self.scan.script.currentData()
        if path is not None and path != self.desk.path:
            self.desk.open_script(path)
        self.show_bench()
        self.desk.go_to(symbol, timeframe, time)

    def closeEvent(self, event: QCloseEvent | None) -> None:
        self.desk.close()
        if event is not None:
            event.accept()
