"""The settings of a script in one condition of a scan, and whether it looks at all hours."""

from __future__ import annotations

from PyQt6.QtWidgets import QCheckBox, QDialog, QDialogButtonBox, QLabel, QToolButton, QVBoxLayout, QWidget

from oakladder.rung import Program

from ..script.settings import SettingsStrip


class Given(QDialog):
    """Asks for the settings of a rule. ``values`` has those that are not as in the script."""

    def __init__(self, program: Program, values: dict[str, object], extended: bool, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle("Settings of this condition")
        self._program = program
        self._values = dict(values)
        self.strip = SettingsStrip()
        self.strip.keep.setVisible(False)
        self.strip.changed.connect(self._set)
        self.extended = QCheckBox("with early and late hours, on timeframes within the day")
        self.extended.setChecked(extended)
        back = QToolButton(text="As in the script")
        back.clicked.connect(self._forget)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        layout = QVBoxLayout(self)
        if not program.settings:
            layout.addWidget(QLabel("The script has no settings.", objectName="quiet"))
        for part in (self.strip, self.extended, back, buttons):
            layout.addWidget(part)
        back.setVisible(bool(program.settings))
        self._show()

    def _show(self) -> None:
        self.strip.show_settings(self._program.settings, self._values)
        self.strip.keep.setVisible(False)

    def _set(self, name: str, value: object) -> None:
        self._values[name] = value

    def _forget(self) -> None:
        self._values = {}
        self._show()

    @property
    def values(self) -> dict[str, object]:
        """The settings that differ from the script's own."""
        defaults = {i.name: i.default for i in self._program.settings}
        return {k: v for k, v in self._values.items() if k in defaults and v != defaults[k]}
