"""The gallery: every shape, line style and colour with its word; a click writes the word into the script."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QDialog, QLabel, QVBoxLayout, QWidget

from oakladder.desk.chart.layer import PEN_STYLES
from oakladder.desk.chart.marks import radius_of
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.shapes import shape_path
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.rung.values import PALETTE, SHAPES, STYLES

_CELL, _HEIGHT, _ACROSS = 104, 44, 6


class Gallery(PaintedWidget):
    """Cells in rows. ``chosen`` tells the text that belongs into a script."""

    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        #: Group, word, and the text that a script would have.
        self.cells = [("shape", w, f"shape {w}") for w in SHAPES]
        self.cells += [("size", str(n), f"size {n}") for n in range(1, 6)]
        self.cells += [("style", w, f"style {w}") for w in STYLES]
        self.cells += [("color", w, f"color {w}") for w in PALETTE]
        self._places = self._placed()
        self.setMouseTracking(True)

    def _placed(self) -> list[QRectF]:
        """Each group begins a new row."""
        places, row, column, before = [], -1, 0, ""
        for group, _, _ in self.cells:
            if group != before or column == _ACROSS:
                row, column = row + 1, 0
            places.append(QRectF(column * _CELL, row * _HEIGHT, _CELL, _HEIGHT))
            before, column = group, column + 1
        return places

    def sizeHint(self) -> QSize:
        return QSize(_CELL * _ACROSS, int(self._places[-1].bottom()) + 4)

    def text_at(self, point: QPointF) -> str | None:
        """What a click at a point would write."""
        return next((c[2] for c, box in zip(self.cells, self._places, strict=True) if box.contains(point)), None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        text = self.text_at(event.position())
        if text is not None:
            self.chosen.emit(text)

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("raised"))
        painter.setFont(ui_font(SMALL))
        for (group, word, _text), box in zip(self.cells, self._places, strict=True):
            sample = QRectF(box.left(), box.top() + 3, box.width(), 22)
            self._draw(painter, group, word, sample)
            painter.setPen(self.theme.color("ink"))
            label = f"size {word}" if group == "size" else word
            painter.drawText(box.adjusted(0, 24, 0, 0), Qt.AlignmentFlag.AlignHCenter, label)

    def _draw(self, painter: QPainter, group: str, word: str, box: QRectF) -> None:
        color = qcolor(self.theme.paint("good" if group in ("shape", "size") else "ink"))
        middle = box.center()
        painter.setPen(QPen(color, 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if group in ("shape", "size"):
            radius = radius_of(4 if group == "shape" else int(word))
            path, filled = shape_path(word if group == "shape" else "wedge_up", middle.x(), middle.y(), radius)
            painter.setBrush(color if filled else Qt.BrushStyle.NoBrush)
            painter.drawPath(path)
        elif group == "color":
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(qcolor(self.theme.paint(word)))
            painter.drawRoundedRect(QRectF(middle.x() - 22, middle.y() - 8, 44, 16), 3, 3)
        else:
            self._draw_style(painter, word, middle)

    @staticmethod
    def _draw_style(painter: QPainter, word: str, middle: QPointF) -> None:
        left = middle.x() - 36
        if word == "steps":
            points = [(0, 6), (18, 6), (18, -2), (42, -2), (42, 4), (72, 4)]
            painter.drawPolyline([QPointF(left + x, middle.y() + y) for x, y in points])
            return
        if word == "dots":
            painter.setPen(QPen(painter.pen().color(), 3.2, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
            painter.drawPoints([QPointF(left + 9 * k, middle.y()) for k in range(9)])
            return
        painter.setPen(QPen(painter.pen().color(), 1.8, PEN_STYLES.get(word, Qt.PenStyle.SolidLine)))
        painter.drawLine(QPointF(left, middle.y()), QPointF(left + 72, middle.y()))


class GalleryDialog(QDialog):
    """The gallery in a separate window, which stays open beside the script."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle("Shapes, styles and colours")
        self.gallery = Gallery(theme)
        layout = QVBoxLayout(self)
        layout.addWidget(QLabel("Click to insert the word at the cursor.", objectName="quiet"))
        layout.addWidget(self.gallery)
        self.gallery.setFixedSize(self.gallery.sizeHint())
