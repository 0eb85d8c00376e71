"""Painters of areas: ground behind the bars, bands, histograms, zones, links, and the lanes under the price."""

from __future__ import annotations

import itertools

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from oakladder.engine.drawing import Band, Columns, Lane, Link, Zone

from ..look.theme import Theme, qcolor, ui_font
from .items import PEN_STYLES, Item

LANE_HEIGHT = 15


class Areas(Item):
    """Everything of one pane that lies behind its lines."""

    def __init__(self) -> None:
        super().__init__()
        self.ground: np.ndarray | None = None
        self.bands: list[Band] = []
        self.histograms: list[Columns] = []
        self.zones: list[Zone] = []
        self.links: list[Link] = []

    def show_areas(
        self,
        ground: np.ndarray | None,
        bands: list[Band],
        histograms: list[Columns],
        zones: list[Zone],
        links: list[Link],
    ) -> None:
        self.ground, self.bands, self.histograms, self.zones, self.links = ground, bands, histograms, zones, links
        self.update()

    def draw(self, painter: QPainter) -> None:
        painter.setPen(Qt.PenStyle.NoPen)
        if self.ground is not None:
            self._draw_ground(painter, self.ground)
        for zone in self.zones:
            self._draw_zone(painter, zone)
        for band in self.bands:
            self._draw_band(painter, band)
        for columns in self.histograms:
            self._draw_columns(painter, columns)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for link in self.links:
            painter.setPen(QPen(qcolor(link.colour), link.width, PEN_STYLES.get(link.style, Qt.PenStyle.SolidLine)))
            (a, p), (b, q) = link.start, link.end
            painter.drawLine(
                QPointF(float(self.bar_x(a)), float(self.price_y(p))),
                QPointF(float(self.bar_x(b)), float(self.price_y(q))),
            )

    def _runs(self, colours: np.ndarray, first: int, last: int) -> list[tuple[int, int, int]]:
        """Stretches of bars of one colour: first bar, bar after the last, colour."""
        part = colours[first:last]
        cuts = np.flatnonzero(part[1:] != part[:-1]) + 1
        edges = [0, *cuts.tolist(), len(part)]
        return [(first + a, first + b, int(part[a])) for a, b in itertools.pairwise(edges) if b > a and part[a]]

    def _draw_ground(self, painter: QPainter, colours: np.ndarray) -> None:
        view = self._map.mapRect(QRectF(self.viewRect()))
        for a, b, colour in self._runs(colours, *self.seen(len(colours))):
            color = qcolor(colour)
            color.setAlpha(min(color.alpha(), 46))
            left, right = (float(self.bar_x(x - 0.5)) for x in (a, b))
            painter.fillRect(QRectF(left, view.top(), right - left, view.height()), color)

    def _draw_zone(self, painter: QPainter, zone: Zone) -> None:
        color = qcolor(zone.colour)
        color.setAlpha(min(color.alpha(), 60))
        left, right = (float(self.bar_x(x)) for x in (zone.start - 0.5, zone.end + 0.5))
        top, bottom = (float(self.price_y(p)) for p in (zone.high, zone.low))
        painter.setBrush(color)
        painter.drawRect(QRectF(left, top, right - left, bottom - top))

    def _draw_band(self, painter: QPainter, band: Band) -> None:
        first, last = self.seen(len(band.colours))
        lost = np.isnan(band.first + band.second)
        for a, b, colour in self._runs(np.where(lost, 0, band.colours), first, last):
            end = min(b + 1, last) if b < last and not lost[min(b, len(lost) - 1)] else b
            bars = np.arange(a, end)
            x = self.bar_x(bars)
            points = [QPointF(p, q) for p, q in zip(x.tolist(), self.price_y(band.first[a:end]).tolist(), strict=True)]
            points += [
                QPointF(p, q)
                for p, q in zip(x[::-1].tolist(), self.price_y(band.second[a:end])[::-1].tolist(), strict=True)
            ]
            color = qcolor(colour)
            color.setAlpha(min(color.alpha(), 70))
            painter.setBrush(color)
            painter.drawPolygon(QPolygonF(points))

    def _draw_columns(self, painter: QPainter, columns: Columns) -> None:
        first, last = self.seen(len(columns.values))
        half = max(self.bar_width * 0.34, 0.5)
        x = self.bar_x(np.arange(first, last))
        tops, bases = self.price_y(columns.values[first:last]), self.price_y(columns.base[first:last])
        for k in np.flatnonzero(~np.isnan(tops + bases) & (columns.colours[first:last] != 0)).tolist():
            color = qcolor(int(columns.colours[first + k]))
            color.setAlpha(min(color.alpha(), 190))
            painter.fillRect(QRectF(x[k] - half, min(tops[k], bases[k]), 2 * half, abs(tops[k] - bases[k])), color)


class Lanes(Item):
    """Rows of squares, one a bar; a lane's name stands at its left."""

    def __init__(self, theme: Theme):
        super().__init__()
        self.theme = theme
        self.lanes: tuple[Lane, ...] = ()

    def show_lanes(self, lanes: tuple[Lane, ...], theme: Theme) -> None:
        self.lanes, self.theme = lanes, theme
        self.update()

    def draw(self, painter: QPainter) -> None:
        view = self._map.mapRect(QRectF(self.viewRect()))
        painter.setFont(ui_font(7.5))
        for row, lane in enumerate(self.lanes):
            top = view.top() + 2 + row * LANE_HEIGHT
            first, last = self.seen(len(lane.colours))
            width = max(self.bar_width * 0.8, 1.0)
            x = self.bar_x(np.arange(first, last)) - width / 2
            for k in np.flatnonzero(lane.colours[first:last]).tolist():
                painter.fillRect(QRectF(x[k], top + 2, width, LANE_HEIGHT - 5), qcolor(int(lane.colours[first + k])))
            room = painter.fontMetrics().horizontalAdvance(lane.name) + 8
            box = QRectF(view.left() + 4, top, room, LANE_HEIGHT - 1)
            ground = self.theme.color("ground")
            ground.setAlpha(215)
            painter.fillRect(box, ground)
            painter.setPen(self.theme.color("ink"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, lane.name)
