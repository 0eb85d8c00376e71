"""The command palette: one line to type in, everything that can be done or opened below it."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from oakladder.desk.look.spacing import GAP

_MOST = 60


@dataclass(frozen=True, slots=True)
class PaletteLine:
    """A line of the palette: its words, the hint at the right, and its action."""

    words: str
    hint: str
    go: Callable[[], None]


def fits(words: str, typed: str) -> int | None:
    """How well a line fits what was typed, smaller is better; None if a typed word is not in it."""
    low, score = words.lower(), 0
    for part in typed.lower().split():
        at = low.find(part)
        if at < 0:
            return None
        score += at if at == 0 or low[at - 1] == " " else at + 50
    return score


def day_of(text: str) -> np.datetime64 | None:
    """The day that a text names, as in 2026-03-12, 12.3.2026 or 12 Mar 2026; None for any other text."""
    for form in ("%Y-%m-%d", "%d.%m.%Y", "%d %b %Y", "%d %B %Y", "%Y-%m"):
        with contextlib.suppress(ValueError):
            return np.datetime64(datetime.datetime.strptime(text.strip(), form).date(), "D")
    return None


_HINT = "An action, a symbol, a timeframe or a script"


class Palette(QDialog):
    """Filters as one types; arrows choose, Enter does it, Escape leaves. One is made, and opened again and again."""

    def __init__(self, made_of: Callable[[str], list[PaletteLine]], parent: QWidget | None = None):
        super().__init__(parent, Qt.WindowType.Popup)
        self._made_of = made_of
        self._all: list[PaletteLine] = []
        self._choices: list[PaletteLine] = []
        self.line = QLineEdit(accessibleName="Search")
        self.list = QListWidget(accessibleName="Results")
        self.list.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        self.line.textChanged.connect(self._filter)
        self.line.installEventFilter(self)
        self.line.returnPressed.connect(self._go)
        self.list.itemClicked.connect(lambda _: self._go())
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, GAP, GAP, GAP)
        layout.addWidget(self.line)
        layout.addWidget(self.list)
        self.resize(520, 380)

    def open_with(self, choices: list[PaletteLine], typed: str = "", hint: str = "") -> None:
        """Shows some choices, with something typed already."""
        self._all = choices
        self.line.setPlaceholderText(hint or _HINT)
        self.line.blockSignals(True)
        self.line.setText(typed)
        self.line.blockSignals(False)
        self._filter(typed)
        self.show()
        self.line.setFocus(Qt.FocusReason.PopupFocusReason)

    def _filter(self, typed: str) -> None:
        made = self._made_of(typed.strip()) if typed.strip() else []
        self._choices = [*made, *self._all]
        found = [
            (score, k)
            for k, c in enumerate(self._choices)
            if (score := fits(f"{c.words} {c.hint}", typed)) is not None and k >= len(made)
        ]
        found = [(-1, k) for k in range(len(made))] + found
        found.sort()
        self.list.clear()
        for _, k in found[:_MOST]:
            choice = self._choices[k]
            item = QListWidgetItem(f"{choice.words}    {choice.hint}" if choice.hint else choice.words)
            item.setData(Qt.ItemDataRole.UserRole, k)
            self.list.addItem(item)
        if not found:
            self.list.addItem("No match.")
        self.list.setCurrentRow(0)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if (
            isinstance(event, QKeyEvent)
            and event.type() == QEvent.Type.KeyPress
            and event.key() in (Qt.Key.Key_Up, Qt.Key.Key_Down)
        ):
            by = 1 if event.key() == Qt.Key.Key_Down else -1
            self.list.setCurrentRow(min(max(self.list.currentRow() + by, 0), self.list.count() - 1))
            return True
        return bool(super().eventFilter(watched, event))

    def _go(self) -> None:
        item = self.list.currentItem()
        k = item.data(Qt.ItemDataRole.UserRole) if item is not None else None
        if k is None:
            return
        go = self._choices[k].go
        self.close()
        go()
