"""Two groups of controls in one row, or below one another if they do not fit."""

from __future__ import annotations

from PyQt6.QtCore import QSize, Qt
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QBoxLayout, QHBoxLayout, QWidget

from oakladder.desk.look.spacing import GAP


class FoldingRow(QWidget):
    """``left`` and ``right`` take the controls."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.left, self.right = QHBoxLayout(), QHBoxLayout()
        self._both = QBoxLayout(QBoxLayout.Direction.LeftToRight, self)
        self._both.setContentsMargins(0, 0, 0, 0)
        for row in (self._both, self.left, self.right):
            row.setSpacing(GAP)
        self._both.addLayout(self.left, 1)
        self._both.addLayout(self.right)
        self._both.setAlignment(self.right, Qt.AlignmentFlag.AlignLeft)

    def minimumSizeHint(self) -> QSize:
        """As wide as the wider group: it folds before anything is cut."""
        hint = super().minimumSizeHint()
        return QSize(max(self.left.minimumSize().width(), self.right.minimumSize().width()), hint.height())

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        wanted = self.left.sizeHint().width() + GAP + self.right.sizeHint().width()
        fits = wanted <= self.width()
        self._both.setDirection(QBoxLayout.Direction.LeftToRight if fits else QBoxLayout.Direction.TopToBottom)
