"""The panes of a chart above one another: which there are, how high each is, folding, moving, dragging their edges."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPointF

from oakladder.app.chart_options import PaneLayout
from oakladder.desk.chart.areas import LANE_HEIGHT
from oakladder.desk.chart.axes import TimeAxis
from oakladder.desk.chart.canvas import Canvas
from oakladder.desk.chart.pane import FOLDED, Pane
from oakladder.desk.chart.pane_view import Hands
from oakladder.desk.look.theme import Theme
from oakladder.engine.picture.parts import PRICE, VOLUME

LANES = "lanes"
#: These panes are at the top and stay together.
_TOP = (PRICE, VOLUME)
_SHARES = {PRICE: 420.0, VOLUME: 66.0}
_SHARE, _LEAST = 105.0, 40.0
_GRIP = 4.0


class Stack:
    """Arranges the panes on a canvas. The time axis is under the lowest."""

    def __init__(self, canvas: Canvas, hands: Hands, theme: Theme):
        self._canvas, self._hands, self.theme = canvas, hands, theme
        self.layout = PaneLayout()
        self.panes: dict[str, Pane] = {}
        self.time_axis = TimeAxis()
        self._lanes = 0
        self._dragged: tuple[Pane, Pane] | None = None

    def build(self, names: list[str], lanes: int, fill: Callable[[dict[str, Pane]], None]) -> None:
        """Makes the panes of these names in the user's order; ``fill`` puts the painters of the bars into them."""
        lower = self.layout.arranged([n for n in names if n not in _TOP])
        for pane in self.panes.values():
            pane.view.let_go()
            self._canvas.take(pane.plot)
        self.panes = {}
        self.time_axis = TimeAxis()
        self._lanes = lanes
        ordered = [*(n for n in _TOP if n in names), *lower]
        for row, name in enumerate(ordered):
            pane = Pane(name, self._hands, self.theme, self.time_axis if row == len(ordered) - 1 else None)
            pane.overlay.content.foldable = name not in (PRICE, LANES)
            pane.has_values = name != LANES
            self.panes[name] = pane
            self._canvas.put(pane.plot)
            pane.set_theme(self.theme)
        fill(self.panes)
        for name, pane in self.panes.items():
            pane.fold(name in self.layout.folded)
        self.apply_heights()

    def set_lanes(self, lanes: int) -> None:
        """Reserves the height of so many lane rows."""
        if lanes != self._lanes:
            self._lanes = lanes
            self.apply_heights()

    def apply_heights(self) -> None:
        """Gives every pane its place on the ground, on whole pixels."""
        heights = self._heights(self._canvas.height())
        top = 0.0
        for pane, height in zip(self.panes.values(), heights, strict=True):
            edge = round(top + height)
            pane.plot.stand(round(top), self._canvas.width(), edge - round(top))
            top += height

    def _heights(self, room: float) -> list[float]:
        """How high each pane is: fixed for lanes and folded panes, in proportion for the others. Where there is too little
        room for what each needs at least, all are lower."""
        least = self._least()
        shares = [
            max(self.layout.heights.get(name, _SHARES.get(name, _SHARE)), 1.0) if self._loose(pane) else 0.0
            for name, pane in self.panes.items()
        ]
        if sum(least) >= room:
            return [height * room / sum(least) for height in least]
        while True:  # who would get less than it needs gets that, and the others share what is left
            left = room - sum(low for low, share in zip(least, shares, strict=True) if not share)
            unit = left / (sum(shares) or 1)
            short = [k for k, share in enumerate(shares) if share and share * unit < least[k]]
            if not short:
                return [share * unit if share else low for low, share in zip(least, shares, strict=True)]
            for k in short:
                shares[k] = 0.0

    def _least(self) -> list[float]:
        """The height that each pane needs; lanes and folded panes have no other."""
        return [
            (FOLDED if pane.folded else self._lanes * LANE_HEIGHT + 5 if name == LANES else _LEAST) + pane.plot.below
            for name, pane in self.panes.items()
        ]

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        for pane in self.panes.values():
            pane.set_theme(theme)

    # --- mouse and keys -----------------------------------------------------------------------------

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
        """The two panes whose common edge is under a point, if it can be dragged: without height to share, the
        heights of that moment would be taken for those that are wanted."""
        if sum(self._least()) >= self._canvas.height():
            return None
        panes = list(self.panes.values())
        for k, lower in enumerate(panes[1:], 1):
            if abs(lower.plot.sceneBoundingRect().top() - place.y()) <= _GRIP:
                above = [p for p in panes[:k] if self._loose(p)]
                below = [p for p in panes[k:] if self._loose(p)]
                if len(above) > 1 and above[-1].name == VOLUME:
                    above.pop()  # the price pane gives height, its volume keeps its own
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
