"""The panel below the script: why a bar is as it is, what followed the signal, and what the open rule brought."""

from __future__ import annotations

from PyQt6.QtWidgets import QLabel, QTabWidget, QVBoxLayout, QWidget

from oakladder.app.basis import TRIAL, BasisTracker, Part
from oakladder.app.trials import BENCH, Outcome, TrialController
from oakladder.desk.bench.evidence import EvidenceSummary
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.desk.why.panel import WhyPanel
from oakladder.desk.widgets.curve import Curve, CurveView
from oakladder.desk.widgets.veil import veiled
from oakladder.rung.texts import count_words
from oakladder.trial.metrics.metrics import metric_words
from oakladder.trial.spans import TUNED


class TrialSummary(QWidget):
    """The open rule's result in a line and a curve: for the symbol of the chart, and for the list."""

    def __init__(self, trials: TrialController, basis: BasisTracker, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self._trials = trials
        self.symbol, self.list = QLabel(), QLabel()
        self.curve, self.list_curve = CurveView(theme), CurveView(theme)
        self.curve.plain = self.list_curve.plain = True
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, TIGHT, GAP, TIGHT)
        layout.setSpacing(HAIR)
        for line, curve in ((self.symbol, self.curve), (self.list, self.list_curve)):
            line.setMinimumWidth(20)
            line.setWordWrap(True)
            curve.setMinimumHeight(40)
            layout.addWidget(line)
            layout.addWidget(curve, 1)
        self._freshness = veiled(basis, (*TRIAL, Part.SYMBOL, Part.FRAME), self)
        trials.glanced.connect(self._show_both)

    def _show_both(self, of_symbol: Outcome, of_list: Outcome) -> None:
        self._show(of_symbol, self.symbol, self.curve)
        self.list.setVisible(of_list.trial is not None or of_list.trouble != of_symbol.trouble)
        self._show(of_list, self.list, self.list_curve)
        self._freshness.took()

    def _show(self, outcome: Outcome, line: QLabel, curve: CurveView) -> None:
        trial = outcome.trial
        line.setText(line_of(outcome))
        curve.show_curves(trial, [Curve(trial)] if trial is not None else [])

    def watch(self, on: bool) -> None:
        """Says whether anybody looks here."""
        self._trials.watch(BENCH, on)

    def set_theme(self, theme: Theme) -> None:
        for curve in (self.curve, self.list_curve):
            curve.theme = theme
            curve.update()


def line_of(outcome: Outcome) -> str:
    """The result of a rule, in a line."""
    trial, case = outcome.trial, outcome.case
    if trial is None or case is None:
        return outcome.trouble
    metrics, where = trial.metrics, f"{case.list_name} {case.timeframe}"
    if not metrics["trades"]:
        return f"{where}: no trades"
    growth, held = metric_words(metrics, "growth"), metric_words(metrics, "held_growth")
    won, fall = metric_words(metrics, "winners"), metric_words(metrics, "drawdown")
    return (
        f"{where}: {count_words(int(metrics['trades']), 'trade')}, {won} winners, annual return {growth} "
        f"(buy and hold {held}), max drawdown {fall}" + (f", {TUNED}" if trial.ground.is_tuned else "")
    )


class LowerPanel(QTabWidget):
    """The tabs below the script."""

    def __init__(self, why: WhyPanel, evidence: EvidenceSummary, trial: TrialSummary, parent: QWidget | None = None):
        super().__init__(parent)
        self.why, self.evidence, self.trial = why, evidence, trial
        self.addTab(why, "Why")
        self.addTab(evidence, "Evidence")
        self.addTab(trial, "Trial")
        self.setDocumentMode(True)
        self.setAccessibleName("Trial results")
        self.currentChanged.connect(lambda _: self._watch())

    def _watch(self) -> None:
        for part in (self.evidence, self.trial):
            part.watch(self.isVisible() and self.currentWidget() is part)

    def showEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().showEvent(event)
        self._watch()

    def hideEvent(self, event) -> None:  # type: ignore[no-untyped-def]
        super().hideEvent(event)
        self._watch()
