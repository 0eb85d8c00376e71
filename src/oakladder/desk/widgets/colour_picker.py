"""Choosing a colour: the palette's names as squares, and any other."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import QPoint, QSize, Qt
from PyQt6.QtGui import QColor, QIcon, QPixmap
from PyQt6.QtWidgets import QColorDialog, QDialog, QGridLayout, QLabel, QPushButton, QToolButton, QVBoxLayout, QWidget

from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.rung.values import PALETTE, THEMED

_ACROSS = 4


def swatch(color: QColor, size: int = 14) -> QIcon:
    """A square of a colour."""
    made = QPixmap(size, size)
    made.fill(color)
    return QIcon(made)


class ColourPicker(QDialog):
    """Tells the word of the colour that was chosen, and closes."""

    def __init__(self, theme: Theme, current: str, chosen: Callable[[str], None], parent: QWidget | None = None):
        super().__init__(parent, Qt.WindowType.Popup)
        self._theme, self._chosen, self._current = theme, chosen, current
        self.buttons: dict[str, QToolButton] = {}
        grid = QGridLayout()
        grid.setSpacing(TIGHT)
        for k, word in enumerate(PALETTE):
            button = QToolButton(text=word)
            button.setIcon(swatch(qcolor(theme.paint(word))))
            button.setIconSize(QSize(14, 14))
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
            button.setMinimumWidth(86)
            button.setCheckable(True)
            button.setChecked(word == current)
            button.setToolTip(f"{word} follows the theme" if word in THEMED else f"{word} is the same by day and night")
            button.clicked.connect(lambda _, w=word: self._take(w))
            self.buttons[word] = button
            grid.addWidget(button, k // _ACROSS, k % _ACROSS)
        other = QPushButton("Another colour …")
        other.clicked.connect(self._ask)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, GAP, GAP, GAP)
        layout.addWidget(QLabel("A colour for this place", objectName="quiet"))
        layout.addLayout(grid)
        layout.addWidget(other)

    def open_at(self, place: QPoint) -> None:
        """Shows it at a place of the screen, with the current colour under the keys."""
        self.move(place)
        self.show()
        self.buttons.get(self._current, next(iter(self.buttons.values()))).setFocus()

    def _take(self, word: str) -> None:
        self.close()
        self._chosen(word)

    def _ask(self) -> None:
        first = qcolor(self._theme.paint(self._current))
        made = QColorDialog.getColor(first, self.parentWidget(), "Another colour")
        if made.isValid():
            self._take(made.name())
