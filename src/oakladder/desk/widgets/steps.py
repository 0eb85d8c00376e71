"""The strip of first steps: what is done, what is next and how; it can be put away."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QFrame, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from oakladder.desk.look.spacing import GAP, HAIR, TIGHT, WIDE
from oakladder.user.first_steps import STEPS, FirstSteps


class StepStrip(QFrame):
    """A click on a step says how it is done. ``put_away`` tells that the strip shall go."""

    put_away = pyqtSignal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent, objectName="steps")
        self._steps = FirstSteps(away=True)
        self.buttons = [QToolButton(text=s.words, objectName="step") for s in STEPS]
        self.how = QLabel(objectName="quiet")
        self.how.setMinimumWidth(20)
        self.leave = QToolButton(text="Hide")
        self.leave.setToolTip("Ctrl+K and “first steps” bring them back")
        self.leave.clicked.connect(self.put_away)
        row = QHBoxLayout()
        row.setSpacing(TIGHT)
        row.addWidget(QLabel("First steps", objectName="head"))
        row.addSpacing(GAP)
        for k, button in enumerate(self.buttons):
            button.clicked.connect(lambda _, k=k: self._tell(k))
            row.addWidget(button)
        row.addStretch(1)
        row.addWidget(self.leave)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(WIDE, TIGHT, GAP, TIGHT)
        layout.setSpacing(HAIR)
        layout.addLayout(row)
        layout.addWidget(self.how)
        self.hide()

    def show_steps(self, steps: FirstSteps) -> None:
        """Shows the progress through the steps."""
        self._steps = steps
        following = steps.next()
        for k, (step, button) in enumerate(zip(STEPS, self.buttons, strict=True)):
            done = step.name in steps.done
            button.setText(f"✓ {step.words}" if done else f"{k + 1}  {step.words}")
            button.setToolTip(step.how)
            button.setProperty("now", step is following)
            style = button.style()
            if style is not None:
                style.polish(button)
        self.how.setText(following.how if following is not None else "All five steps are done.")
        self.how.setToolTip(self.how.text())
        self.setVisible(not steps.away)

    def _tell(self, k: int) -> None:
        self.how.setText(STEPS[k].how)
        self.how.setToolTip(STEPS[k].how)
