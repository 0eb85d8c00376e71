"""The replay line above the chart: where in time we are, stepping, playing, and the way back to now."""

from __future__ import annotations

from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QToolButton, QWidget

from oakladder.app.session import Session
from oakladder.bars.time_words import moment_words
from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT

#: Words for a speed → milliseconds from one step to the next.
SPEEDS = {"slow": 1200, "steady": 500, "quick": 180, "fast": 60}


class ReplayBar(QWidget):
    """Steps by bars of the chart or by minutes. Hidden while everything is known."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent, objectName="replay")
        self.session = session
        self.when = QLabel(objectName="head")
        self.when.setMinimumWidth(40)
        self.unit, self.speed = (
            QComboBox(accessibleName="Step size"),
            QComboBox(accessibleName="Speed"),
        )
        self.unit.addItems(["bars", "minutes"])
        self.speed.addItems(list(SPEEDS))
        self.speed.setCurrentText("steady")
        for box in (self.unit, self.speed):
            box.setFont(ui_font())
        self.speed.currentTextChanged.connect(lambda word: self._timer.setInterval(SPEEDS[word]))
        self._timer = QTimer(self, interval=SPEEDS["steady"])
        self._timer.timeout.connect(self._tick)
        self.buttons: dict[str, QToolButton] = {}
        row = QHBoxLayout(self)
        row.setContentsMargins(GAP, HAIR, GAP, HAIR)
        row.setSpacing(TIGHT)
        row.addWidget(self.when, 1)
        for words, hint, go in (
            ("Back", "One step back", lambda: self.step(-1)),
            ("Step", "One step forward", lambda: self.step(1)),
            ("Play", "Play or pause", self.toggle),
        ):
            row.addWidget(self._button(words, hint, go))
        row.addWidget(self.unit)
        row.addWidget(self.speed)
        row.addWidget(self._button("End", "End the replay and show the latest bars", lambda: self.leave()))
        self.setVisible(False)
        session.replay.changed.connect(self._show)

    def _button(self, words: str, hint: str, go: object) -> QToolButton:
        made = self.buttons[words] = QToolButton(text=words)
        made.setToolTip(hint)
        made.setFont(ui_font())
        made.clicked.connect(go)
        return made

    @property
    def playing(self) -> bool:
        """Whether the replay advances automatically."""
        return self._timer.isActive()

    def step(self, by: int) -> bool:
        """Goes some steps on or back."""
        return self.session.chart.step_replay(by, self.unit.currentIndex() == 1)

    def toggle(self) -> None:
        """Plays, or pauses."""
        if self.playing:
            self._timer.stop()
        elif self.session.replay.moment is not None:
            self._timer.start()
        self.buttons["Play"].setText("Pause" if self.playing else "Play")

    def _tick(self) -> None:
        if self.session.jobs.busy_with("chart"):
            return  # the chart is not there yet; the next tick will do
        if not self.step(1):
            self.toggle()

    def leave(self) -> None:
        """Back to now."""
        if self.playing:
            self.toggle()
        self.session.replay.stand_at(None)

    def _show(self) -> None:
        moment = self.session.replay.moment
        self.setVisible(moment is not None)
        if moment is None:
            return
        calendar = self.session.symbols.infos[self.session.chart.symbol].calendar
        self.when.setText(f"As of {moment_words(calendar, moment)[4:]}")
        self.when.setToolTip("Everything shown uses only what was known then.")
