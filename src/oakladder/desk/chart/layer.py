"""What every layer of a pane shares: where bars and prices are in pixels, and how much can be seen."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter

from oakladder.desk.chart.minmax_pyramid import step_for
from oakladder.desk.chart.scale import Scale

PEN_STYLES = {"dashed": Qt.PenStyle.DashLine, "dotted": Qt.PenStyle.DotLine, "dots": Qt.PenStyle.DotLine}


@dataclass(slots=True)
class Sight:
    """What a pane shows and where, in the pixels of what is painted on: a bar is at ``x0 + bar * bar_width``, a height
    of the scale at ``y0 + height * unit``."""

    first: float = 0.0
    last: float = 1.0
    bar_width: float = 1.0
    x0: float = 0.0
    unit: float = -1.0
    y0: float = 0.0
    box: QRectF = field(default_factory=QRectF)


class Painted(Protocol):
    """Something that can be asked to repaint."""

    def update(self) -> None: ...


class Layer:
    """Something that is painted in a pane. Subclasses draw in pixels: `bar_x` and `price_y` say where."""

    def __init__(self) -> None:
        self.sight = Sight()
        self.scale = Scale()
        #: Higher layers are painted over lower ones.
        self.height = 0
        self.shown = True
        #: What paints it, while it lies in a pane.
        self.view: Painted | None = None

    def update(self) -> None:
        """Requests a repaint."""
        if self.view is not None:
            self.view.update()

    def paint(self, painter: QPainter, sight: Sight) -> None:
        """Draws what can be seen; the painter is left as it was."""
        self.sight = sight
        painter.save()
        self.draw(painter)
        painter.restore()

    def draw(self, painter: QPainter) -> None:
        raise NotImplementedError

    @property
    def box(self) -> QRectF:
        """The pane in pixels."""
        return self.sight.box

    def bar_x(self, bar: np.ndarray | float) -> np.ndarray:
        """Pixel of the middle of a bar. Any shape, int64; float64 of that shape."""
        return np.asarray(bar) * self.sight.bar_width + self.sight.x0

    def price_y(self, price: np.ndarray | float) -> np.ndarray:
        """Pixel of a price, kept within reach of a painter. Any shape, float64; float64 of that shape."""
        return self.height_y(self.scale.to(price))

    def height_y(self, height: np.ndarray | float) -> np.ndarray:
        """Pixel of a height of the scale, kept within reach of a painter. Any shape, float64; float64 of that shape."""
        placed = height * self.sight.unit + self.sight.y0
        return np.minimum(np.maximum(placed, -30_000.0), 30_000.0)

    @property
    def bar_width(self) -> float:
        """Pixels from one bar to the next."""
        return self.sight.bar_width

    def seen(self, count: int) -> tuple[int, int]:
        """The bars that can be seen, one more on each side."""
        return max(int(self.sight.first) - 1, 0), min(int(self.sight.last) + 3, count)

    def thinned(self, first: int, last: int) -> tuple[np.ndarray, int] | None:
        """Where bars are narrower than a pixel: the first bar of each group that shares one, and how many do. Shape
        (groups,), int64."""
        if self.bar_width >= 1.0 or last - first < 4:
            return None
        step = step_for(self.bar_width)
        return np.arange(first - first % step, last, step), step
