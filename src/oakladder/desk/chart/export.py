"""Taking the chart away: as a picture (PNG, SVG) and its data (CSV)."""

from __future__ import annotations

import itertools
from collections.abc import Callable
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QBuffer, QIODevice, QRect, QRectF, QSize
from PyQt6.QtGui import QPainter
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QGraphicsView

from oakladder.app.chart_view import ChartView
from oakladder.app.jobs import writing
from oakladder.bars.time_words import iso
from oakladder.disk import write_atomic, write_rows


def picture_of(chart: QGraphicsView, path: Path) -> Callable[[], None]:
    """Takes a picture of the chart as it stands; what is given writes it, as PNG or (by the name's ending) SVG, and may
    do so on another thread. That raises `NotDone`."""
    if path.suffix.lower() == ".svg":
        drawn = QBuffer()
        drawn.open(QIODevice.OpenModeFlag.WriteOnly)
        _draw_svg(chart, drawn)
        made = drawn.data().data()
        return lambda: _write(path, made)
    image = chart.grab().toImage()

    def write() -> None:
        held = QBuffer()
        held.open(QIODevice.OpenModeFlag.WriteOnly)
        image.save(held, "PNG")
        _write(path, held.data().data())

    return write


def _write(path: Path, made: bytes) -> None:
    with writing(path):
        write_atomic(path, made)


def _draw_svg(chart: QGraphicsView, device: QIODevice) -> None:
    made = QSvgGenerator()
    made.setOutputDevice(device)
    made.setSize(QSize(chart.width(), chart.height()))
    made.setViewBox(QRect(0, 0, chart.width(), chart.height()))
    made.setTitle("Oak Ladder chart")
    with QPainter(made) as painter:
        painter.fillRect(QRectF(0, 0, chart.width(), chart.height()), chart.backgroundBrush())
        chart.render(painter)


def save_data(view: ChartView, path: Path) -> None:
    """Writes the bars and every line, histogram and signal on them as CSV, none as an empty field. Raises `NotDone`."""
    columns: dict[str, np.ndarray] = {name: view.bars[name] for name in ("open", "high", "low", "close", "volume")}
    if view.picture is not None:
        columns |= {line.name: line.values for line in view.picture.lines if line.name not in columns}
        columns |= {c.name: c.values for c in view.picture.histograms if c.name not in columns}
        for event in view.picture.events:
            fired = np.zeros(len(view.bars))
            fired[event.bars] = 1
            columns.setdefault(event.name, fired)
    rows = zip(*(c.tolist() for c in columns.values()), strict=True)
    body = (
        [iso(time), *("" if v != v else f"{v:.15g}" for v in row)]
        for time, row in zip(view.bars.times.tolist(), rows, strict=True)
    )
    with writing(path):
        write_rows(path, itertools.chain([["time", *columns]], body))
