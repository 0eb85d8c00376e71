"""The Scan: conditions put together, run through a list, now or over the past; saved, copied, turned round, kept."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QModelIndex, QPoint, Qt, QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QHeaderView,
    QInputDialog,
    QLabel,
    QMenu,
    QMessageBox,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.bars.csv_files import iso
from oakladder.bars.errors import DataProblem
from oakladder.bars.timeframes import STANDARD, Timeframe
from oakladder.desk.columns import ColumnPlace, ScriptColumn, read_columns, troubles_of
from oakladder.desk.jobs import Ticket, sentence_of
from oakladder.desk.look.theme import ui_font
from oakladder.desk.pick import Pick
from oakladder.desk.scan.cards import CardScroll, LinesEditor, join_box
from oakladder.desk.scan.found import CHART, HEADS, SPARK_BARS, Almanac, FoundModel, OccurrenceModel
from oakladder.desk.session import Desk
from oakladder.desk.widgets.column_chooser import ask_column
from oakladder.desk.widgets.passing import below, passing_menu
from oakladder.desk.widgets.rows import PaintedTable, RowPainter
from oakladder.disk import why, write_rows
from oakladder.engine.columns import Filled
from oakladder.engine.market import Skipped
from oakladder.engine.rules import Condition, Fresh, Join, rules_of
from oakladder.engine.screen import Occurrence, Screen, occurrences, screen
from oakladder.rung import Program
from oakladder.rung.problems import Cancelled
from oakladder.user.lists import ALL, ListProblem
from oakladder.user.scans import SCRIPT, SavedScan, ScanLine, ScanProblem, as_plain, free_name, read_scan

_THREADS = 2
_REMEMBER_MS = 400


class ScanPlace(QWidget):
    """Put together, run, pick. ``picked`` tells a `Pick`: the bar on which it came true, with the first rule's script."""

    picked = pyqtSignal(object)

    def __init__(self, desk: Desk, parent: QWidget | None = None):
        super().__init__(parent, objectName="place")
        self.desk = desk
        self.programs: dict[str, Program] = {}
        #: What the conditions are made of: the scripts, the sectors and the lists that there were.
        self._offered: tuple[dict[str, Program], list[str], list[str]] = ({}, [], [])
        self.result: Screen | None = None
        self._columns = desk.column_jobs("scan columns")
        self._entered = self._reading = False
        self._then: Callable[[], None] | None = None
        self._opposite, self._keeps = False, ""
        self.saved, self.list, self.timeframe = QComboBox(), QComboBox(), QComboBox()
        self.join = join_box(Join.ALL.value)
        self.lines = LinesEditor()
        self.shelf = CardScroll(self.lines)
        self.days = QSpinBox(minimum=5, maximum=5000, value=250)
        self.run_button = QPushButton("Scan", objectName="go")
        self.past_button = QPushButton("Look back")
        self.stop_button = QPushButton("Stop")
        self.stop_button.setEnabled(False)
        self.progress = QProgressBar(textVisible=False, maximum=1000)
        self.verdict = QLabel("Put conditions together and press Scan. Enter on a hit opens its chart.")
        self.model, self.past = FoundModel(desk.looking.theme), OccurrenceModel(desk.looking.theme)
        self.table, self.past_table = PaintedTable(), PaintedTable()
        self.almanac = Almanac(desk.looking.theme)
        self.tabs = QTabWidget()
        self._remembering = QTimer(self, singleShot=True, interval=_REMEMBER_MS)
        self._remembering.timeout.connect(self._remember)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        self.timeframe.addItems([str(t) for t in STANDARD])
        self.timeframe.setCurrentText("1d")
        self.timeframe.setToolTip("The bars that now, yesterday and new are counted in")
        self.saved.setMinimumWidth(110)
        self.saved.setMaximumWidth(240)
        for box in (self.list, self.timeframe, self.join):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.list.setMinimumContentsLength(12)
        menu_button = QToolButton(text="Scan …", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        menu_button.setMenu(self._menu())
        top = QHBoxLayout()
        top.setSpacing(8)
        for words, part in (
            ("Saved", self.saved),
            ("", menu_button),
            ("in", self.list),
            ("bars", self.timeframe),
            ("where", self.join),
        ):
            if words:
                top.addWidget(QLabel(words, objectName="quiet"))
            top.addWidget(part)
        top.addStretch(1)
        for button in (self.run_button, self.past_button):
            top.addWidget(button)
        self.days.setSuffix(" bars back")
        top.addWidget(self.days)
        top.addWidget(self.stop_button)
        self._set_up(self.table, self.model)
        for section, width in enumerate((64, 152, 88, 128, 44, 44, 80, 66, 134)):
            self.table.setColumnWidth(section, width)
        self._set_up(self.past_table, self.past)
        header = self.past_table.horizontalHeader()
        assert header is not None
        for section, width in enumerate((190, 90, 300)):
            self.past_table.setColumnWidth(section, width)
        past = QWidget()
        column = QVBoxLayout(past)
        column.setContentsMargins(0, 4, 0, 0)
        column.addWidget(self.almanac)
        column.addWidget(self.past_table, 1)
        self.tabs.addTab(self.table, "Now")
        self.tabs.addTab(past, "Past occurrences")
        columns = QToolButton(text="Columns")
        columns.setToolTip("Which columns stand here, those of scripts among them")
        columns.clicked.connect(lambda: self._column_menu().popup(below(columns)))
        self.tabs.setCornerWidget(columns)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(14, 10, 14, 10)
        layout.setSpacing(6)
        layout.addLayout(top)
        layout.addWidget(self.shelf)
        layout.addWidget(self.verdict)
        layout.addWidget(self.progress)
        layout.addWidget(self.tabs, 1)
        self.progress.setFixedHeight(4)
        self.progress.hide()
        self.verdict.setWordWrap(True)

    @staticmethod
    def _set_up(table: PaintedTable, model: FoundModel | OccurrenceModel) -> None:
        table.setModel(model)
        table.setShowGrid(False)
        table.setWordWrap(False)
        table.setFont(ui_font(9))
        pictures = {CHART: model.draw_chart} if isinstance(model, FoundModel) else None
        table.painter = RowPainter(table, None, model, ui_font(9), model.columnCount(), pictures=pictures)
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        vertical, header = table.verticalHeader(), table.horizontalHeader()
        assert vertical is not None and header is not None
        vertical.hide()
        vertical.setDefaultSectionSize(30 if isinstance(model, FoundModel) else 24)
        if isinstance(model, FoundModel):
            table.setSortingEnabled(True)
            header.setSortIndicator(-1, Qt.SortOrder.AscendingOrder)
            header.setSortIndicatorClearable(True)
        header.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)

    def _connect(self) -> None:
        self.run_button.clicked.connect(self.run)
        self.past_button.clicked.connect(self.look_back)
        self.stop_button.clicked.connect(self.stop)
        self.saved.activated.connect(lambda _: self._show_saved(self.saved.currentText()))
        self.lines.changed.connect(self._remembering.start)
        for box in (self.join, self.list, self.timeframe):
            box.activated.connect(lambda _: self._remembering.start())
        self.table.activated.connect(self._open)
        self.past_table.activated.connect(self._open_past)
        self.past_table.clicked.connect(self._open_past)
        self.almanac.chosen.connect(self.past.show_day)
        header = self.table.horizontalHeader()
        assert header is not None
        header.customContextMenuRequested.connect(self._head_asked)
        self.desk.looking.theme_changed.connect(lambda _: self._show_theme())

    # --- coming here ------------------------------------------------------------------------------

    def enter(self) -> None:
        """Shows what was there last time; scripts and lists may have changed meanwhile."""
        self._reading = True
        self.desk.programs.when_read(self._come)
        self.run_button.setFocus()

    def _come(self, programs: dict[str, Program]) -> None:
        """The scripts are read."""
        scan = self.scan() if self._entered else read_scan(self.desk.remembering.scan) or SavedScan()
        names = self.desk.lists.names(self.desk.library.infos)
        sectors = sorted({i.sector for i in self.desk.library.infos.values()})
        offered = (programs, sectors, names)
        if self._entered and offered == self._offered:  # every condition stands as it was left
            self._reading = False
            self._fill_saved(scan.name)
            self._go_on()
            return
        self.programs, self._offered = programs, offered
        self.lines.offer(self.programs, sectors, names)
        self.list.clear()
        self.list.addItems(names)
        if not self._entered:
            self.model.show_columns(read_columns(self.desk.remembering.scan.get("columns")))
            scan.lines = scan.lines or self._first_lines()
        self._entered, self._reading = True, False
        self._fill_saved(scan.name)
        self._show(scan)
        self._go_on()

    def _go_on(self) -> None:
        """Does what was asked for before the scripts were read."""
        if self._then is not None:
            then, self._then = self._then, None
            then()

    def _first_lines(self) -> list[ScanLine]:
        """The open script's first signal, lately."""
        for name in (self.desk.script.path.name if self.desk.script.path else "", *self.programs):
            program = self.programs.get(name)
            if program is not None and program.signals:
                signal = program.signals[0].name
                return [ScanLine(SCRIPT, script=name, name=signal, fresh=Fresh.WITHIN.value, bars=5)]
        return []

    def _fill_saved(self, current: str) -> None:
        self.saved.clear()
        self.saved.addItem("(not saved)")
        self.saved.addItems(self.desk.scans.scans)
        self.saved.setCurrentText(current if current in self.desk.scans.scans else "(not saved)")

    def _show(self, scan: SavedScan) -> None:
        self._opposite, self._keeps = scan.opposite, scan.keeps
        self.join.setCurrentIndex(max(self.join.findData(scan.join), 0))
        self.list.setCurrentText(scan.list_name)
        if self.list.currentText() != scan.list_name:
            self.list.setCurrentText(ALL)
        self.timeframe.setCurrentText(scan.timeframe)
        self.lines.show_lines(scan.lines)

    def scan(self) -> SavedScan:
        """The scan as it is put together now."""
        name = self.saved.currentText() if self.saved.currentIndex() > 0 else ""
        return SavedScan(
            name,
            str(self.join.currentData()),
            self.lines.lines(),
            self.list.currentText() or ALL,
            self.timeframe.currentText(),
            self._opposite,
            self._keeps,
        )

    def _remember(self) -> None:
        if self._entered:
            columns = [c.as_plain() for c in self.model.columns]
            self.desk.remembering.scan = as_plain(self.scan()) | {"columns": columns}
            self.desk.remembering.soon()

    # --- saved scans ------------------------------------------------------------------------------

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        menu.addAction("Save", self.save)
        menu.addAction("Save as …", self._ask_save)
        menu.addAction("Copy", lambda: self._saved_do(lambda n: self.desk.scans.copy(n).name))
        menu.addAction("The opposite", lambda: self._saved_do(lambda n: self.desk.scans.opposite(n).name))
        menu.addAction("Delete …", lambda: self._saved_do(self._ask_delete))
        menu.addSeparator()
        menu.addAction("Keep what is found as a list", self.keep_list)
        menu.addAction("Export what is found …", self._ask_export)
        return menu

    def _saved_do(self, go: Callable[[str], str]) -> None:
        """Does something with the saved scan that is chosen, and shows the one it gives."""
        name = self.saved.currentText()
        if name not in self.desk.scans.scans:
            self.desk.status.emit("Save the scan under a name first.")
            return
        try:
            made = go(name)
        except (ScanProblem, OSError) as error:
            self.desk.status.emit(sentence_of(error))
            return
        self._fill_saved(made)
        self._show_saved(made)

    def _ask_delete(self, name: str) -> str:
        if QMessageBox.question(self, "Delete a scan", f"Delete {name}?") != QMessageBox.StandardButton.Yes:
            return name
        self.desk.scans.delete(name)
        return ""

    def _show_saved(self, name: str) -> None:
        if name in self.desk.scans.scans:
            self._show(self.desk.scans.scans[name])
        self._remembering.start()

    def _ask_save(self) -> None:
        name, fine = QInputDialog.getText(self, "Save the scan", "Under which name?", text=self.scan().name)
        if fine:
            self.save_as(name)

    def save(self) -> None:
        """Saves the scan under the name it has, or asks for one."""
        if self.scan().name:
            self.save_as(self.scan().name)
        else:
            self._ask_save()

    def save_as(self, name: str) -> None:
        made = self.scan()
        made.name = name.strip()
        try:
            self.desk.scans.save(made)
        except (ScanProblem, OSError) as error:
            self.desk.status.emit(sentence_of(error))
            return
        self._fill_saved(made.name)
        self.desk.status.emit(f"Saved as {made.name}.")

    # --- running ----------------------------------------------------------------------------------

    def _condition(self, scan: SavedScan) -> Condition:
        """What the engine shall run. Raises `ScanProblem` or `ListProblem`."""

        def program_of(script: str) -> Program:
            if script not in self.programs:
                raise ScanProblem(
                    f"The script {script or 'of a condition'} is not there, or has errors. Open it on the Bench."
                )
            return self.programs[script]

        infos = self.desk.library.infos
        try:
            return scan.condition(program_of, lambda name: self.desk.lists.symbols(name, infos))
        except ValueError as error:
            raise ScanProblem(str(error)) from None

    def _start(self, what: str, work: Callable[..., object], then: Callable[..., None]) -> None:
        """Runs something aside, with progress, until it is there or stopped."""
        scan = self.scan()
        try:
            condition = self._condition(scan)
            symbols = self.desk.lists.symbols(scan.list_name, self.desk.library.infos)
        except (ScanProblem, ListProblem) as error:
            self._say(str(error), trouble=True)
            return
        source, frame = self.desk.replaying.source, Timeframe.parse(scan.timeframe)

        def job(ticket: Ticket) -> object:
            with ThreadPoolExecutor(_THREADS) as pool:
                return work(
                    condition, source, symbols, frame, executor=pool, progress=ticket.report, cancelled=ticket.cancelled
                )

        def done(made: object) -> None:
            self._running(False)
            then(made, scan, condition, frame)

        self._running(True)
        self._say(f"{what} {len(symbols):,} symbols …")
        self.desk.jobs.start(
            "scan",
            job,
            done,
            self._failed,
            lambda share: self.progress.setValue(int(share * 1000)),
            slow=True,
        )

    def run(self) -> None:
        """Looks which symbols fit now; once the scripts are read, where they are not yet."""
        if self._reading:
            self._then = self.run
            return
        self._start("Looking through", screen, self._show_found)

    def look_back(self) -> None:
        """Looks on which bars it came true before; once the scripts are read, where they are not yet."""
        if self._reading:
            self._then = self.look_back
            return
        bars = self.days.value()
        self._start("Looking back over", lambda *a, **k: occurrences(*a, bars, **k), self._show_past)

    def stop(self) -> None:
        """Stops what runs."""
        self.desk.jobs.stop("scan")
        self._running(False)
        self._say("Stopped.")

    def _running(self, on: bool) -> None:
        self.run_button.setEnabled(not on)
        self.past_button.setEnabled(not on)
        self.stop_button.setEnabled(on)
        self.progress.setVisible(on)
        self.progress.setValue(0)

    def _failed(self, error: Exception) -> None:
        self._running(False)
        if isinstance(error, Cancelled):
            self._say("Stopped.")
            return
        self._say(sentence_of(error), trouble=True)

    def _say(self, sentence: str, *, trouble: bool = False) -> None:
        self.verdict.setText(sentence)
        self.verdict.setObjectName("trouble" if trouble else "")
        style = self.verdict.style()
        if style is not None:
            style.polish(self.verdict)

    # --- what was found ---------------------------------------------------------------------------

    def _show_found(self, made: Screen, scan: SavedScan, condition: Condition, frame: Timeframe) -> None:
        self.result = made
        rules = [f"{r.name} {r.timeframe}" for r in rules_of(condition)]
        self.model.show_found(list(made.found), rules, frame, self.desk.library.infos)
        self._ask_sparks()
        self._size_columns()
        self._fill_columns()
        new = sum(f.is_new for f in made.found)
        words = f"{len(made.found)} of {made.looked_at:,} symbols in {made.seconds:.2f} s; {new} new"
        words += f", {len(made.gone)} gone since the bar before" + (
            f": {', '.join(made.gone[:6])}" if made.gone else ""
        )
        hint = "" if made.found else " Look back shows when it did."
        self._say(words + "." + hint + _left_out(made.skipped))
        self.verdict.setToolTip("\n".join(f"{s.symbol}: {s.reason}" for s in made.skipped[:40]))
        self.tabs.setCurrentIndex(0)
        if made.found:
            self.table.selectRow(0)
            self.table.setFocus()
        if (
            scan.keeps and self.desk.replaying.moment is None
        ):  # what was true at an earlier moment is not what is true now
            self._keep(scan, [f.symbol for f in made.found])

    def _show_past(
        self,
        made: tuple[list[Occurrence], tuple[Skipped, ...]],
        scan: SavedScan,
        condition: Condition,
        frame: Timeframe,
    ) -> None:
        found, skipped = made
        self.past.show_all(found, frame, self.desk.library.infos)
        view = self.desk.looking.view
        shown = view is not None and len(view.bars) > 0
        last = int(view.bars.calendar.days(view.bars.times[-1:])[0]) if view is not None and shown else 0
        self.almanac.show_days(found, last)
        days = len({o.day for o in found})
        self._say(f"It came true {len(found):,} times on {days:,} days.{_left_out(skipped)}")
        self.tabs.setCurrentIndex(1)

    def _ask_sparks(self) -> None:
        """Has the last closes of what was found read aside, for the small charts."""
        source, frame, symbols = self.desk.replaying.source, self.model.timeframe, [f.symbol for f in self.model.found]

        def work(ticket: Ticket) -> dict[str, np.ndarray]:
            made: dict[str, np.ndarray] = {}
            for symbol in symbols:
                if ticket.cancelled():
                    break
                with contextlib.suppress(DataProblem, KeyError):  # it has been found; its picture may be missing
                    made[symbol] = source.bars(symbol, frame)["close"][-SPARK_BARS:].copy()
            return made

        self.desk.jobs.start("sparks", work, self.model.show_sparks, slow=True)

    def _head_asked(self, point: QPoint) -> None:
        header = self.table.horizontalHeader()
        assert header is not None
        self._column_menu().popup(header.mapToGlobal(point))

    def _column_menu(self) -> QMenu:
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
        menu.addAction("Add a column of a script …", self.ask_column)
        for k, column in enumerate(self.model.columns):
            menu.addAction(f"Remove {column.caption}", lambda k=k: self.remove_column(k))
        return menu

    def ask_column(self) -> None:
        """Asks for a column of a script to be shown with what is found."""
        ask_column(self.desk, self, ScriptColumn("", "", ["1d"]), self.add_column)

    def add_column(self, column: ScriptColumn) -> None:
        """Shows one more column of a script."""
        self._show_columns([*self.model.columns, column])

    def remove_column(self, k: int) -> None:
        """Takes a column of a script away."""
        self._show_columns([c for j, c in enumerate(self.model.columns) if j != k])

    def _show_columns(self, columns: list[ScriptColumn]) -> None:
        self.model.show_columns(columns)
        self._size_columns()
        self._fill_columns()
        self._remembering.start()

    def _size_columns(self) -> None:
        """Gives the sections behind the fixed ones the room that they need; the fixed ones are the user's to size."""
        header = self.table.horizontalHeader()
        assert header is not None
        for section in range(len(HEADS), self.model.columnCount()):
            header.setSectionResizeMode(section, QHeaderView.ResizeMode.ResizeToContents)

    def _fill_columns(self) -> None:
        """Asks for the cells of the script columns, of the symbols that were found."""
        symbols = [f.symbol for f in self.model.found]

        def then(made: dict[ColumnPlace, Filled]) -> None:
            self.model.fill(made)
            troubles = troubles_of(made)
            if troubles:
                self.desk.status.emit(troubles[0])

        self._columns.ask(self.model.columns, self.model.places, symbols, then)

    def _pick(self, symbol: str, frame: Timeframe, time: int) -> Pick:
        line = next((x for x in self.lines.lines() if x.kind == SCRIPT and x.script), None)
        if line is None:
            return Pick(symbol, frame, time)
        return Pick(symbol, frame, time, self.desk.workspace.scripts / line.script, line.settings)

    def _open(self, index: QModelIndex) -> None:
        one = self.model.found[index.row()]
        self.picked.emit(self._pick(one.symbol, self.model.timeframe, one.since))

    def _open_past(self, index: QModelIndex) -> None:
        one = self.past.rows[index.row()]
        self.picked.emit(self._pick(one.symbol, self.past.timeframe, one.time))

    def keep_list(self) -> None:
        """Keeps what was found as a watchlist; a saved scan keeps it up to date from now on."""
        if self.result is None:
            self.desk.status.emit("Run the scan first.")
            return
        scan, symbols = self.scan(), [f.symbol for f in self.result.found]
        lists = self.desk.lists
        lists.fresh()
        name = scan.name or "Found by a scan"
        mine = scan.name and name in lists.own and lists.own[name].scan == scan.name
        if not mine:
            name = free_name(name, [*lists.names(self.desk.library.infos)])
        try:
            if scan.name:
                lists.keep(name, symbols, scan.name)
            else:
                lists.make(name, symbols)
        except (ListProblem, OSError) as error:
            self.desk.status.emit(sentence_of(error))
            return
        if scan.name:
            self._keeps = name
            self.save_as(scan.name)
        self.desk.status.emit(f"Kept as the list {name}.")

    def _keep(self, scan: SavedScan, symbols: list[str]) -> None:
        """Writes what was found now into the list that the scan keeps."""
        try:
            self.desk.lists.keep(scan.keeps, symbols, scan.name)
        except (ListProblem, OSError) as error:
            self.desk.status.emit(f"The list {scan.keeps} stays as it was: {sentence_of(error)}")

    def _ask_export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Export what is found", "found.csv", "CSV (*.csv)")
        if name:
            self.export(Path(name))

    def export(self, path: Path) -> None:
        """Writes what is shown (found now, or the past) as CSV."""
        rows: list[list[object]]
        if self.tabs.currentIndex() == 0:
            first = len(HEADS) + len(self.model.rules)
            extra = range(first, self.model.columnCount())
            heads = [self.model.head(k) for k in extra]
            rows = [["symbol", "since", "bars", "last", "change", *self.model.rules, *heads]]
            for f in self.model.found:
                cells = [c.text if (c := self.model.cell(f, k)) is not None else "" for k in extra]
                rows.append([f.symbol, iso(f.since), f.bars_ago, f.last, f.change, *f.ages, *cells])
        else:
            rows = [["time", "symbol"]]
            rows += [[iso(o.time), o.symbol] for o in self.past.rows]
        try:
            write_rows(path, rows)
        except OSError as error:
            self.desk.status.emit(f"{path.name} cannot be written: {why(error)}.")
            return
        self.desk.status.emit(f"Saved as {path.name}.")

    def _show_theme(self) -> None:
        self.model.theme = self.past.theme = self.almanac.theme = self.desk.looking.theme
        self.almanac.update()
        for table in (self.table, self.past_table):
            viewport = table.viewport()
            assert viewport is not None
            viewport.update()


def _left_out(skipped: tuple[Skipped, ...]) -> str:
    if not skipped:
        return ""
    return f" {len(skipped)} left out: {skipped[0].symbol}, {skipped[0].reason}"
