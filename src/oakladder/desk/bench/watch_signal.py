"""Makes an alert of a signal on the Bench: over the list, on the chart's timeframe, after a word on how often it tells."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QComboBox, QDialog, QLabel, QPushButton, QVBoxLayout, QWidget

from oakladder.alerts.alert import Alert, AlertProblem
from oakladder.alerts.estimate import Estimate
from oakladder.app.jobs import sentence_of
from oakladder.app.session import Session
from oakladder.desk.look.spacing import GAP, WIDE
from oakladder.desk.widgets.questions import verb_row
from oakladder.desk.widgets.transient import answered

_WIDE_PX = 440


class WatchSignal(QDialog):
    """Chooses the signal and how it tells; ``alert`` is what was made of it."""

    def __init__(self, session: Session, signals: list[str], chosen: str, parent: QWidget | None = None):
        super().__init__(parent)
        self._session = session
        self.alert: Alert | None = None
        self.setWindowTitle("Watch a signal")
        self.signals = QComboBox(accessibleName="Signal")
        self.signals.addItems(signals)
        self.signals.setCurrentText(chosen)
        self.forming = QCheckBox("Tell as the bar forms, and when it is no longer true")
        self.about, self.often = QLabel(wordWrap=True), QLabel(objectName="quiet", wordWrap=True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(WIDE, WIDE, WIDE, WIDE)
        layout.setSpacing(GAP)
        for widget in (self.about, self.signals, self.forming, self.often):
            widget.setMinimumWidth(_WIDE_PX)
            layout.addWidget(widget)
        self.often.setMinimumHeight(4 * self.often.fontMetrics().height())
        row = verb_row(self, "Switch on")
        layout.addLayout(row)
        self._go = next(b for b in self.findChildren(QPushButton) if b.text() == "Switch on")
        self.signals.currentTextChanged.connect(lambda _: self._ask())
        self.forming.toggled.connect(lambda _: self._ask())
        self.finished.connect(lambda _: session.alerts.stop_estimate())
        self._ask()

    def _ask(self) -> None:
        """Makes the alert that is described, and asks how often it would have told."""
        session, path = self._session, self._session.script.path
        chart, name = session.chart, session.watchlist.list_name
        assert path is not None
        count = len(session.alerts.list_symbols(name))
        self.about.setText(
            f"Watched over {name} ({count:,}), told when a {chart.timeframe} bar closes on which it is true:"
        )
        self.often.setText("How often it would have told over the last year is being worked out …")
        try:
            made = session.alerts.of_signal(
                path,
                session.script.text,
                self.signals.currentText(),
                chart.timeframe,
                name,
                dict(session.rule.settings),
                chart.options.extended,
                session.rule.title,
                self.forming.isChecked(),
            )
        except AlertProblem as error:
            self._refuse(error)
            return
        self.alert = made
        self._go.setEnabled(True)
        session.alerts.ask_estimate(made, self._show, self._refuse)

    def _refuse(self, error: Exception) -> None:
        """Says why such an alert cannot be watched; it cannot be switched on then."""
        self.alert = None
        self._go.setEnabled(False)
        self.often.setText(sentence_of(error))

    def _show(self, made: Estimate) -> None:
        self.often.setText(made.words())


def watch_signal(session: Session, signals: list[str], chosen: str, parent: QWidget) -> None:
    """Asks, and switches the alert on."""
    if not signals:
        session.status.emit("The script has no signal to watch. Write one, as in: signal go = close > sma(close, 20)")
        return
    if session.script.path is None:
        session.status.emit("Save the script first: an alert keeps its text by the file's name.")
        return
    dialog = WatchSignal(session, signals, chosen, parent)
    if answered(dialog) and dialog.alert is not None:
        session.alerts.add(dialog.alert)
