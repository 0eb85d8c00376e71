"""The source of a library function, to read it or to copy it under another name."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QComboBox, QDialog, QHBoxLayout, QLabel, QLineEdit, QPushButton, QVBoxLayout, QWidget

from oakladder.desk.look.theme import Theme
from oakladder.desk.script.editor import ScriptEditor
from oakladder.rung import library


class SourceDialog(QDialog):
    """Shows any function of the library. ``copied`` takes the text of the copy."""

    def __init__(self, theme: Theme, name: str, copied: Callable[[str], None], parent: QWidget | None = None):
        super().__init__(parent)
        self._copied = copied
        self.setWindowTitle("A function of the library")
        self.resize(640, 420)
        self.chooser = QComboBox(accessibleName="The function")
        self.chooser.addItems(library.names())
        self.chooser.currentTextChanged.connect(self._show)
        self.text = ScriptEditor(theme)
        self.text.setReadOnly(True)
        self.new_name = QLineEdit(accessibleName="Name in your script")
        self.new_name.setToolTip("Name of the copy in your script")
        self.copy = QPushButton("Copy into the script")
        self.copy.clicked.connect(self._copy)
        self.word = QLabel(objectName="quiet")
        row = QHBoxLayout()
        row.addWidget(QLabel("as"))
        row.addWidget(self.new_name, 1)
        row.addWidget(self.copy)
        layout = QVBoxLayout(self)
        layout.addWidget(self.chooser)
        layout.addWidget(self.text, 1)
        layout.addWidget(self.word)
        layout.addLayout(row)
        self.chooser.setCurrentText(name if name in library.names() else "rsi")
        self._show(self.chooser.currentText())

    def _show(self, name: str) -> None:
        found = library.function(name)
        assert found is not None
        self.text.load(found.source)
        self.new_name.setText(f"my_{name}")
        self.word.setText("Every indicator is a short script like this one. Copy it to change it.")

    def _copy(self) -> None:
        own = self.new_name.text().strip()
        if not own.isidentifier() or own != own.lower() or own in library.names():
            self.word.setText("Use small letters, digits and _, and a name that the library does not have.")
            return
        self._copied(library.copy_of(self.chooser.currentText(), own))
        self.accept()
