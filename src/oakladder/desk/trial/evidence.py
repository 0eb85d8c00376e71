"""Evidence in full: the sentence, both fans, every horizon, and its parts by year, group, weekday and hour."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from oakladder.app.basis import EVIDENCE, BasisTracker, Freshness
from oakladder.app.judging import PLACE, Judgement, JudgingController
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.bar_rows import BarRow, BarsBy
from oakladder.desk.widgets.fan import FanView
from oakladder.desk.widgets.horizons import HorizonRows
from oakladder.desk.widgets.self_drawn import Splitter
from oakladder.desk.widgets.veil import Veil, veiled
from oakladder.trial.judge.evidence import breakdowns
from oakladder.trial.judge.evidence.breakdowns import Part
from oakladder.trial.judge.evidence.study import Evidence
from oakladder.trial.judge.evidence.words import sentence, warnings


class EvidenceView(QWidget):
    """What speaks for a signal and against it."""

    def __init__(
        self,
        judging: JudgingController,
        basis: BasisTracker,
        theme: Theme,
        group_of: Callable[[], Mapping[str, str]],
        parent: QWidget | None = None,
    ):
        super().__init__(parent)
        self._judging = judging
        self._evidence: Evidence | None = None
        self._splits: dict[str, Callable[[Evidence, int], list[Part]]] = {
            "year": breakdowns.by_year,
            "group": lambda evidence, bars: breakdowns.by_group(evidence, group_of(), bars),
            "weekday": breakdowns.by_weekday,
            "hour": breakdowns.by_hour,
        }
        self.signals, self.sentence, self.warnings = (
            QComboBox(accessibleName="Signal"),
            QLabel(objectName="head"),
            QLabel(objectName="quiet"),
        )
        self.fan, self.horizons = FanView(theme), HorizonRows(theme)
        self.parts = BarsBy(theme, ("more", "times", "days", "up"), list(self._splits))
        self.parts.chooser.setToolTip("Mean minus the usual mean of the same part")
        self._lay_out()
        self.signals.activated.connect(lambda _: judging.set_signal(self.signals.currentText()))
        self.horizons.chosen.connect(self._look_at)
        self.parts.chosen.connect(lambda _: self._show_parts())
        self._freshness = veiled(basis, EVIDENCE, self)
        self._parted = Freshness(basis, (), lambda: (id(self._evidence), self.parts.kind, self.horizons.bars), self)
        Veil(self.parts, self._parted)
        judging.judged.connect(self._show)
        judging.parted.connect(self._take_parts)

    def _lay_out(self) -> None:
        self.signals.setToolTip("Choose the signal")
        for line in (self.sentence, self.warnings):
            line.setWordWrap(True)
            line.setMinimumWidth(20)
        head = QHBoxLayout()
        head.setContentsMargins(GAP, GAP, GAP, HAIR)
        head.addWidget(self.signals)
        head.addWidget(self.sentence, 1)
        self.warnings.setContentsMargins(GAP, 0, GAP, TIGHT)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(0, 0, GAP, 0)
        column.setSpacing(HAIR)
        column.addWidget(self.horizons)
        column.addWidget(self.parts, 1)
        split = Splitter(Qt.Orientation.Horizontal)
        split.addWidget(self.fan)
        split.addWidget(right)
        split.setSizes([520, 510])
        split.setChildrenCollapsible(False)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(HAIR)
        layout.addLayout(head)
        layout.addWidget(self.warnings)
        layout.addWidget(split, 1)

    def watch(self, on: bool) -> None:
        """Says whether anybody looks here."""
        self._judging.watch(PLACE, on)

    def _show(self, made: Judgement) -> None:
        self._evidence = made.evidence
        names = self._judging.signal_names()
        self.signals.clear()
        self.signals.addItems(names)
        self.signals.setVisible(len(names) > 1)
        if made.evidence is not None:
            self.signals.setCurrentText(made.evidence.signal)
        self.fan.show_evidence(made.evidence)
        self.horizons.show_evidence(made.evidence)
        self._say(made.trouble)
        self._freshness.took()
        self._show_parts()

    def _say(self, trouble: str = "") -> None:
        evidence, bars = self._evidence, self.horizons.bars
        self.sentence.setText(sentence(evidence, bars) if evidence is not None else trouble)
        weak = warnings(evidence, bars) if evidence is not None else []
        self.warnings.setText("\n".join(weak))
        self.warnings.setVisible(bool(weak))

    def _look_at(self, bars: int) -> None:
        self.fan.bars = bars
        self.fan.update()
        self._say()
        self._show_parts()

    def _show_parts(self) -> None:
        if self._evidence is None:
            self.parts.bars.show_rows([])
            self._parted.cleared()
        else:
            self._parted.look()
            self._judging.ask_parts(self._splits[self.parts.kind], self._evidence, self.horizons.bars)

    def _take_parts(self, made: list[Part]) -> None:
        self._parted.took()
        self.parts.bars.show_rows(
            [
                BarRow(p.name, p.difference, (f"{p.difference:+.2%}", f"{p.count:,}", f"{p.days:,}", f"{p.up:.0%}"))
                for p in made
            ]
        )

    def set_theme(self, theme: Theme) -> None:
        self.fan.theme = self.horizons.theme = theme
        for part in (self.fan, self.horizons):
            part.update()
        self.parts.set_theme(theme)
