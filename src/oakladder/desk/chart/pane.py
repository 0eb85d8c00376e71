"""One pane of the chart: a plot with its own scale, its lines, marks and overlay."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtWidgets import QGraphicsGridLayout

from oakladder.desk.chart.areas import Areas
from oakladder.desk.chart.axes import Axis, PriceAxis
from oakladder.desk.chart.item import Item
from oakladder.desk.chart.lines import Lines
from oakladder.desk.chart.marks import MarksAndLabels
from oakladder.desk.chart.overlay import Overlay
from oakladder.desk.chart.scale import Scale
from oakladder.desk.look.theme import Theme
from oakladder.engine.picture.parts import PRICE

#: Height of a pane that is folded to its legend.
FOLDED = 22


@dataclass(frozen=True, slots=True)
class Hands:
    """What the mouse does in a pane, told to the chart. Places are in the scene."""

    panned: Callable[[float], None]
    zoomed: Callable[[float, float], None]
    clicked: Callable[[QPointF], None]
    measured: Callable[[QPointF, QPointF], None]
    asked: Callable[[QPointF], None]


class PaneView(pg.ViewBox):
    """Wheel zooms, dragging pans, both along the bars only; the scale of values follows what is seen."""

    def __init__(self, hands: Hands):
        super().__init__(enableMenu=False)
        self._hands = hands
        self.setMouseEnabled(x=False, y=False)

    def wheelEvent(self, event: object, axis: object = None) -> None:
        delta = event.delta()  # type: ignore[attr-defined]
        at = self.mapSceneToView(event.scenePos()).x()  # type: ignore[attr-defined]
        self._hands.zoomed(0.85 if delta > 0 else 1 / 0.85, at)
        event.accept()  # type: ignore[attr-defined]

    def mouseDragEvent(self, event: object, axis: object = None) -> None:
        event.accept()  # type: ignore[attr-defined]
        if event.button() != Qt.MouseButton.LeftButton:  # type: ignore[attr-defined]
            return
        if event.modifiers() & Qt.KeyboardModifier.ShiftModifier:  # type: ignore[attr-defined]
            self._hands.measured(QPointF(event.buttonDownScenePos()), QPointF(event.scenePos()))  # type: ignore[attr-defined]
            return
        now, before = (self.mapSceneToView(QPointF(p)).x() for p in (event.scenePos(), event.lastScenePos()))  # type: ignore[attr-defined]
        self._hands.panned(before - now)

    def mouseClickEvent(self, event: object) -> None:
        button, place = event.button(), QPointF(event.scenePos())  # type: ignore[attr-defined]
        if button == Qt.MouseButton.LeftButton:
            self._hands.clicked(place)
        elif button == Qt.MouseButton.RightButton:
            self._hands.asked(place)
        event.accept()  # type: ignore[attr-defined]


def _plot(view: pg.ViewBox, right: Axis, bottom: Axis | None) -> pg.GraphicsWidget:
    """A view with an axis at its right and perhaps one below. The library's own plot brings a form of settings with
    dozens of widgets for each, which takes longer to make than all the rest."""
    made = pg.GraphicsWidget()
    grid = QGraphicsGridLayout()
    grid.setContentsMargins(0, 0, 0, 0)
    grid.setSpacing(0)
    made.setLayout(grid)
    grid.addItem(view, 0, 0)
    grid.addItem(right, 0, 1)
    right.link(view)
    if bottom is not None:
        grid.addItem(bottom, 1, 0)
        bottom.link(view)
    grid.setRowStretchFactor(0, 100)
    grid.setColumnStretchFactor(0, 100)
    return made


class Pane:
    """A plot, the lines in it and what stands over it."""

    def __init__(self, name: str, hands: Hands, theme: Theme, axis: Axis | None):
        self.name = name
        self.view = PaneView(hands)
        self.axis = PriceAxis()
        self.scale = Scale()
        self.folded = False
        #: Whether what it shows has heights that mean something.
        self.has_values = True
        self._axes = [self.axis] if axis is None else [self.axis, axis]
        self.plot = _plot(self.view, self.axis, axis)
        self.areas = Areas()
        self.lines = Lines()
        self.marks = MarksAndLabels(on_bars=name == PRICE)
        self.overlay = Overlay(theme)
        self.items: list[Item] = []
        for item, depth in ((self.areas, 5), (self.lines, 20), (self.marks, 30), (self.overlay, 50)):
            self.add(item, depth)

    def add(self, item: Item, depth: int) -> None:
        """Puts a painter into the pane; deeper ones lie behind."""
        item.setZValue(depth)
        item.scale_ = self.scale
        self.view.addItem(item, ignoreBounds=True)
        self.items.append(item)

    def set_scale(self, scale: Scale) -> None:
        """Shows prices by another scale."""
        if scale != self.scale:
            self.scale = self.axis.price_scale = scale
            for item in self.items:
                item.scale_ = scale
                item.update()
            self.axis.update()

    def set_theme(self, theme: Theme) -> None:
        self.overlay.theme = theme
        for axis in self._axes:
            axis.set_colors(theme.color("line"), theme.color("faint"))
        self.view.setBorder(pg.mkPen(theme.color("line")))

    def fold(self, folded: bool) -> None:
        """Folds the pane to its legend, or opens it."""
        self.folded = self.overlay.content.folded = folded
        for item in self.items:
            item.setVisible(item is self.overlay or not folded)
        self.axis.show_values(self.has_values and not folded)
        self.overlay.update()

    def scale_to(self, low: float, high: float, room: float = 0.06, above: float | None = None) -> None:
        """Shows the values from low to high with some room on both sides, ``above`` at the top; all-equal values get
        room of their own."""
        if not (np.isfinite(low) and np.isfinite(high)):
            return
        if high <= low:
            apart = max(abs(high) * 0.02, 1e-6)
            low, high = low - apart / 2, high + apart / 2
        bottom, top = (float(self.scale.to(v)) for v in (low, high))
        if not np.isfinite(bottom):  # a logarithm has no place for it
            bottom = top - 2
        span = max(top - bottom, 1e-12)
        self.view.setYRange(bottom - span * room, top + span * (room if above is None else above), padding=0)
