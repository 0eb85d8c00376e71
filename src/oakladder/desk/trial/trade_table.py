"""The trades of a trial as a table: what was bought and sold where, why it ended, what it brought."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QSortFilterProxyModel, Qt, pyqtSignal
from PyQt6.QtWidgets import QAbstractItemView, QHeaderView, QTableView, QWidget

from oakladder.desk.look.theme import Theme, ui_font
from oakladder.rung.trade_words import Reason, Side
from oakladder.trial.ledger import Taken
from oakladder.trial.report import SKIPPED, day_words, price_words, trade_words
from oakladder.trial.trial import Trial

_REASONS = ["still open", *Reason]
_SORT = Qt.ItemDataRole.UserRole
#: What each column is called, how it is written, what it is sorted by, and whether it stands right.
_Column = tuple[str, Callable[[Trial, int], str], Callable[[Trial, int], object], bool]


def _percent(value: float) -> str:
    return "–" if value != value else f"{value:+.2%}"


def _number(value: float, form: str) -> str:
    return "–" if value != value else format(value, form)


_COLUMNS: tuple[_Column, ...] = (
    ("Symbol", lambda t, k: t.ground.panel.symbols[t.trades.symbol[k]], lambda t, k: int(t.trades.symbol[k]), False),
    ("Side", lambda t, k: Side(int(t.trades.side[k])).word, lambda t, k: int(t.trades.side[k]), False),
    ("In", lambda t, k: day_words(t, int(t.trades.entered[k])), lambda t, k: int(_time(t, t.trades.entered[k])), False),
    ("Out", lambda t, k: _out(t, k), lambda t, k: int(_time(t, t.trades.left[k])), False),
    ("Bars", lambda t, k: f"{t.results.bars[k]:.0f}", lambda t, k: float(t.results.bars[k]), True),
    ("Entry", lambda t, k: price_words(t, k, t.trades.entry[k]), lambda t, k: float(t.trades.entry[k]), True),
    ("Exit", lambda t, k: price_words(t, k, t.trades.exit[k]), lambda t, k: float(t.trades.exit[k]), True),
    ("Result", lambda t, k: _percent(t.results.ratio[k]), lambda t, k: float(t.results.ratio[k]), True),
    ("Money", lambda t, k: _number(t.book.net[k], ",.2f"), lambda t, k: float(t.book.net[k]), True),
    ("Risks", lambda t, k: _number(t.results.risks[k], "+.2f"), lambda t, k: float(t.results.risks[k]), True),
    ("Worst", lambda t, k: _percent(t.results.worst[k]), lambda t, k: float(t.results.worst[k]), True),
    ("Best", lambda t, k: _percent(t.results.best[k]), lambda t, k: float(t.results.best[k]), True),
    ("Left by", lambda t, k: _left_by(t, k), lambda t, k: int(t.trades.reason[k]), False),
)


def _time(trial: Trial, bar: int) -> int:
    return int(trial.ground.panel.times[bar]) if bar >= 0 else 1 << 62


def _out(trial: Trial, k: int) -> str:
    return day_words(trial, int(trial.trades.left[k])) if trial.trades.left[k] >= 0 else "open"


def _left_by(trial: Trial, k: int) -> str:
    taken = Taken(int(trial.book.taken[k]))
    if taken is not Taken.YES:
        return f"not taken: {SKIPPED[taken]}"
    return str(_REASONS[trial.trades.reason[k]])


class TradeModel(QAbstractTableModel):
    """The trades of a trial that were taken, or those that were not."""

    def __init__(self, theme: Theme):
        super().__init__()
        self.theme = theme
        self._trial: Trial | None = None
        self.which = np.zeros(0, dtype=np.int64)

    def show(self, trial: Trial | None, *, taken: bool = True) -> None:
        """Shows other trades."""
        self.beginResetModel()
        self._trial = trial
        wanted = (trial.book.taken == Taken.YES) == taken if trial is not None else np.zeros(0, dtype=bool)
        self.which = np.flatnonzero(wanted)
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.which)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(_COLUMNS)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if self._trial is None or not index.isValid():
            return None
        k = int(self.which[index.row()])
        name, write, key, right = _COLUMNS[index.column()]
        match role:
            case Qt.ItemDataRole.DisplayRole:
                return write(self._trial, k)
            case Qt.ItemDataRole.UserRole:
                return key(self._trial, k)
            case Qt.ItemDataRole.TextAlignmentRole:
                side = Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft
                return side | Qt.AlignmentFlag.AlignVCenter
            case Qt.ItemDataRole.ForegroundRole if name in ("Result", "Money"):
                return self.theme.color("rising" if self._trial.book.net[k] > 0 else "falling")
            case Qt.ItemDataRole.ToolTipRole:
                return trade_words(self._trial, k)
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if orientation is Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return _COLUMNS[section][0]
        return None


class TradeTable(QTableView):
    """A sortable table of trades. ``picked`` tells the number of the one that was opened."""

    picked = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.source = TradeModel(theme)
        self.rows = QSortFilterProxyModel(self)
        self.rows.setSourceModel(self.source)
        self.rows.setSortRole(_SORT)
        self.setModel(self.rows)
        self.setFont(ui_font(8.5))
        self.setSortingEnabled(True)
        self.sortByColumn(2, Qt.SortOrder.AscendingOrder)
        self.setShowGrid(False)
        self.setAlternatingRowColors(True)
        self.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        upright, across = self.verticalHeader(), self.horizontalHeader()
        assert upright is not None and across is not None
        upright.hide()
        upright.setDefaultSectionSize(21)
        across.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        across.setStretchLastSection(True)
        for k, width in enumerate((64, 48, 92, 92, 44, 70, 70, 66, 82, 54, 62, 62)):
            self.setColumnWidth(k, width)
        self.activated.connect(self._open)
        self.setAccessibleName("Trades")

    def show_trial(self, trial: Trial | None, *, taken: bool = True) -> None:
        """Shows the trades of another trial."""
        self.source.show(trial, taken=taken)

    def _open(self, index: QModelIndex) -> None:
        self.picked.emit(int(self.source.which[self.rows.mapToSource(index).row()]))

    def go_to(self, trade: int) -> None:
        """Selects a trade and brings it into view."""
        found = np.flatnonzero(self.source.which == trade)
        if len(found):
            index = self.rows.mapFromSource(self.source.index(int(found[0]), 0))
            self.selectRow(index.row())
            self.scrollTo(index)
