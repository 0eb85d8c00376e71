"""What every painter of the chart shares: where bars and prices are in pixels, and how much can be seen."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QRectF, Qt
from PyQt6.QtGui import QPainter, QTransform

from oakladder.desk.chart.extremes import step_for
from oakladder.desk.chart.scale import Scale

PEN_STYLES = {"dashed": Qt.PenStyle.DashLine, "dotted": Qt.PenStyle.DotLine, "dots": Qt.PenStyle.DotLine}


class Item(pg.GraphicsObject):
    """A painter in a pane. Subclasses draw in pixels: `bar_x` and `price_y` say where."""

    def __init__(self) -> None:
        super().__init__()
        self._map = QTransform()
        #: What the pane shows, until that changes: it is asked for dozens of times for a frame.
        self._rect: QRectF | None = None
        self.scale_ = Scale()

    def boundingRect(self) -> QRectF:
        """Everything that the pane shows: painters look after their own limits."""
        return self._seen_rect()

    def _seen_rect(self) -> QRectF:
        if self._rect is None:
            self._rect = QRectF(self.viewRect())
        return self._rect

    def paint(self, painter: QPainter, *_: object) -> None:
        painter.save()
        self._map = painter.transform()
        painter.resetTransform()
        self.draw(painter)
        painter.restore()

    def draw(self, painter: QPainter) -> None:
        raise NotImplementedError

    @property
    def box(self) -> QRectF:
        """The pane in pixels."""
        return self._map.mapRect(self._seen_rect())

    def bar_x(self, bar: np.ndarray | float) -> np.ndarray:
        """Pixel of the middle of a bar."""
        return np.asarray(bar) * self._map.m11() + self._map.dx()

    def price_y(self, price: np.ndarray | float) -> np.ndarray:
        """Pixel of a price, kept within reach of a painter."""
        return np.clip(self.scale_.to(price) * self._map.m22() + self._map.dy(), -30_000, 30_000)

    @property
    def bar_width(self) -> float:
        """Pixels from one bar to the next."""
        return abs(self._map.m11())

    def seen(self, count: int) -> tuple[int, int]:
        """The bars that can be seen, one more on each side."""
        rect = self._seen_rect()
        return max(int(rect.left()) - 1, 0), min(int(rect.right()) + 3, count)

    def viewRangeChanged(self) -> None:
        self.prepareGeometryChange()
        self._rect = None
        self.update()

    def thinned(self, first: int, last: int) -> tuple[np.ndarray, int] | None:
        """Where bars are narrower than a pixel: the first bar of each group that shares one, and how many do."""
        if self.bar_width >= 1.0 or last - first < 4:
            return None
        step = step_for(self.bar_width)
        return np.arange(first - first % step, last, step), step
