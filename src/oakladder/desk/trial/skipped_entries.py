"""Skipped entries and symbols of a trial, with the reasons."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PyQt6.QtWidgets import QLabel, QVBoxLayout, QWidget

from oakladder.desk.look.spacing import GAP, TIGHT, WIDE
from oakladder.desk.look.theme import Theme
from oakladder.desk.trial.trade_table import TradeTable
from oakladder.engine.universe.map import SkippedSymbol
from oakladder.rung.texts import agree, count_words
from oakladder.trial.broker.ledger import Taken
from oakladder.trial.report import SKIPPED
from oakladder.trial.trial import Trial


class SkippedEntries(QWidget):
    """Sentences about what was left out, and the entries that were not taken."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.words, self.table = QLabel(), TradeTable(theme)
        self.words.setWordWrap(True)
        self.words.setContentsMargins(WIDE, GAP, WIDE, TIGHT)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addWidget(self.words)
        layout.addWidget(self.table, 1)

    def show_trial(self, trial: Trial | None, skipped: Sequence[SkippedSymbol] = ()) -> None:
        """Says what another trial left out."""
        self.words.setText("\n".join(_sentences(trial, skipped)) if trial is not None else "")
        self.table.show_trial(trial, taken=False)


def _sentences(trial: Trial, skipped: Sequence[SkippedSymbol]) -> list[str]:
    counts = trial.counts
    made = []
    for reason, count in zip(*map(np.ndarray.tolist, np.unique(trial.book.taken, return_counts=True)), strict=True):
        if reason != Taken.YES:
            made.append(
                f"{count_words(count, 'entry')} {agree(count, 'was', 'were')} not taken: {SKIPPED[Taken(reason)]}."
            )
    if counts["touched"]:
        count = counts["touched"]
        made.append(
            f"{count_words(count, 'entry')} {agree(count, 'was', 'were')} not made: stop or target was reached at the fill "
            "price."
        )
    if counts["undecided"]:
        made.append(
            f"On {count_words(counts['undecided'], 'bar')} stop and target were both reached, and the stop counts."
        )
    if counts["contradictions"]:
        made.append(
            f"On {count_words(counts['contradictions'], 'bar')} a long and a short trade were decided together: neither was made."
        )
    for one in list(skipped)[:5]:
        made.append(f"{one.symbol} is skipped: {one.reason}")
    if len(skipped) > 5:
        made.append(f"… and {count_words(len(skipped) - 5, 'more symbol')}.")
    return made or ["No skipped entries."]
