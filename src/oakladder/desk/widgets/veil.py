"""A veil over outdated content: it stays legible, and is visibly not current."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QPainter, QPaintEvent
from PyQt6.QtWidgets import QSplitter, QWidget

from oakladder.app.basis import BasisTracker, Freshness, Part

#: How much of the ground covers the content.
_OPACITY = 0.62


class Veil(QWidget):
    """Covers a view while its content has expired."""

    def __init__(self, view: QWidget, freshness: Freshness):
        assert not isinstance(view, QSplitter), "a splitter would adopt the veil as one of its parts"
        super().__init__(view)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.setAccessibleName("Out of date")
        self.hide()
        self._view, self.freshness = view, freshness
        freshness.expired.connect(self._cover)

    def _cover(self, on: bool) -> None:
        if on:
            self.resize(self._view.size())
            self._view.installEventFilter(self)
            self.raise_()
        else:
            self._view.removeEventFilter(self)
        self.setVisible(on)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Resize:
            self.resize(self._view.size())
        return False

    def paintEvent(self, event: QPaintEvent | None) -> None:
        with QPainter(self) as painter:
            painter.setOpacity(_OPACITY)
            painter.fillRect(self.rect(), self.palette().window())


def veiled(tracker: BasisTracker, parts: tuple[Part, ...], *views: QWidget) -> Freshness:
    """The freshness of some views that show one content, each with a separate veil."""
    made = Freshness(tracker, parts, parent=views[0])
    for view in views:
        Veil(view, made)
    return made
