"""A sentence that unfolds into its form."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QPushButton, QSizePolicy


class Sentence(QPushButton):
    """Enter, Space or a click unfolds the form. Elided if it does not fit, whole on hover."""

    def __init__(self) -> None:
        super().__init__(objectName="sentence")
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.setCursor(Qt.CursorShape.PointingHandCursor)

    def say(self, words: str, trouble: str, unfolded: bool) -> None:
        """Shows a sentence, and what is wrong with it."""
        self.setText(f"{'▾' if unfolded else '▸'}  {words}{f'   ({trouble})' if trouble else ''}".replace("&", "&&"))
        self.setToolTip(f"{words}\n{trouble or 'Enter or a click opens its form, Escape closes it'}")
        self.setAccessibleName(words)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.click()
            return
        super().keyPressEvent(event)
