"""One pane of the chart: a plot with its own scale, its lines, marks and overlay."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt

from oakladder.engine.drawing import PRICE

from ..look.theme import Theme
from .areas import Areas
from .axes import PriceAxis
from .item import Item
from .lines import Lines
from .marks import MarksAndLabels
from .overlay import Overlay
from .scale import Scale

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


class Pane:
    """A plot, the lines in it and what stands over it."""

    def __init__(self, name: str, hands: Hands, theme: Theme, axis: pg.AxisItem | None):
        self.name = name
        self.view = PaneView(hands)
        self.axis = PriceAxis()
        self.scale = Scale()
        self.folded = False
        items = {"right": self.axis}
        if axis is not None:
            items["bottom"] = axis
        self.plot = pg.PlotItem(viewBox=self.view, axisItems=items, enableMenu=False)
        self.plot.hideButtons()
        self.plot.hideAxis("left")
        self.plot.showAxis("right")
        if axis is None:
            self.plot.hideAxis("bottom")
        for unseen in ("left", "top", *(["bottom"] if axis is None else [])):
            self.plot.getAxis(unseen).unlinkFromView()
            self.plot.getAxis(unseen).enableAutoSIPrefix(False)
        self.plot.layout.setContentsMargins(0, 0, 0, 0)
        self.plot.layout.setSpacing(0)
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
            self.axis.picture = None
            self.axis.update()

    def set_theme(self, theme: Theme) -> None:
        self.overlay.theme = theme
        for name in ("right", "bottom"):
            axis = self.plot.getAxis(name)
            axis.setPen(pg.mkPen(theme.color("line")))
            axis.setTextPen(pg.mkPen(theme.color("faint")))
        self.view.setBorder(pg.mkPen(theme.color("line")))

    def fold(self, folded: bool) -> None:
        """Folds the pane to its legend, or opens it."""
        self.folded = self.overlay.content.folded = folded
        for item in self.items:
            item.setVisible(item is self.overlay or not folded)
        self.axis.setStyle(showValues=not folded)
        self.overlay.update()

    def scale_to(self, low: float, high: float, room: float = 0.06) -> None:
        """Shows the values from low to high with some room on both sides; all-equal values get room of their own."""
        if not (np.isfinite(low) and np.isfinite(high)):
            return
        if high <= low:
            apart = max(abs(high) * 0.02, 1e-6)
            low, high = low - apart / 2, high + apart / 2
        bottom, top = (float(self.scale.to(v)) for v in (low, high))
        if not np.isfinite(bottom):  # a logarithm has no place for it
            bottom = top - 2
        span = max(top - bottom, 1e-12)
        self.view.setYRange(bottom - span * room, top + span * room, padding=0)
