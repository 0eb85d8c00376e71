"""The letters of the desk: one face to read, one for scripts, three sizes, two weights."""

from __future__ import annotations

from functools import lru_cache

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFont, QFontDatabase, QPainter, QStaticText, QTransform

#: The sizes in points: what is beside something, what is read, and the metrics that a place is about.
SMALL, TEXT, LARGE = 8.5, 9.5, 16.0
#: Faces with metrics of one width, the best first, and by how much their letters must be smaller to be as wide.
_READ = (("Open Sans", 1.0), ("Noto Sans", 0.97), ("DejaVu Sans", 0.92), ("Liberation Sans", 1.0))
#: Faces that distinguish l, 1, I, 0 and O.
_CODE = (("Hack", 0.97), ("DejaVu Sans Mono", 0.97), ("Noto Sans Mono", 0.97), ("Liberation Mono", 1.0))


@lru_cache(maxsize=64)
def ui_font(size: float = TEXT, *, strong: bool = False) -> QFont:
    """The face of everything but scripts."""
    name, share = _first(_READ)
    font = QFont(name)
    font.setPointSizeF(size * share)
    font.setWeight(QFont.Weight.DemiBold if strong else QFont.Weight.Normal)
    return font


@lru_cache(maxsize=4096)
def words(text: str, size: float = TEXT, *, strong: bool = False) -> QStaticText:
    """Words of one line, laid out once: what comes again in every picture is painted several times as fast. Its size is
    that of the words; it must be painted in the face that it was laid out for."""
    made = QStaticText(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.prepare(QTransform(), ui_font(size, strong=strong))
    return made


def draw_words(painter: QPainter, box: QRectF, made: QStaticText) -> None:
    """Puts words into the middle of a box."""
    size = made.size()
    painter.drawStaticText(QPointF(box.center().x() - size.width() / 2, box.center().y() - size.height() / 2), made)


def code_font(size: float = TEXT) -> QFont:
    """The face of scripts."""
    name, share = _first(_CODE)
    font = QFont(name or "monospace")
    font.setStyleHint(QFont.StyleHint.Monospace)
    font.setPointSizeF(size * share)
    return font


@lru_cache(maxsize=2)
def _first(faces: tuple[tuple[str, float], ...]) -> tuple[str, float]:
    """The first of some faces that is there, with its share; looked up once, for painters ask at each picture."""
    there = set(QFontDatabase.families())
    return next(((name, share) for name, share in faces if name in there), ("", 1.0))
