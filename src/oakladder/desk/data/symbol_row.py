"""Which symbol the chosen file is: it can be given another, and where that is doubtful one is asked."""

from __future__ import annotations

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QFrame, QHBoxLayout, QLabel, QLineEdit, QWidget

from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.intake.importing import Intake
from oakladder.intake.symbol_conflicts import Conflict

_ASKED = {
    Conflict.CLAIMED: ("Choose another symbol, or import the files together.", "Import together"),
    Conflict.CONTRADICTS: ("Choose another symbol, or confirm that it is the same one.", "Same symbol"),
}


class SymbolRow(QFrame):
    """``named`` tells the symbol that was typed, ``belongs`` whether the bars belong to it all the same."""

    named = pyqtSignal(str)
    belongs = pyqtSignal(bool)

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.line = QLineEdit(accessibleName="Symbol of this file")
        self.line.setToolTip("Symbol to import the bars under; empty uses the file's name")
        self.line.setMaximumWidth(170)
        self.same = QCheckBox()
        self.same.setToolTip("The bars become one symbol; where two files have the same bar, the later file counts")
        self.word = QLabel(objectName="trouble")
        self.word.setWordWrap(True)
        row = QHBoxLayout(self)
        row.setContentsMargins(TIGHT, 0, TIGHT, 0)
        row.setSpacing(GAP)
        row.addWidget(QLabel("Symbol", objectName="quiet"))
        row.addWidget(self.line)
        row.addWidget(self.same)
        row.addWidget(self.word, 1)
        self.line.editingFinished.connect(self._typed)
        self.same.clicked.connect(self.belongs)
        self._shown = ""
        self.hide()

    def show_symbol(self, symbol: str, doubtful: Intake | None, *, same: bool, in_column: bool) -> None:
        """Shows which symbol a file is, and what is asked where that is doubtful; it cannot be given another where the
        symbols stand ``in_column``. Hides where the symbol is empty."""
        self._shown = symbol
        self.setVisible(bool(symbol))
        self.line.setText(symbol)
        self.line.setModified(False)
        self.line.setEnabled(not in_column)
        doubt = doubtful.doubt if doubtful is not None else None
        asked, verb = _ASKED[doubt] if doubt is not None else ("", "Confirm")
        self.same.setVisible(doubt is not None or same)
        self.same.setText(verb)
        self.same.setChecked(same)
        self.word.setText(f"{doubtful.trouble} {asked}" if doubtful is not None else "")

    def _typed(self) -> None:
        if self.line.isModified() and self.line.text().strip() != self._shown:
            self.line.setModified(False)
            self.named.emit(self.line.text())
