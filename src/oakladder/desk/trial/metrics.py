"""The few metrics that matter, large, each with what it means on hover."""

from __future__ import annotations

from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QVBoxLayout, QWidget

from oakladder.desk.look.fonts import LARGE, SMALL, ui_font
from oakladder.desk.look.spacing import GAP, TIGHT, WIDE
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.elided_label import ElidedLabel
from oakladder.rung.texts import count_words
from oakladder.trial.judge.deflated_sharpe import DeflatedSharpe
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.trial import Trial

#: The metrics in sight, and beside which other each is read.
SHOWN = (
    ("growth", "held_growth", "buy and hold"),
    ("drawdown", "drawdown_within", "within bars"),
    ("trades", "bars", "bars each"),
    ("winners", "profit_factor", "profit factor"),
    ("average", "zero_cost", "break-even"),
    ("sharpe", "exposure", "exposure"),
)


class MetricsRow(QWidget):
    """A row of large metrics."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self._parts: list[tuple[QLabel, QLabel, QLabel]] = []
        row = QHBoxLayout(self)
        row.setContentsMargins(GAP, GAP, GAP, TIGHT)
        row.setSpacing(WIDE)
        for name, _, _ in SHOWN:
            frame = QFrame()
            column = QVBoxLayout(frame)
            column.setContentsMargins(0, 0, 0, 0)
            column.setSpacing(0)
            title, value, beside = (
                QLabel(METRICS[name].title, objectName="quiet"),
                QLabel("–"),
                ElidedLabel(objectName="quiet"),
            )
            title.setFont(ui_font(SMALL))
            value.setFont(ui_font(LARGE, strong=True))
            beside.setFont(ui_font(SMALL))
            for part in (title, value, beside):
                part.setMinimumWidth(20)
                column.addWidget(part)
            self._parts.append((title, value, beside))
            row.addWidget(frame, 1)

    def show_trial(self, trial: Trial | None, other: Trial | None = None, other_words: str = "") -> None:
        """Shows the metrics of a trial, or dashes; beside each that of another trial, where there is one."""
        for (name, second, words), (title, value, beside) in zip(SHOWN, self._parts, strict=True):
            metrics = trial.metrics if trial is not None else {}
            value.setText(metric_words(metrics, name))
            if trial is not None and other is not None:
                beside.setText(f"{other_words} {metric_words(other.metrics, name)}")
            else:
                beside.setText(f"{words} {metric_words(metrics, second)}" if trial is not None else "")
            about = f"{METRICS[name].title}: {METRICS[name].about}.\n{METRICS[second].title}: {METRICS[second].about}."
            for part in (title, value, beside):
                part.setToolTip(about)
            value.setAccessibleName(f"{METRICS[name].title} {value.text()}")

    def show_discount(self, found: DeflatedSharpe | None) -> None:
        """Shows the deflated Sharpe ratio below the Sharpe ratio; nothing after a first try."""
        if found is None or found.tries < 2:
            return
        for (name, _, _), (_, _, beside) in zip(SHOWN, self._parts, strict=True):
            if name == "sharpe":
                beside.setText(f"{found.discounted:.2f} after {count_words(found.tries, 'try')}")
                beside.setToolTip(found.words())
