"""Shows what is different between two texts: what is gone with a minus, what is new with a plus, each in its tone."""

from __future__ import annotations

from PyQt6.QtGui import QColor, QTextCharFormat, QTextCursor
from PyQt6.QtWidgets import QPlainTextEdit, QWidget

from oakladder.desk.look.fonts import code_font
from oakladder.desk.look.theme import Theme
from oakladder.user.text_diff import LineKind, difference

_ROLES = {LineKind.GONE: "loss", LineKind.NEW: "gain", LineKind.SAME: "ink", LineKind.SKIPPED: "faint"}


class DifferenceView(QPlainTextEdit):
    """Read-only text; nothing but the lines that differ and a few around them."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self._theme = theme
        self.setReadOnly(True)
        self.setFont(code_font())
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setFrameShape(self.Shape.NoFrame)

    def show_between(self, before: str, after: str) -> None:
        """Shows how ``after`` differs from ``before``."""
        self.clear()
        cursor = QTextCursor(self.document())
        for row in difference(before, after):
            form = QTextCharFormat()
            form.setForeground(QColor(self._theme.color(_ROLES[row.kind])))
            cursor.insertText(f"{row.kind.value} {row.text}\n", form)
        if not self.toPlainText():
            self.setPlainText("There is no difference.")
        self.moveCursor(QTextCursor.MoveOperation.Start)
