"""The trades of a trial as a table: what was bought and sold where, why it ended, what it brought."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtWidgets import QHeaderView, QTableView, QWidget

from oakladder.app.glossary import meaning
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets import tables
from oakladder.rung.trade_words import Reason, Side
from oakladder.trial.broker.ledger import Taken
from oakladder.trial.report import SKIPPED, day_words, price_words, trade_words
from oakladder.trial.trial import Trial

_REASONS = ["still open", *Reason]
#: What each column is called, how it is written, what it is sorted by, and whether it stands right.
_Column = tuple[str, Callable[[Trial, int], str], Callable[[Trial], np.ndarray], bool]


def _percent(value: float) -> str:
    return "–" if value != value else f"{value:+.2%}"


def _number(value: float, form: str) -> str:
    return "–" if value != value else format(value, form)


_COLUMNS: tuple[_Column, ...] = (
    ("Symbol", lambda t, k: t.ground.panel.symbols[t.trades.symbol[k]], lambda t: t.trades.symbol, False),
    ("Side", lambda t, k: Side(int(t.trades.side[k])).word, lambda t: t.trades.side, False),
    (
        "In",
        lambda t, k: day_words(t, int(t.trades.entered[k])),
        lambda t: t.ground.panel.times[t.trades.entered],
        False,
    ),
    ("Out", lambda t, k: _out(t, k), lambda t: _left_times(t), False),
    ("Bars", lambda t, k: f"{t.results.bars[k]:.0f}", lambda t: t.results.bars, True),
    ("Entry", lambda t, k: price_words(t, k, t.trades.real_entry[k]), lambda t: t.trades.real_entry, True),
    ("Exit", lambda t, k: price_words(t, k, t.trades.real_exit[k]), lambda t: t.trades.real_exit, True),
    ("Result", lambda t, k: _percent(t.results.ratio[k]), lambda t: t.results.ratio, True),
    ("Money", lambda t, k: _number(t.book.net[k], ",.2f"), lambda t: t.book.net, True),
    ("R", lambda t, k: _number(t.results.risks[k], "+.2f"), lambda t: t.results.risks, True),
    ("MAE", lambda t, k: _percent(t.results.worst[k]), lambda t: t.results.worst, True),
    ("MFE", lambda t, k: _percent(t.results.best[k]), lambda t: t.results.best, True),
    ("Exit reason", lambda t, k: _left_by(t, k), lambda t: t.trades.reason, False),
)


def _left_times(trial: Trial) -> np.ndarray:
    left = trial.trades.left
    times = trial.ground.panel.times
    return np.where(left >= 0, times[np.maximum(left, 0)], 1 << 62) if len(left) else left


def _out(trial: Trial, k: int) -> str:
    return day_words(trial, int(trial.trades.left[k])) if trial.trades.left[k] >= 0 else "open"


def _left_by(trial: Trial, k: int) -> str:
    taken = Taken(int(trial.book.taken[k]))
    if taken is not Taken.YES:
        return f"skipped: {SKIPPED[taken]}"
    return str(_REASONS[trial.trades.reason[k]])


class TradeModel(QAbstractTableModel):
    """The trades of a trial: the taken or the skipped ones."""

    def __init__(self, theme: Theme):
        super().__init__()
        self.theme = theme
        self._trial: Trial | None = None
        self.which = np.zeros(0, dtype=np.int64)
        self._sorted = 2, Qt.SortOrder.AscendingOrder

    def show(self, trial: Trial | None, *, taken: bool = True) -> None:
        """Shows other trades."""
        self.beginResetModel()
        self._trial = trial
        wanted = (trial.book.taken == Taken.YES) == taken if trial is not None else np.zeros(0, dtype=bool)
        self.which = np.flatnonzero(wanted)
        self._arrange()
        self.endResetModel()

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        """Sorts all rows in one go: asking for the two sides of each comparison would take seconds for many trades."""
        self.layoutAboutToBeChanged.emit()
        self._sorted = column, order
        self._arrange()
        self.layoutChanged.emit()

    def _arrange(self) -> None:
        if self._trial is None:
            return
        column, order = self._sorted
        keys = _COLUMNS[column][2](self._trial)[self.which]
        if order is Qt.SortOrder.DescendingOrder:
            keys = -keys
        self.which = self.which[np.argsort(keys, kind="stable")]

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.which)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(_COLUMNS)

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if self._trial is None or not index.isValid():
            return None
        k = int(self.which[index.row()])
        name, write, _, right = _COLUMNS[index.column()]
        match role:
            case Qt.ItemDataRole.DisplayRole:
                return write(self._trial, k)
            case Qt.ItemDataRole.TextAlignmentRole:
                return _side(right)
            case Qt.ItemDataRole.ForegroundRole if name in ("Result", "Money"):
                return self.theme.color("gain" if self._trial.book.net[k] > 0 else "loss")
            case Qt.ItemDataRole.ToolTipRole:
                return trade_words(self._trial, k)
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        if orientation is not Qt.Orientation.Horizontal:
            return None
        name, _, _, right = _COLUMNS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return _side(right)
        if role == Qt.ItemDataRole.ToolTipRole:
            return f"{name}: {meaning('Trades', name)}"
        return name if role == Qt.ItemDataRole.DisplayRole else None


def _side(right: bool) -> Qt.AlignmentFlag:
    return (Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft) | Qt.AlignmentFlag.AlignVCenter


class TradeTable(QTableView):
    """A sortable table of trades. ``picked`` delivers the number of an opened trade."""

    picked = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName("Trades")
        self.source = TradeModel(theme)
        self.setModel(self.source)
        across = tables.set_up(self)
        self.setSortingEnabled(True)
        self.sortByColumn(2, Qt.SortOrder.AscendingOrder)
        self.setAlternatingRowColors(True)
        across.setSectionResizeMode(QHeaderView.ResizeMode.Interactive)
        across.setStretchLastSection(True)
        for k, width in enumerate((64, 48, 128, 128, 44, 70, 70, 72, 82, 54, 66, 74)):
            self.setColumnWidth(k, width)
        self.activated.connect(self._open)
        self.setAccessibleName("Trades")

    def show_trial(self, trial: Trial | None, *, taken: bool = True) -> None:
        """Shows the trades of another trial."""
        self.source.show(trial, taken=taken)

    def _open(self, index: QModelIndex) -> None:
        self.picked.emit(int(self.source.which[index.row()]))

    def go_to(self, trade: int) -> None:
        """Selects a trade and brings it into view."""
        found = np.flatnonzero(self.source.which == trade)
        if len(found):
            self.selectRow(int(found[0]))
            self.scrollTo(self.source.index(int(found[0]), 0))
