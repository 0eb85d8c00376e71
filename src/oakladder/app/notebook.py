"""The notebook of the open rule: records tries once they were visible long enough, and the user's notes."""

from __future__ import annotations

import contextlib
import itertools
import time
from collections.abc import Callable, Sequence
from dataclasses import replace

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.jobs import Jobs, Ticket
from oakladder.app.open_script import OpenScript
from oakladder.app.timers import single_shot
from oakladder.app.trials import Outcome
from oakladder.trial.batch.task import Tried
from oakladder.trial.judge.deflated_sharpe import DeflatedSharpe
from oakladder.trial.notebook import Broken, Entry, Notebook, Remark, Try, What, try_of, what_of
from oakladder.trial.sweep.ranges import Range
from oakladder.trial.trial import Trial
from oakladder.user.notebooks import Notebooks, trouble_of
from oakladder.user.workspace import Workspace

#: Seconds that a result must stay visible to count as a try. Nothing counts while the user types.
LOOKED_AT_MS = 1500


class NotebookController(QObject):
    """Holds the notebook of the open rule. ``changed`` tells that it is otherwise, ``rule_changed`` that another rule is
    open, ``seal_changed`` that the seal is otherwise."""

    changed = pyqtSignal()
    rule_changed = pyqtSignal()
    seal_changed = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(self, workspace: Workspace, script: OpenScript, jobs: Jobs, parent: QObject | None = None):
        super().__init__(parent)
        self._script, self._jobs = script, jobs
        self._books: Notebooks = workspace.notebooks()
        self._notices = workspace.notices
        self.rule = ""
        self.book = Notebook()
        self._seen: list[tuple[What, Trial]] = []
        self._numbers = itertools.count()
        self._pause = single_shot(self, LOOKED_AT_MS)
        self._pause.timeout.connect(self._write_seen)
        script.opened.connect(lambda _: self._opened())

    @property
    def sealed(self) -> bool:
        """Whether the last part of history stays out of what is shown of the open rule."""
        return self.book.seal is None

    def _opened(self) -> None:
        rule = self._books.rule_name(self._script.path) if self._script.path is not None else ""
        if rule == self.rule:
            return
        self.rule = rule
        self._pause.stop()
        self.rule_changed.emit()
        self._take(Notebook())
        self.read()

    def read(self) -> None:
        """Reads the notebook again: another copy of the program may have written into it."""
        rule, text = self.rule, self._script.text

        def work(ticket: Ticket) -> Notebook:
            with contextlib.suppress(OSError):  # without it the rule begins a new notebook
                self._books.go_on(rule, text)
            return self._read(rule)

        if rule:
            self._jobs.start("notebook", work, self._take, self._not_read, slow=True)

    def _read(self, rule: str) -> Notebook:
        """The notebook with its tries counted, which takes a while for a large sweep."""
        return self._books.read(rule).prepare()

    def _not_read(self, error: Exception) -> None:
        self.told.emit(f"The notebook of {self.rule} cannot be read: {error}.")

    def _take(self, book: Notebook) -> None:
        was_sealed, self.book = self.sealed, book
        for notice in [n for n in self._notices if "notebook" in n]:
            self._notices.remove(notice)
            self.told.emit(notice)
        self.changed.emit()
        if was_sealed != self.sealed:
            self.seal_changed.emit()

    # --- what was looked at -------------------------------------------------------------------------

    def look(self, outcomes: Sequence[Outcome | None]) -> None:
        """Notes the visible result; it becomes a try if it stays visible for a while."""
        seen = [(what_of_outcome(o), o.trial) for o in outcomes if o is not None and o.trial is not None]
        self._seen = [(what, trial) for what, trial in seen if what is not None]
        self._pause.start()

    def forget(self) -> None:
        """Discards the pending try: the visible result has changed too soon."""
        self._pause.stop()

    @property
    def waiting(self) -> bool:
        """Whether something is to be written down in a moment."""
        return self._pause.isActive()

    def _write_seen(self) -> None:
        known, now = self.book.tries, time.time()
        fresh: list[tuple[Try, str]] = []
        for what, trial in self._seen:
            entry = try_of(what, trial, now)
            before = known.get(what.key)
            if before is None or (before.metrics, before.sealed) != (entry.metrics, entry.sealed):
                fresh.append((entry, trial.program.text))
        self._seen = []
        if fresh:
            rule = self.rule

            def work() -> None:
                for entry, text in fresh:
                    self._books.keep_text(rule, text)
                    self._books.add(rule, entry)

            self._write(work)

    def _write(self, work: Callable[[], object]) -> None:
        """Writes in the background, then reads the notebook again."""
        rule = self.rule

        def job(ticket: Ticket) -> Notebook:
            work()
            return self._read(rule)

        def take(book: Notebook) -> None:
            if rule == self.rule:
                self._take(book)

        self._jobs.start(
            f"notebook {next(self._numbers)}",
            job,
            take,
            lambda error: self.told.emit(trouble_of(error) if isinstance(error, OSError) else str(error)),
            owed=True,
        )

    # --- what the user does -------------------------------------------------------------------------

    def remark(self, text: str) -> None:
        """Writes a note of the user's down."""
        self._add(Remark(time.time(), text))

    def broken(self, entry: Broken) -> None:
        """Writes down that the seal was broken."""
        self._add(entry)

    def _add(self, entry: Entry) -> None:
        rule = self.rule
        self._write(lambda: self._books.add(rule, entry))

    def keep_sweep(self, what: What, ranges: Sequence[Range], rows: Sequence[Tried]) -> None:
        """Records the result of a sweep."""
        rule, sealed = self.rule, self.sealed
        self._write(lambda: self._books.keep_sweep(rule, what, ranges, rows, sealed=sealed))

    def discount_for(self, outcome: Outcome | None) -> DeflatedSharpe | None:
        """The deflated Sharpe ratio of the visible result for all tries; None if it is not defined."""
        what = what_of_outcome(outcome) if outcome is not None else None
        if outcome is None or outcome.trial is None or what is None:
            return None
        return self.book.discount_for(what, outcome.trial)

    def stop(self) -> None:
        """Writes no more down of what was looked at."""
        self._pause.stop()


def what_of_outcome(outcome: Outcome) -> What | None:
    """What an outcome put on trial, with every setting of its script."""
    if outcome.case is None or outcome.trial is None:
        return None
    return what_of(replace(outcome.case, settings=dict(outcome.trial.settings)))
