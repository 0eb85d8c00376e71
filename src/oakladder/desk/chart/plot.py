"""A view with its axes: a row of the chart."""

from __future__ import annotations

from PyQt6.QtCore import QRectF
from PyQt6.QtWidgets import QGraphicsSceneResizeEvent, QGraphicsWidget

from oakladder.desk.chart.axes import HEIGHT, WIDTH, Axis
from oakladder.desk.chart.pane_view import PaneView


class Plot(QGraphicsWidget):
    """Gives a view what its axes leave: one at its right, and perhaps one below.

    Rows and what is in them are placed here and in `stack`, not by layouts of the scene: when everything is taken down,
    those ask what they held for its place, and it may be gone.
    """

    def __init__(self, view: PaneView, right: Axis, bottom: Axis | None):
        super().__init__()
        self._view, self._right, self._bottom = view, right, bottom
        for item in (view, right, bottom):
            if item is not None:
                item.setParentItem(self)
        for axis in (right, bottom):
            if axis is not None:
                axis.link(view)

    @property
    def below(self) -> int:
        """The height of the axis below, 0 without one."""
        return HEIGHT if self._bottom is not None else 0

    def stand(self, top: float, width: float, height: float) -> None:
        """Takes its place in the column, in pixels."""
        self.setGeometry(QRectF(0, top, width, height))

    def resizeEvent(self, event: QGraphicsSceneResizeEvent | None) -> None:
        super().resizeEvent(event)
        size = self.size()
        wide, high = max(size.width() - WIDTH, 0), max(size.height() - self.below, 0)
        self._view.setGeometry(QRectF(0, 0, wide, high))
        self._right.setGeometry(QRectF(wide, 0, WIDTH, high))
        if self._bottom is not None:
            self._bottom.setGeometry(QRectF(0, high, wide, HEIGHT))
