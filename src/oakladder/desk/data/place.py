"""The Data place: the user's own files, how they are read, what was found in them, and taking them into the library."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QListWidget,
    QListWidgetItem,
    QProgressBar,
    QPushButton,
    QStackedWidget,
    QTableWidget,
    QTabWidget,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.basis import Part
from oakladder.app.jobs import Ticket, sentence_of
from oakladder.app.session import Session
from oakladder.bars.errors import DataProblem
from oakladder.desk.data.empty import EmptyData
from oakladder.desk.data.first_chart import FirstChart
from oakladder.desk.data.preview import facts_of, show_findings, show_preview, words_of_file
from oakladder.desk.data.reading_form import ReadingForm
from oakladder.desk.data.symbol_row import SymbolRow
from oakladder.desk.data.symbols import SymbolsView
from oakladder.desk.look.spacing import GAP, TIGHT, WIDE
from oakladder.desk.look.theme import Theme, theme_of
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.self_drawn import Splitter
from oakladder.desk.widgets.veil import veiled
from oakladder.intake.cleaning import Repair, Trouble
from oakladder.intake.file_list import FileList, Looked, look_over
from oakladder.intake.file_search import ENDINGS, files_of
from oakladder.intake.importing import Intake, Options, import_files
from oakladder.rung.texts import count_words

_ROLE = Qt.ItemDataRole.UserRole


class DataPlace(QWidget):
    """Files on the left, how the chosen one is read on the right. ``taken`` tells that the library has changed."""

    taken = pyqtSignal()

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent, objectName="place")
        self.session = session
        self.listing = FileList()
        self.repairs: dict[Trouble, Repair] = {}
        self.setAcceptDrops(True)
        self.files = QListWidget(accessibleName="Files to import")
        self.reading, self.row = ReadingForm(), SymbolRow()
        self.facts = QLabel(objectName="quiet")
        self.chart = FirstChart(theme_of(session))
        self.preview, self.findings = QTableWidget(), QTableWidget()
        self.word = QLabel()
        self.empty = EmptyData()
        #: The empty place, or the files.
        self.pages = QStackedWidget()
        self.take_button = QPushButton("Import", objectName="go")
        self.stop_button = QPushButton("Stop")
        self.progress = QProgressBar(textVisible=False, maximum=1000)
        self.tabs = QTabWidget(accessibleName="Files and symbols")
        self.symbols = SymbolsView(session)
        self._lay_out()
        self._connect()
        self._show_file(None)
        # The preview compares files with the library, which other programs change too.
        self._looked = veiled(session.basis, (Part.DATA,), self.files, self.findings)
        self._looked.turned.connect(self._turned)

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
        for table in (self.preview, self.findings):
            table.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
            tables.set_up(table)
        right = QWidget()
        column = QVBoxLayout(right)
        column.setContentsMargins(GAP, 0, 0, 0)
        column.addWidget(self.reading)
        column.addWidget(self.row)
        head = QHBoxLayout()
        head.addWidget(QLabel("Preview", objectName="head"))
        head.addWidget(self.facts, 1)
        self.facts.setAlignment(Qt.AlignmentFlag.AlignRight)
        self.facts.setMinimumWidth(20)
        column.addLayout(head)
        found = QWidget()
        beside = QVBoxLayout(found)
        beside.setContentsMargins(GAP, 0, 0, 0)
        beside.addWidget(QLabel("Findings, and what to do about them", objectName="quiet"))
        beside.addWidget(self.findings)
        upper = Splitter(Qt.Orientation.Horizontal)
        upper.addWidget(self.chart)
        upper.addWidget(found)
        upper.setSizes([470, 440])
        column.addWidget(upper, 3)
        column.addWidget(self.preview, 2)
        split = Splitter(Qt.Orientation.Horizontal)
        split.addWidget(self.files)
        split.addWidget(right)
        split.setSizes([270, 980])
        listed = QWidget()
        column = QVBoxLayout(listed)
        column.setContentsMargins(0, GAP, 0, 0)
        column.addLayout(top)
        column.addWidget(self.progress)
        column.addWidget(split, 1)
        self.pages.addWidget(self.empty)
        self.pages.addWidget(listed)
        self.tabs.setDocumentMode(True)
        self.tabs.addTab(self.pages, "Own files")
        self.tabs.addTab(self.symbols, "Symbols")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(WIDE, TIGHT, WIDE, GAP)
        layout.addWidget(self.tabs)
        self.progress.setFixedHeight(4)
        self.progress.hide()
        self.stop_button.setEnabled(False)

    def _connect(self) -> None:
        self.tabs.currentChanged.connect(lambda k: self.symbols.enter() if k == 1 else None)
        self.symbols.changed.connect(self.taken)
        self.choose.clicked.connect(self._ask_files)
        self.folder.clicked.connect(self._ask_folder)
        self.clear.clicked.connect(self.forget)
        self.take_button.clicked.connect(self.take)
        self.stop_button.clicked.connect(self.stop)
        self.files.currentItemChanged.connect(lambda now, _: self._show_file(now.data(_ROLE) if now else None))
        self.empty.choose.clicked.connect(self._ask_files)
        self.empty.folder.clicked.connect(self._ask_folder)
        self.reading.corrected.connect(self._corrected)
        self.reading.asked.connect(self._look_again)
        self.row.named.connect(self._name)
        self.row.belongs.connect(self._belong)
        self.session.chart.theme_changed.connect(self._show_theme)

    def _say(self, words: str) -> None:
        self.word.setText(words)
        self.empty.word.setText(words)

    def _show_theme(self, theme: Theme) -> None:
        self.chart.theme = theme
        self.chart.update()

    def enter(self) -> None:
        """Shows what the library has now."""
        self._looked.look()
        self._turned(self._looked.is_stale)
        if self.tabs.currentIndex() == 1:
            self.symbols.enter()

    def _turned(self, stale: bool) -> None:
        if stale and self.isVisible() and self.listing.seen and not self.session.jobs.busy_with("intake"):
            self._look_again()

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
        shown = " ".join(f"*{ending}" for ending in ENDINGS)
        names, _ = QFileDialog.getOpenFileNames(self, "Files of bars", "", f"Bars ({shown})")
        self.add([Path(n) for n in names])

    def _ask_folder(self) -> None:
        name = QFileDialog.getExistingDirectory(self, "A folder of bars")
        if name:
            self.add([Path(name)])

    def forget(self) -> None:
        """Takes every file off the list; nothing in the library changes."""
        self._list_only([])

    def _list_only(self, intakes: list[Intake]) -> None:
        self.files.clear()
        self.listing.keep(intakes)
        self._looked.cleared()
        self._show_file(None)
        for path in self.listing.seen:
            self._list(path)

    def add(self, paths: Sequence[Path]) -> None:
        """Looks at files, and at everything in folders."""
        if paths:
            known = set(self.listing.seen)
            self._look(lambda: [p for p in files_of(paths).files if p not in known], self._added)

    def _added(self, new: Sequence[Path]) -> None:
        if not new:
            self._say("No new CSV, TSV or Parquet file found.")
            return
        for path in new:
            self._list(path)
        if self.files.currentRow() < 0:
            self.files.setCurrentRow(0)

    def _look(self, found: Callable[[], Sequence[Path]], then: Callable[[Sequence[Path]], None]) -> None:
        """Reads the files that ``found`` returns in the background, and previews their import."""
        options, library, listing = self._options(), self.session.library, self.listing.snapshot()
        if options is None:
            return

        def work(ticket: Ticket) -> tuple[Looked, Sequence[Path]]:
            paths = found()
            return look_over(listing, paths, library, options, ticket.report, ticket.cancelled), paths

        def done(made: tuple[Looked, Sequence[Path]]) -> None:
            looked, paths = made
            self._running(False)
            self.listing.layouts = dict(looked.layouts)
            self.listing.seen |= looked.intakes
            self._looked.took()
            if paths:
                self._sum_up()
            then(paths)
            for k in range(self.files.count()):
                item = self.files.item(k)
                if item is not None:
                    self._write_item(item)
            self._show_file(self._path())

        self._running(True)
        self.session.jobs.start("intake", work, done, self._failed, self._share, slow=True)

    def _list(self, path: Path) -> None:
        item = QListWidgetItem()
        item.setData(_ROLE, path)
        self.files.addItem(item)
        self._write_item(item)

    def _write_item(self, item: QListWidgetItem) -> None:
        intakes = self.listing.seen[item.data(_ROLE)]
        item.setText(words_of_file(intakes))
        item.setToolTip("\n".join(i.words() for i in intakes[:40]))
        bad = any(i.trouble for i in intakes)
        item.setForeground(theme_of(self.session).color("loss" if bad else "ink"))

    def _sum_up(self) -> None:
        everything = [i for some in self.listing.seen.values() for i in some]
        good = [i for i in everything if not i.trouble]
        new = sum(i.new for i in good)
        words = f"{count_words(len(good), 'symbol')} can be imported with {count_words(new, 'new bar')}."
        doubtful = sum(i.doubt is not None for i in everything)
        bad = len(everything) - len(good) - doubtful
        asked = f" {doubtful:,} need an answer first: select them and say which symbol they are." if doubtful else ""
        self._say(words + asked + (f" {bad:,} cannot; they are listed with the reason." if bad else ""))
        self.take_button.setEnabled(bool(good))

    # --- how a file is read -----------------------------------------------------------------------

    def _path(self) -> Path | None:
        item = self.files.currentItem()
        return item.data(_ROLE) if item is not None else None

    def _options(self) -> Options | None:
        """What is asked of every file; None with a word where that makes no sense."""
        try:
            return self.reading.options(self.repairs)
        except DataProblem as error:
            self._say(str(error))
            return None

    def _show_file(self, path: Path | None) -> None:
        """Shows how a file is read, what it would bring, and what was found in it."""
        layout = self.listing.layouts.get(path) if path is not None else None
        self.reading.show_layout(layout)
        self.pages.setCurrentIndex(1 if self.listing.seen else 0)
        intakes = self.listing.seen.get(path, []) if path is not None else []
        shown = next((i for i in intakes if i.bars is not None), None)
        doubtful = next((i for i in intakes if i.doubt is not None), None)
        first, in_column = doubtful or shown, any(i.in_column for i in intakes)
        self.row.show_symbol(
            first.symbol if first is not None else "",
            doubtful,
            same=path in self.listing.same,
            in_column=in_column,
        )
        show_preview(self.preview, shown)
        self.chart.show_intake(shown)
        self.facts.setText(facts_of(shown, self.session.symbols.infos))
        self.facts.setToolTip(self.facts.text())
        show_findings(self.findings, intakes, self.repairs, self._mend)
        if path is None:
            self.take_button.setEnabled(False)

    def _mend(self, trouble: Trouble, repair: Repair) -> None:
        self.repairs[trouble] = repair
        self._look_again()

    def _corrected(self) -> None:
        """The user reads the file in another way than was guessed."""
        path = self._path()
        if path is not None and path in self.listing.layouts and self.reading.layout_ is not None:
            self.listing.layouts[path] = self.reading.layout_
            self._look_again([path])

    def _look_again(self, paths: list[Path] | None = None) -> None:
        """Looks at files again, read as they are set now."""
        todo = paths or list(self.listing.seen)
        if todo:
            self._look(lambda: todo, lambda _: None)

    def _name(self, text: str) -> None:
        """Gives the chosen file another symbol."""
        path = self._path()
        if path is None:
            return
        try:
            self.listing.call(path, text)
        except DataProblem as error:
            self._say(str(error))
            self._show_file(path)
            return
        self._look_again([path])

    def _belong(self, on: bool) -> None:
        """Confirms that the selected file, and those with the same symbol, belong to it despite all contradictions."""
        path = self._path()
        if path is not None:
            self.listing.belong(path, on)
            symbol = self.listing.symbol_of(path)
            self._look_again([p for p in self.listing.seen if self.listing.symbol_of(p) == symbol])

    # --- taking them in ---------------------------------------------------------------------------

    def take(self) -> None:
        """Writes every sound symbol into the library; what cannot come in stays listed with the reason."""
        options, library, listing = self._options(), self.session.library, self.listing.snapshot()
        if options is None or not listing.seen:
            return

        def work(ticket: Ticket) -> list[Intake]:
            return import_files(
                list(listing.seen),
                library,
                options,
                layouts=listing.layouts,
                choices=listing.choices(options),
                progress=lambda count, of: ticket.report(count / of),
                cancelled=ticket.cancelled,
            )

        def then(made: list[Intake]) -> None:
            self._running(False)
            good = [i for i in made if not i.trouble]
            self._list_only([i for i in made if i.trouble])
            bars = sum(i.new + i.changed for i in good)
            left = f" {count_words(len(self.listing.seen), 'file')} could not be imported." if self.listing.seen else ""
            words = f"{count_words(len(good), 'symbol')} imported, {count_words(bars, 'bar')} written.{left}"
            self._say(words)
            self.taken.emit()
            if kept := list(self.listing.seen):  # with their bars, so that one can say what they are
                self._look(lambda: kept, lambda _: self._say(words))

        self._running(True)
        self.session.jobs.start("intake", work, then, self._failed, self._share, slow=True)

    def stop(self) -> None:
        """Stops what runs; what has come in stays, and the rest can be taken in later."""
        self.session.jobs.stop("intake")
        self._running(False)
        self._say("Cancelled. What was imported stays; import the rest again when you like.")
        self.taken.emit()

    def _share(self, share: float) -> None:
        self.progress.setValue(int(share * 1000))

    def _running(self, on: bool) -> None:
        self.progress.setVisible(on)
        self.progress.setValue(0)
        self.stop_button.setEnabled(on)
        for part in (self.choose, self.folder, self.clear, self.take_button, self.empty.choose, self.empty.folder):
            part.setEnabled(not on)

    def _failed(self, error: Exception) -> None:
        self._running(False)
        self._say(f"{sentence_of(error)} Nothing was lost.")
