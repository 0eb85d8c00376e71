"""The Data place: the user's own files, how they are read, what was found in them, and taking them into the library."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QFileDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QProgressBar,
    QPushButton,
    QSplitter,
    QTableWidget,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from oakladder.bars.errors import DataProblem, Stopped
from oakladder.desk.data.preview import facts_of, form_words, offer_columns, show_findings, show_preview, words_of_file
from oakladder.desk.data.symbols import KINDS, SymbolsView, tick_in
from oakladder.desk.jobs import Ticket, sentence_of
from oakladder.desk.look.distances import GAP, TIGHT, WIDE
from oakladder.desk.session import Desk
from oakladder.desk.widgets import tables
from oakladder.intake.file_layout import FIELDS, TableLayout, guess
from oakladder.intake.importing import Intake, Options, files_of, import_files, look_at, session_calendar
from oakladder.intake.tidying import Mend, Trouble
from oakladder.intake.times import TIME_FORMS

_SEPARATORS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "upright bar"}
_ROLE = Qt.ItemDataRole.UserRole


class DataPlace(QWidget):
    """Files on the left, how the chosen one is read on the right. ``taken`` tells that the library has changed."""

    taken = pyqtSignal()

    def __init__(self, desk: Desk, parent: QWidget | None = None):
        super().__init__(parent, objectName="place")
        self.desk = desk
        self.layouts: dict[Path, TableLayout] = {}
        self.seen: dict[Path, list[Intake]] = {}
        self.mends: dict[Trouble, Mend] = {}
        self.setAcceptDrops(True)
        self.files = QListWidget()
        self.separator, self.decimal, self.form = QComboBox(), QComboBox(), QComboBox()
        self.zone, self.session = QLineEdit("UTC"), QLineEdit()
        self.group = QLineEdit(placeholderText="My data")
        self.tick = QLineEdit(placeholderText="as found")
        self.facts = QLabel(objectName="quiet")
        self.kind = QComboBox()
        self.columns: dict[str, QComboBox] = {name: QComboBox() for name in FIELDS}
        self.preview, self.findings = QTableWidget(), QTableWidget()
        self.word = QLabel("Drop files or folders here, or choose them. CSV, TSV and Parquet can be read.")
        self.take_button = QPushButton("Take them in", objectName="go")
        self.stop_button = QPushButton("Stop")
        self.progress = QProgressBar(textVisible=False, maximum=1000)
        self.tabs = QTabWidget()
        self.symbols = SymbolsView(desk)
        self._filling = False
        self._lay_out()
        self._connect()
        self._show_file(None)

    def _lay_out(self) -> None:
        top = QHBoxLayout()
        self.choose, self.folder, self.clear = (
            QPushButton(w) for w in ("Choose files …", "Choose a folder …", "Clear")
        )
        for button in (self.choose, self.folder, self.clear):
            top.addWidget(button)
        top.addWidget(self.word, 1)
        top.addWidget(self.take_button)
        top.addWidget(self.stop_button)
        self.word.setWordWrap(True)
        self.word.setMinimumWidth(40)
        grid = QGridLayout()
        grid.setHorizontalSpacing(GAP)
        for sign, words in _SEPARATORS.items():
            self.separator.addItem(words, sign)
        for sign, words in ((".", "1.5"), (",", "1,5")):
            self.decimal.addItem(words, sign)
        for form in TIME_FORMS:
            self.form.addItem(form_words(form), form)
        self.kind.setEditable(True)
        self.kind.addItems(["", *KINDS])
        kind = self.kind.lineEdit()
        assert kind is not None
        kind.setPlaceholderText("share")
        self.kind.setToolTip("What new symbols are; empty leaves those that are known as they are")
        self.tick.setToolTip("The smallest step of a price, as in 0.01, for symbols that are new")
        self.group.setToolTip("Under which sector they are listed; empty leaves those that are known where they are")
        self.form.setMaximumWidth(250)
        self.session.setMinimumWidth(104)
        self.session.setPlaceholderText("09:00-15:30")
        self.session.setToolTip("Empty for a market that trades around the clock")
        asked = (
            ("Separator", self.separator),
            ("Decimals", self.decimal),
            ("Times are written", self.form),
            ("Time zone", self.zone),
            ("Regular hours", self.session),
            ("Group", self.group),
            ("Kind", self.kind),
            ("Step of price", self.tick),
        )
        for k, (words, part) in enumerate(asked):
            grid.addWidget(QLabel(words, objectName="quiet"), 0, k)
            grid.addWidget(part, 1, k)
        fields = QGridLayout()
        for k, (name, box) in enumerate(self.columns.items()):
            fields.addWidget(QLabel(name, objectName="quiet"), 0, k)
            fields.addWidget(box, 1, k)
            box.setMinimumWidth(60)
        for table in (self.preview, self.findings):
            table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
            tables.set_up(table)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(GAP, 0, 0, 0)
        column.addLayout(grid)
        column.addWidget(QLabel("Which column is which", objectName="quiet"))
        column.addLayout(fields)
        head = QHBoxLayout()
        head.addWidget(QLabel("As it would come in", objectName="quiet"))
        head.addWidget(self.facts, 1)
        self.facts.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.facts.setMinimumWidth(20)
        column.addLayout(head)
        column.addWidget(self.preview, 3)
        column.addWidget(QLabel("What was found, and what is done about it", objectName="quiet"))
        column.addWidget(self.findings, 2)
        split = QSplitter(Qt.Orientation.Horizontal)
        split.addWidget(self.files)
        split.addWidget(right)
        split.setSizes([330, 920])
        files = QWidget()
        column = QVBoxLayout(files)
        column.setContentsMargins(0, GAP, 0, 0)
        column.addLayout(top)
        column.addWidget(self.progress)
        column.addWidget(split, 1)
        self.tabs.addTab(files, "Own files")
        self.tabs.addTab(self.symbols, "Symbols")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(WIDE, TIGHT, WIDE, GAP)
        layout.addWidget(self.tabs)
        self.progress.setFixedHeight(4)
        self.progress.hide()
        self.stop_button.setEnabled(False)

    def _connect(self) -> None:
        self.tabs.currentChanged.connect(lambda k: self.symbols.refresh() if k == 1 else None)
        self.symbols.changed.connect(self.taken)
        self.choose.clicked.connect(self._ask_files)
        self.folder.clicked.connect(self._ask_folder)
        self.clear.clicked.connect(self.forget)
        self.take_button.clicked.connect(self.take)
        self.stop_button.clicked.connect(self.stop)
        self.files.currentItemChanged.connect(lambda now, _: self._show_file(now.data(_ROLE) if now else None))
        for box in (self.separator, self.decimal, self.form, *self.columns.values()):
            box.activated.connect(lambda _: self._corrected())
        kind = self.kind.lineEdit()
        assert kind is not None
        for line in (self.zone, self.session, self.group, self.tick, kind):
            line.editingFinished.connect(self._look_again)
        self.kind.activated.connect(lambda _: self._look_again())

    # --- which files ------------------------------------------------------------------------------

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if event is not None and data is not None and data.hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        data = event.mimeData() if event is not None else None
        if data is not None:
            self.add([Path(u.toLocalFile()) for u in data.urls() if u.isLocalFile()])

    def _ask_files(self) -> None:
        names, _ = QFileDialog.getOpenFileNames(
            self, "Files of bars", "", "Bars (*.csv *.tsv *.txt *.parquet *.pq *.arrow)"
        )
        self.add([Path(n) for n in names])

    def _ask_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "A folder of bars")
        if name:
            self.add([Path(name)])

    def forget(self) -> None:
        """Takes every file off the list; nothing in the library changes."""
        self.files.clear()
        self.layouts, self.seen = {}, {}
        self._show_file(None)

    def add(self, paths: Sequence[Path]) -> None:
        """Looks at files, and at everything in folders."""
        options, library, known = self._options(), self.desk.library, set(self.seen)
        if options is None or not paths:
            return

        def work(ticket: Ticket) -> list[tuple[Path, TableLayout | None, list[Intake]]]:
            made: list[tuple[Path, TableLayout | None, list[Intake]]] = []
            new = [p for p in files_of(paths) if p not in known]
            for k, path in enumerate(new):
                if ticket.cancelled():
                    raise Stopped
                try:
                    layout = guess(path)
                except (DataProblem, ValueError, OSError):
                    layout = None
                made.append((path, layout, look_at(path, library, options, layout, ticket.cancelled)))
                ticket.report((k + 1) / len(new))
            return made

        def then(made: list[tuple[Path, TableLayout | None, list[Intake]]]) -> None:
            self._running(False)
            if not made:
                self.word.setText("There is no CSV, TSV or Parquet file among these that is not listed already.")
                return
            for path, layout, intakes in made:
                if layout is not None:
                    self.layouts[path] = layout
                self.seen[path] = intakes
                self._list(path)
            if self.files.currentRow() < 0:
                self.files.setCurrentRow(0)
            self._sum_up()

        self._running(True)
        self.desk.jobs.start("intake", work, then, self._failed, self._share, slow=True)

    def _list(self, path: Path) -> None:
        item = QListWidgetItem()
        item.setData(_ROLE, path)
        self.files.addItem(item)
        self._write_item(item)

    def _write_item(self, item: QListWidgetItem) -> None:
        intakes = self.seen[item.data(_ROLE)]
        item.setText(words_of_file(intakes))
        item.setToolTip("\n".join(i.words() for i in intakes[:40]))
        bad = any(i.trouble for i in intakes)
        item.setForeground(self.desk.looking.theme.color("falling" if bad else "ink"))

    def _sum_up(self) -> None:
        everything = [i for some in self.seen.values() for i in some]
        good = [i for i in everything if not i.trouble]
        new = sum(i.new for i in good)
        words = f"{len(good)} symbol{'s' if len(good) != 1 else ''} can come in with {new:,} new bars."
        bad = len(everything) - len(good)
        self.word.setText(words + (f" {bad} cannot; they are listed with the reason." if bad else ""))
        self.take_button.setEnabled(bool(good))

    # --- how a file is read -----------------------------------------------------------------------

    def _path(self) -> Path | None:
        item = self.files.currentItem()
        return item.data(_ROLE) if item is not None else None

    def _options(self) -> Options | None:
        """What is asked of every file; None with a word where that makes no sense."""
        zone, session = self.zone.text().strip() or "UTC", self.session.text().strip() or None
        try:
            calendar = session_calendar(zone, session) if session or zone != "UTC" else None
        except DataProblem as error:
            self.word.setText(str(error))
            return None
        try:
            tick = tick_in(self.tick.text())
        except DataProblem as error:
            self.word.setText(str(error))
            return None
        kind, group = self.kind.currentText().strip() or None, self.group.text().strip() or None
        return Options(calendar, tick, kind=kind, sector=group, zone=zone, mends=dict(self.mends))

    def _show_file(self, path: Path | None) -> None:
        """Shows how a file is read, what it would bring, and what was found in it."""
        layout = self.layouts.get(path) if path is not None else None
        self._filling = True
        for box in (self.separator, self.decimal, self.form, *self.columns.values()):
            box.setEnabled(layout is not None)
        if layout is not None:
            self.separator.setCurrentIndex(self.separator.findData(layout.separator))
            self.decimal.setCurrentIndex(self.decimal.findData(layout.decimal))
            self.form.setCurrentIndex(max(self.form.findData(layout.time_form), 0))
            offer_columns(self.columns, layout)
        self._filling = False
        intakes = self.seen.get(path, []) if path is not None else []
        shown = next((i for i in intakes if i.bars is not None), None)
        show_preview(self.preview, shown)
        self.facts.setText(facts_of(shown, self.desk.library.infos))
        self.facts.setToolTip(self.facts.text())
        show_findings(self.findings, intakes, self.mends, self._mend)
        if path is None:
            self.take_button.setEnabled(False)

    def _mend(self, trouble: Trouble, mend: Mend) -> None:
        self.mends[trouble] = mend
        self._look_again()

    def _corrected(self) -> None:
        """The user reads the file in another way than was guessed."""
        path = self._path()
        if self._filling or path is None or path not in self.layouts:
            return
        columns = {name: box.currentData() for name, box in self.columns.items() if box.currentData() is not None}
        self.layouts[path] = replace(
            self.layouts[path],
            separator=str(self.separator.currentData()),
            decimal=str(self.decimal.currentData()),
            time_form=str(self.form.currentData()),
            columns=columns,
        )
        self._look_again([path])

    def _look_again(self, paths: list[Path] | None = None) -> None:
        """Looks at files again, read as they are set now."""
        options, library = self._options(), self.desk.library
        if options is None or not self.seen:
            return
        todo, layouts = paths or list(self.seen), dict(self.layouts)

        def work(ticket: Ticket) -> dict[Path, list[Intake]]:
            made: dict[Path, list[Intake]] = {}
            for k, path in enumerate(todo):
                made[path] = look_at(path, library, options, layouts.get(path), ticket.cancelled)
                ticket.report((k + 1) / len(todo))
            return made

        def then(made: dict[Path, list[Intake]]) -> None:
            self._running(False)
            self.seen |= made
            for k in range(self.files.count()):
                item = self.files.item(k)
                if item is not None:
                    self._write_item(item)
            self._show_file(self._path())
            self._sum_up()

        self._running(True)
        self.desk.jobs.start("intake", work, then, self._failed, self._share, slow=True)

    # --- taking them in ---------------------------------------------------------------------------

    def take(self) -> None:
        """Writes every sound symbol into the library; what cannot come in stays listed with the reason."""
        options, library, layouts, paths = self._options(), self.desk.library, dict(self.layouts), list(self.seen)
        if options is None or not paths:
            return

        def work(ticket: Ticket) -> list[Intake]:
            return import_files(
                paths, library, options, layouts=layouts, progress=ticket.report, cancelled=ticket.cancelled
            )

        def then(made: list[Intake]) -> None:
            self._running(False)
            good = [i for i in made if not i.trouble]
            self.forget()
            for intake in made:
                if intake.trouble:
                    self.seen.setdefault(intake.path, []).append(intake)
            for path in self.seen:
                self._list(path)
            bars = sum(i.new + i.changed for i in good)
            left = f" {len(self.seen)} files could not be taken in." if self.seen else ""
            self.word.setText(f"{len(good)} symbols taken in, {bars:,} bars written.{left}")
            self.taken.emit()

        self._running(True)
        self.desk.jobs.start("intake", work, then, self._failed, self._share, slow=True)

    def stop(self) -> None:
        """Stops what runs; what has come in stays, and the rest can be taken in later."""
        self.desk.jobs.stop("intake")
        self._running(False)
        self.word.setText("Stopped. What has come in stays; the rest can be chosen and taken in again.")
        self.taken.emit()

    def _share(self, share: float) -> None:
        self.progress.setValue(int(share * 1000))

    def _running(self, on: bool) -> None:
        self.progress.setVisible(on)
        self.progress.setValue(0)
        self.stop_button.setEnabled(on)
        for part in (self.choose, self.folder, self.clear, self.take_button):
            part.setEnabled(not on)

    def _failed(self, error: Exception) -> None:
        self._running(False)
        self.word.setText(f"{sentence_of(error)} Nothing was lost.")
