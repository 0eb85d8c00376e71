"""The script side of the Bench: which script, its settings, its text, and what is wrong with it."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QInputDialog,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.rung import Problem, Severity

from ..model import Desk
from .beside import Beside
from .editor import ScriptEditor
from .settings import SettingsStrip

_MOST_PROBLEMS_SHOWN = 5


class ScriptPanel(QWidget):
    """Chooser, settings strip, editor and problems, from top to bottom."""

    def __init__(self, desk: Desk, parent: QWidget | None = None):
        super().__init__(parent)
        self.desk = desk
        self.chooser = QComboBox()
        self.chooser.activated.connect(self._choose)
        self.new_button = QToolButton(text="New")
        self.new_button.setToolTip("A new script to start from")
        self.new_button.clicked.connect(self.ask_new)
        self.settings = SettingsStrip()
        self.beside = Beside(desk)
        self.editor = ScriptEditor(desk.theme)
        self.verdict = QLabel(objectName="quiet")
        self.problems = QListWidget()
        self.problems.setWordWrap(True)
        self.problems.setSpacing(2)
        self.problems.setViewportMargins(6, 0, 6, 0)
        self.problems.itemActivated.connect(self._go_to)
        self.problems.itemClicked.connect(self._go_to)
        self._lay_out()
        self.settings.changed.connect(desk.set_setting)
        self.editor.typed.connect(desk.set_text)
        desk.script_opened.connect(self._opened)
        desk.problems_changed.connect(self._show_problems)
        desk.settings_changed.connect(self._show_settings)

    def _lay_out(self) -> None:
        row = QHBoxLayout()
        row.setContentsMargins(8, 6, 8, 2)
        row.addWidget(self.chooser, 1)
        row.addWidget(self.new_button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(self.settings)
        layout.addWidget(self.beside)
        layout.addWidget(self.editor, 1)
        self.verdict.setContentsMargins(8, 3, 8, 3)
        layout.addWidget(self.verdict)
        layout.addWidget(self.problems)

    # --- which script -----------------------------------------------------------------------------

    def _fill_chooser(self) -> None:
        self.chooser.blockSignals(True)
        self.chooser.clear()
        files = self.desk.workspace.script_files()
        if self.desk.path is not None and self.desk.path not in files:
            files.append(self.desk.path)
        for path in files:
            self.chooser.addItem(path.stem.replace("_", " ").capitalize(), path)
            if path == self.desk.path:
                self.chooser.setCurrentIndex(self.chooser.count() - 1)
        self.chooser.blockSignals(False)

    def _choose(self, index: int) -> None:
        path = self.chooser.itemData(index)
        if isinstance(path, Path) and path != self.desk.path:
            self.desk.open_script(path)

    def ask_new(self) -> None:
        """Asks for a title and makes a script with it."""
        title, fine = QInputDialog.getText(self, "New script", "What shall it be called?")
        if fine and title.strip():
            try:
                self.desk.new_script(title.strip())
            except OSError as error:
                self.desk.trouble.emit(f"The script cannot be made: {error.strerror}.")

    def _opened(self, text: str) -> None:
        self.editor.load(text)
        self._fill_chooser()

    def _show_settings(self) -> None:
        if self.desk.program is not None:
            self.settings.show_settings(self.desk.program.settings, self.desk.settings)

    # --- problems ---------------------------------------------------------------------------------

    def _show_problems(self, problems: tuple[Problem, ...]) -> None:
        self.editor.show_problems(problems)
        errors = [p for p in problems if p.is_error]
        self.problems.clear()
        for problem in sorted(problems, key=lambda p: (not p.is_error, p.span.line)):
            item = QListWidgetItem(f"{problem.span.line}  {problem.message} {problem.fix}")
            item.setData(Qt.ItemDataRole.UserRole, problem)
            item.setToolTip(f"{problem.code}: {problem.message}\n{problem.fix}")
            role = {Severity.ERROR: "falling", Severity.WARNING: "warn"}.get(problem.severity, "faint")
            item.setForeground(QColor(self.desk.theme.color(role)))
            self.problems.addItem(item)
        shown = min(len(problems), _MOST_PROBLEMS_SHOWN)
        self.problems.setVisible(bool(problems))
        self.problems.setFixedHeight(40 * shown + 8)
        if errors:
            words = "1 error" if len(errors) == 1 else f"{len(errors)} errors"
            self.verdict.setText(f"{words}. The chart keeps the last picture that worked.")
        else:
            self.verdict.setText("Saved as you type. No errors.")
        self.verdict.setObjectName("trouble" if errors else "quiet")
        style = self.verdict.style()
        if style is not None:
            style.polish(self.verdict)

    def _go_to(self, item: QListWidgetItem) -> None:
        self.editor.go_to(item.data(Qt.ItemDataRole.UserRole))

    def refresh_theme(self) -> None:
        self.editor.set_theme(self.desk.theme)
        self._show_problems(self.desk.problems)
