"""Notices the first steps as they are done in the window."""

from __future__ import annotations

from importlib.resources import files

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.rule import is_new_script
from oakladder.app.session import Session
from oakladder.user.first_steps import FirstSteps
from oakladder.user.scans import ScanLine

_HOUR = "1h"


class FirstStepsTracker(QObject):
    """``changed`` tells that a step is done, or that the strip comes or goes."""

    changed = pyqtSignal()

    def __init__(self, session: Session, parent: QObject | None = None):
        super().__init__(parent)
        self._session = session
        self._demo = {f.name for f in files("oakladder.demo").joinpath("scripts").iterdir()}
        session.chart.place_changed.connect(self._place_changed)
        session.rule.changed.connect(lambda: self._did("setting") if session.rule.settings else None)
        session.rule.compiled.connect(lambda _: self._compiled())

    @property
    def steps(self) -> FirstSteps:
        """How far the user is."""
        return self._session.remembered.steps

    def _did(self, name: str) -> None:
        if name not in self.steps.done and not self.steps.away:
            self.steps.done.add(name)
            self._session.remembered.soon()
            self.changed.emit()

    def _place_changed(self) -> None:
        if str(self._session.chart.timeframe) == _HOUR:
            self._did("hour")

    def went_to_signal(self) -> None:
        """The user has gone from signal to signal."""
        self._did("signal")

    def _compiled(self) -> None:
        path, program = self._session.script.path, self._session.rule.program
        own = path is not None and path.name not in self._demo and not is_new_script(self._session.script.text)
        if own and program is not None and program.signals:
            self._did("rule")

    def scanned(self, lines: list[ScanLine]) -> None:
        """A scan has run."""
        if any(line.script and line.script not in self._demo for line in lines):
            self._did("scan")

    def put_away(self) -> None:
        """Hides the strip until the user shows it again."""
        self._set_away(True)

    def bring_back(self) -> None:
        """Shows the strip again."""
        self._set_away(False)

    def _set_away(self, away: bool) -> None:
        self.steps.away = away
        self._session.remembered.soon()
        self.changed.emit()
