"""The notebook of the open rule: records tries once they were visible long enough, and the user's notes."""

from __future__ import annotations

import contextlib
import itertools
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.jobs import Jobs, Ticket
from oakladder.app.open_script import OpenScript
from oakladder.app.seals import SealKeeper
from oakladder.app.timers import single_shot
from oakladder.app.trials import Outcome
from oakladder.bars.panel import Panel
from oakladder.engine.sealed import SealedDays
from oakladder.rung import Program, RunProblem, ScriptError, compile_script
from oakladder.trial.batch.task import Tried
from oakladder.trial.compose import draft_of, with_trade
from oakladder.trial.judge.deflated_sharpe import DeflatedSharpe
from oakladder.trial.notebook import Broken, Entry, Notebook, Remark, Try, What, try_of, what_of
from oakladder.trial.rule_identity import compiled_mark, marks_of
from oakladder.trial.seal import Seen, seen_of
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

    def __init__(
        self,
        workspace: Workspace,
        script: OpenScript,
        jobs: Jobs,
        seals: SealKeeper,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._workspace, self._script, self._jobs, self._seals = workspace, script, jobs, seals
        self._books: Notebooks = seals.books
        self._notices = workspace.notices
        self.rule = ""
        self.book = Notebook()
        #: Who has seen sealed days of which symbols, without the rule itself and what it was copied from.
        self.seen_by_others: tuple[Seen, ...] = ()
        self._seen: list[tuple[What, Trial]] = []
        self._numbers = itertools.count()
        self._pause = single_shot(self, LOOKED_AT_MS)
        self._pause.timeout.connect(self._write_seen)
        script.opened.connect(lambda _: self._opened())

    def has_seen(self, symbols: Sequence[str]) -> bool:
        """Whether the open rule has seen the sealed days of all of some symbols that have any."""
        return self.book.has_seen(self._seals.seals.known(symbols).days)

    def breaks(self) -> tuple[float, ...]:
        """When the open rule's seal was broken, for whichever symbols."""
        return tuple(e.moment for e in self.book.breaks)

    def _opened(self) -> None:
        rule = self._books.rule_name(self._script.path) if self._script.path is not None else ""
        if rule == self.rule:
            return
        self.rule = rule
        self._pause.stop()
        self.rule_changed.emit()
        self._take(_Read(Notebook()))
        self.read()

    def read(self) -> None:
        """Reads the notebook again: another copy of the program may have written into it."""
        rule, text, path = self.rule, self._script.text, self._script.path

        def work(ticket: Ticket) -> _Read:
            with contextlib.suppress(OSError):  # without it the rule begins a new notebook
                if not self._books.has_begun(rule):
                    self._books.go_on(rule, self._marks(text, path, ticket))
            return self._read(rule)

        if rule:
            self._jobs.start("notebook", work, self._take, self._not_read, slow=True)

    def _marks(self, text: str, path: Path | None, ticket: Ticket) -> frozenset[str]:
        """All marks by which the open script may be recognised."""
        texts, programs = [text], []
        with contextlib.suppress(ScriptError, RunProblem):
            programs.append(compile_script(text, self._workspace.other_scripts(text), ticket.cancelled))
            if programs[0].plan.trading is None:  # it is tried with a composed trade
                texts.append(with_trade(programs[0], draft_of(programs[0])))
        if path is not None and path.parent == self._workspace.scripts:
            for version in self._workspace.versions.of(path.name):
                with contextlib.suppress(OSError):
                    texts.append(version.text())
        return marks_of(programs, texts)

    def _read(self, rule: str) -> _Read:
        """The notebook with its tries counted, which takes a while for a large sweep."""
        folders = set(self._books.folders(rule))
        seen = tuple(s for s in self._seals.seals.seen if s.folder not in folders)
        return _Read(self._books.read(rule).prepare(), seen)

    def _not_read(self, error: Exception) -> None:
        self.told.emit(f"The notebook of {self.rule} cannot be read: {error}.")

    def _take(self, made: _Read) -> None:
        before = self.breaks()
        self.book, self.seen_by_others = made.book, made.seen_by_others
        for notice in [n for n in self._notices if "notebook" in n]:
            self._notices.remove(notice)
            self.told.emit(notice)
        self.changed.emit()
        if before != self.breaks():
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
        fresh: list[tuple[Try, Program]] = []
        for what, trial in self._seen:
            entry = try_of(what, trial, now)
            before = known.get(what.key)
            if before is None or (before.metrics, before.sealed) != (entry.metrics, entry.sealed):
                fresh.append((entry, trial.program))
        self._seen = []
        if fresh:
            rule = self.rule

            def work() -> None:
                for entry, program in fresh:
                    self._keep(rule, program)
                    self._books.add(rule, entry)

            self._write(work)

    def _write(self, work: Callable[[], object]) -> None:
        """Writes in the background, then reads the notebook again."""
        rule = self.rule

        def job(ticket: Ticket) -> _Read:
            work()
            return self._read(rule)

        def take(made: _Read) -> None:
            if rule == self.rule:
                self._take(made)

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

    def _keep(self, rule: str, program: Program) -> None:
        """Writes a text down; away from the window."""
        self._books.keep_text(rule, program.text, compiled_mark(program))

    def broken(self, program: Program, entry: Broken, panel: Panel, sealed: SealedDays) -> None:
        """Writes down that the seal was broken for a script, on the whole of some bars of which some days are sealed."""
        rule = self.rule
        seen = seen_of(entry, rule, self._books.place(rule).name, panel, sealed)

        def work() -> None:
            self._keep(rule, program)
            self._books.add(rule, entry)
            self._seals.seals.note(seen)

        self._write(work)

    def _add(self, entry: Entry) -> None:
        rule = self.rule
        self._write(lambda: self._books.add(rule, entry))

    def keep_sweep(
        self,
        program: Program,
        what: What,
        ranges: Sequence[Range],
        rows: Sequence[Tried],
        *,
        sealed: bool,
        tuned: bool,
    ) -> None:
        """Records the result of a sweep: whether the last part of history stayed out of it, and whether it was made on
        known data."""
        rule = self.rule

        def work() -> None:
            self._keep(rule, program)
            self._books.keep_sweep(rule, what, ranges, rows, sealed=sealed, tuned=tuned)

        self._write(work)

    def discount_for(self, outcome: Outcome | None) -> DeflatedSharpe | None:
        """The deflated Sharpe ratio of the visible result for all tries; None if it is not defined."""
        what = what_of_outcome(outcome) if outcome is not None else None
        if outcome is None or outcome.trial is None or what is None:
            return None
        return self.book.discount_for(what, outcome.trial)

    def stop(self) -> None:
        """Writes no more down of what was looked at."""
        self._pause.stop()


@dataclass(frozen=True, slots=True)
class _Read:
    """A notebook, and who else has seen sealed days."""

    book: Notebook
    seen_by_others: tuple[Seen, ...] = ()


def what_of_outcome(outcome: Outcome) -> What | None:
    """What an outcome put on trial, with every setting of its script."""
    if outcome.case is None or outcome.trial is None:
        return None
    return what_of(replace(outcome.case, settings=dict(outcome.trial.settings)))
