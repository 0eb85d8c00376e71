"""What keys do on a chart."""

from __future__ import annotations

from typing import Protocol

from PyQt6.QtCore import Qt, pyqtBoundSignal
from PyQt6.QtGui import QKeyEvent

from oakladder.app.chart_view import ChartView
from oakladder.desk.chart.autoscale import RIGHT_MARGIN

_PLAIN_KEYS = (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)


class Moved(Protocol):
    """A chart as its keys know it."""

    shown: ChartView | None

    @property
    def seen(self) -> tuple[float, float]: ...

    @property
    def typed(self) -> pyqtBoundSignal: ...

    def pan(self, by: float) -> None: ...

    def zoom(self, factor: float, around: float | None = None) -> None: ...

    def see(self, first: float, last: float) -> None: ...

    def pin(self, bar: int | None) -> None: ...


def by_key(chart: Moved, event: QKeyEvent) -> bool:
    """Pans, zooms, lets go of what is pinned, or tells letters that are typed; whether the key meant any of that."""
    first, last = chart.seen
    width = last - first
    count = len(chart.shown.bars) if chart.shown is not None else 0
    key = event.key() if event.modifiers() in _PLAIN_KEYS or event.text() in ("+", "-", "=") else 0
    match key:
        case Qt.Key.Key_Left:
            chart.pan(-width * 0.1)
        case Qt.Key.Key_Right:
            chart.pan(width * 0.1)
        case Qt.Key.Key_Up | Qt.Key.Key_Plus | Qt.Key.Key_Equal:
            chart.zoom(0.8)
        case Qt.Key.Key_Down | Qt.Key.Key_Minus:
            chart.zoom(1.25)
        case Qt.Key.Key_Home:
            chart.see(0, width)
        case Qt.Key.Key_End:
            chart.see(count - 1 - width, count - 1 + width * RIGHT_MARGIN)
        case Qt.Key.Key_Escape:
            chart.pin(None)
        case _ if event.text().isalnum() and not event.modifiers() & Qt.KeyboardModifier.ControlModifier:
            chart.typed.emit(event.text())
        case _:
            return False
    return True
