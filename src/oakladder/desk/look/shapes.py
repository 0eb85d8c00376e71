"""The shapes of marks, drawn around a point; each with whether it is filled."""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF
from PyQt6.QtGui import QPainterPath, QPolygonF


def _polygon(points: list[tuple[float, float]], x: float, y: float, r: float) -> QPainterPath:
    path = QPainterPath()
    path.addPolygon(QPolygonF([QPointF(x + a * r, y + b * r) for a, b in points]))
    path.closeSubpath()
    return path


_ARROW = [(0.0, -1.0), (0.75, 0.0), (0.28, 0.0), (0.28, 1.0), (-0.28, 1.0), (-0.28, 0.0), (-0.75, 0.0)]
_WEDGE = [(0.0, -0.8), (0.95, 0.8), (0.0, 0.35), (-0.95, 0.8)]
_DIAMOND = [(0.0, -1.0), (0.8, 0.0), (0.0, 1.0), (-0.8, 0.0)]
_SQUARE = [(-0.75, -0.75), (0.75, -0.75), (0.75, 0.75), (-0.75, 0.75)]
_FLAG = [(-0.5, -1.0), (0.8, -0.5), (-0.3, 0.0), (-0.3, 1.0), (-0.5, 1.0)]


def _flipped(points: list[tuple[float, float]]) -> list[tuple[float, float]]:
    return [(a, -b) for a, b in points]


def _star() -> list[tuple[float, float]]:
    return [
        (
            (1.0 if k % 2 == 0 else 0.42) * math.sin(k * math.pi / 5),
            -(1.0 if k % 2 == 0 else 0.42) * math.cos(k * math.pi / 5),
        )
        for k in range(10)
    ]


_POLYGONS = {
    "arrow_up": _ARROW,
    "arrow_down": _flipped(_ARROW),
    "wedge_up": _WEDGE,
    "wedge_down": _flipped(_WEDGE),
    "square": _SQUARE,
    "diamond": _DIAMOND,
    "star": _star(),
    "flag": _FLAG,
}


def shape_path(shape: str, x: float, y: float, r: float) -> tuple[QPainterPath, bool]:
    """The outline of a shape of radius ``r`` pixels around a point, and whether it is filled."""
    if shape in _POLYGONS:
        return _polygon(_POLYGONS[shape], x, y, r), True
    path = QPainterPath()
    if shape == "cross":
        for a, b in ((-0.8, -0.8), (-0.8, 0.8)):
            path.moveTo(x + a * r, y + b * r)
            path.lineTo(x - a * r, y - b * r)
        return path, False
    path.addEllipse(QPointF(x, y), r * 0.7, r * 0.7)
    return path, shape == "dot"
