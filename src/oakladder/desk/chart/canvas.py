"""The background below the panes of a chart, as large as the widget."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QMouseEvent, QResizeEvent
from PyQt6.QtWidgets import QFrame, QGraphicsItem, QGraphicsScene, QGraphicsView, QWidget


class Canvas(QGraphicsView):
    """A scene that is never scrolled: a pixel of it is a pixel of the widget."""

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self._scene = QGraphicsScene(self)
        self._scene.setItemIndexMethod(QGraphicsScene.ItemIndexMethod.NoIndex)  # a dozen items that move together
        self.setScene(self._scene)
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setViewportUpdateMode(QGraphicsView.ViewportUpdateMode.MinimalViewportUpdate)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAcceptDrops(False)  # what is dropped here is for the window
        self.setMouseTracking(True)

    def put(self, item: QGraphicsItem) -> None:
        """Puts something on the ground."""
        self._scene.addItem(item)

    def take(self, item: QGraphicsItem) -> None:
        """Takes something away."""
        self._scene.removeItem(item)

    def moved_to(self, place: QPointF) -> None:
        """The mouse is over a place of the scene."""

    def viewport(self) -> QWidget:
        """What is painted on."""
        made = super().viewport()
        assert made is not None
        return made

    def sizeHint(self) -> QSize:
        return QSize()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.setSceneRect(QRectF(0, 0, self.width(), self.height()))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        super().mouseMoveEvent(event)
        assert event is not None
        self.moved_to(self.mapToScene(event.position().toPoint()))
