"""Containers that draw themselves by the palette: they need no style sheet, and so what is in them can be styled bit by bit."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QFrame, QSplitter, QSplitterHandle, QWidget

_ROUND = 3


class _Handle(QSplitterHandle):
    def paintEvent(self, event: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.fillRect(self.contentsRect(), self.palette().mid())


class Splitter(QSplitter):
    """Parts beside or above one another, a thin line between them."""

    def __init__(self, orientation: Qt.Orientation, parent: QWidget | None = None):
        super().__init__(orientation, parent)
        self.setHandleWidth(1)

    def createHandle(self) -> QSplitterHandle:
        return _Handle(self.orientation(), self)


class Card(QFrame):
    """A raised frame around what belongs together."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent, objectName="card")

    def paintEvent(self, event: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            painter.setPen(QPen(self.palette().mid(), 1))
            painter.setBrush(self.palette().base())
            painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), _ROUND, _ROUND)
