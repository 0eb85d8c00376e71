"""One pane of the chart: a plot with its own scale, its lines, marks and overlay."""

from __future__ import annotations

import numpy as np

from oakladder.desk.chart.areas import Areas
from oakladder.desk.chart.axes import Axis, PriceAxis
from oakladder.desk.chart.layer import Layer
from oakladder.desk.chart.lines import Lines
from oakladder.desk.chart.marks import MarksAndLabels
from oakladder.desk.chart.overlay import Overlay
from oakladder.desk.chart.pane_view import Hands, PaneView
from oakladder.desk.chart.plot import Plot
from oakladder.desk.chart.scale import Scale
from oakladder.desk.look.theme import Theme
from oakladder.engine.picture.parts import PRICE

#: Height of a pane that is folded to its legend.
FOLDED = 22


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
        self.plot = Plot(self.view, self.axis, axis)
        self.areas = Areas()
        self.lines = Lines()
        self.marks = MarksAndLabels(on_bars=name == PRICE)
        self.overlay = Overlay(theme)
        self.layers: list[Layer] = []
        for layer, height in ((self.areas, 5), (self.lines, 20), (self.marks, 30), (self.overlay, 50)):
            self.add(layer, height)

    def add(self, layer: Layer, height: int) -> None:
        """Puts a layer into the pane; higher ones are painted over lower ones."""
        layer.height, layer.scale = height, self.scale
        self.view.add(layer)
        self.layers.append(layer)

    def show_bars(self, first: float, last: float) -> None:
        """Shows the bars from first to last."""
        self.view.show_bars(first, last)
        for axis in self._axes:
            axis.update()

    def show_heights(self, low: float, high: float) -> None:
        """Shows the heights of the scale from low to high."""
        self.view.show_heights(low, high)
        self.axis.update()

    def set_scale(self, scale: Scale) -> None:
        """Shows prices by another scale."""
        if scale != self.scale:
            self.scale = self.axis.price_scale = scale
            for layer in self.layers:
                layer.scale = scale
            self.view.update()
            self.axis.update()

    def set_theme(self, theme: Theme) -> None:
        self.overlay.theme = theme
        for axis in self._axes:
            axis.set_colors(theme.color("line"), theme.color("faint"))
        self.view.set_border(theme.color("line"))

    def fold(self, folded: bool) -> None:
        """Folds the pane to its legend, or opens it."""
        self.folded = self.overlay.content.folded = folded
        for layer in self.layers:
            layer.shown = layer is self.overlay or not folded
        self.axis.show_values(self.has_values and not folded)
        self.overlay.update()

    def scale_to(self, low: float, high: float, room: float = 0.06, above: float | None = None) -> None:
        """Shows the values from low to high with margins, ``above`` at the top; all-equal values get
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
        self.show_heights(bottom - span * room, top + span * (room if above is None else above))
