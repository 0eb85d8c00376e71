"""Earlier versions of the open script: when, what was different, and back with one of them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Protocol

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.desk.look.theme import Theme
from oakladder.desk.script.difference import DifferenceView
from oakladder.desk.widgets.self_drawn import Splitter
from oakladder.disk import why


class EarlierVersion(Protocol):
    """A text that a script once had, up to a moment (seconds since 1970)."""

    @property
    def moment(self) -> float: ...

    def text(self) -> str:
        """The text. Raises `OSError`."""


@dataclass(frozen=True, slots=True)
class TriedText:
    """A text that was put on trial at a moment."""

    moment: float
    content: str

    def text(self) -> str:
        return self.content


class VersionsDialog(QDialog):
    """The versions, newest first, and how the present text differs from the chosen one. ``taken`` gets its text."""

    def __init__(
        self,
        theme: Theme,
        versions: Sequence[EarlierVersion],
        now: str,
        taken: Callable[[str], None],
        parent: QWidget | None = None,
    ):
        super().__init__(parent)
        self._now, self._taken = now, taken
        self.setWindowTitle("Earlier versions")
        self.resize(760, 460)
        self.list = QListWidget(accessibleName="Earlier versions")
        for version in reversed(versions):
            item = QListWidgetItem(f"{datetime.fromtimestamp(version.moment):%d %b %Y, %H:%M:%S}")
            item.setData(Qt.ItemDataRole.UserRole, version)
            self.list.addItem(item)
        self.view = DifferenceView(theme)
        self.word = QLabel(objectName="quiet")
        self.word.setWordWrap(True)
        self.back = QPushButton("Restore")
        self.back.clicked.connect(lambda: self.bring_back())
        close = QPushButton("Close")
        close.clicked.connect(self.reject)
        split = Splitter(Qt.Orientation.Horizontal)
        split.addWidget(self.list)
        split.addWidget(self.view)
        split.setSizes([200, 560])
        split.setChildrenCollapsible(False)
        row = QHBoxLayout()
        row.addWidget(self.word, 1)
        row.addWidget(self.back)
        row.addWidget(close)
        layout = QVBoxLayout(self)
        layout.addWidget(split, 1)
        layout.addLayout(row)
        self.list.currentItemChanged.connect(lambda *_: self._show())
        self.list.itemActivated.connect(lambda _: self.bring_back())
        self.list.setCurrentRow(0)
        if not versions:
            self.back.setEnabled(False)
            self.word.setText("No earlier versions yet. Each save that replaces another text keeps one.")

    def _text(self) -> str | None:
        item = self.list.currentItem()
        if item is None:
            return None
        try:
            return str(item.data(Qt.ItemDataRole.UserRole).text())
        except OSError as error:
            self.word.setText(f"This version cannot be read: {why(error)}.")
            return None

    def _show(self) -> None:
        text = self._text()
        self.back.setEnabled(text is not None and text != self._now)
        if text is not None:
            self.word.setText("+ comes back with this version, − is removed. Undo (Ctrl+Z) restores the current text.")
            self.view.show_between(self._now, text)

    def bring_back(self) -> None:
        """Puts the chosen version in the place of the present text."""
        text = self._text()
        if text is not None and text != self._now:
            self._taken(text)
            self.accept()
