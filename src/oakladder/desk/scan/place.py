"""The Scan: one rule through a list of symbols; a table of hits, each a key away from its chart."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from oakladder.bars.errors import DataProblem
from oakladder.bars.library import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, STANDARD
from oakladder.engine import scan as scanning
from oakladder.engine.run import Cancelled
from oakladder.rung import Program, RunProblem, ScriptError, compile_script
from oakladder.workspace import ScriptFileProblem, read_script

from ..chart.axes import bar_time
from ..jobs import Ticket
from ..look.theme import ui_font
from ..model import Desk

HEADS = ("Symbol", "Name", "Sector", "Bars ago", "Fired on", "Last", "Change")
_LEFT = {0, 1, 2}


class HitModel(QAbstractTableModel):
    """The hits of the last scan."""

    def __init__(self, desk: Desk):
        super().__init__()
        self.desk = desk
        self.hits: list[scanning.Hit] = []
        self.timeframe = ONE_DAY
        self._times: dict[scanning.Hit, str] = {}

    def show_hits(self, found: scanning.Scan) -> None:
        self.beginResetModel()
        self.hits = list(found.hits)
        self._times = {}
        self.endResetModel()

    def rowCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return 0 if parent.isValid() else len(self.hits)

    def columnCount(self, parent: QModelIndex = QModelIndex()) -> int:
        return len(HEADS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation is Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return HEADS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return (
                Qt.AlignmentFlag.AlignLeft if section in _LEFT else Qt.AlignmentFlag.AlignRight
            ) | Qt.AlignmentFlag.AlignVCenter
        return None

    def _fired(self, hit: scanning.Hit) -> str:
        if hit not in self._times:
            bars = self.desk.library.bars(hit.symbol, self.timeframe)
            self._times[hit] = bar_time(bars, len(bars) - 1 - hit.bars_ago)
        return self._times[hit]

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        hit, column = self.hits[index.row()], index.column()
        info: SymbolInfo = self.desk.library.infos[hit.symbol]
        match role:
            case Qt.ItemDataRole.DisplayRole | Qt.ItemDataRole.ToolTipRole:
                return (
                    info.symbol,
                    info.name,
                    info.sector,
                    str(hit.bars_ago),
                    self._fired(hit),
                    f"{hit.last:,.{info.decimals}f}",
                    "–" if hit.change != hit.change else f"{hit.change:+.2%}",
                )[column]
            case Qt.ItemDataRole.TextAlignmentRole:
                return (
                    Qt.AlignmentFlag.AlignLeft if column in _LEFT else Qt.AlignmentFlag.AlignRight
                ) | Qt.AlignmentFlag.AlignVCenter
            case Qt.ItemDataRole.ForegroundRole if column == 6:
                return self.desk.theme.color("falling" if hit.change < 0 else "rising")
        return None

    def sort(self, column: int, order: Qt.SortOrder = Qt.SortOrder.AscendingOrder) -> None:
        infos = self.desk.library.infos
        keys = (
            lambda h: h.symbol,
            lambda h: infos[h.symbol].name,
            lambda h: infos[h.symbol].sector,
            lambda h: h.bars_ago,
            lambda h: h.time,
            lambda h: h.last,
            lambda h: h.change,
        )
        if not 0 <= column < len(keys):
            return
        self.layoutAboutToBeChanged.emit()
        self.hits.sort(key=keys[column], reverse=order is Qt.SortOrder.DescendingOrder)
        self.layoutChanged.emit()


class ScanPlace(QWidget):
    """Choose a rule and a list, run, pick a hit."""

    picked = pyqtSignal(str, object, int)

    def __init__(self, desk: Desk, parent: QWidget | None = None):
        super().__init__(parent, objectName="place")
        self.desk = desk
        self.program: Program | None = None
        self.script, self.signal, self.list, self.timeframe = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.within = QSpinBox(minimum=1, maximum=500, value=5)
        self.run_button = QPushButton("Scan", objectName="go")
        self.stop_button = QPushButton("Stop")
        self.stop_button.setEnabled(False)
        self.progress = QProgressBar(textVisible=False, maximum=1000)
        self.verdict = QLabel("Choose a rule and press Scan. Enter on a hit opens its chart.")
        self.about = QLabel(objectName="quiet", wordWrap=True)
        self.model = HitModel(desk)
        self.table = QTableView()
        self._fill()
        self._lay_out()
        self.script.currentIndexChanged.connect(self._script_chosen)
        self.run_button.clicked.connect(self.run)
        self.stop_button.clicked.connect(self.stop)
        self.table.activated.connect(self._open)

    def _fill(self) -> None:
        self.list.addItem("All symbols", None)
        for sector in dict.fromkeys(i.sector for i in self.desk.library.infos.values()):
            self.list.addItem(sector, sector)
        for timeframe in STANDARD:
            self.timeframe.addItem(str(timeframe), timeframe)
        self.timeframe.setCurrentText("1d")

    def _lay_out(self) -> None:
        grid = QGridLayout()
        grid.setHorizontalSpacing(10)
        fields = (
            ("Script", self.script),
            ("Signal", self.signal),
            ("List", self.list),
            ("Timeframe", self.timeframe),
            ("Within the last bars", self.within),
        )
        for k, (words, widget) in enumerate(fields):
            label = QLabel(words, objectName="quiet")
            label.setBuddy(widget)
            grid.addWidget(label, 0, k)
            grid.addWidget(widget, 1, k)
        grid.addWidget(self.run_button, 1, len(fields))
        grid.addWidget(self.stop_button, 1, len(fields) + 1)
        grid.setColumnStretch(0, 2)
        grid.setColumnStretch(1, 2)
        grid.setColumnStretch(2, 2)
        self.table.setModel(self.model)
        self.table.setSortingEnabled(True)
        self.table.setShowGrid(False)
        self.table.setAlternatingRowColors(True)
        self.table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        vertical, header = self.table.verticalHeader(), self.table.horizontalHeader()
        assert vertical is not None and header is not None
        vertical.hide()
        vertical.setDefaultSectionSize(25)
        header.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
        header.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        for column, width in ((0, 90), (2, 140), (3, 90), (4, 170), (5, 110), (6, 100)):
            self.table.setColumnWidth(column, width)
        self.verdict.setFont(ui_font(10))
        line = QHBoxLayout()
        line.addWidget(self.verdict, 1)
        line.addWidget(self.progress)
        self.progress.setFixedWidth(220)
        self.progress.hide()
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 12, 16, 10)
        layout.setSpacing(8)
        layout.addLayout(grid)
        layout.addWidget(self.about)
        layout.addLayout(line)
        layout.addWidget(self.table, 1)

    # --- choosing ---------------------------------------------------------------------------------

    def enter(self) -> None:
        """Called when the place is shown: offers the scripts as they are now, the open one chosen."""
        self.desk.save()
        chosen = self.script.currentData() or self.desk.path
        self.script.blockSignals(True)
        self.script.clear()
        for path in self.desk.workspace.script_files():
            self.script.addItem(path.stem.replace("_", " ").capitalize(), path)
            if path == chosen:
                self.script.setCurrentIndex(self.script.count() - 1)
        self.script.blockSignals(False)
        self._script_chosen()
        self.run_button.setFocus()

    def _script_chosen(self) -> None:
        path = self.script.currentData()
        before = self.signal.currentText()
        self.signal.clear()
        self.program = None
        if not isinstance(path, Path):
            return
        try:
            text = read_script(path)
            self.program = compile_script(text, self.desk.workspace.shelf(text))
        except (ScriptError, ScriptFileProblem) as error:
            count = len([p for p in error.problems if p.is_error]) if isinstance(error, ScriptError) else 0
            self.about.setText(
                f"This script has {count} errors; open it on the Bench to mend it." if count else str(error)
            )
            self.run_button.setEnabled(False)
            return
        self.signal.addItems([o.name for o in self.program.signals])
        if before and self.signal.findText(before) >= 0:
            self.signal.setCurrentText(before)
        self.about.setText(self.program.about if self.program.signals else "This script has no signal to scan for.")
        self.run_button.setEnabled(bool(self.program.signals))

    # --- running ----------------------------------------------------------------------------------

    def run(self) -> None:
        """Starts the scan; it can be stopped."""
        if self.program is None or not self.signal.currentText():
            return
        program, signal, within = self.program, self.signal.currentText(), self.within.value()
        sector, timeframe = self.list.currentData(), self.timeframe.currentData()
        settings = dict(self.desk.settings) if self.script.currentData() == self.desk.path else {}
        symbols = [s for s, i in self.desk.library.infos.items() if sector in (None, i.sector)]
        self.model.timeframe = timeframe
        self._busy(True)
        self.verdict.setText(f"Looking at {len(symbols)} symbols…")

        def work(ticket: Ticket) -> scanning.Scan:
            return scanning.scan(
                program,
                signal,
                self.desk.library,
                symbols,
                timeframe,
                within,
                settings,
                progress=ticket.report,
                cancelled=ticket.cancelled,
            )

        self.desk.jobs.start(
            "scan",
            work,
            self._found,
            self._failed,
            lambda share: self.progress.setValue(int(share * 1000)),
            slow=True,
        )

    def stop(self) -> None:
        self.desk.jobs.stop("scan")
        self._busy(False)
        self.verdict.setText("Stopped. What was found before is kept below.")

    def _busy(self, on: bool) -> None:
        self.run_button.setEnabled(not on)
        self.stop_button.setEnabled(on)
        self.progress.setValue(0)
        self.progress.setVisible(on)

    def _found(self, found: scanning.Scan) -> None:
        self._busy(False)
        self.model.show_hits(found)
        words = f"{len(found.hits)} of {found.looked_at} symbols"
        if found.skipped:
            words += f"; {len(found.skipped)} left out ({found.skipped[0].symbol}: {found.skipped[0].reason})"
        if not found.hits:
            words += ". Try more bars, another timeframe or another signal"
        self.verdict.setText(words + ".")
        if found.hits:
            self.table.setFocus()
            self.table.selectRow(0)

    def _failed(self, error: Exception) -> None:
        self._busy(False)
        if isinstance(error, Cancelled):
            self.verdict.setText("Stopped.")
        elif isinstance(error, RunProblem | DataProblem | KeyError):
            self.verdict.setText(str(error.args[0]))
        else:
            self.verdict.setText(f"Something went wrong: {error}")

    def _open(self, index: QModelIndex) -> None:
        hit = self.model.hits[index.row()]
        self.picked.emit(hit.symbol, self.model.timeframe, hit.time)
