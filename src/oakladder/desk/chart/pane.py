"""One pane of the chart: a plot with its own scale, its lines, marks and overlay."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QPointF, Qt

from ..look.theme import Theme
from .areas import Areas
from .axes import PriceAxis
from .items import Lines
from .overlay import Overlay


class PaneView(pg.ViewBox):
    """Wheel zooms, dragging pans, both along the bars only; the scale of values follows what is seen."""

    def __init__(
        self,
        moved: Callable[[float, float], None],
        zoomed: Callable[[float, float], None],
        clicked: Callable[[float], None],
    ):
        super().__init__(enableMenu=False)
        self._moved, self._zoomed, self._clicked = moved, zoomed, clicked
        self.setMouseEnabled(x=False, y=False)

    def wheelEvent(self, event: object, axis: object = None) -> None:
        delta = event.delta()  # type: ignore[attr-defined]
        at = self.mapSceneToView(event.scenePos()).x()  # type: ignore[attr-defined]
        self._zoomed(0.85 if delta > 0 else 1 / 0.85, at)
        event.accept()  # type: ignore[attr-defined]

    def mouseDragEvent(self, event: object, axis: object = None) -> None:
        event.accept()  # type: ignore[attr-defined]
        if event.button() != Qt.MouseButton.LeftButton:  # type: ignore[attr-defined]
            return
        now, before = (self.mapSceneToView(QPointF(p)).x() for p in (event.scenePos(), event.lastScenePos()))  # type: ignore[attr-defined]
        self._moved(before - now, 0.0)

    def mouseClickEvent(self, event: object) -> None:
        if event.button() == Qt.MouseButton.LeftButton:  # type: ignore[attr-defined]
            self._clicked(self.mapSceneToView(event.scenePos()).x())  # type: ignore[attr-defined]
            event.accept()  # type: ignore[attr-defined]


class Pane:
    """A plot, the lines in it and what stands over it."""

    def __init__(self, name: str, view: PaneView, theme: Theme, axis: pg.AxisItem | None):
        self.name, self.view = name, view
        self.axis = PriceAxis()
        items = {"right": self.axis}
        if axis is not None:
            items["bottom"] = axis
        self.plot = pg.PlotItem(viewBox=view, axisItems=items, enableMenu=False)
        self.plot.hideButtons()
        self.plot.hideAxis("left")
        self.plot.showAxis("right")
        if axis is None:
            self.plot.hideAxis("bottom")
        self.plot.layout.setContentsMargins(0, 0, 0, 0)
        self.plot.layout.setSpacing(0)
        self.areas = Areas()
        self.areas.setZValue(5)
        self.lines = Lines()
        self.lines.setZValue(20)
        self.overlay = Overlay(theme)
        view.addItem(self.areas, ignoreBounds=True)
        view.addItem(self.lines, ignoreBounds=True)
        view.addItem(self.overlay, ignoreBounds=True)

    def set_theme(self, theme: Theme) -> None:
        self.overlay.theme = theme
        for name in ("right", "bottom"):
            axis = self.plot.getAxis(name)
            axis.setPen(pg.mkPen(theme.color("line")))
            axis.setTextPen(pg.mkPen(theme.color("faint")))
        self.view.setBorder(pg.mkPen(theme.color("line")))

    def scale_to(self, low: float, high: float, room: float = 0.06) -> None:
        """Shows the values from low to high with some room on both sides; all-equal values get room of their own."""
        if not (np.isfinite(low) and np.isfinite(high)):
            return
        span = high - low if high > low else max(abs(high) * 0.02, 1e-6)
        self.view.setYRange(low - span * room, high + span * room, padding=0)
