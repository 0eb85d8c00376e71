"""Starts the desk."""

from __future__ import annotations

import sys
import tempfile
import traceback
from types import TracebackType

import pyqtgraph as pg
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication

from oakladder.user.workspace import Workspace

from .look.theme import ui_font
from .model import Desk
from .sweeper import Sweeper
from .window import Window

_NAME = "Oak Ladder"


def make_app() -> QApplication:
    """The application object with the fonts and settings of the desk; set up once, however often it is asked for."""
    app = QApplication.instance() or QApplication(sys.argv[:1])
    assert isinstance(app, QApplication)
    if app.applicationName() == _NAME:
        return app
    app.setApplicationName(_NAME)
    app.setStyle("Fusion")
    app.setFont(ui_font())
    pg.setConfigOptions(antialias=False)
    Sweeper(app)
    sys.setswitchinterval(0.001)  # a worker that computes gives way to the window sooner
    return app


def make_window(workspace: Workspace) -> Window:
    """The window with the demo market, and with what was open last time."""
    desk = Desk(workspace, workspace.library())
    window = Window(desk)
    desk.restore()
    desk.ask_quotes()
    return window


def run_desk() -> int:
    """Opens the application; gives its exit code."""
    app = make_app()
    window = make_window(Workspace.default())

    def report(kind: type[BaseException], error: BaseException, trace: TracebackType | None) -> None:
        with tempfile.NamedTemporaryFile("w", prefix="oakladder-", suffix=".txt", delete=False) as file:
            traceback.print_exception(kind, error, trace, file=file)
        window.desk.trouble.emit(f"Something went wrong: {error}. Your work is safe; the details are in {file.name}.")

    sys.excepthook = report
    window.show()
    QTimer.singleShot(0, window.bench.chart.setFocus)
    return app.exec()
