"""The evidence of the open rule's signal below the script: a sentence, a fan, for the list and for the chart's symbol."""

from __future__ import annotations

from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from oakladder.app.basis import EVIDENCE, BasisTracker, Part
from oakladder.app.judging import BENCH, Judgement, JudgingController
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.fan import FanView
from oakladder.desk.widgets.veil import veiled
from oakladder.trial.judge.evidence.words import sentence, weaknesses


class EvidenceSummary(QWidget):
    """What followed the signal, following the typing."""

    def __init__(self, judging: JudgingController, basis: BasisTracker, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self._judging = judging
        self.signals, self.where = QComboBox(accessibleName="Signal"), QLabel(objectName="quiet")
        self.list, self.symbol = QLabel(), QLabel(objectName="quiet")
        self.fan = FanView(theme)
        self.signals.setToolTip("Choose the signal")
        self.signals.activated.connect(lambda _: judging.set_signal(self.signals.currentText()))
        row = QHBoxLayout()
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.signals)
        row.addWidget(self.where, 1)
        self.where.setMinimumWidth(20)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, TIGHT, GAP, TIGHT)
        layout.setSpacing(HAIR)
        layout.addLayout(row)
        for line in (self.list, self.symbol):
            line.setWordWrap(True)
            line.setMinimumWidth(20)
        layout.addWidget(self.list)
        layout.addWidget(self.fan, 1)
        layout.addWidget(self.symbol)
        self._freshness = veiled(basis, (*EVIDENCE, Part.SYMBOL, Part.FRAME), self)
        judging.glanced.connect(self._show)

    def _show(self, of_symbol: Judgement, of_list: Judgement) -> None:
        evidence = of_list.evidence
        self._show_signals(evidence.signal if evidence is not None else "")
        self.where.setText(of_list.where)
        self.list.setText(sentence(evidence) if evidence is not None else of_list.trouble)
        weak = weaknesses(evidence) if evidence is not None else []
        if weak:
            self.where.setText(f"{of_list.where}, but {', '.join(w.word for w in weak)}")
        self.where.setToolTip("\n".join(w.words for w in weak))
        self.fan.show_evidence(evidence)
        alone = of_symbol.evidence
        self.symbol.setVisible(alone is not None)
        if alone is not None:
            self.symbol.setText(f"{of_symbol.where}: {sentence(alone)}")
        self._freshness.took()

    def _show_signals(self, name: str) -> None:
        names = self._judging.signal_names()
        if [self.signals.itemText(k) for k in range(self.signals.count())] != names:
            self.signals.clear()
            self.signals.addItems(names)
        self.signals.setCurrentText(name)
        self.signals.setVisible(len(names) > 1)

    def watch(self, on: bool) -> None:
        """Says whether anybody looks here."""
        self._judging.watch(BENCH, on)

    def set_theme(self, theme: Theme) -> None:
        self.fan.theme = theme
        self.fan.update()
