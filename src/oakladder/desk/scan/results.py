"""What a scan found, now and before: two tables, the almanac, their columns, and taking it away as a file."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QModelIndex, QPoint, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QMenu,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.columns import ColumnPlace, ScriptColumn, troubles_of
from oakladder.app.jobs import Ticket, writing
from oakladder.app.session import Session
from oakladder.bars.errors import DataProblem
from oakladder.bars.time_words import iso
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.spacing import TIGHT
from oakladder.desk.look.theme import theme_of
from oakladder.desk.scan.result_models import CHART, HEADS, SPARK_BARS, Almanac, FoundModel, OccurrenceModel
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.column_chooser import ask_column
from oakladder.desk.widgets.rows import PaintedTable, RowPainter
from oakladder.desk.widgets.self_drawn import Splitter
from oakladder.desk.widgets.thumbnail_sheet import ThumbnailSheet
from oakladder.desk.widgets.transient import below, passing_menu
from oakladder.disk import write_rows
from oakladder.engine.columns.fill import FilledColumns
from oakladder.engine.picture.thumbnail import Marking, Thumbnail, thumbnail
from oakladder.engine.scan.run import FOLLOWED_BARS, Match, Occurrence
from oakladder.engine.sealed import SEALED
from oakladder.rung import RunProblem

#: The height of a row with a small chart.
_ROW = 30


class ScanResults(QTabWidget):
    """``picked`` tells a symbol, a timeframe and the time of a bar; ``rearranged`` that there are other columns."""

    picked = pyqtSignal(str, object, int)
    rearranged = pyqtSignal()

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName("Matches")
        self.session = session
        self.model, self.past = FoundModel(theme_of(session)), OccurrenceModel(theme_of(session))
        self.table, self.past_table = (
            PaintedTable(accessibleName="Matches"),
            PaintedTable(accessibleName="Past occurrences"),
        )
        self.almanac = Almanac(theme_of(session))
        self.sheet = ThumbnailSheet(theme_of(session), "Matches as small charts")
        self.sheet.empty = "Press Scan (Ctrl+R) to see the matches as small charts with the rule's marks."
        self.past_sheet = ThumbnailSheet(theme_of(session), "Past occurrences as small charts")
        self.past_sheet.empty = "Press Look back to see past occurrences and what followed."
        #: Which of the two ways of showing what is found now the user has chosen.
        self._now: QWidget = self.sheet
        self._marking: Marking | None = None
        self._columns = session.column_jobs("scan columns")
        self._lay_out()
        self.table.activated.connect(self._open)
        self.past_table.activated.connect(self._open_past)
        self.past_table.clicked.connect(self._open_past)
        self.almanac.chosen.connect(self._show_day)
        self.sheet.opened.connect(lambda k: self._open(self.model.index(k, 0)))
        self.past_sheet.opened.connect(lambda k: self._open_past(self.past.index(k, 0)))
        self.sheet.wanted.connect(self._read_found)
        self.past_sheet.wanted.connect(self._read_past)
        self.model.layoutChanged.connect(lambda: self.sheet.show_captions(self.model.captions()))
        self.currentChanged.connect(lambda _: self._remember_way())
        header = self.table.horizontalHeader()
        assert header is not None
        header.customContextMenuRequested.connect(self._head_asked)
        session.chart.theme_changed.connect(lambda _: self._show_theme())

    def _lay_out(self) -> None:
        self._set_up(self.table, self.model)
        for section, width in enumerate((64, 152, 88, 128, 44, 44, 80, 66, 134)):
            self.table.setColumnWidth(section, width)
        self._set_up(self.past_table, self.past)
        header = self.past_table.horizontalHeader()
        assert header is not None
        for section, width in enumerate((138, 64, 150, 84)):
            self.past_table.setColumnWidth(section, width)
        #: What stands under the tab of past occurrences.
        self.past_part = QWidget()
        column = QVBoxLayout(self.past_part)
        column.setContentsMargins(0, TIGHT, 0, 0)
        column.addWidget(self.almanac)
        beside = Splitter(Qt.Orientation.Horizontal)
        beside.addWidget(self.past_table)
        beside.addWidget(self.past_sheet)
        beside.setSizes([460, 790])
        column.addWidget(beside, 1)
        self.addTab(self.sheet, "Charts")
        self.addTab(self.table, "Table")
        self.addTab(self.past_part, "Past occurrences")
        columns = QToolButton(text="Columns")
        columns.setToolTip("Choose the columns")
        columns.clicked.connect(lambda: self.column_menu().popup(below(columns)))
        self.setCornerWidget(columns)

    def _remember_way(self) -> None:
        if self.currentWidget() in (self.sheet, self.table):
            self._now = self.currentWidget() or self.sheet

    def _show_day(self, day: int) -> None:
        self.past.show_day(day)
        self.past_sheet.show_captions(self.past.captions())

    def show_found(self, found: list[Match], rules: list[str], frame: Timeframe, marking: Marking | None) -> None:
        """Shows what fits now; the small charts carry the marks of a rule."""
        self._marking = marking
        self.model.show_found(found, rules, frame, self.session.symbols.infos)
        self.sheet.empty = "No match now. Look back shows past matches."
        self.sheet.show_captions(self.model.captions())
        self._ask_sparks()
        self._size_columns()
        self._fill_columns()
        self.setCurrentWidget(self._now)
        if found:
            self.table.selectRow(0)
            self._now.setFocus()

    def show_past(self, found: list[Occurrence], frame: Timeframe, marking: Marking | None) -> None:
        """Shows past occurrences, and what followed."""
        self.past_sheet.empty = "No occurrence on these bars. Look back over more of them."
        self._marking = marking
        self.past.show_all(found, frame, self.session.symbols.infos)
        view = self.session.chart.view
        shown = view is not None and len(view.bars) > 0
        last = int(view.bars.calendar.days(view.bars.times[-1:])[0]) if view is not None and shown else 0
        self.almanac.show_days(found, last)
        self.past_sheet.show_captions(self.past.captions())
        self.setCurrentWidget(self.past_part)

    def _open(self, index: QModelIndex) -> None:
        one = self.model.found[index.row()]
        self.picked.emit(one.symbol, self.model.timeframe, one.since)

    def _open_past(self, index: QModelIndex) -> None:
        one = self.past.rows[index.row()]
        self.picked.emit(one.symbol, self.past.timeframe, one.time)

    @staticmethod
    def _set_up(table: PaintedTable, model: FoundModel | OccurrenceModel) -> None:
        table.setModel(model)
        header = tables.set_up(table, sortable=isinstance(model, FoundModel))
        pictures = {CHART: model.draw_chart} if isinstance(model, FoundModel) else None
        table.painter = RowPainter(table, None, model, ui_font(), model.columnCount(), pictures=pictures)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        if isinstance(model, FoundModel):
            upright = table.verticalHeader()
            assert upright is not None
            upright.setDefaultSectionSize(_ROW)
        header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)

    def _read_found(self, numbers: list[int]) -> None:
        asked = {k: (self.model.found[k].symbol, None) for k in numbers}
        self._read("sheet", self.sheet, self.model.timeframe, asked)

    def _read_past(self, numbers: list[int]) -> None:
        asked: dict[int, tuple[str, int | None]] = {
            k: (self.past.rows[k].symbol, self.past.rows[k].time) for k in numbers
        }
        self._read("past sheet", self.past_sheet, self.past.timeframe, asked)

    def _read(
        self, job: str, sheet: ThumbnailSheet, frame: Timeframe, asked: Mapping[int, tuple[str, int | None]]
    ) -> None:
        """Reads the bars of a page's small charts in the background."""
        source, marking, captions = self.session.replay.source, self._marking, sheet.captions

        def work(ticket: Ticket) -> dict[int, Thumbnail | None]:
            made: dict[int, Thumbnail | None] = {}
            for k, (symbol, time) in asked.items():
                if ticket.cancelled():
                    break
                made[k] = None
                with contextlib.suppress(DataProblem, KeyError, RunProblem):  # its picture may be missing
                    made[k] = thumbnail(source, symbol, frame, marking, at=time)
            return made

        def then(made: dict[int, Thumbnail | None]) -> None:
            if sheet.captions is captions:
                sheet.show_glances(made)

        self.session.jobs.start(f"{job} {min(asked)}", work, then, slow=True)

    def _ask_sparks(self) -> None:
        """Reads the last closes of the matches in the background, for the small charts."""
        source, frame, symbols = self.session.replay.source, self.model.timeframe, [f.symbol for f in self.model.found]

        def work(ticket: Ticket) -> dict[str, np.ndarray]:
            made: dict[str, np.ndarray] = {}
            for symbol in symbols:
                if ticket.cancelled():
                    break
                with contextlib.suppress(DataProblem, KeyError):  # it has been found; its picture may be missing
                    made[symbol] = source.bars(symbol, frame)["close"][-SPARK_BARS:].copy()
            return made

        self.session.jobs.start("closes", work, self.model.show_sparks, slow=True)

    def _head_asked(self, point: QPoint) -> None:
        header = self.table.horizontalHeader()
        assert header is not None
        self.column_menu().popup(header.mapToGlobal(point))

    def column_menu(self) -> QMenu:
        menu = passing_menu(self)
        for section in range(1, self.model.columnCount()):
            action = menu.addAction(
                self.model.head(section),
                lambda s=section: self.table.setColumnHidden(s, not self.table.isColumnHidden(s)),
            )
            assert action is not None
            action.setCheckable(True)
            action.setChecked(not self.table.isColumnHidden(section))
        menu.addSeparator()
        menu.addAction("Add a script column …", self.ask_column)
        for k, column in enumerate(self.model.columns):
            menu.addAction(f"Remove {column.caption}", lambda k=k: self.remove_column(k))
        return menu

    def ask_column(self) -> None:
        """Asks for a column of a script to be shown with what is found."""
        ask_column(self.session.programs, self, ScriptColumn("", "", ["1d"]), self.add_column)

    def add_column(self, column: ScriptColumn) -> None:
        """Shows one more column of a script."""
        self._put_columns([*self.model.columns, column])

    def remove_column(self, k: int) -> None:
        """Takes a column of a script away."""
        self._put_columns([c for j, c in enumerate(self.model.columns) if j != k])

    def _put_columns(self, columns: list[ScriptColumn]) -> None:
        self.model.show_columns(columns)
        self._size_columns()
        self._fill_columns()
        self.rearranged.emit()

    def _size_columns(self) -> None:
        """Fits the width of the sections behind the fixed ones; the user sizes the fixed ones."""
        header = self.table.horizontalHeader()
        assert header is not None
        for section in range(len(HEADS), self.model.columnCount()):
            header.setSectionResizeMode(section, QHeaderView.ResizeMode.ResizeToContents)

    def _fill_columns(self) -> None:
        """Asks for the cells of the script columns, of the symbols that were found."""
        symbols = [f.symbol for f in self.model.found]

        def then(made: dict[ColumnPlace, FilledColumns]) -> None:
            self.model.fill(made)
            troubles = troubles_of(made)
            if troubles:
                self.session.status.emit(troubles[0])

        self._columns.ask(self.model.columns, self.model.places, symbols, then)

    def export(self, path: Path) -> None:
        """Writes what is shown (found now, or the past) as CSV."""
        rows: list[list[object]]
        if self.currentWidget() is not self.past_part:
            first = len(HEADS) + len(self.model.rules)
            extra = range(first, self.model.columnCount())
            heads = [self.model.head(k) for k in extra]
            rows = [["symbol", "since", "bars", "last", "change", *self.model.rules, *heads]]
            for f in self.model.found:
                cells = [c.text if (c := self.model.cell(f, k)) is not None else "" for k in extra]
                rows.append([f.symbol, iso(f.since), f.bars_ago, f.last, f.change, *f.ages, *cells])
        else:
            rows = [["time", "symbol", f"{FOLLOWED_BARS} bars later"]]
            rows += [
                [iso(o.time), o.symbol, o.after if o.after == o.after else SEALED if o.sealed else ""]
                for o in self.past.rows
            ]

        def write() -> None:
            with writing(path):
                write_rows(path, rows)

        self.session.jobs.write(write, lambda _: self.session.status.emit(f"Saved as {path.name}."))

    def _show_theme(self) -> None:
        self.model.theme = self.past.theme = self.almanac.theme = theme_of(self.session)
        self.sheet.theme = self.past_sheet.theme = theme_of(self.session)
        for part in (self.almanac, self.sheet, self.past_sheet):
            part.update()
        for table in (self.table, self.past_table):
            viewport = table.viewport()
            assert viewport is not None
            viewport.update()
