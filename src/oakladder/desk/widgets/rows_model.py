"""The one model of our tables: rows in words. What a table shows says how many there are and what a cell says."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt

from oakladder.desk.look.theme import Theme

#: What a cell is sorted by.
SORT_ROLE = int(Qt.ItemDataRole.UserRole) + 1
#: The colour word of a fill and how strong it is, 0 to 1.
Fill = tuple[str, float]
#: A cell's fill, if any, and the colour word of its ink.
Look = tuple[Fill | None, str]
_DISPLAY, _HINT = int(Qt.ItemDataRole.DisplayRole), int(Qt.ItemDataRole.ToolTipRole)
_SPOKEN, _TOLD = int(Qt.ItemDataRole.AccessibleTextRole), int(Qt.ItemDataRole.AccessibleDescriptionRole)


class RowsModel(QAbstractTableModel):
    """Answers Qt and the painter alike. ``left`` are the sections whose texts stand left."""

    left: frozenset[int] = frozenset({0})

    def __init__(self, theme: Theme):
        super().__init__()
        self.theme = theme

    # --- what a table says ------------------------------------------------------------------------

    def count(self) -> int:
        """How many rows there are."""
        raise NotImplementedError

    def sections(self) -> int:
        """How many sections there are."""
        raise NotImplementedError

    def head(self, section: int) -> str:
        """What stands above a section."""
        raise NotImplementedError

    def shared_heads(self, section: int) -> tuple[str, str]:
        """What stands above a section and those beside it: the title of a script, and what it shows."""
        return "", ""

    def head_hint(self, section: int) -> str:
        """What the hover says of a head."""
        return self.head(section)

    def is_outdated(self, section: int) -> bool:
        """Whether the content of a section is out of date."""
        return False

    def spoken_head(self, section: int) -> str:
        """What a screen reader says of a head: what the eye reads in three lines."""
        return ", ".join(w for w in (*self.shared_heads(section), self.head(section)) if w)

    def text(self, row: int, section: int) -> str:
        """What a cell says."""
        raise NotImplementedError

    def hint(self, row: int, section: int) -> str:
        """What the hover says of a cell."""
        return self.text(row, section)

    def order(self, row: int, section: int) -> float | str:
        """What a cell is sorted by; what is not there comes last."""
        return self.text(row, section)

    def look(self, row: int, section: int) -> Look:
        """A cell's fill, and the colour word of its ink."""
        return None, "ink"

    # --- what Qt and the painter ask --------------------------------------------------------------

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else self.count()

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else self.sections()

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = _DISPLAY) -> Any:
        if orientation is not Qt.Orientation.Horizontal or section >= self.sections():
            return None
        if role == _DISPLAY:
            return self.head(section)
        if role == _HINT:
            return self.head_hint(section)
        if role == _SPOKEN:
            return self.spoken_head(section)
        return self._side(section) if role == Qt.ItemDataRole.TextAlignmentRole else None

    def _side(self, section: int) -> Qt.AlignmentFlag:
        side = Qt.AlignmentFlag.AlignLeft if section in self.left else Qt.AlignmentFlag.AlignRight
        return side | Qt.AlignmentFlag.AlignVCenter

    def data(self, index: QModelIndex, role: int = _DISPLAY) -> Any:
        if role == _DISPLAY:
            return self.text(index.row(), index.column())
        if role == _HINT:
            return self.hint(index.row(), index.column())
        if role == _TOLD:
            told = self.hint(index.row(), index.column())
            return told if told != self.text(index.row(), index.column()) else ""
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return self._side(index.column())
        return self.order(index.row(), index.column()) if role == SORT_ROLE else None

    def painted(self, row: int, section: int) -> tuple[str, Fill | None, str, bool]:
        """What the painter needs of a cell: its text, its fill, the colour word of its ink, whether it stands left."""
        fill, ink = self.look(row, section)
        return self.text(row, section), fill, ink, section in self.left

    def refresh(self) -> None:
        """Everything may have changed."""
        if self.count():
            self.dataChanged.emit(self.index(0, 0), self.index(self.count() - 1, self.sections() - 1))
