"""What the look-ahead check looked for: each finding with its bar, opened by a click, and what was not found."""

from __future__ import annotations

from PyQt6.QtCore import QModelIndex, pyqtSignal
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QTableView,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.basis import TRIAL, BasisTracker, Freshness
from oakladder.app.judging import Checked, JudgingController
from oakladder.app.picked_symbol import PickedSymbol
from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.rows_model import RowsModel
from oakladder.trial.judge.look_ahead.finding import Clear

_HEADS = ("What", "Where", "Finding", "Times", "Symbol", "Latest bar")
_ABOUT = (
    "The rule is run again on history that ends earlier, at many moments: every value on a bar then must be there now. "
    "The check also looks for drawings on bars before they were known, for longer bars that are read before "
    "they are complete, and for fills that are not certain."
)


class _Findings(RowsModel):
    """A row for each finding, and for each check that found nothing."""

    left = frozenset(range(len(_HEADS))) - {3}

    def __init__(self, theme: Theme):
        super().__init__(theme)
        self.checked: Checked | None = None

    def show(self, checked: Checked | None) -> None:
        self.beginResetModel()
        self.checked = checked
        self.endResetModel()

    def count(self) -> int:
        return len(self.checked.rows) if self.checked is not None else 0

    def sections(self) -> int:
        return len(_HEADS)

    def head(self, section: int) -> str:
        return _HEADS[section]

    def text(self, row: int, section: int) -> str:
        assert self.checked is not None
        one = self.checked.rows[row]
        if isinstance(one, Clear):
            return {0: one.kind.word, 2: one.words}.get(section, "")
        match section:
            case 0:
                return one.kind.word
            case 1:
                return f"line {one.line}" if one.line else "its trades"
            case 2:
                return one.words
            case 3:
                return f"{one.count:,}"
            case 4:
                return one.symbol
        return one.when

    def hint(self, row: int, section: int) -> str:
        assert self.checked is not None
        one = self.checked.rows[row]
        return f"{one.kind.about}\n{one.words}"


class LookAheadView(QWidget):
    """Starts the check and lists what it found. ``picked`` tells a `PickedSymbol` to open on the Bench."""

    picked = pyqtSignal(object)

    def __init__(self, judging: JudgingController, basis: BasisTracker, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.button, self.words = QToolButton(text="Check"), QLabel(objectName="head")
        self.about = QLabel(_ABOUT, objectName="quiet")
        self.source, self.table = _Findings(theme), QTableView(accessibleName="Finding")
        self.table.setModel(self.source)
        across = tables.set_up(self.table)
        for k, width in enumerate((160, 70, 0, 60, 74, 140)):
            if width:
                self.table.setColumnWidth(k, width)
        across.setSectionResizeMode(2, QHeaderView.ResizeMode.Stretch)
        self.table.setAccessibleName("Look-ahead findings")
        for line in (self.words, self.about):
            line.setWordWrap(True)
            line.setMinimumWidth(20)
        head = QHBoxLayout()
        head.setContentsMargins(GAP, GAP, GAP, HAIR)
        head.addWidget(self.button)
        head.addWidget(self.words, 1)
        self.about.setContentsMargins(GAP, 0, GAP, TIGHT)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(head)
        layout.addWidget(self.about)
        layout.addWidget(self.table, 1)
        self.button.clicked.connect(lambda: judging.check())
        self.table.activated.connect(self._open)
        self.table.clicked.connect(self._open)
        judging.checked.connect(self._show)
        # Findings are of the text, settings, list and account that were checked.
        self._freshness = Freshness(basis, TRIAL, parent=self)
        self._freshness.turned.connect(self._turned)
        self._show(None)

    def _show(self, checked: Checked | None) -> None:
        self.words.setText(checked.words if checked is not None else "Does the rule use data from the future?")
        self.source.show(checked)
        self.table.setVisible(bool(self.source.count()))
        self.about.setVisible(not self.source.count())
        self._freshness.took() if checked is not None else self._freshness.cleared()

    def _turned(self, stale: bool) -> None:
        if stale:
            self._show(None)

    def _open(self, index: QModelIndex) -> None:
        checked = self.source.checked
        if checked is not None and index.isValid():
            one = checked.rows[index.row()]
            if isinstance(one, Clear):
                return
            self.picked.emit(PickedSymbol(one.symbol, checked.timeframe, one.time))

    def set_theme(self, theme: Theme) -> None:
        self.source.theme = theme
        self.source.refresh()
