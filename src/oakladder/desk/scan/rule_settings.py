"""The settings of a script in one condition of a scan, and whether it looks at all hours."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDialog, QLabel, QVBoxLayout, QWidget

from oakladder.desk.widgets.questions import verb_row
from oakladder.desk.widgets.settings_strip import HeldSettings
from oakladder.rung import Program


class Given(QDialog):
    """Asks for the settings of a rule; ``values`` holds the ones that differ from the script."""

    def __init__(self, program: Program, values: dict[str, object], extended: bool, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle("Condition settings")
        self.strip = HeldSettings()
        self.strip.hold(program.settings, values)
        self.extended = QCheckBox("include extended hours (intraday timeframes)")
        self.extended.setChecked(extended)
        layout = QVBoxLayout(self)
        if not program.settings:
            layout.addWidget(QLabel("The script has no settings.", objectName="quiet"))
        for part in (self.strip, self.extended):
            layout.addWidget(part)
        layout.addLayout(verb_row(self, "Apply"))

    @property
    def values(self) -> dict[str, object]:
        """The settings that differ from the script's own."""
        return self.strip.given()
