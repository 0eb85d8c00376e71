"""Tables of symbols that paint their rows themselves: text on fills, straight from what the table holds, so that scrolling stays smooth.

The usual painter asks the table seven times for each cell, through the sorting model and the style sheet, and
takes three times as long as a frame has.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Protocol

from PyQt6.QtCore import QPointF, QRect, QRectF, QSortFilterProxyModel, Qt
from PyQt6.QtGui import QColor, QFont, QFontMetrics, QPainter, QPaintEvent, QStaticText
from PyQt6.QtWidgets import QTableView

from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.rows_model import Fill

_MOST_TEXTS = 20_000


class Painted(Protocol):
    """A table's model as its painter needs it."""

    theme: Theme

    def columnCount(self) -> int: ...

    def rowCount(self) -> int: ...

    def painted(self, row: int, section: int) -> tuple[str, Fill | None, str, bool]:
        """Of a cell: its text, its fill, the colour word of its ink, whether it stands left."""


class PaintedTable(QTableView):
    """A table whose rows are painted by a `RowPainter`, once there is one."""

    painter: RowPainter | None = None

    def paintEvent(self, event: QPaintEvent | None) -> None:
        viewport = self.viewport()
        if event is None or viewport is None or self.painter is None:
            return
        with QPainter(viewport) as painter:
            self.painter.paint(painter, event.rect())


class RowPainter:
    """Keeps texts laid out and colours mixed from one frame to the next."""

    def __init__(
        self,
        table: QTableView,
        rows: QSortFilterProxyModel | None,
        model: Painted,
        font: QFont,
        first_framed: int = 0,
        margin: int = 5,
        pictures: Mapping[int, Callable[[QPainter, int, QRectF], None]] | None = None,
    ):
        """``rows`` sorts and filters the model's; None keeps the model's order.

        ``first_framed`` is the first section whose current cell is framed, ``margin`` the space beside a text.
        ``pictures`` paint the cells of some sections, given the model's row and the cell.
        """
        self._margin, self._pictures = margin, pictures or {}
        self._table, self._rows, self._model, self._first_framed = table, rows, model, first_framed
        self._font = font
        self._metrics = QFontMetrics(self._font)
        self._texts: dict[tuple[str, int], tuple[QStaticText, float]] = {}
        self._inks: dict[tuple[str, str], QColor] = {}
        self._fills: dict[tuple[str, Fill], QColor] = {}

    def paint(self, painter: QPainter, seen: QRect) -> None:
        """Paints every row that shows in a part of the table."""
        table, rows, source, theme = self._table, self._rows, self._model, self._model.theme
        selection = table.selectionModel()
        chosen = {i.row() for i in selection.selectedRows()} if selection is not None else set()
        sections = [
            (k, table.columnViewportPosition(k), table.columnWidth(k))
            for k in range(source.columnCount())
            if not table.isColumnHidden(k)
        ]
        sections = [(k, x, w) for k, x, w in sections if x + w > seen.left() and x <= seen.right()]
        right = max((x + w for _, x, w in sections), default=0)
        painter.setFont(self._font)
        first, last = table.rowAt(seen.top()), table.rowAt(seen.bottom())
        if first < 0:
            return
        here = table.currentIndex()
        drop = (table.rowHeight(first) - self._metrics.height()) // 2
        count = rows.rowCount() if rows is not None else source.rowCount()
        for row in range(first, (last if last >= 0 else count - 1) + 1):
            top, height = table.rowViewportPosition(row), table.rowHeight(row)
            if row in chosen:
                painter.fillRect(0, top, right, height, self._ink(theme, "pick"))
            elif row % 2:
                painter.fillRect(0, top, right, height, self._ink(theme, "ground"))
            at = rows.mapToSource(rows.index(row, 0)).row() if rows is not None else row
            for k, x, width in sections:
                words, fill, ink, left = source.painted(at, k)
                if fill:
                    painter.fillRect(x + 1, top + 1, width - 2, height - 2, self._fill(theme, fill))
                if row == here.row() and k == here.column() and k >= self._first_framed:
                    painter.setPen(self._ink(theme, "oak"))
                    painter.drawRect(x, top, width - 1, height - 1)
                if words:
                    text, extent = self._text(words, width - 2 * self._margin)
                    painter.setPen(self._ink(theme, ink))
                    begin = x + self._margin if left else x + width - self._margin - extent
                    painter.drawStaticText(QPointF(begin, top + drop), text)
                if k in self._pictures:
                    self._pictures[k](painter, at, QRectF(x, top, width, height))

    def _ink(self, theme: Theme, role: str) -> QColor:
        key = (theme.name, role)
        if key not in self._inks:
            self._inks[key] = theme.color(role)
        return self._inks[key]

    def _fill(self, theme: Theme, fill: Fill) -> QColor:
        key = (theme.name, fill)
        if key not in self._fills:
            self._fills[key] = theme.fill(*fill)
        return self._fills[key]

    def _text(self, words: str, width: int) -> tuple[QStaticText, float]:
        """The laid-out text, elided if it is too wide (the tooltip shows it whole), and its width."""
        key = (words, width)
        if key not in self._texts:
            if len(self._texts) > _MOST_TEXTS:
                self._texts.clear()
            shown, mode = words, Qt.TextElideMode.ElideRight
            if words.endswith(" bars") and self._metrics.horizontalAdvance(words) > width:
                # Of "under 23 bars" the unit says least, and the number most.
                shown, mode = words.removesuffix(" bars"), Qt.TextElideMode.ElideMiddle
            shown = self._metrics.elidedText(shown, mode, width)
            text = QStaticText(shown)
            text.setTextFormat(Qt.TextFormat.PlainText)
            self._texts[key] = text, float(self._metrics.horizontalAdvance(shown))
        return self._texts[key]
