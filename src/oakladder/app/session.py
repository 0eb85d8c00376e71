"""The session: what the places ask and listen to. Its parts ask the core and tell the views.

Views listen to the signals of its controllers and hold no numbers. Text and settings may change at any time; the
chart follows first, then the ladder's signal ages, then the watchlist's columns.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QElapsedTimer, QObject, pyqtSignal

from oakladder.app.alerts import AlertsController
from oakladder.app.basis import BasisTracker, Part
from oakladder.app.chart_controller import ChartController
from oakladder.app.color_theme import Themes
from oakladder.app.columns import ColumnJobs
from oakladder.app.jobs import Jobs
from oakladder.app.judging import JudgingController
from oakladder.app.library_watch import LibraryWatch
from oakladder.app.live import LiveController
from oakladder.app.main_thread import MainThreadDispatcher
from oakladder.app.notebook import NotebookController
from oakladder.app.open_script import OpenScript
from oakladder.app.packing import Packing
from oakladder.app.programs import Programs
from oakladder.app.remembered_state import StateRecorder
from oakladder.app.replay import ReplayController
from oakladder.app.rule import OpenRule
from oakladder.app.script_overlays import ScriptsBeside
from oakladder.app.seals import SealKeeper
from oakladder.app.side_charts import SideCharts
from oakladder.app.sweeps import SweepController
from oakladder.app.symbols import Symbols
from oakladder.app.trials import Outcome, TrialController
from oakladder.app.watchlist import WatchlistController
from oakladder.bars.store.library import BarLibrary
from oakladder.locks import Waiting
from oakladder.user.folder_watch import Watch
from oakladder.user.workspace import Workspace

#: Milliseconds between two times that last prices, and cells of columns, follow live prices.
_QUOTES_MS, _CELLS_MS = 1000, 3000


class Session(QObject):
    """Holds the parts, and passes on what other programs change."""

    #: Scripts or lists are otherwise now, by another program or another copy of this one.
    scripts_changed = pyqtSignal()
    lists_changed = pyqtSignal()
    #: Bars or symbols are otherwise now.
    bars_changed = pyqtSignal()
    #: Live prices have moved: cells in sight are to be asked for again.
    prices_moved = pyqtSignal()
    #: A standing error message, until an empty one clears it; and any other message.
    trouble = pyqtSignal(str)
    status = pyqtSignal(str)

    def __init__(self, workspace: Workspace, library: BarLibrary, themes: Themes, parent: QObject | None = None):
        super().__init__(parent)
        self.workspace, self.library = workspace, library
        self.lists, self.scans = workspace.lists(), workspace.scans()
        #: The revisions of lists and scans reported last.
        self._revisions = self.lists.revision, self.scans.revision
        self.symbols = Symbols(library)
        self.seals = SealKeeper(workspace, library)
        self.basis = BasisTracker(self)
        self.jobs = Jobs(self, self.basis)
        self.programs = Programs(workspace, self.jobs, self)
        self.script = OpenScript(workspace, self)
        self.rule = OpenRule(self.script, workspace, self.symbols, self.jobs, self.basis, self)
        self.overlays = ScriptsBeside(workspace, self)
        self.replay = ReplayController(library, self)
        self.chart = ChartController(
            workspace, library, self.symbols, self.jobs, self.rule, self.overlays, self.replay, themes, self.seals, self
        )
        self.watchlist = WatchlistController(
            workspace, self.symbols, self.lists, self.jobs, self.rule, self.replay, self.seals, self
        )
        self.trials = TrialController(
            workspace, self.symbols, self.lists, self.jobs, self.rule, self.replay, self.seals, self
        )
        self.trials.where = lambda: (self.chart.symbol, self.chart.timeframe)
        self.chart.place_changed.connect(self.trials.place_changed)
        self.notebook = NotebookController(workspace, self.script, self.jobs, self.seals, self)
        self.judging = JudgingController(self.rule, self.trials, self.notebook, self.jobs, self)
        self.sweeps = SweepController(self.trials, self.notebook, self.jobs, self)
        self.trials.sealing = lambda: self.seals.of_rule(self.notebook.rule)
        self.chart.sealing = self.trials.sealing
        self.trials.seen = self.notebook.breaks
        self.notebook.seal_changed.connect(self.chart.refresh)
        self.notebook.seal_changed.connect(self.trials.seal_changed)
        for about_rule in (self.trials, self.judging, self.sweeps):  # what runs is about the rule before
            self.notebook.rule_changed.connect(about_rule.stop)
        self.chart.place_changed.connect(self.judging.place_changed)
        self._note_looks()
        self._generation = 0
        self._read_basis()
        self.side_charts = SideCharts(self.symbols, self.jobs, self.rule, self.chart, self.watchlist, self)
        self.remembered = StateRecorder(
            workspace,
            self.symbols,
            self.script,
            self.rule,
            self.overlays,
            self.chart,
            self.watchlist,
            self.trials,
            self.side_charts,
            self.jobs,
            self,
        )
        self.chart.trouble.connect(self.trouble)
        self.chart.rest_due.connect(self.watchlist.ask_due)
        self.watchlist.list_lost.connect(self.lists_changed)
        self.jobs.failed.connect(self.status)
        for part in (
            self.script,
            self.rule,
            self.overlays,
            self.replay,
            self.chart,
            self.watchlist,
            self.trials,
            self.notebook,
            self.judging,
            self.sweeps,
            self.remembered,
        ):
            part.told.connect(self.status)
        self.live = LiveController(workspace, library, self.replay, self.jobs, self)
        self.live.moved.connect(self._prices_moved)
        self.live.told.connect(self.status)
        self.alerts = AlertsController(workspace, library, self.lists, self.jobs, self)
        self.alerts.told.connect(self.status)
        self.live.alerted.connect(self._alerted)
        self.chart.view_changed.connect(self._follow_with_chart)
        #: Whether the chart's symbol has new prices that are not shown, the symbols that quotes are due of, and since when.
        self._chart_moved, self._moved = False, frozenset[str]()
        self._quotes_since, self._cells_since = QElapsedTimer(), QElapsedTimer()
        self.packing = Packing(library, self.jobs, self)
        self.library_watch = LibraryWatch(library, self.jobs, self)
        self.library_watch.changed.connect(self.library_changed)
        self.library_watch.minutes_came.connect(self.live.look)
        self._watch: Watch | None = None
        #: What else tells that something is still to be shown.
        self.waits: list[Callable[[], bool]] = []
        #: What was last waited for, in a sentence: another program that holds a file.
        self.waits_for = ""
        self._waiting = MainThreadDispatcher(self._say_waiting, self)
        Waiting.report = self._waiting
        self._outside = MainThreadDispatcher(self._take_outside, self)

    def _read_basis(self) -> None:
        """Says what the things in sight are derived from, besides the script, and what tells that it has changed."""
        chart, watchlist, trials = self.chart, self.watchlist, self.trials
        for part, reader in (
            (Part.SYMBOL, lambda: chart.symbol),
            (Part.FRAME, chart.shown_as),
            (Part.LIST, watchlist.symbols),
            (Part.GROUND, trials.ground_asked),
            (Part.ACCOUNT, lambda: trials.account),
            (Part.DATA, lambda: self._generation),
            (Part.REPLAY, lambda: self.replay.moment),
        ):
            self.basis.read(part, reader)
        for signal in (
            chart.place_changed,
            chart.options_changed,
            self.overlays.changed,
            watchlist.to_remember,
            watchlist.columns_changed,
            trials.ground_changed,
            trials.to_remember,
            self.replay.changed,
            self.lists_changed,
        ):
            signal.connect(self.basis.note)

    def _note_looks(self) -> None:
        """Records visible results as tries, and discards results that are recomputed."""
        trials, notebook = self.trials, self.notebook

        def look(*outcomes: Outcome | None) -> None:
            if not trials.replays:  # what was known at some moment is another history each time
                notebook.look(outcomes)

        trials.asked.connect(notebook.forget)
        trials.changed.connect(lambda outcome: look(outcome, *trials.variants))
        trials.variants_changed.connect(lambda made: look(trials.outcome, *made))
        trials.glanced.connect(look)

    def column_jobs(self, name: str) -> ColumnJobs:
        """Computes cells of columns in the background; ``name`` tells its jobs from those of other places."""
        return ColumnJobs(self.jobs, self.workspace, self.rule, self.replay, self.seals, name)

    def change_lists(
        self,
        change: Callable[[], Any],
        then: Callable[[Any], None] = lambda made: None,
        failed: Callable[[Exception], None] | None = None,
    ) -> None:
        """Changes the user's lists or scans in the background and reports errors. ``then`` is called with the result,
        once everything shows it."""

        def done(made: object) -> None:
            self._take_lists(made)
            then(made)

        self.jobs.write(change, done, failed)

    def library_changed(self) -> None:
        """Requests everything again that shows bars or symbols: they have changed."""
        self._generation += 1
        self.symbols.take()
        self.basis.note()
        if self.chart.symbol not in self.library.infos:
            self.chart.go_to(symbol=next(iter(self.library.infos), self.chart.symbol))
        self.watchlist.bars_changed()
        self.trials.bars_changed()
        self.rule.look_again()
        self.packing.soon()
        self.bars_changed.emit()

    def _prices_moved(self, symbols: frozenset[str]) -> None:
        """Asks again for what is in sight of symbols with new prices; cells of columns every few seconds."""
        if self.replay.moment is not None:
            return
        self._chart_moved = self._chart_moved or self.chart.symbol in symbols
        self._follow_with_chart()
        self._moved |= symbols
        paused = self._quotes_since.isValid() and self._quotes_since.elapsed() <= _QUOTES_MS
        if not paused and not self.jobs.busy_with("quotes"):
            self._quotes_since.start()
            self.watchlist.ask_quotes(self._moved)
            self._moved = frozenset()
        if not self._cells_since.isValid() or self._cells_since.elapsed() > _CELLS_MS:
            self._cells_since.start()
            self.watchlist.bars_changed()
            self.watchlist.ask_due()
            self.prices_moved.emit()

    def _follow_with_chart(self, _: object = None) -> None:
        """Asks for the chart again where its prices have moved; where it is being made, once it is there."""
        if self._chart_moved and self.replay.moment is None and not self.jobs.busy_with("chart"):
            self._chart_moved = False
            self.chart.refresh(columns=False)

    def _alerted(self, event: dict[str, Any]) -> None:
        """An alert has told: said here too, and the log is read again."""
        ended = "no longer true: " if event.get("event") == "gone" else ""
        self.status.emit(f"{event.get('alert')}: {ended}{event.get('text')}")
        self.alerts.look()

    def watch_folders(self) -> None:
        """Begins to look whether other programs change scripts, lists, scans or the library."""
        if self._watch is None:
            self._watch = Watch([self.workspace.scripts, self.workspace.config], self._outside)
            self.library_watch.begin()

    def _take_outside(self, paths: set[Path]) -> None:
        """Files are otherwise: those of ours that we have written ourselves are found to be as they are held."""
        scripts, config = self.workspace.script_folder.place, self.workspace.config
        names = {p.name for p in paths if p.parent == scripts}
        if names or scripts in paths:
            self.script.look()
            self.scripts_changed.emit()
            self.overlays.scripts_written(names)
            self.watchlist.scripts_written()
            self.rule.scripts_written(names)
            self.basis.note()
        if any(p.parent == config for p in paths) or config in paths:
            # Read in the background: a damaged file is copied, and another program may have written much.
            self.jobs.start("lists", lambda _: (self.lists.fresh(), self.scans.fresh()), self._take_lists, slow=True)

    def _say_waiting(self, sentence: str) -> None:
        self.waits_for = sentence
        self.status.emit(f"{sentence} To cancel: Ctrl+K, stop waiting.")

    def _take_lists(self, _: object) -> None:
        """Reports changed lists by their revisions: a job that has read them may have made way for the next one."""
        self.remembered.tell_notices()
        revisions = self.lists.revision, self.scans.revision
        if revisions != self._revisions:
            self._revisions = revisions
            self.lists_changed.emit()

    def idle(self) -> bool:
        """Whether everything asked for has arrived and nothing waits to be asked."""
        parts = (self.rule, self.chart, self.trials, self.judging, self.side_charts, self.library_watch)
        return not (self.jobs.busy() or any(part.waiting for part in parts) or any(waits() for waits in self.waits))

    def close(self) -> None:
        """Saves everything and stops the threads."""
        self.rule.stop()
        self.chart.stop()
        self.trials.stop()
        self.judging.stop()
        self.sweeps.stop()
        self.notebook.stop()
        self.packing.stop()
        self.live.stop(wait=True)
        self.library_watch.stop()
        self._outside.close()
        self._waiting.close()
        if Waiting.report is self._waiting:
            Waiting.report = None
        if self._watch is not None:
            self._watch.close()
        self.remembered.now()
        self.script.close()
        self.jobs.close()
        self.sweeps.close()
