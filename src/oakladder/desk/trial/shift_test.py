"""The trial beside chance: trades shifted through time, resampled trades, and the Sharpe ratio after all tries."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QGridLayout, QLabel, QVBoxLayout, QWidget

from oakladder.app.basis import TRIAL, BasisTracker, Freshness
from oakladder.app.judging import BesideChance, JudgingController
from oakladder.app.notebook import NotebookController
from oakladder.app.trials import Outcome
from oakladder.desk.look.spacing import GAP, TIGHT, WIDE
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.histogram import Histogram
from oakladder.desk.widgets.veil import Veil
from oakladder.rung.texts import count_words

_FEW_TRADES = 30


class ShiftTestView(QWidget):
    """Four pictures, each with what it says in a sentence."""

    def __init__(
        self,
        judging: JudgingController,
        notes: NotebookController,
        basis: BasisTracker,
        theme: Theme,
        parent: QWidget | None = None,
    ):
        super().__init__(parent)
        self._judging, self._notes = judging, notes
        self._outcome: Outcome | None = None
        self.trouble = QLabel(objectName="quiet")
        self.moved, self.average, self.fall, self.tries = (Histogram(theme) for _ in range(4))
        self.moved_words, self.drawn_words, self.discount_words, self.fall_words = (QLabel() for _ in range(4))
        self._board = QWidget()
        grid = QGridLayout(self._board)
        grid.setContentsMargins(WIDE, TIGHT, WIDE, GAP)
        grid.setHorizontalSpacing(WIDE)
        grid.setVerticalSpacing(TIGHT)
        heads = (
            (
                "Trades shifted through time",
                "Average trade over its standard error, of each shift; darker: at least as good as the rule.",
            ),
            ("Sessions resampled (bootstrap)", "Average trade of 1,000 draws; the strip holds 90 %."),
        )
        for k, (words, about) in enumerate(heads):
            grid.addWidget(QLabel(words, objectName="head", toolTip=about), 0, k)
        for k, line in enumerate((self.moved_words, self.drawn_words)):
            grid.addWidget(line, 1, k)
        grid.addWidget(self.moved, 2, 0)
        grid.addWidget(self.average, 2, 1)
        tries = "Sharpe ratios of all tries of this rule; the strip is what luck alone would give."
        grid.addWidget(QLabel("Many tries", objectName="head", toolTip=tries), 3, 0)
        grid.addWidget(QLabel("Expected max drawdown", objectName="head"), 3, 1)
        grid.addWidget(self.discount_words, 4, 0)
        grid.addWidget(self.fall_words, 4, 1)
        grid.addWidget(self.tries, 5, 0)
        grid.addWidget(self.fall, 5, 1)
        grid.setRowStretch(2, 1)
        grid.setRowStretch(5, 1)
        grid.setColumnStretch(0, 1)
        grid.setColumnStretch(1, 1)
        for line in (self.moved_words, self.drawn_words, self.discount_words, self.fall_words, self.trouble):
            line.setWordWrap(True)
            line.setMinimumWidth(20)
            line.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.trouble.setContentsMargins(WIDE, GAP, WIDE, TIGHT)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.trouble)
        layout.addWidget(self._board, 1)
        self._freshness = Freshness(basis, TRIAL, lambda: id(self._outcome), self)
        Veil(self, self._freshness)
        judging.chanced.connect(self._show)
        notes.changed.connect(self._show_discount)

    def show_outcome(self, outcome: Outcome | None) -> None:
        """Puts another trial beside chance."""
        self._outcome = outcome
        self._freshness.look()
        self._judging.ask_chance(outcome)
        self._show_discount()

    def _show(self, made: BesideChance) -> None:
        chance, drawn = made.chance, made.bootstrap
        self._freshness.took()
        self.trouble.setText(made.trouble)
        self._board.setVisible(chance is not None)
        if chance is None or drawn is None:
            self.trouble.setVisible(True)
            return
        few = chance.trades < _FEW_TRADES
        self.trouble.setText(f"Only {count_words(chance.trades, 'trade')}: too few for a verdict." if few else "")
        self.trouble.setVisible(few)
        self.moved_words.setText(chance.words())
        self.drawn_words.setText(drawn.words())
        self.fall_words.setText(drawn.fall_words())
        self.moved.setVisible(chance.statistic is not None)
        if chance.statistic is not None:
            self.moved.show_values(chance.statistics, chance.statistic, lambda v: f"{v:.1f}")
        self.average.show_values(
            drawn.draws["average"], drawn.real["average"] or 0.0, _percent, within=drawn.range_of("average")
        )
        self.fall.show_values(
            drawn.draws["drawdown"],
            drawn.real["drawdown"] or 0.0,
            lambda v: f"{v:.0%}",
            within=drawn.drawdown_to_expect(),
            better_up=False,
        )

    def _show_discount(self) -> None:
        found = self._notes.discount_for(self._outcome)
        self.discount_words.setText(found.words() if found is not None else "The Sharpe ratio is not defined here.")
        others = found.others if found is not None else np.zeros(0)
        self.tries.setVisible(len(others) > 1)
        if found is not None:
            self.tries.show_values(
                others, found.sharpe, lambda v: f"{v:.2f}", within=(min(0.0, found.luck), max(0.0, found.luck))
            )

    def set_theme(self, theme: Theme) -> None:
        for part in (self.moved, self.average, self.fall, self.tries):
            part.theme = theme
            part.update()


def _percent(value: float) -> str:
    return f"{value:+.2%}"
