"""A line that ends in an ellipsis if it does not fit, instead of being cut within a number."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QLabel


class ElidedLabel(QLabel):
    """Shows as much of its text as fits; the text itself stays whole."""

    def paintEvent(self, event: QPaintEvent | None) -> None:
        box = self.contentsRect()
        shown = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, box.width())
        with QPainter(self) as painter:
            painter.setPen(self.palette().windowText().color())
            painter.drawText(box, int(self.alignment()), shown)
