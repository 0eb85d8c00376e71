"""Dragging the edge between two panes."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QEvent, QPointF, Qt
from PyQt6.QtGui import QMouseEvent
from PyQt6.QtWidgets import QWidget

from oakladder.desk.chart.stack import Stack


class Edges:
    """Follows the mouse over a viewport; ``arranged`` is called when an edge has been let go."""

    def __init__(self, stack: Stack, viewport: QWidget, arranged: Callable[[], None]):
        self._stack, self._viewport, self._arranged = stack, viewport, arranged
        self._from: float | None = None

    def follow(self, event: QMouseEvent, place: QPointF) -> bool:
        """Dragging the edge between two panes makes one higher and the other lower."""
        match event.type():
            case QEvent.Type.MouseButtonPress if event.button() == Qt.MouseButton.LeftButton:
                if self._stack.grab(place):
                    self._from = place.y()
                    return True
            case QEvent.Type.MouseMove:
                if self._from is not None:
                    self._stack.drag(place.y() - self._from)
                    self._from = place.y()
                    return True
                over = self._stack.edge_at(place) is not None
                self._viewport.setCursor(Qt.CursorShape.SplitVCursor if over else Qt.CursorShape.ArrowCursor)
            case QEvent.Type.MouseButtonRelease if self._from is not None:
                self._from = None
                self._arranged()
                return self._stack.drop()
        return False
