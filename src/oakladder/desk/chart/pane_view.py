"""The part of a pane where things are drawn: its layers one over the other, and the mouse on them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter, QPen
from PyQt6.QtWidgets import (
    QGraphicsSceneMouseEvent,
    QGraphicsSceneWheelEvent,
    QGraphicsWidget,
    QStyleOptionGraphicsItem,
    QWidget,
)

from oakladder.desk.chart.layer import Layer, Sight

#: A mouse that is moved by fewer pixels while it is pressed has clicked.
_LEAST_DRAG = 5


@dataclass(frozen=True, slots=True)
class Hands:
    """What the mouse does in a pane, told to the chart. Places are in the scene."""

    panned: Callable[[float], None]
    zoomed: Callable[[float, float], None]
    clicked: Callable[[QPointF], None]
    measured: Callable[[QPointF, QPointF], None]
    asked: Callable[[QPointF], None]


class PaneView(QGraphicsWidget):
    """Paints layers over a range of bars and of heights. Wheel zooms, dragging pans, both along the bars only."""

    def __init__(self, hands: Hands):
        super().__init__()
        self._hands = hands
        self._layers: list[Layer] = []
        self._border = QPen(Qt.PenStyle.NoPen)
        self._pressed = self._last = QPointF()
        self._drags = False
        #: The first and the last bar, and the lowest and the highest height, that can be seen.
        self.bars, self.heights = (0.0, 1.0), (0.0, 1.0)

    # --- what is seen -----------------------------------------------------------------------------

    def show_bars(self, first: float, last: float) -> None:
        """Shows the bars from first to last."""
        if (first, last) != self.bars:
            self.bars = (first, last)
            self.update()

    def show_heights(self, low: float, high: float) -> None:
        """Shows the heights from low to high; what makes no range changes nothing."""
        if (low, high) != self.heights and math.isfinite(low) and math.isfinite(high) and low < high:
            self.heights = (low, high)
            self.update()

    def sight(self) -> Sight:
        """What is seen and where, in the view's own pixels."""
        (first, last), (low, high) = self.bars, self.heights
        size = self.size()
        wide, unit = size.width() / (last - first), -size.height() / (high - low)
        return Sight(first, last, wide, -first * wide, unit, -high * unit, QRectF(QPointF(0, 0), size))

    def in_scene(self, spot: QPointF) -> QPointF:
        """Where a bar and a height of the scale are in the scene."""
        sight = self.sight()
        return self.mapToScene(QPointF(sight.x0 + spot.x() * sight.bar_width, sight.y0 + spot.y() * sight.unit))

    def from_scene(self, place: QPointF) -> QPointF:
        """The bar and the height of the scale at a place in the scene."""
        sight, spot = self.sight(), self.mapFromScene(place)
        return QPointF((spot.x() - sight.x0) / (sight.bar_width or 1), (spot.y() - sight.y0) / (sight.unit or 1))

    # --- layers -----------------------------------------------------------------------------------

    def add(self, layer: Layer) -> None:
        """Lays something into the view."""
        layer.view = self
        self._layers = sorted([*self._layers, layer], key=lambda one: one.height)
        self.update()

    def let_go(self) -> None:
        """Lets go of its layers, before it is taken away: some of them will lie in other views, or in none."""
        for layer in self._layers:
            layer.view = None
        self._layers = []

    def set_border(self, color: QColor) -> None:
        """The colour of the line around it."""
        self._border = QPen(color, 1)
        self._border.setCosmetic(True)
        self.update()

    def paint(
        self, painter: QPainter | None, option: QStyleOptionGraphicsItem | None, widget: QWidget | None = None
    ) -> None:
        assert painter is not None
        room = self.rect().adjusted(0, 0, 0.5, 0.5)
        painter.save()
        painter.setPen(self._border)
        painter.drawRect(room)
        painter.setClipRect(room.adjusted(1, 0, 0, 0), Qt.ClipOperation.IntersectClip)  # the line stays free
        there = painter.transform()
        painter.resetTransform()
        sight = self._painted(there.m11(), there.dx(), there.m22(), there.dy())
        for layer in self._layers:
            if layer.shown:
                layer.paint(painter, sight)
        painter.restore()

    def _painted(self, across: float, right: float, down: float, below: float) -> Sight:
        """What is seen, in the pixels of what is painted on."""
        sight = self.sight()
        sight.bar_width, sight.x0 = sight.bar_width * across, sight.x0 * across + right
        sight.unit, sight.y0 = sight.unit * down, sight.y0 * down + below
        sight.box = QRectF(right, below, sight.box.width() * across, sight.box.height() * down)
        return sight

    # --- mouse and keys -----------------------------------------------------------------------------

    def wheelEvent(self, event: QGraphicsSceneWheelEvent | None) -> None:
        assert event is not None
        self._hands.zoomed(0.85 if event.delta() > 0 else 1 / 0.85, self.from_scene(event.scenePos()).x())
        event.accept()

    def mousePressEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        assert event is not None
        event.setAccepted(event.button() in (Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton))
        self._pressed = self._last = event.scenePos()
        self._drags = False

    def mouseMoveEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        assert event is not None
        now, pressed = event.scenePos(), self._pressed
        self._drags = self._drags or (now - pressed).manhattanLength() >= _LEAST_DRAG
        if not self._drags or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:
            self._hands.measured(pressed, now)
        else:
            self._hands.panned(self.from_scene(self._last).x() - self.from_scene(now).x())
        self._last = now

    def mouseReleaseEvent(self, event: QGraphicsSceneMouseEvent | None) -> None:
        assert event is not None
        if self._drags:
            return
        if event.button() == Qt.MouseButton.LeftButton:
            self._hands.clicked(event.scenePos())
        elif event.button() == Qt.MouseButton.RightButton:
            self._hands.asked(event.scenePos())
