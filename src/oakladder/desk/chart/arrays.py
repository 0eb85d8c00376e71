"""Painting many lines, boxes and points at once, straight from arrays of numbers."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import QLineF, QPointF, QRectF, Qt
from PyQt6.QtGui import QColor, QPainter


def _filled(kind: type, *columns: np.ndarray) -> Any:
    """Qt objects of plain doubles, laid end to end, one for each row of some columns (one number stands for a column of
    it); without the rows that have a none. Nothing where there are none."""
    bad = np.isnan(sum(columns[1:], columns[0]))
    if bad.any():
        columns = tuple(c[~bad] if c.ndim else c for c in columns)
    count = next(len(c) for c in columns if c.ndim)
    if not count:
        return None
    made: Any = sip.array(kind, count)
    size = count * len(columns)
    view = np.frombuffer(sip.voidptr(made, size * 8), dtype=np.float64).reshape(count, len(columns))
    for k, column in enumerate(columns):
        view[:, k] = column
    return made


def distinct(values: np.ndarray) -> np.ndarray:
    """The different values in order. `numpy.unique` would load masked arrays for it, at each start. Shape (count,), any
    dtype, which is kept."""
    made = np.sort(values)
    new = np.ones(len(made), dtype=bool)
    new[1:] = made[1:] != made[:-1]
    return made[new]


def tones_in(colours: np.ndarray) -> list[tuple[int, np.ndarray | slice]]:
    """The colours there are, and where each is; most often there is one. Colours: shape (bars,), uint32; places: shape
    (of that colour,), int64, or all."""
    if not len(colours):
        return []
    first = colours[0]
    if (colours == first).all():
        return [(int(first), slice(None))]
    return [(tone, colours == tone) for tone in distinct(colours).tolist()]


def draw_lines(painter: QPainter, x1: np.ndarray, y1: np.ndarray, x2: np.ndarray, y2: np.ndarray) -> None:
    """Single straight lines in the painter's pen. Pixels, each shape (lines,), float64."""
    made = _filled(QLineF, x1, y1, x2, y2)
    if made is not None:
        painter.drawLines(made)


def draw_chain(painter: QPainter, x: np.ndarray, y: np.ndarray) -> None:
    """Neighbouring points joined by single lines, which are many times quicker to paint than one thick polyline.
    Pixels, each shape (points,), float64."""
    draw_lines(painter, x[:-1], y[:-1], x[1:], y[1:])


def draw_boxes(painter: QPainter, x: np.ndarray, y: np.ndarray, width: np.ndarray, height: np.ndarray) -> None:
    """Rectangles in the painter's pen and brush. Pixels, each shape (boxes,), float64."""
    made = _filled(QRectF, x, y, width, height)
    if made is not None:
        painter.drawRects(made)


def draw_uprights(
    painter: QPainter, color: QColor, x: np.ndarray, top: np.ndarray, bottom: np.ndarray, wide: float
) -> None:
    """Uprights on whole pixels, each from its place to the next, which is ``wide`` pixels on: without stripes between
    them, and twice as quick to paint as lines. Pixels, each shape (uprights,), float64."""
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    painter.setPen(Qt.PenStyle.NoPen)
    painter.setBrush(color)
    left, above = np.floor(x), np.floor(top)
    draw_boxes(painter, left, above, np.maximum(np.floor(x + wide) - left, 1), np.floor(bottom) - above + 1)


def draw_dots(painter: QPainter, x: np.ndarray, y: np.ndarray) -> None:
    """Points in the painter's pen. Pixels, each shape (points,), float64."""
    made = _filled(QPointF, x, y)
    if made is not None:
        painter.drawPoints(made)
