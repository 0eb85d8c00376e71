"""The symbols of the library: what is known of them and which bars there are, and changing it for several at once."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QItemSelectionModel, QRectF, QSortFilterProxyModel, Qt, pyqtSignal
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.basis import Part
from oakladder.app.jobs import Ticket, sentence_of
from oakladder.app.session import Session
from oakladder.bars.adjustments import adjusted_words
from oakladder.bars.calendar_words import hours_words
from oakladder.bars.contract import contract_words
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.time_words import tick_words
from oakladder.desk.data.edit_dialog import EditDialog
from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.spacing import GAP
from oakladder.desk.look.theme import Theme, theme_of
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.rows import PaintedTable, RowPainter
from oakladder.desk.widgets.rows_model import Fill, RowsModel
from oakladder.desk.widgets.small_charts import draw_spark
from oakladder.desk.widgets.transient import answered
from oakladder.desk.widgets.veil import veiled
from oakladder.intake.coverage import Coverage, coverage_of
from oakladder.rung.texts import count_words

#: The height of a row with pictures.
_ROW = 28
_HEADS = ("Symbol", "Name", "Group", "Bars", "Last bar", "Last 3 months", "Details")
_WIDTHS = (70, 180, 110, 300, 92, 150, 250)
_BARS, _CHART = 3, 5


class SymbolsModel(RowsModel):
    """A row for each symbol of the library. What it has of bars comes later, and is painted over one span of time."""

    left = frozenset(range(len(_HEADS)))

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self.infos: list[SymbolInfo] = []
        self.held: dict[str, Coverage] = {}
        self._texts: list[tuple[str, ...]] = []
        self._from, self._to = 0, 1

    def show_infos(self, infos: list[SymbolInfo]) -> None:
        """Shows symbols; which bars they have is known later, or as it was."""
        self.beginResetModel()
        self.infos = infos
        self._write()
        self.endResetModel()

    def show_held(self, held: dict[str, Coverage]) -> None:
        """Shows which bars the symbols have."""
        self.held = held
        spans = [s for h in held.values() for s in (h.days, h.minutes) if s is not None]
        self._from = min((s.first for s in spans), default=0)
        self._to = max((s.last for s in spans), default=self._from) + 1
        self._write()
        self.dataChanged.emit(self.index(0, 0), self.index(len(self.infos) - 1, len(_HEADS) - 1))

    def _write(self) -> None:
        """Puts every row into words once: a table asks for them each time it is painted."""
        self._texts = [_texts(i, self.held.get(i.symbol)) for i in self.infos]

    def count(self) -> int:
        return len(self.infos)

    def sections(self) -> int:
        return len(_HEADS)

    def head(self, section: int) -> str:
        if section == _BARS and self.held:
            first, last = (np.datetime64(day, "D").astype(object).year for day in (self._from, self._to - 1))
            return f"Bars, {first} to {last}"
        return _HEADS[section]

    def text(self, row: int, section: int) -> str:
        return self._texts[row][section]

    def hint(self, row: int, section: int) -> str:
        held = self.held.get(self.infos[row].symbol)
        return held.words() if held is not None and section in (_BARS, _CHART) else self.text(row, section)

    def painted(self, row: int, section: int) -> tuple[str, Fill | None, str, bool]:
        words, fill, ink, left = super().painted(row, section)
        return "" if section in (_BARS, _CHART) else words, fill, ink, left

    # --- pictures -------------------------------------------------------------------------------------

    def draw_bars(self, painter: QPainter, row: int, box: QRectF) -> None:
        """Days as a bar, minutes as a thin one below it, both with their holes."""
        held = self.held.get(self.infos[row].symbol)
        if held is None:
            return
        plot = box.adjusted(6, 0, -6, 0)
        for span, top, high, role in ((held.days, 0.3, 5.0, "mute"), (held.minutes, 0.64, 3.0, "pin")):
            if span is None:
                continue
            y = box.top() + box.height() * top - 1
            left, right = self._at(span.first, plot), self._at(span.last + 1, plot)
            painter.fillRect(QRectF(left, y, max(right - left, 1.5), high), self.theme.color(role))
            for first, last in span.holes:
                begin, end = self._at(first, plot), self._at(last + 1, plot)
                painter.fillRect(QRectF(begin, y - 1, max(end - begin, 1.0), high + 2), self.theme.color("raised"))

    def _at(self, day: int, plot: QRectF) -> float:
        return plot.left() + plot.width() * (day - self._from) / max(self._to - self._from, 1)

    def draw_chart(self, painter: QPainter, row: int, box: QRectF) -> None:
        """The last closes."""
        held = self.held.get(self.infos[row].symbol)
        if held is not None:
            painter.save()
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            draw_spark(painter, held.closes, box.adjusted(6, 4, -6, -4), self.theme)
            painter.restore()


def _texts(info: SymbolInfo, held: Coverage | None) -> tuple[str, ...]:
    """A row of the table."""
    unit = "".join(f", {words}" for words in (*contract_words(info.contract), *adjusted_words(info.adjustments)))
    what = f"{info.kind}, tick {tick_words(info.tick)}{unit}, {hours_words(info.calendar)} {info.calendar.zone}"
    return (
        info.symbol,
        info.name,
        info.sector,
        held.words() if held is not None else "…",
        "…" if held is None else "cannot be read" if held.trouble else held.last,
        "",
        what,
    )


class SymbolsView(QWidget):
    """The table of the library with a line to filter it. ``changed`` tells that something is otherwise now."""

    changed = pyqtSignal()

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.session = session
        self.model = SymbolsModel(theme_of(session))
        self.rows = QSortFilterProxyModel()
        self.rows.setSourceModel(self.model)
        self.rows.setFilterKeyColumn(-1)
        self.rows.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.filter = QLineEdit(placeholderText="Filter by any column", accessibleName="Filter the symbols")
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(self.rows.setFilterFixedString)
        session.chart.theme_changed.connect(self._show_theme)
        self.button = QPushButton("Edit selected …")
        self.button.clicked.connect(self.ask)
        self.word = QLabel(objectName="quiet")
        self.table = PaintedTable(accessibleName="Symbols and their data")
        pictures = {_BARS: self.model.draw_bars, _CHART: self.model.draw_chart}
        self.table.painter = RowPainter(self.table, self.rows, self.model, ui_font(), pictures=pictures)
        self._set_up()
        self._shown = veiled(session.basis, (Part.DATA,), self.table)
        self._shown.turned.connect(self._turned)
        row = QHBoxLayout()
        for part, stretch in ((self.filter, 1), (self.button, 0), (self.word, 1)):
            row.addWidget(part, stretch)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GAP, 0, 0)
        layout.addLayout(row)
        layout.addWidget(self.table, 1)

    def _set_up(self) -> None:
        table = self.table
        table.setModel(self.rows)
        header = tables.set_up(table, sortable=True)
        table.setAlternatingRowColors(True)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.activated.connect(lambda _: self.ask())
        upright = table.verticalHeader()
        assert upright is not None
        upright.setDefaultSectionSize(_ROW)
        header.setSectionResizeMode(len(_HEADS) - 1, QHeaderView.ResizeMode.Stretch)
        for section, width in enumerate(_WIDTHS):
            table.setColumnWidth(section, width)

    def _show_theme(self, theme: Theme) -> None:
        self.model.theme = theme
        viewport = self.table.viewport()
        if viewport is not None:
            viewport.update()

    def enter(self) -> None:
        """Shows what the library has now, if that is not in sight already."""
        self._shown.look()
        if self._shown.is_stale or not self.model.infos:
            self.refresh()

    def _turned(self, stale: bool) -> None:
        if stale and self.isVisible() and not self.session.jobs.busy_with("symbols"):
            self.refresh()

    def refresh(self) -> None:
        """Shows the library's symbols; their coverage is read in the background. The selection stays."""
        infos, library = list(self.session.symbols.infos.values()), self.session.library
        if infos != self.model.infos:
            chosen = {i.symbol for i in self.chosen()}
            self.model.show_infos(infos)
            self._choose(chosen)
            self._count()
        self._shown.took()

        def work(ticket: Ticket) -> dict[str, Coverage]:
            made = {}
            for k, info in enumerate(infos):
                if ticket.cancelled():
                    break
                made[info.symbol] = coverage_of(library, info)
                ticket.report((k + 1) / len(infos))
            return made

        def then(held: dict[str, Coverage]) -> None:
            self.model.show_held(held)
            header = self.table.horizontalHeader()
            if header is not None:
                header.viewport().update()  # type: ignore[union-attr]
            self._turned(self._shown.is_stale)  # an import by another program changes them all the time

        self.session.jobs.start("symbols", work, then, lambda error: self.word.setText(sentence_of(error)), slow=True)

    def _count(self) -> None:
        self.word.setText(f"{count_words(self.model.rowCount(), 'symbol')}. Select some to edit them.")

    def _choose(self, symbols: set[str]) -> None:
        selection = self.table.selectionModel()
        assert selection is not None
        flags = QItemSelectionModel.SelectionFlag.Select | QItemSelectionModel.SelectionFlag.Rows
        for row, info in enumerate(self.model.infos):
            if info.symbol in symbols:
                selection.select(self.rows.mapFromSource(self.model.index(row, 0)), flags)

    def chosen(self) -> list[SymbolInfo]:
        """The symbols of the chosen rows, from top to bottom."""
        selection = self.table.selectionModel()
        rows = selection.selectedRows() if selection is not None else []
        return [self.model.infos[self.rows.mapToSource(i).row()] for i in sorted(rows, key=lambda i: i.row())]

    def ask(self) -> None:
        """Asks what shall be otherwise for the chosen symbols."""
        infos = self.chosen()
        if not infos:
            self.word.setText("Select one or more symbols first.")
            return
        dialog = EditDialog(infos, self)
        if answered(dialog) and (change := dialog.made()) is not None:
            self.edit_symbols([i.symbol for i in infos], change)

    def edit_symbols(self, symbols: list[str], change: Change) -> None:
        """Edits symbols in the background, then shows them."""
        library = self.session.library

        def work(ticket: Ticket) -> int:
            return edit_symbols(library, symbols, change, progress=ticket.report, cancelled=ticket.cancelled)

        def then(count: int) -> None:
            self.changed.emit()
            self.refresh()
            self.word.setText(f"{count} changed." if count else "Nothing to change.")

        def failed(error: Exception) -> None:
            self.refresh()
            self.word.setText(f"{sentence_of(error)} Symbols that could not be changed stay as they were.")

        self.session.jobs.start("edit_symbols", work, then, failed, self._share, slow=True)

    def _share(self, share: float) -> None:
        self.word.setText(f"{share:.0%} changed …")
