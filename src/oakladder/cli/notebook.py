"""Writes into a rule's notebook what the command line tries. A trial stands whether or not that can be done."""

from __future__ import annotations

import sys
import time
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from oakladder.cli.trial_data import DataOptions
from oakladder.engine.sealed import SealedDays
from oakladder.rung import Program, RunProblem
from oakladder.rung.problems import Cancelled
from oakladder.trial.batch.task import Task, Tried
from oakladder.trial.best_values import best_values
from oakladder.trial.compose import draft_of, with_trade
from oakladder.trial.judge.deflated_sharpe import DeflatedSharpe
from oakladder.trial.judge.look_ahead.own_history import BestValue
from oakladder.trial.notebook import Try, What, try_of, what_of
from oakladder.trial.rule_identity import compiled_mark, marks_of
from oakladder.trial.seal import is_tuned, others_words, seal_broken, seal_words, seen_by_others, seen_of
from oakladder.trial.spec import TrialSpec
from oakladder.trial.sweep.ranges import Range
from oakladder.trial.trial import Trial, TrialData
from oakladder.user.notebooks import Notebooks, trouble_of
from oakladder.user.workspace import Workspace


class NotebookWriter:
    """The notebook of the script that a call is about."""

    def __init__(self, script: Path):
        workspace = Workspace.default()
        self._books: Notebooks = workspace.notebooks()
        self._seals, self._workspace, self._script = workspace.seals(), workspace, script.absolute()
        self.rule = self._books.rule_name(script)

    def _begin(self, program: Program) -> None:
        """Goes on with the notebook of a script that this one was copied from, if it has none; writes its text down. Raises
        `OSError`."""
        if self._books.has_begun(self.rule):
            return
        texts = [program.text]
        if self._script.parent == self._workspace.scripts.absolute():
            texts += [version.text() for version in self._workspace.versions.of(self._script.name)]
        self._books.go_on(self.rule, marks_of([program], texts))

    def _keep_text(self, program: Program) -> None:
        self._books.keep_text(self.rule, program.text, compiled_mark(program))

    def what(self, task: Task, list_name: str, span: str = "") -> What:
        """What is tried, as notebooks name it, between the dates of a span in words."""
        settings, frame = task.program.values_of(task.settings), _frame_words(task.ground)
        case = TrialSpec(task.program.text, settings, list_name, frame, task.account, task.finer)
        return what_of(case, span)

    def best_values(
        self, program: Program, ground: TrialData, values: dict[str, object], asked: DataOptions
    ) -> list[BestValue]:
        """The settings whose values are the best that were tried on the bars of the call, with any account."""
        try:
            text = program.text if program.plan.trading is not None else with_trade(program, draft_of(program))
            book = self._books.read(self.rule)
        except (OSError, RunProblem):
            return []
        case = TrialSpec(text, program.values_of(values), asked.name, _frame_words(ground))
        what = what_of(case, asked.span_words)
        made: dict[str, BestValue] = {}
        for account in dict.fromkeys(one.what.account for one in book.tries.values()):
            for best in best_values(book, msgspec.structs.replace(what, account=account)):
                made.setdefault(best.name, best)
        return list(made.values())

    def trial(self, what: What, made: Trial) -> DeflatedSharpe | None:
        """Records a trial, unless it is recorded already; returns the deflated Sharpe ratio for all tries."""
        try:
            self._begin(made.program)
            book = self._books.read(self.rule)
            entry = try_of(what, made, time.time())
            known = book.tries.get(what.key)
            if known is None or not _alike(known, entry):
                self._keep_text(made.program)
                self._books.add(self.rule, entry)
                book = self._books.read(self.rule)
            return book.discount_for(what, made)
        except OSError as error:
            print(trouble_of(error), file=sys.stderr)
            return None

    def seal(self, what: What, task: Task, variants: Sequence[Mapping[str, object]] = ({},)) -> bool:
        """Writes down that the seal was broken, with what was promised before, the first time for these symbols. Whether
        one of some variants became what it is after the sealed days had been seen."""
        panel = task.ground.panel
        try:
            sealed = self._seals.known(panel.symbols)  # they were fixed when the bars were read
            if not sealed.hides_now(panel).any():
                return False
            self._begin(task.program)
            if not self._books.read(self.rule).has_seen(panel.symbols):
                self._break(what, task, sealed)
            book, seen = self._books.read(self.rule), self._seals.seen
            return any(is_tuned(book, what.with_settings(v), task.program.text, seen, panel.symbols) for v in variants)
        except OSError as error:
            print(trouble_of(error), file=sys.stderr)
            return False

    def _break(self, what: What, task: Task, sealed: SealedDays) -> None:
        book, now, symbols = self._books.read(self.rule), time.time(), task.ground.panel.symbols
        others = seen_by_others(self._seals.seen, self._books.folders(self.rule), symbols)
        try:
            broken = seal_broken(task.program, task.ground, sealed, task.account, task.settings, what, book, now)
        except (RunProblem, Cancelled):  # which the call itself says
            return
        self._keep_text(task.program)
        self._books.add(self.rule, broken)
        self._seals.note(seen_of(broken, self.rule, self._books.place(self.rule).name, task.ground.panel, sealed))
        print(seal_words(broken), file=sys.stderr)
        print(others_words(others), file=sys.stderr)

    def sweep(self, what: What, ranges: Sequence[Range], rows: Sequence[Tried], task: Task) -> None:
        """Records the result of a sweep."""
        ground = task.ground
        try:
            self._begin(task.program)
            self._keep_text(task.program)
            sealed = ground.seal is not None
            self._books.keep_sweep(self.rule, what, ranges, rows, sealed=sealed, tuned=ground.is_tuned)
        except OSError as error:
            print(trouble_of(error), file=sys.stderr)


def _alike(known: Try, entry: Try) -> bool:
    return known.metrics == entry.metrics and known.sealed == entry.sealed


def _frame_words(ground: TrialData) -> str:
    timeline = ground.panel.timeline
    return f"{timeline.timeframe}{' extended' if timeline.extended else ''}"
