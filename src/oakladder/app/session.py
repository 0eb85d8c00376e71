"""The session: what the places ask and listen to. Its parts ask the core and tell the views.

Views listen to the parts' signals and hold no numbers of their own. Text and settings may change at any time; the
chart follows first, then the ladder's pips, then the watchlist's columns.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.basis import BasisTracker, Part
from oakladder.app.chart_controller import ChartController
from oakladder.app.color_theme import Themes
from oakladder.app.columns import ColumnJobs
from oakladder.app.jobs import Jobs
from oakladder.app.judging import JudgingController
from oakladder.app.library_watch import LibraryWatch
from oakladder.app.main_thread import MainThreadDispatcher
from oakladder.app.notebook import NotebookController
from oakladder.app.open_script import OpenScript
from oakladder.app.packing import Packing
from oakladder.app.programs import Programs
from oakladder.app.remembered_state import StateRecorder
from oakladder.app.replay import ReplayController
from oakladder.app.rule import OpenRule
from oakladder.app.script_overlays import ScriptsBeside
from oakladder.app.side_charts import SideCharts
from oakladder.app.sweeps import SweepController
from oakladder.app.symbols import Symbols
from oakladder.app.trials import Outcome, TrialController
from oakladder.app.watchlist import WatchlistController
from oakladder.bars.store.library import BarLibrary
from oakladder.locks import Waiting
from oakladder.user.folder_watch import Watch
from oakladder.user.workspace import Workspace


class Session(QObject):
    """Holds the parts, and passes on what other programs change."""

    #: Scripts or lists are otherwise now, by another program or another copy of this one.
    scripts_changed = pyqtSignal()
    lists_changed = pyqtSignal()
    #: Bars or symbols are otherwise now.
    bars_changed = pyqtSignal()
    #: What is wrong with what is shown, until it is taken back by an empty one; and anything else that is to be told.
    trouble = pyqtSignal(str)
    status = pyqtSignal(str)

    def __init__(self, workspace: Workspace, library: BarLibrary, themes: Themes, parent: QObject | None = None):
        super().__init__(parent)
        self.workspace, self.library = workspace, library
        self.lists, self.scans = workspace.lists(), workspace.scans()
        #: The revisions of lists and scans that were told last.
        self._revisions = self.lists.revision, self.scans.revision
        self.symbols = Symbols(library)
        self.basis = BasisTracker(self)
        self.jobs = Jobs(self, self.basis)
        self.programs = Programs(workspace, self.jobs, self)
        self.script = OpenScript(workspace, self)
        self.rule = OpenRule(self.script, workspace, self.symbols, self.jobs, self.basis, self)
        self.beside = ScriptsBeside(workspace, self)
        self.replaying = ReplayController(library, self)
        self.looking = ChartController(
            workspace, library, self.symbols, self.jobs, self.rule, self.beside, self.replaying, themes, self
        )
        self.watched = WatchlistController(
            workspace, self.symbols, self.lists, self.jobs, self.rule, self.replaying, self
        )
        self.trials = TrialController(workspace, self.symbols, self.lists, self.jobs, self.rule, self.replaying, self)
        self.trials.where = lambda: (self.looking.symbol, self.looking.timeframe)
        self.looking.place_changed.connect(self.trials.place_changed)
        self.notes = NotebookController(workspace, self.script, self.jobs, self)
        self.judging = JudgingController(self.rule, self.trials, self.notes, self.jobs, self)
        self.sweeping = SweepController(self.trials, self.notes, self.jobs, self)
        self.trials.sealed = lambda: self.notes.sealed
        self.notes.seal_changed.connect(self.trials.seal_changed)
        for about_rule in (self.trials, self.judging, self.sweeping):  # what runs is about the rule before
            self.notes.rule_changed.connect(about_rule.stop)
        self.looking.place_changed.connect(self.judging.place_changed)
        self._note_looks()
        self._generation = 0
        self._read_basis()
        self.companions = SideCharts(self.symbols, self.jobs, self.rule, self.looking, self.watched, self)
        self.remembering = StateRecorder(
            workspace,
            self.symbols,
            self.script,
            self.rule,
            self.beside,
            self.looking,
            self.watched,
            self.trials,
            self.companions,
            self.jobs,
            self,
        )
        self.looking.trouble.connect(self.trouble)
        self.looking.rest_due.connect(self.watched.ask_due)
        self.watched.list_lost.connect(self.lists_changed)
        self.jobs.failed.connect(self.status)
        for part in (
            self.script,
            self.rule,
            self.beside,
            self.replaying,
            self.looking,
            self.watched,
            self.trials,
            self.notes,
            self.judging,
            self.sweeping,
            self.remembering,
        ):
            part.told.connect(self.status)
        self.packing = Packing(library, self.jobs, self)
        self.following = LibraryWatch(library, self.jobs, self)
        self.following.changed.connect(self.library_changed)
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
        looking, watched, trials = self.looking, self.watched, self.trials
        for part, reader in (
            (Part.SYMBOL, lambda: looking.symbol),
            (Part.FRAME, looking.shown_as),
            (Part.LIST, watched.symbols),
            (Part.GROUND, trials.ground_asked),
            (Part.ACCOUNT, lambda: trials.account),
            (Part.DATA, lambda: self._generation),
            (Part.REPLAY, lambda: self.replaying.moment),
        ):
            self.basis.read(part, reader)
        for signal in (
            looking.place_changed,
            looking.options_changed,
            self.beside.changed,
            watched.to_remember,
            watched.columns_changed,
            trials.ground_changed,
            trials.to_remember,
            self.replaying.changed,
            self.lists_changed,
        ):
            signal.connect(self.basis.note)

    def _note_looks(self) -> None:
        """What stands in sight for a while was tried; what is asked for anew was not."""
        trials, notes = self.trials, self.notes

        def look(*outcomes: Outcome | None) -> None:
            if not trials.replays:  # what was known at some moment is another history each time
                notes.look(outcomes)

        trials.asked.connect(notes.forget)
        trials.changed.connect(lambda outcome: look(outcome, *trials.variants))
        trials.variants_changed.connect(lambda made: look(trials.outcome, *made))
        trials.glanced.connect(look)

    def column_jobs(self, name: str) -> ColumnJobs:
        """What has the cells of columns worked out aside; ``name`` tells its jobs from those of others."""
        return ColumnJobs(self.jobs, self.workspace, self.rule, self.replaying, name)

    def change_lists(
        self,
        change: Callable[[], Any],
        then: Callable[[Any], None] = lambda made: None,
        failed: Callable[[Exception], None] | None = None,
    ) -> None:
        """Changes the user's lists or scans, aside; what cannot be done is said. ``then`` is called with what came of it,
        once everything shows it."""

        def done(made: object) -> None:
            self._take_lists(made)
            then(made)

        self.jobs.write(change, done, failed)

    def library_changed(self) -> None:
        """Bars or symbols are otherwise now: everything that shows them is asked for again."""
        self._generation += 1
        self.symbols.take()
        self.basis.note()
        if self.looking.symbol not in self.library.infos:
            self.looking.go_to(symbol=next(iter(self.library.infos), self.looking.symbol))
        self.watched.bars_changed()
        self.trials.bars_changed()
        self.rule.look_again()
        self.packing.soon()
        self.bars_changed.emit()

    def watch_folders(self) -> None:
        """Begins to look whether other programs change scripts, lists, scans or the library."""
        if self._watch is None:
            self._watch = Watch([self.workspace.scripts, self.workspace.config], self._outside)
            self.following.begin()

    def _take_outside(self, paths: set[Path]) -> None:
        """Files are otherwise: those of ours that we have written ourselves are found to be as they are held."""
        scripts, config = self.workspace.script_folder.place, self.workspace.config
        names = {p.name for p in paths if p.parent == scripts}
        if names or scripts in paths:
            self.script.look()
            self.scripts_changed.emit()
            self.beside.scripts_written(names)
            self.watched.scripts_written()
            self.rule.scripts_written(names)
            self.basis.note()
        if any(p.parent == config for p in paths) or config in paths:
            # Read aside: what is damaged is copied, and another program may have written much.
            self.jobs.start("lists", lambda _: (self.lists.fresh(), self.scans.fresh()), self._take_lists, slow=True)

    def _say_waiting(self, sentence: str) -> None:
        self.waits_for = sentence
        self.status.emit(f"{sentence} To cancel: Ctrl+K, stop waiting.")

    def _take_lists(self, _: object) -> None:
        """Tells of other lists by their revisions: a job that has read them may have made way for the next one."""
        self.remembering.tell_notices()
        revisions = self.lists.revision, self.scans.revision
        if revisions != self._revisions:
            self._revisions = revisions
            self.lists_changed.emit()

    def idle(self) -> bool:
        """Whether everything asked for has arrived and nothing waits to be asked."""
        parts = (self.rule, self.looking, self.trials, self.judging, self.companions, self.following)
        return not (self.jobs.busy() or any(part.waiting for part in parts) or any(waits() for waits in self.waits))

    def close(self) -> None:
        """Saves everything and stops the threads."""
        self.rule.stop()
        self.looking.stop()
        self.trials.stop()
        self.judging.stop()
        self.sweeping.stop()
        self.notes.stop()
        self.packing.stop()
        self.following.stop()
        self._outside.close()
        self._waiting.close()
        if Waiting.report is self._waiting:
            Waiting.report = None
        if self._watch is not None:
            self._watch.close()
        self.remembering.now()
        self.script.close()
        self.jobs.close()
        self.sweeping.close()
