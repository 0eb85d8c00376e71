"""The program's own picture."""

from __future__ import annotations

from importlib.resources import files

from PyQt6.QtCore import QByteArray, QSize
from PyQt6.QtGui import QIcon, QImage, QPainter, QPixmap
from PyQt6.QtSvg import QSvgRenderer

_SIZES = (16, 24, 32, 48, 64, 128, 256)


def icon() -> QIcon:
    """The icon of the windows, sharp in every usual size."""
    drawing = files("oakladder.desk.look").joinpath("icon.svg").read_bytes()
    renderer = QSvgRenderer(QByteArray(drawing))
    made = QIcon()
    for size in _SIZES:
        image = QImage(QSize(size, size), QImage.Format.Format_ARGB32_Premultiplied)
        image.fill(0)
        with QPainter(image) as painter:
            renderer.render(painter)
        made.addPixmap(QPixmap.fromImage(image))
    return made
