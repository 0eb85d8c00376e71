"""The signal strip: every occurrence of each signal over the loaded history, the visible part marked."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QSizePolicy, QWidget

from oakladder.desk.chart.arrays import distinct, draw_lines
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.picture.parts import Event
from oakladder.engine.signal_ages import TONE_COLOURS
from oakladder.rung.texts import count_words

_NAMES = 116
_MOST_ROWS = 4


class SignalStrip(PaintedWidget):
    """A row for each signal. A click goes there; `next_after` and `last_before` step along."""

    asked = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName("Signal occurrences")
        self.theme = theme
        self.events: tuple[Event, ...] = ()
        self._count = 1
        self._seen = (0.0, 1.0)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setMouseTracking(True)
        self.setFixedHeight(24)

    def show_events(self, events: tuple[Event, ...], count: int) -> None:
        self.events, self._count = events, max(count, 1)
        told = [f"{e.name}: {count_words(len(e.bars), 'time')} in {self._count:,} bars" for e in events]
        self.setAccessibleDescription("; ".join(told))
        self.setFixedHeight(8 + 16 * min(max(len(events), 1), _MOST_ROWS))
        self.update()

    def show_range(self, first: float, last: float) -> None:
        self._seen = (first, last)
        self.update()

    def all_bars(self) -> np.ndarray:
        """Every bar on which any signal fired, in order. Shape (bars with signals,), int64."""
        found = [e.bars for e in self.events]
        return distinct(np.concatenate(found)) if found else np.zeros(0, dtype=np.int64)

    def next_after(self, bar: int) -> int | None:
        bars = self.all_bars()
        at = int(np.searchsorted(bars, bar, "right"))
        return int(bars[at]) if at < len(bars) else None

    def last_before(self, bar: int) -> int | None:
        bars = self.all_bars()
        at = int(np.searchsorted(bars, bar, "left")) - 1
        return int(bars[at]) if at >= 0 else None

    def _x(self, bar: float) -> float:
        return _NAMES + (self.width() - _NAMES - 8) * bar / self._count

    def paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), self.theme.color("sunken"))
        left, right = (self._x(min(max(b, 0), self._count)) for b in self._seen)
        band = QRectF(left, 2, max(right - left, 3), self.height() - 4)
        painter.fillRect(band, self.theme.color("pick"))
        painter.setPen(self.theme.color("pin"))
        painter.drawRect(band)
        painter.setFont(ui_font(SMALL))
        if not self.events:
            painter.setPen(self.theme.color("faint"))
            painter.drawText(
                self.rect().adjusted(8, 0, 0, 0), Qt.AlignmentFlag.AlignVCenter, "This script has no signal"
            )
        for row, event in enumerate(self.events[:_MOST_ROWS]):
            top = 4 + 16 * row
            painter.setPen(self.theme.color("ink"))
            name = painter.fontMetrics().elidedText(
                f"{event.name}, {count_words(len(event.bars), 'time')}", Qt.TextElideMode.ElideMiddle, _NAMES - 14
            )
            painter.drawText(QRectF(8, top, _NAMES - 12, 16), Qt.AlignmentFlag.AlignVCenter, name)
            painter.setPen(QPen(qcolor(self.theme.paint(TONE_COLOURS[event.tone])), 1.6))
            x = distinct(np.round(_NAMES + (self.width() - _NAMES - 8) * (event.bars + 0.5) / self._count))
            if len(x):
                draw_lines(painter, x, np.float64(top + 3), x, np.float64(top + 13))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        bar = (event.position().x() - _NAMES) / max(self.width() - _NAMES - 8, 1) * self._count
        bars = self.all_bars()
        if len(bars):
            self.asked.emit(int(bars[np.abs(bars - bar).argmin()]))

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        row = int((event.position().y() - 4) // 16)
        if 0 <= row < len(self.events):
            found = self.events[row]
            self.setToolTip(
                f"{found.name}: {count_words(len(found.bars), 'time')} in {count_words(self._count, 'bar')}. {found.text}"
            )
