"""The head of the Ladder's table: the heads of its columns, and a row to filter by."""

from __future__ import annotations

from PyQt6.QtWidgets import QLineEdit, QWidget

from oakladder.desk.ladder.model import FIXED, LadderModel, LadderRows
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.column_head import ColumnHead
from oakladder.desk.widgets.transient import discard

_LINE = 22


class LadderHead(ColumnHead):
    """Sections can be moved, and below each head stands a line to filter by."""

    def __init__(self, theme: Theme, model: LadderModel, rows: LadderRows, parent: QWidget | None = None):
        super().__init__(theme, model, parent, below=_LINE + 2)
        self._model, self._rows = model, rows
        self.setSectionsMovable(True)
        self.lines: list[QLineEdit] = []
        self.sectionResized.connect(lambda *_: self.place_lines())
        self.sectionMoved.connect(lambda *_: self.place_lines())
        self.geometriesChanged.connect(self.place_lines)

    def make_lines(self) -> None:
        """A filter line for each section of the table."""
        sections = self._model.columnCount()
        for line in self.lines[sections:]:
            discard(line)
        del self.lines[sections:]
        self.lines += [self._made_line(section) for section in range(len(self.lines), sections)]
        for section, line in enumerate(self.lines):  # existing lines stay: styling a new one takes a millisecond
            line.blockSignals(True)
            line.setText(self._rows.filters.get(section, ""))
            line.setAccessibleName(f"Filter by {self._source.spoken_head(section)}")
            line.blockSignals(False)
        self.place_lines()

    def _made_line(self, section: int) -> QLineEdit:
        line = QLineEdit(self)
        line.setFont(ui_font(SMALL))
        line.setPlaceholderText("filter" if section == 0 else "")
        script = section >= len(FIXED)
        line.setToolTip("is true, not true, fired, >= 5, on at least 3" if script else "Part of the text, or > 5")
        line.textChanged.connect(lambda words: self._rows.set_filter(section, words))
        line.show()
        return line

    def place_lines(self) -> None:
        """Puts every filter line under its section."""
        top = self.lines_height()
        for section, line in enumerate(self.lines):
            hidden = self.isSectionHidden(section)
            line.setVisible(not hidden)
            if not hidden:
                line.setGeometry(self.sectionViewportPosition(section) + 1, top, self.sectionSize(section) - 2, _LINE)
