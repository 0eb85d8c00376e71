"""Painting many lines, boxes and points at once, straight from arrays of numbers."""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6 import sip
from PyQt6.QtCore import QLineF, QPointF, QRectF
from PyQt6.QtGui import QPainter


def _filled(kind: type, rows: np.ndarray) -> Any:
    """Qt objects of plain doubles, laid end to end, filled from rows of numbers."""
    made: Any = sip.array(kind, len(rows))
    view = np.frombuffer(sip.voidptr(made, rows.size * 8), dtype=np.float64).reshape(rows.shape)
    view[:] = rows
    return made


def _rows(*columns: np.ndarray) -> np.ndarray:
    """Columns beside one another, without the rows that have a none."""
    rows = np.empty((next(len(c) for c in columns if c.ndim), len(columns)))
    for k, column in enumerate(columns):
        rows[:, k] = column
    known = ~np.isnan(rows.sum(axis=1))
    return rows if known.all() else rows[known]


def draw_lines(painter: QPainter, x1: np.ndarray, y1: np.ndarray, x2: np.ndarray, y2: np.ndarray) -> None:
    """Single straight lines in the painter's pen."""
    rows = _rows(x1, y1, x2, y2)
    if len(rows):
        painter.drawLines(_filled(QLineF, rows))


def draw_chain(painter: QPainter, x: np.ndarray, y: np.ndarray) -> None:
    """Neighbouring points joined by single lines, which are many times quicker to paint than one thick polyline."""
    draw_lines(painter, x[:-1], y[:-1], x[1:], y[1:])


def draw_boxes(painter: QPainter, x: np.ndarray, y: np.ndarray, width: np.ndarray, height: np.ndarray) -> None:
    """Rectangles in the painter's pen and brush."""
    rows = _rows(x, y, width, height)
    if len(rows):
        painter.drawRects(_filled(QRectF, rows))


def draw_dots(painter: QPainter, x: np.ndarray, y: np.ndarray) -> None:
    """Points in the painter's pen."""
    rows = _rows(x, y)
    if len(rows):
        painter.drawPoints(_filled(QPointF, rows))
