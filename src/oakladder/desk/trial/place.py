"""The Trial place: does the rule make money, on what, and on prices that anybody could have had."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QComboBox,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QProgressBar,
    QTabWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.actions import hinted
from oakladder.app.basis import TRIAL
from oakladder.app.jobs import Ticket
from oakladder.app.picked_symbol import PickedSymbol
from oakladder.app.rule import fitting
from oakladder.app.session import Session
from oakladder.app.trials import Outcome
from oakladder.bars.timeframes import STANDARD, Timeframe
from oakladder.desk.look.spacing import GAP, TIGHT, WIDE
from oakladder.desk.look.theme import theme_of
from oakladder.desk.trial.account_form import AccountForm
from oakladder.desk.trial.breakdowns import BreakdownPanel
from oakladder.desk.trial.evidence import EvidenceView
from oakladder.desk.trial.excursions import ExcursionsView
from oakladder.desk.trial.exporting import EXPORTS, export
from oakladder.desk.trial.look_ahead import LookAheadView
from oakladder.desk.trial.metrics import MetricsRow
from oakladder.desk.trial.months import MonthSheet
from oakladder.desk.trial.notebook import NotebookView
from oakladder.desk.trial.outcome_words import outcome_words
from oakladder.desk.trial.shift_test import ShiftTestView
from oakladder.desk.trial.skipped_entries import SkippedEntries
from oakladder.desk.trial.sweep.view import SweepView
from oakladder.desk.trial.symbol_curves import SymbolCurves
from oakladder.desk.trial.trade_charts import TradeCharts
from oakladder.desk.trial.trade_table import TradeTable
from oakladder.desk.trial.variants import Variants
from oakladder.desk.widgets.curve import VARIANT_COLOURS, Curve, CurveView
from oakladder.desk.widgets.self_drawn import Splitter
from oakladder.desk.widgets.transient import passing_menu
from oakladder.desk.widgets.veil import veiled
from oakladder.trial.broker.ledger import Taken
from oakladder.trial.by_symbol import SymbolCurve, symbol_curves
from oakladder.trial.notebook import Try
from oakladder.trial.trial import Trial

_WHO = "place"
#: The kinds of jobs whose results this place shows.
_WORK = frozenset({"trial", "variants", "evidence", "chance", "look_ahead", "seal", "sweep"})


class TrialPlace(QWidget):
    """Shows the open rule on trial, and its variants. ``picked`` tells a `PickedSymbol` to open on the Bench."""

    picked = pyqtSignal(object)
    write_asked = pyqtSignal()
    text_asked = pyqtSignal(float, str)

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent, objectName="place")
        self.session, self.trials = session, session.trials
        theme = theme_of(session)
        self.sentence, self.word = QLabel(objectName="head"), QLabel(objectName="quiet")
        self.lists, self.frames = QComboBox(accessibleName="List"), QComboBox(accessibleName="Timeframe", editable=True)
        for line in self.frames.findChildren(QLineEdit):
            line.setAccessibleName("Timeframe")
        self.frames.setInsertPolicy(QComboBox.InsertPolicy.NoInsert)
        self.terms_button = QToolButton(text="Account and costs", checkable=True)
        self.write_button, self.save_button = (
            QToolButton(text="Write the trade into the script"),
            QToolButton(text="Save …"),
        )
        self.stop_button, self.progress = QToolButton(text="Stop"), QProgressBar()
        self.terms = AccountForm()
        self.variants = Variants(theme)
        self.metrics, self.curve = MetricsRow(theme), CurveView(theme)
        self.table, self.charts, self.months = TradeTable(theme), TradeCharts(theme), MonthSheet(theme)
        self.groups = BreakdownPanel(theme, self._groups)
        self.by_symbol = SymbolCurves(theme, self._groups)
        self.scatter, self.left_out = ExcursionsView(theme), SkippedEntries(theme)
        self.tabs, self.views = QTabWidget(accessibleName="Trades"), QTabWidget(accessibleName="Judging")
        self.evidence = EvidenceView(session.judging, session.basis, theme, self._groups)
        self.chance = ShiftTestView(session.judging, session.notebook, session.basis, theme)
        self.sweep = SweepView(session.sweeps, session.notebook, session.rule, session.basis, theme)
        self.notebook = NotebookView(session.notebook, session.judging, theme)
        self.honesty = LookAheadView(session.judging, session.basis, theme)
        self._shown: Trial | None = None
        #: The outcome in front.
        self._front: Outcome | None = None
        self._lay_out()
        self._fronted = veiled(session.basis, TRIAL, self._above, self.tabs, self.sentence, self.word)
        self._varied = veiled(session.basis, TRIAL, self.variants.rows)
        self._connect()

    def _groups(self) -> dict[str, str]:
        """The group of each symbol."""
        return {i.symbol: i.sector for i in self.session.symbols.infos.values()}

    def _lay_out(self) -> None:
        row = QHBoxLayout()
        row.setContentsMargins(WIDE, GAP, WIDE, TIGHT)
        row.setSpacing(GAP)
        self.sentence.setMinimumWidth(20)
        row.addWidget(self.sentence)
        row.addWidget(QLabel("on", objectName="quiet"))
        row.addWidget(self.lists)
        row.addWidget(self.frames)
        row.addWidget(self.terms_button)
        row.addWidget(self.write_button)
        row.addStretch(1)
        self.progress.setFixedWidth(90)
        self.progress.setTextVisible(False)
        row.addWidget(self.progress)
        row.addWidget(self.stop_button)
        row.addWidget(self.save_button)
        self.lists.setMinimumWidth(150)
        self.frames.setFixedWidth(70)
        self.terms_button.setToolTip(
            hinted("Starting money, position size, commission, slippage, minute bars", "edit_account")
        )
        self.save_button.setToolTip(hinted("Trades and equity as CSV, report as HTML or PDF", "save_trial"))
        self.word.setContentsMargins(WIDE, 0, WIDE, TIGHT)
        self.word.setWordWrap(True)
        self.terms.setVisible(False)
        self.write_button.setVisible(False)
        for words, part in (
            ("Trades", self.table),
            ("Small charts", self.charts),
            ("Symbols", self.by_symbol),
            ("Months", self.months),
            ("Breakdown", self.groups),
            ("Excursions", self.scatter),
            ("Skipped entries", self.left_out),
        ):
            self.tabs.addTab(part, words)
        right = self.trades_view = Splitter(Qt.Orientation.Vertical)
        top = self._above = QWidget()
        column = QVBoxLayout(top)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.metrics)
        column.addWidget(self.curve, 1)
        right.addWidget(top)
        right.addWidget(self.tabs)
        right.setSizes([380, 290])
        split = Splitter(Qt.Orientation.Horizontal)
        split.addWidget(self.variants)
        for words, view in (
            ("The trial", right),
            ("Evidence", self.evidence),
            ("Chance", self.chance),
            ("Sweep", self.sweep),
            ("Notebook", self.notebook),
            ("Look-ahead", self.honesty),
        ):
            self.views.addTab(view, words)
        for tabs in (self.tabs, self.views):
            tabs.setDocumentMode(True)
        split.addWidget(self.views)
        split.setSizes([250, 1030])
        split.setStretchFactor(0, 0)
        split.setStretchFactor(1, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(self.word)
        layout.addWidget(self.terms)
        layout.addWidget(split, 1)
        self._show_progress()

    def _connect(self) -> None:
        trials = self.trials
        self.lists.activated.connect(lambda _: trials.set_ground(list_name=self.lists.currentText()))
        self.frames.activated.connect(lambda _: self._frame_typed())
        line = self.frames.lineEdit()
        assert line is not None
        line.editingFinished.connect(self._frame_typed)
        self.terms_button.toggled.connect(self.terms.setVisible)
        self.terms.changed.connect(trials.set_account)
        self.terms.finer_changed.connect(lambda on: trials.set_ground(finer=on))
        self.terms.told.connect(self.session.status)
        self.write_button.clicked.connect(lambda: self.write_asked.emit())
        self.save_button.clicked.connect(lambda: self.save_trial())
        self.stop_button.clicked.connect(lambda: self.stop_trial())
        self.variants.asked.connect(trials.add_change)
        self.variants.rows.chosen.connect(lambda _: self._show_front())
        self.variants.rows.dropped.connect(lambda k: trials.remove_change(k - 1))
        self.variants.settings = lambda: (
            self.session.rule.program.settings if self.session.rule.program is not None else ()
        )
        self.variants.lists = lambda: self.session.lists.names(self.session.symbols.infos)
        for part in (self.curve, self.table, self.charts, self.scatter):
            part.picked.connect(self._open)
        self.left_out.table.picked.connect(self._open)
        self.by_symbol.asked.connect(self._ask_curves)
        self.by_symbol.picked.connect(self._open_symbol)
        self.tabs.currentChanged.connect(lambda _: self._fill_tab())
        self.views.currentChanged.connect(lambda _: self._fill_view())
        self.honesty.picked.connect(self.picked)
        self.notebook.asked.connect(self._look_again)
        self.session.judging.moved.connect(lambda _: self._show_progress())
        self.session.sweeps.moved.connect(lambda _: self._show_progress())
        self.session.jobs.changed.connect(self._show_progress)
        trials.changed.connect(self._show)
        self.session.rule.problems_changed.connect(lambda _: self._show_words())
        trials.variants_changed.connect(lambda _: self._show_variants())
        trials.moved.connect(lambda _: self._show_progress())
        trials.told.connect(self.session.status)
        self.session.chart.theme_changed.connect(lambda _: self._show_theme())

    # --- coming here --------------------------------------------------------------------------------

    def enter(self) -> None:
        """Shows the open rule on trial."""
        self.fill_lists()
        if not self.frames.count():
            self.frames.addItems([str(t) for t in STANDARD])
        self.frames.setCurrentText(str(self.trials.timeframe))
        self.terms.show_account(self.trials.account, self.trials.finer)
        self.trials.watch(_WHO, True)
        self._fill_view()
        self.tabs.setFocus()

    def fill_lists(self) -> None:
        """Offers the lists that there are."""
        self.lists.clear()
        names = self.session.lists.names(self.session.symbols.infos)
        own = [self.trials.list_name] if self.trials.list_name not in names else []
        self.lists.addItems([*own, *names])
        self.lists.setCurrentText(self.trials.list_name)

    def leave(self) -> None:
        """Stops observing trials."""
        self.trials.watch(_WHO, False)
        self.evidence.watch(False)

    def _fill_view(self) -> None:
        """Fills the view in sight; the others are filled when they come into sight."""
        view = self.views.currentWidget()
        self.evidence.watch(view is self.evidence)
        if view is self.trades_view:
            self._fill_tab()
        elif view is self.chance:
            self.chance.show_outcome(self._outcome())
        elif view is self.sweep:
            self.sweep.enter()
        elif view is self.notebook:
            self.notebook.enter()

    def _frame_typed(self) -> None:
        try:
            frame = Timeframe.parse(self.frames.currentText().strip())
        except ValueError as error:
            self.session.status.emit(str(error))
            self.frames.setCurrentText(str(self.trials.timeframe))
            return
        if frame != self.trials.timeframe:
            self.trials.set_ground(timeframe=frame)

    # --- results --------------------------------------------------------------------------------------

    def _show(self, outcome: Outcome) -> None:
        draft = self.trials.draft
        self.sentence.setText(self.session.rule.title)
        self.write_button.setVisible(draft is not None)
        self.write_button.setToolTip(f"The script has no trade, so one is composed: {draft.words()}" if draft else "")
        self._show_rows()

    def _show_variants(self) -> None:
        self._varied.took()
        self._show_rows()

    def _show_rows(self) -> None:
        plain = self.trials.outcome
        self.variants.rows.show_outcomes([plain, *self.trials.variants] if plain is not None else [])
        self._show_front()

    def _show_front(self) -> None:
        """Shows the selected row in front, always with the plain rule."""
        outcomes, current = self.variants.rows.outcomes, self._outcome()
        self._shown = current.trial if current is not None else None
        if current is not self._front:
            self._front = current
            self._fronted.took()
        curves = []
        for k, outcome in enumerate(outcomes):
            if outcome.trial is not None:
                curves.append(Curve(outcome.trial, VARIANT_COLOURS[(k - 1) % len(VARIANT_COLOURS)] if k else ""))
        self.curve.show_curves(self._shown, curves)
        rows = self.variants.rows
        other = outcomes[rows.other] if outcomes and rows.other != rows.current else None
        self.metrics.show_trial(self._shown, other.trial if other else None, other.words if other else "")
        if other is None:
            self.metrics.show_discount(self.session.notebook.discount_for(current))
        self._show_words()
        self.save_button.setEnabled(self._shown is not None)
        if self.views.currentWidget() in (self.trades_view, self.chance):
            self._fill_view()

    def _fill_tab(self) -> None:
        """Fills the part in sight; the others are filled when they come into sight."""
        part = self.tabs.currentWidget()
        if part is self.left_out:
            outcome = self._outcome()
            self.left_out.show_trial(self._shown, outcome.skipped if outcome is not None else ())
        elif part is not None:
            part.show_trial(self._shown)  # type: ignore[attr-defined]

    def _ask_curves(self, trial: Trial | None) -> None:
        """Has the curve of each symbol worked out in the background."""
        jobs = self.session.jobs
        if trial is None:
            jobs.stop("symbol_curves")
            return

        def work(ticket: Ticket) -> list[SymbolCurve]:
            return symbol_curves(trial, ticket.cancelled, ticket.report)

        jobs.start("symbol_curves", work, lambda made: self.by_symbol.show_curves(trial, made), slow=True)

    def _open_symbol(self, symbol: str) -> None:
        """Shows the first trade of a symbol on the Bench."""
        trial = self._shown
        if trial is None:
            return
        k = trial.ground.panel.symbols.index(symbol)
        of_symbol = np.flatnonzero((trial.trades.symbol == k) & (trial.book.taken == Taken.YES))
        if len(of_symbol):
            self._open(int(of_symbol[-1]))

    def _outcome(self) -> Outcome | None:
        outcomes = self.variants.rows.outcomes
        return outcomes[self.variants.rows.current] if outcomes else None

    def _show_words(self) -> None:
        notes = self.session.notebook
        mistaken = any(problem.is_error for problem in self.session.rule.problems)
        seen = notes.has_seen(self.trials.symbols(self.trials.list_name))
        words = outcome_words(self._outcome(), self.trials.draft, mistaken=mistaken, seen=seen)
        self.word.setText(words)

    def _show_progress(self) -> None:
        """How far the slowest is that is worked on for this place."""
        shares = [w.share or 0.0 for w in self.session.jobs.working() if w.kind in _WORK]
        self.progress.setVisible(bool(shares))
        self.stop_button.setVisible(bool(shares))
        self.progress.setValue(int(100 * min(shares, default=1.0)))

    def _show_theme(self) -> None:
        theme = theme_of(self.session)
        for part in (self.variants.rows, self.curve, self.months, self.charts, self.by_symbol, self.scatter):
            part.theme = theme
            part.update()
        for view in (self.groups, self.evidence, self.chance, self.sweep, self.notebook, self.honesty):
            view.set_theme(theme)
        self.table.source.theme = self.left_out.table.source.theme = theme

    # --- what can be done ---------------------------------------------------------------------------

    def _open(self, trade: int) -> None:
        """Opens a trade on the Bench, at its entry."""
        trial = self._shown
        if trial is None:
            return
        trades, panel = trial.trades, trial.ground.panel
        symbol, time = panel.symbols[trades.symbol[trade]], int(panel.times[trades.entered[trade]])
        self.picked.emit(PickedSymbol(symbol, panel.timeframe, time))

    def _look_again(self, entry: Try) -> None:
        """Takes the settings and the ground of a try; shows its text beside the present one where that was another."""
        program, what = self.session.rule.program, entry.what
        if self.trials.text_mark() != what.text:
            text = self.session.notebook.book.text(what.text)
            if text is not None:
                self.text_asked.emit(entry.moment, text)
            return
        if program is not None:
            for name, value in fitting(program, dict(what.settings)).items():
                self.session.rule.set_setting(name, program.values_of({name: value})[name])
        self.trials.set_ground(what.list_name, Timeframe.parse(what.timeframe), what.finer)
        self.enter()

    def stop_trial(self) -> None:
        """Stops what runs; what was shown stays."""
        for part in (self.trials, self.session.judging, self.session.sweeps):
            part.stop()

    def show_evidence(self) -> None:
        """What speaks for the rule's signals and against them."""
        self.views.setCurrentWidget(self.evidence)

    def show_chance(self) -> None:
        """The trial beside chance."""
        self.views.setCurrentWidget(self.chance)

    def show_sweep(self) -> None:
        """Many settings tried."""
        self.views.setCurrentWidget(self.sweep)

    def show_notebook(self) -> None:
        """What was tried, and the seal."""
        self.views.setCurrentWidget(self.notebook)

    def check_look_ahead(self) -> None:
        """Looks whether the rule shows what could not have been seen."""
        self.views.setCurrentWidget(self.honesty)
        self.session.judging.check()

    def add_variant(self) -> None:
        """Asks what to change about the rule."""
        self.variants.add.click()

    def edit_account(self) -> None:
        """Unfolds the terms, or folds them away."""
        self.terms_button.toggle()

    def save_trial(self) -> None:
        """What can be saved of the trial in front."""
        menu = passing_menu(self)
        for k, (words, _, _) in enumerate(EXPORTS):
            menu.addAction(words, lambda k=k: self.save(k))
        menu.popup(self.save_button.mapToGlobal(self.save_button.rect().bottomLeft()))

    def save(self, k: int) -> None:
        """Saves one of the `EXPORTS`."""
        if self._shown is not None:
            export(self._shown, k, self.session.rule.title, self, self.session.jobs, self.session.status.emit)
