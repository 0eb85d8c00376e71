"""Rows with a name, a bar to the right or to the left, and some numbers in words."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QComboBox, QHBoxLayout, QLabel, QScrollArea, QVBoxLayout, QWidget

from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import Theme

_ROW, _NAME, _NUMBER = 22, 130, 82
#: What a screen reader says of it when it is empty.
_NOTHING = "Breakdown"


@dataclass(frozen=True, slots=True)
class BarRow:
    """A row: its name, what its bar shows, and its numbers as they are read."""

    name: str
    value: float
    words: tuple[str, ...]


class BarRows(PaintedWidget):
    """Paints rows below a head."""

    def __init__(self, theme: Theme, heads: Sequence[str], parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(_NOTHING)
        self.theme = theme
        self.rows: list[BarRow] = []
        self._heads = tuple(heads)

    def sizeHint(self) -> QSize:
        return QSize(600, _ROW * (len(self.rows) + 1) + 8)

    def show_rows(self, rows: Sequence[BarRow]) -> None:
        """Shows other rows."""
        self.rows = list(rows)
        self.setMinimumHeight(self.sizeHint().height())
        self.setAccessibleName("; ".join(f"{row.name}: {', '.join(row.words)}" for row in self.rows) or _NOTHING)
        self.update()

    def paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), self.theme.color("ground"))
        painter.setFont(ui_font())
        largest = max((abs(row.value) for row in self.rows), default=0.0) or 1.0
        metrics = painter.fontMetrics()
        texts = [words for row in self.rows for words in row.words]
        # A number that is cut would be a wrong one: the bars give way first.
        needed = max((metrics.horizontalAdvance(words) for words in (*texts, *self._heads)), default=0) + 12
        name = min(_NAME, self.width() // 4)
        each = max(min(_NUMBER, self.width() / 2 / max(len(self._heads), 1)), needed)
        numbers = each * len(self._heads)
        room = max(self.width() - name - numbers - 16, 40)
        middle = name + room / 2

        def cell(j: int, top: float) -> QRectF:
            return QRectF(name + room + 8 + j * each, top, each - 6, _ROW)

        painter.setPen(self.theme.color("faint"))
        for j, words in enumerate(self._heads):
            painter.drawText(cell(j, 0), _RIGHT, words)
        for k, row in enumerate(self.rows):
            top = (k + 1) * _ROW
            painter.setPen(self.theme.color("ink"))
            shown = painter.fontMetrics().elidedText(row.name, Qt.TextElideMode.ElideRight, name - 12)
            painter.drawText(QRectF(8, top, name - 8, _ROW), Qt.AlignmentFlag.AlignVCenter, shown)
            extent = room / 2 * abs(row.value) / largest
            bar = QRectF(middle if row.value >= 0 else middle - extent, top + 4, extent, _ROW - 8)
            painter.fillRect(bar, self.theme.color("rising" if row.value >= 0 else "falling"))
            for j, words in enumerate(row.words):
                painter.drawText(cell(j, top), _RIGHT, words)
        painter.setPen(self.theme.color("line"))
        painter.drawLine(int(middle), _ROW, int(middle), _ROW * (len(self.rows) + 1))


class BarsBy(QWidget):
    """Rows with a choice of what they are by; ``chosen`` tells another (str)."""

    chosen = pyqtSignal(str)

    def __init__(self, theme: Theme, heads: Sequence[str], kinds: Sequence[str], parent: QWidget | None = None):
        super().__init__(parent)
        self.chooser, self.bars = QComboBox(accessibleName="Break down by"), BarRows(theme, heads)
        self.chooser.addItems(kinds)
        self.chooser.activated.connect(lambda _: self.chosen.emit(self.kind))
        row = QHBoxLayout()
        row.setContentsMargins(GAP, TIGHT, GAP, HAIR)
        row.setSpacing(GAP)
        row.addWidget(QLabel("By", objectName="quiet"))
        row.addWidget(self.chooser)
        row.addStretch(1)
        area = QScrollArea(accessibleName="Breakdown")
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setWidget(self.bars)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(area, 1)

    @property
    def kind(self) -> str:
        """What the rows are by."""
        return self.chooser.currentText()

    def set_theme(self, theme: Theme) -> None:
        self.bars.theme = theme
        self.bars.update()


_RIGHT = Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
