"""What all widgets that paint themselves have in common."""

from __future__ import annotations

from PyQt6.QtCore import QSize
from PyQt6.QtGui import QPainter, QPaintEvent, QPixmap
from PyQt6.QtWidgets import QLabel


class PaintedWidget(QLabel):
    """A picture to a screen reader, which reads its name and its description.

    PyQt cannot set the accessible role of a plain widget; a label with a picture has one. The picture is empty, and what
    is seen is painted by whoever is made of this.
    """

    def __init__(self, *args: object, **properties: object):
        super().__init__(*args, **properties)
        empty = QPixmap(1, 1)
        empty.fill()
        self.setPixmap(empty)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        # Ended even where an error is raised: a painter that is let go of later, when its widget may be gone, brings the
        # process down.
        with QPainter(self) as painter:
            self.paint(painter)

    def paint(self, painter: QPainter) -> None:
        """Paints all of it."""
        raise NotImplementedError

    def sizeHint(self) -> QSize:
        return QSize()

    def minimumSizeHint(self) -> QSize:
        return QSize()
