"""Starts the desk."""

from __future__ import annotations

import atexit
import logging
import os
import signal
import sys
from types import TracebackType

from PyQt6 import sip
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication, QDialog, QHBoxLayout, QLabel, QPushButton, QVBoxLayout

from oakladder import log
from oakladder.alerts.alert import AlertProblem
from oakladder.alerts.store import ALERTS, AlertStore
from oakladder.app.jobs import sentence_of
from oakladder.app.main_thread import close_dispatchers
from oakladder.app.session import Session
from oakladder.bars.errors import DataProblem
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.gc_scheduler import GcScheduler, keep_for_good
from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.icon import icon
from oakladder.desk.look.theme import DAY, THEMES, style_sheet
from oakladder.desk.widgets.transient import answered
from oakladder.desk.window import Window
from oakladder.disk import is_regular
from oakladder.engine.run.malloc_tuning import return_freed_memory
from oakladder.locks import Waiting
from oakladder.user.workspace import Workspace

_log = logging.getLogger(__name__)
_NAME = "Oak Ladder"
#: The application lives as long as the process.
_held: list[QApplication] = []


def make_app() -> QApplication:
    """The application object with the fonts and settings of the desk; created on the first call."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    if app.applicationName() == _NAME:
        return app
    _held.append(app)
    atexit.register(_take_down)
    app.setApplicationName(_NAME)
    app.setStyle("Fusion")
    app.setFont(ui_font())
    app.setWindowIcon(icon())
    GcScheduler(app)
    return_freed_memory()
    sys.setswitchinterval(0.001)  # a worker that computes gives way to the window sooner
    return app


def _take_down() -> None:
    """Takes every window down at the end of the process, while the application still stands.

    What is registered last comes first, so this comes before the bindings do it: they delete one thing after the other
    while they walk over the table of all of them, and fall where a filter of ours is called meanwhile, which enlarges it.
    """
    close_dispatchers()
    for widget in QApplication.topLevelWidgets():
        if not sip.isdeleted(widget):
            sip.delete(widget)


def make_window(workspace: Workspace) -> Window:
    """The window with the demo market, and with what was open last time."""
    session = Session(workspace, workspace.library(), THEMES)
    window = Window(session)
    session.remembered.restore()
    session.watch_folders()
    session.watchlist.ask_quotes()
    session.packing.soon()
    return window


class StartTrouble(QDialog):
    """Says why the window cannot be opened; accepted to try again."""

    def __init__(self, sentence: str):
        super().__init__()
        self.setWindowTitle(_NAME)
        self.setStyleSheet(style_sheet(DAY))
        words = QLabel(f"Oak Ladder cannot start yet. {sentence} Nothing of yours was changed.")
        words.setWordWrap(True)
        words.setMinimumWidth(420)
        again, leave = QPushButton("Try again"), QPushButton("Quit")
        again.clicked.connect(self.accept)
        leave.clicked.connect(self.reject)
        row = QHBoxLayout()
        row.addStretch(1)
        row.addWidget(again)
        row.addWidget(leave)
        layout = QVBoxLayout(self)
        layout.addWidget(words)
        layout.addLayout(row)


def open_window(workspace: Workspace) -> Window | None:
    """The window; what keeps it from opening is said and tried again as often as the user wants. None to leave."""
    while True:
        try:
            return make_window(workspace)
        except (DataProblem, OSError) as error:
            _log.error("the window cannot be opened: %s", error)
            if not answered(StartTrouble(sentence_of(error))):
                return None


def show_alert(session: Session, row_id: str) -> None:
    """Shows what an alert told: its symbol and timeframe with the bar pinned, and its script where that is there still."""
    try:
        row = AlertStore(session.workspace.data / ALERTS).row(row_id)
    except AlertProblem as error:
        session.status.emit(str(error))
        return
    if row is None:
        session.status.emit("What this alert told is no longer in the log.")
        return
    path = session.workspace.scripts / row.script
    if row.script and is_regular(path):
        session.rule.open(path)
    session.chart.go_to(row.symbol, Timeframe.parse(row.timeframe), row.bar)


def run_desk(alert: str | None = None) -> int:
    """Opens the application, with what an alert told where its row is named; gives its exit code."""
    log.set_up()
    Waiting.role = "Oak Ladder's window"
    app = make_app()
    window = open_window(Workspace.default())
    if window is None:
        return 1
    session = window.session

    def report(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        if issubclass(kind, KeyboardInterrupt):
            app.quit()
            return
        _log.error("an unexpected error", exc_info=(kind, error, trace))
        session.status.emit(sentence_of(error))
        # Nothing that was at hand where it was raised is held until the next error comes.
        sys.last_type = sys.last_value = sys.last_traceback = None

    sys.excepthook = report
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):  # as if the user left: everything is saved
        signal.signal(number, lambda *_: QTimer.singleShot(0, app.closeAllWindows))
    window.places.complete.connect(keep_for_good)
    window.show()
    if alert is not None:
        show_alert(session, alert)
    QTimer.singleShot(0, window.bench.chart.setFocus)
    code = app.exec()
    logging.shutdown()
    if not session.jobs.ended():  # everything is saved; running computations are abandoned
        os._exit(code)
    return code
