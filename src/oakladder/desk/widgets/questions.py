"""Questions with a verb on each button."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.desk.look.spacing import GAP, WIDE
from oakladder.desk.widgets.transient import answered

_WIDE_PX = 380


def verb_row(
    dialog: QDialog, verb: str, leave: str = "Cancel", accept: Callable[[], None] | None = None
) -> QHBoxLayout:
    """The buttons under a dialog: what it does, which Enter does too, and leaving things as they are."""
    go, stay = QPushButton(verb), QPushButton(leave)
    go.setDefault(True)
    go.clicked.connect(accept if accept is not None else dialog.accept)
    stay.clicked.connect(dialog.reject)
    row = QHBoxLayout()
    row.setSpacing(GAP)
    row.addStretch(1)
    row.addWidget(stay)
    row.addWidget(go)
    return row


class Question(QDialog):
    """A question with what there is to know about it."""

    def __init__(self, question: str, about: str, verb: str, leave: str, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle(verb)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(WIDE, WIDE, WIDE, WIDE)
        layout.setSpacing(GAP)
        for words, name in ((question, "head"), (about, "")):
            if words:
                label = QLabel(words, objectName=name, wordWrap=True)
                label.setMinimumWidth(_WIDE_PX - 2 * WIDE)  # as high as the words are at this width
                layout.addWidget(label)
        self.room = QVBoxLayout()
        layout.addLayout(self.room)
        layout.addLayout(verb_row(self, verb, leave))
        self._enter(leave)  # what can be asked for with yes or no may be gone for good

    def _enter(self, words: str) -> None:
        """Says which button Enter presses."""
        for button in self.findChildren(QPushButton):
            button.setDefault(button.text() == words)

    def put(self, field: QWidget, name: str) -> None:
        """Puts the field that takes the answer under the question; Enter in it answers."""
        self._enter(self.windowTitle())
        field.setAccessibleName(name)
        self.room.addWidget(field)
        field.setFocus()


def agreed(parent: QWidget, question: str, about: str, verb: str, leave: str = "Cancel") -> bool:
    """Asks, and waits for the answer; closing the question leaves everything as it is."""
    return answered(Question(question, about, verb, leave, parent))


def words_for(parent: QWidget, question: str, verb: str, old: str = "", about: str = "") -> str | None:
    """Asks for a line of words, the old ones selected; None if it was left."""
    asked = Question(question, about, verb, "Cancel", parent)
    line = QLineEdit(old)
    asked.put(line, question)
    line.selectAll()
    return line.text() if answered(asked) else None


def text_for(parent: QWidget, question: str, verb: str, about: str = "") -> str | None:
    """Asks for words on as many lines as there are; None if it was left."""
    asked = Question(question, about, verb, "Cancel", parent)
    field = QPlainTextEdit()
    field.setTabChangesFocus(True)
    asked.put(field, question)
    return field.toPlainText() if answered(asked) else None


def one_of(parent: QWidget, question: str, verb: str, choices: list[str]) -> int | None:
    """Asks to choose one of several; returns its index, or None if the question was cancelled or there is no choice."""
    asked = Question(question, "", verb, "Cancel", parent)
    field = QComboBox()
    field.addItems(choices)
    asked.put(field, question)
    return field.currentIndex() if answered(asked) and choices else None
