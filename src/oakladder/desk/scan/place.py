"""The Scan: conditions put together, run through a list, now or over the past; saved, copied, turned round, kept."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QProgressBar,
    QPushButton,
    QSpinBox,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.actions import hinted
from oakladder.app.basis import Freshness, Part
from oakladder.app.columns import read_columns
from oakladder.app.jobs import Ticket, sentence_of
from oakladder.app.picked_symbol import PickedSymbol
from oakladder.app.session import Session
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import STANDARD, Timeframe
from oakladder.desk.look.spacing import GAP, WIDE
from oakladder.desk.look.theme import theme_of
from oakladder.desk.scan.cards import CardScroll, LinesEditor, join_box
from oakladder.desk.scan.condition import condition_of, derived_from, first_lines
from oakladder.desk.scan.results import ScanResults
from oakladder.desk.scan.save_as_list import keep_found, renew_kept
from oakladder.desk.scan.saved import SavedBox
from oakladder.desk.scan.why_not import ask_why_not
from oakladder.desk.scan.words import found_words, marking_of, past_words
from oakladder.desk.widgets.folding_row import FoldingRow
from oakladder.desk.widgets.veil import Veil
from oakladder.engine.run.context import RunContext
from oakladder.engine.scan.conditions import Condition, Join, rules_of
from oakladder.engine.scan.run import Occurrence, ScanResult, occurrences, run_scan
from oakladder.engine.scan.why_not import WhyNot
from oakladder.engine.universe.map import SkippedSymbol
from oakladder.rung import Program
from oakladder.rung.problems import Cancelled
from oakladder.rung.texts import count_words
from oakladder.user.lists import ALL, ListProblem
from oakladder.user.scans import SCRIPT, SavedScan, ScanLine, ScanProblem, as_plain, read_scan
from oakladder.work import parallel

_THREADS = 2
_REMEMBER_MS = 400


class ScanPlace(QWidget):
    """Build conditions, run, pick. ``picked`` delivers a `PickedSymbol`: the bar that matched, with the first rule's script."""

    picked = pyqtSignal(object)
    #: Tells the conditions that were run.
    ran = pyqtSignal(object)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent, objectName="place")
        self.session = session
        self.programs: dict[str, Program] = {}
        #: What the conditions are made of: the scripts, the sectors and the lists that there were.
        self._offered: tuple[dict[str, Program], list[str], list[str]] = ({}, [], [])
        self.result: ScanResult | None = None
        #: The proposed conditions, until the user changes them.
        self._proposed: list[ScanLine] = []
        self._entered = self._reading = False
        self._then: Callable[[], None] | None = None
        self._opposite, self._keeps = False, ""
        self.list, self.timeframe = (
            QComboBox(accessibleName="List to scan"),
            QComboBox(accessibleName="The timeframe"),
        )
        self.saves = SavedBox(session, self.scan, self._show, self)
        self.join = join_box(Join.ALL.value)
        self.lines = LinesEditor()
        self.card_scroll = CardScroll(self.lines)
        self.days = QSpinBox(minimum=5, maximum=5000, value=750, accessibleName="Bars to look back")
        self.run_button = QPushButton("Scan", objectName="go")
        self.past_button = QPushButton("Look back")
        self.run_button.setToolTip(hinted("Find the symbols that match now", "run_scan"))
        self.past_button.setToolTip("Find past occurrences and what followed")
        self.stop_button = QPushButton("Stop")
        self.stop_button.setEnabled(False)
        self.progress = QProgressBar(textVisible=False, maximum=1000)
        self.verdict = QLabel("Add conditions and press Scan. Enter on a match opens its chart.")
        self.asked = QLineEdit(placeholderText="Why not …", clearButtonEnabled=True, accessibleName="Why not: a symbol")
        self.asked.setToolTip("A symbol: shows which conditions it meets, and by how much the first one fails")
        self.asked.setMaximumWidth(130)
        self.results = ScanResults(session)
        # What was found is of the conditions, list and bars that were asked for, and of the scripts as they were then.
        self._found = Freshness(session.basis, (Part.DATA, Part.REPLAY), self._asked_now, self)
        self._told = Freshness(session.basis, (Part.DATA, Part.REPLAY), self._asked_now, self)
        Veil(self.results, self._found)
        Veil(self.verdict, self._told)
        self._remembering = QTimer(self, singleShot=True, interval=_REMEMBER_MS)
        self._remembering.timeout.connect(self._remember)
        self._lay_out()
        self._connect()

    def _lay_out(self) -> None:
        self.timeframe.addItems([str(t) for t in STANDARD])
        self.timeframe.setCurrentText("1d")
        self.timeframe.setToolTip("Timeframe in which bars back are counted")
        for box in (self.list, self.timeframe, self.join):
            box.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToContents)
        self.list.setMinimumContentsLength(12)
        menu_button = QToolButton(text="Scan …", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        menu_button.setMenu(self.saves.menu(self.keep_list, self._ask_export))
        top = FoldingRow()
        for words, part in (
            ("Saved", self.saves.box),
            ("", menu_button),
            ("in", self.list),
            ("bars", self.timeframe),
            ("where", self.join),
        ):
            if words:
                top.left.addWidget(QLabel(words, objectName="quiet"))
            top.left.addWidget(part)
        top.left.addStretch(1)
        self.days.setSuffix(" bars back")
        for control in (self.run_button, self.past_button, self.days, self.stop_button):
            top.right.addWidget(control)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(WIDE, GAP, WIDE, GAP)
        layout.setSpacing(GAP)
        layout.addWidget(top)
        layout.addWidget(self.card_scroll)
        said = QHBoxLayout()
        said.addWidget(self.verdict, 1)
        said.addWidget(self.asked)
        layout.addLayout(said)
        layout.addWidget(self.progress)
        layout.addWidget(self.results, 1)
        self.progress.setFixedHeight(4)
        self.progress.hide()
        self.verdict.setWordWrap(True)

    def _connect(self) -> None:
        self.run_button.clicked.connect(self.run)
        self.past_button.clicked.connect(self.look_back)
        self.stop_button.clicked.connect(self.stop)
        self.saves.changed.connect(self._remembering.start)
        self.lines.changed.connect(self._remembering.start)
        self.lines.changed.connect(self._changed)
        self.asked.returnPressed.connect(self.ask_why_not)
        self.asked.textChanged.connect(lambda words: None if words else self.lines.show_answers("", None))
        for box in (self.join, self.list, self.timeframe):
            box.activated.connect(lambda _: self._remembering.start())
            box.activated.connect(lambda _: self._changed())
        self.results.picked.connect(self._open)
        self.session.chart.theme_changed.connect(self.lines.show_theme)
        self.results.rearranged.connect(self._remembering.start)
        self.session.script.opened.connect(lambda _: self._follow())

    # --- coming here ------------------------------------------------------------------------------

    def enter(self) -> None:
        """Shows what was there last time; scripts and lists may have changed meanwhile."""
        self.refresh()
        self.run_button.setFocus()

    def refresh(self) -> None:
        """Offers the scripts and lists that there are now; the focus stays where it is."""
        self._reading = True
        self.session.programs.when_read(self._come)

    def _follow(self) -> None:
        """Another script is open: what is proposed, and in sight, is of that one."""
        if self._entered and self._proposed and self.isVisible():
            self.refresh()

    def _come(self, programs: dict[str, Program]) -> None:
        """The scripts are read."""
        scan = self.scan() if self._entered else read_scan(self.session.remembered.scan) or SavedScan()
        names = self.session.lists.names(self.session.symbols.infos)
        sectors = sorted({i.sector for i in self.session.symbols.infos.values()})
        offered = (programs, sectors, names)
        untouched = self._is_untouched(scan) if self._entered else not scan.lines
        proposed = first_lines(self.session.script.path, programs) if untouched else scan.lines
        other, scan.lines = proposed != scan.lines, proposed
        self._proposed = proposed if untouched else []
        if self._entered and offered == self._offered and not other:  # every condition stands as it was left
            self._reading = False
            self.saves.fill(scan.name)
            self._go_on()
            return
        self.programs, self._offered = programs, offered
        self.lines.offer(self.programs, sectors, names)
        self.list.clear()
        self.list.addItems(names)
        if not self._entered:
            self.results.model.show_columns(read_columns(self.session.remembered.scan.get("columns")))
        self._entered, self._reading = True, False
        self.saves.fill(scan.name)
        self._show(scan)
        self._go_on()

    def _is_untouched(self, scan: SavedScan) -> bool:
        """Whether the user has neither changed nor run the proposal."""
        return bool(self._proposed) and scan.lines == self._proposed and not scan.name

    def _go_on(self) -> None:
        """Does what was asked for before the scripts were read."""
        self._look()
        if self._then is not None:
            then, self._then = self._then, None
            then()

    def _show(self, scan: SavedScan) -> None:
        self._opposite, self._keeps = scan.opposite, scan.keeps
        self.join.setCurrentIndex(max(self.join.findData(scan.join), 0))
        self.list.setCurrentText(scan.list_name)
        if self.list.currentText() != scan.list_name:
            self.list.setCurrentText(ALL)
        self.timeframe.setCurrentText(scan.timeframe)
        self.lines.show_lines(scan.lines)

    def scan(self) -> SavedScan:
        """The scan as edited."""
        return SavedScan(
            self.saves.name,
            str(self.join.currentData()),
            self.lines.lines(),
            self.list.currentText() or ALL,
            self.timeframe.currentText(),
            self._opposite,
            self._keeps,
        )

    def _remember(self) -> None:
        if self._entered:
            columns, scan = [c.as_plain() for c in self.results.model.columns], self.scan()
            if self._is_untouched(scan):
                scan.lines = []
            self.session.remembered.scan = as_plain(scan) | {"columns": columns}
            self.session.remembered.soon()

    # --- running ----------------------------------------------------------------------------------

    def _condition(self, scan: SavedScan) -> Condition:
        """What the engine shall run. Raises `ScanProblem` or `ListProblem`."""
        return condition_of(scan, self.programs, self.session.lists, self.session.symbols.infos)

    def _start(self, what: str, work: Callable[..., object], then: Callable[..., None]) -> None:
        """Runs a job in the background, with progress, until it ends or is cancelled."""
        scan = self.scan()
        try:
            condition = self._condition(scan)
            symbols = self.session.lists.symbols(scan.list_name, self.session.symbols.infos)
        except (ScanProblem, ListProblem) as error:
            self._say(str(error), trouble=True)
            return
        source, frame = self.session.replay.source, Timeframe.parse(scan.timeframe)

        def job(ticket: Ticket) -> object:
            with parallel(_THREADS) as pool:
                return work(condition, source, symbols, frame, context=ticket.context(pool))

        asked = self._asked_now()

        def done(made: object) -> None:
            self._running(False)
            self._found.took(asked)
            then(made, scan, condition, frame)
            self._told.took(asked)

        self._proposed = []  # which has been run, and is the user's from now on
        self._running(True)
        self._say(f"{what} {count_words(len(symbols), 'symbol')} …")
        self.session.jobs.start(
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
        self._start("Looking through", run_scan, self._show_found)

    def look_back(self) -> None:
        """Finds past occurrences, as soon as the scripts are read."""
        if self._reading:
            self._then = self.look_back
            return
        bars, seals, scan = self.days.value(), self.session.seals, self.scan()
        paths = [self.session.workspace.scripts / name for name in scan.scripts()]

        def work(
            condition: Condition, source: BarSource, symbols: list[str], frame: Timeframe, context: RunContext
        ) -> object:
            sealed = seals.of_all(paths, scan.list_name, symbols)
            return occurrences(condition, source, symbols, frame, bars, sealed=sealed, context=context)

        self._start("Looking back over", work, self._show_past)

    def stop(self) -> None:
        """Stops what runs."""
        self.session.jobs.stop("scan")
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
        self._told.cleared()
        self.verdict.setObjectName("trouble" if trouble else "")
        style = self.verdict.style()
        if style is not None:
            style.polish(self.verdict)

    def ask_why_not(self) -> None:
        """Says of the symbol that was typed what each condition says of it."""
        try:
            ask_why_not(self.session, self.asked.text(), self.scan(), self._condition, self._show_why_not)
        except (ScanProblem, ListProblem) as error:
            self._say(str(error), trouble=True)

    def _show_why_not(self, symbol: str, made: WhyNot | Exception, scan: SavedScan, words: str) -> None:
        if isinstance(made, Exception):
            self._say(words, trouble=True)
        elif self.scan() == scan:  # else it was said of other conditions
            self.lines.show_answers(symbol, made)
            self._say(words)
            self._told.took()

    def _asked_now(self) -> object:
        """What the scan as it stands now would follow from."""
        if not self._entered:
            return None
        return derived_from(self.scan(), self.programs, self.session.lists, self.session.symbols.infos)

    def _look(self) -> None:
        for freshness in (self._found, self._told):
            freshness.look()

    def _changed(self) -> None:
        """What the last run said is not said of other conditions."""
        self._look()
        self.lines.show_funnel((), 0, theme_of(self.session))
        self.lines.show_answers("", None)

    # --- what was found ---------------------------------------------------------------------------

    def _show_found(self, made: ScanResult, scan: SavedScan, condition: Condition, frame: Timeframe) -> None:
        self.result = made
        self.ran.emit(scan.lines)
        rules = [f"{r.name} {r.timeframe}" for r in rules_of(condition)]
        self.results.show_found(list(made.found), rules, frame, marking_of(condition))
        self.lines.show_funnel(made.stages, made.looked_at, theme_of(self.session))
        self._say(found_words(made))
        self.verdict.setToolTip("\n".join(f"{s.symbol}: {s.reason}" for s in made.skipped[:40]))
        if (
            scan.keeps and self.session.replay.moment is None
        ):  # what was true at an earlier moment is not what is true now
            renew_kept(self.session, scan, [f.symbol for f in made.found])

    def _show_past(
        self,
        made: tuple[list[Occurrence], tuple[SkippedSymbol, ...]],
        scan: SavedScan,
        condition: Condition,
        frame: Timeframe,
    ) -> None:
        found, skipped = made
        self.results.show_past(found, frame, marking_of(condition))
        self._say(past_words(found, skipped))

    def _open(self, symbol: str, frame: Timeframe, time: int) -> None:
        """Shows a bar on the Bench, with the first rule's script and settings."""
        line = next((x for x in self.lines.lines() if x.kind == SCRIPT and x.script), None)
        if line is None:
            self.picked.emit(PickedSymbol(symbol, frame, time))
        else:
            self.picked.emit(
                PickedSymbol(symbol, frame, time, self.session.workspace.scripts / line.script, line.settings)
            )

    def keep_list(self) -> None:
        """Keeps what was found as a watchlist; a saved scan keeps it up to date from now on."""
        if self.result is None:
            self.session.status.emit("Run the scan first.")
            return
        scan = self.scan()

        def kept(name: str) -> None:
            if scan.name and self.saves.name == scan.name:
                self._keeps = name
                self.saves.save_as(scan.name)

        keep_found(self.session, scan, [f.symbol for f in self.result.found], kept)

    def _ask_export(self) -> None:
        name, _ = QFileDialog.getSaveFileName(self, "Export matches", "found.csv", "CSV (*.csv)")
        if name:
            self.results.export(Path(name))
