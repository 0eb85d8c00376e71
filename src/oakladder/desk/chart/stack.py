"""The panes of a chart above one another: which there are, how high each is, folding, moving, dragging their edges."""

from __future__ import annotations

from collections.abc import Callable

import pyqtgraph as pg
from PyQt6.QtCore import QPointF

from oakladder.desk.chart.areas import LANE_HEIGHT
from oakladder.desk.chart.axes import TimeAxis
from oakladder.desk.chart.pane import FOLDED, Hands, Pane
from oakladder.desk.chart_options import PaneLayout
from oakladder.desk.look.theme import Theme
from oakladder.engine.picture.parts import PRICE, VOLUME

LANES = "lanes"
#: These stand on top and stay together.
_TOP = (PRICE, VOLUME)
_SHARES = {PRICE: 420.0, VOLUME: 66.0}
_SHARE, _LEAST = 105.0, 40.0
_GRIP = 4.0


class Stack:
    """Arranges the panes in a graphics layout. The time axis is under the lowest."""

    def __init__(self, layout: pg.GraphicsLayout, hands: Hands, theme: Theme):
        self._layout, self._hands, self.theme = layout, hands, theme
        self.layout = PaneLayout()
        self.panes: dict[str, Pane] = {}
        self.time_axis = TimeAxis()
        self._lanes = 0
        self._dragged: tuple[Pane, Pane] | None = None

    def build(self, names: list[str], lanes: int, fill: Callable[[dict[str, Pane]], None]) -> None:
        """Makes the panes of these names in the user's order; ``fill`` puts the painters of the bars into them."""
        lower = self.layout.arranged([n for n in names if n not in _TOP])
        self._layout.clear()
        self.panes = {}
        self.time_axis = TimeAxis()
        self._lanes = lanes
        ordered = [*(n for n in _TOP if n in names), *lower]
        for row, name in enumerate(ordered):
            pane = Pane(name, self._hands, self.theme, self.time_axis if row == len(ordered) - 1 else None)
            pane.overlay.content.foldable = name not in (PRICE, LANES)
            pane.has_values = name != LANES
            self.panes[name] = pane
            self._layout.addItem(pane.plot, row=row, col=0)
            pane.set_theme(self.theme)
        fill(self.panes)
        for name, pane in self.panes.items():
            pane.fold(name in self.layout.folded)
        self.apply_heights()

    def set_lanes(self, lanes: int) -> None:
        """Gives the lanes room for so many rows."""
        if lanes != self._lanes:
            self._lanes = lanes
            self.apply_heights()

    def apply_heights(self) -> None:
        """Sets every row: fixed for lanes and folded panes, in proportion for the others."""
        grid = self._layout.layout
        for row, (name, pane) in enumerate(self.panes.items()):
            axis = 24.0 if row == len(self.panes) - 1 else 0.0
            fixed = FOLDED if pane.folded else self._lanes * LANE_HEIGHT + 5 if name == LANES else None
            if fixed is not None:
                pane.plot.setFixedHeight(fixed + axis)
                grid.setRowStretchFactor(row, 0)
                continue
            pane.plot.setMinimumHeight(_LEAST + axis)
            pane.plot.setMaximumHeight(16_777_215)
            height = self.layout.heights.get(name, _SHARES.get(name, _SHARE))
            pane.plot.setPreferredHeight(height)
            grid.setRowStretchFactor(row, max(int(height), 1))

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        for pane in self.panes.values():
            pane.set_theme(theme)

    # --- by hand ----------------------------------------------------------------------------------

    def fold(self, name: str) -> None:
        """Folds a pane to its legend, or opens it again."""
        pane = self.panes[name]
        self.layout.folded ^= {name}
        pane.fold(name in self.layout.folded)
        self.apply_heights()

    def moved(self, name: str, by: int) -> bool:
        """Moves a pane up (-1) or down (1) in the user's order; False where it cannot go further."""
        lower = [n for n in self.panes if n not in _TOP]
        if name not in lower or not 0 <= lower.index(name) + by < len(lower):
            return False
        at = lower.index(name)
        lower[at], lower[at + by] = lower[at + by], lower[at]
        self.layout.order = [*lower, *(n for n in self.layout.order if n not in lower)]
        return True

    def edge_at(self, place: QPointF) -> tuple[Pane, Pane] | None:
        """The two panes whose common edge is under a point, if it can be dragged."""
        panes = list(self.panes.values())
        for k, lower in enumerate(panes[1:], 1):
            if abs(lower.plot.sceneBoundingRect().top() - place.y()) <= _GRIP:
                above = [p for p in panes[:k] if self._loose(p)]
                below = [p for p in panes[k:] if self._loose(p)]
                if len(above) > 1 and above[-1].name == VOLUME:
                    above.pop()  # the price gives room, its volume keeps its height
                return (above[-1], below[0]) if above and below else None
        return None

    def _loose(self, pane: Pane) -> bool:
        return not pane.folded and pane.name != LANES

    def grab(self, place: QPointF) -> bool:
        """Begins to drag an edge, if one is there."""
        self._dragged = self.edge_at(place)
        if self._dragged is not None:  # from now on every height is as it stands
            for pane in self.panes.values():
                if self._loose(pane):
                    self.layout.heights[pane.name] = pane.plot.sceneBoundingRect().height()
        return self._dragged is not None

    def drag(self, by: float) -> None:
        """Moves the edge that was grabbed."""
        if self._dragged is None:
            return
        upper, lower = (p.name for p in self._dragged)
        heights = self.layout.heights
        by = min(max(by, _LEAST - heights[upper]), heights[lower] - _LEAST)
        heights[upper] += by
        heights[lower] -= by
        self.apply_heights()

    def drop(self) -> bool:
        """Lets go of an edge; False if none was held."""
        held, self._dragged = self._dragged is not None, None
        return held
