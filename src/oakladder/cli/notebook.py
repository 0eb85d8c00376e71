"""Writes into a rule's notebook what the command line tries. A trial stands whether or not that can be done."""

from __future__ import annotations

import sys
import time
from collections.abc import Sequence
from pathlib import Path

from oakladder.rung import RunProblem
from oakladder.rung.problems import Cancelled
from oakladder.trial.batch.task import Task, Tried
from oakladder.trial.judge.deflated_sharpe import DeflatedSharpe
from oakladder.trial.notebook import Try, What, try_of, what_of
from oakladder.trial.seal import seal_broken, seal_words
from oakladder.trial.spans import sealed_from
from oakladder.trial.spec import TrialSpec
from oakladder.trial.sweep.ranges import Range
from oakladder.trial.trial import Trial
from oakladder.user.notebooks import Notebooks, trouble_of
from oakladder.user.workspace import Workspace


class NotebookWriter:
    """The notebook of the script that a call is about."""

    def __init__(self, script: Path):
        self._books: Notebooks = Workspace.default().notebooks()
        self.rule = self._books.rule_name(script)

    def what(self, task: Task, list_name: str, span: str = "") -> What:
        """What is tried, as notebooks name it, between the dates of a span in words."""
        timeline = task.ground.panel.timeline
        timeframe = f"{timeline.timeframe}{' extended' if timeline.extended else ''}"
        settings = task.program.values_of(task.settings)
        case = TrialSpec(task.program.text, settings, list_name, timeframe, task.account, task.finer)
        return what_of(case, span)

    def trial(self, what: What, made: Trial) -> DeflatedSharpe | None:
        """Records a trial, unless it is recorded already; returns the deflated Sharpe ratio for all tries."""
        try:
            self._books.go_on(self.rule, made.program.text)
            book = self._books.read(self.rule)
            entry = try_of(what, made, time.time())
            known = book.tries.get(what.key)
            if known is None or not _alike(known, entry):
                self._books.keep_text(self.rule, made.program.text)
                self._books.add(self.rule, entry)
                book = self._books.read(self.rule)
            return book.discount_for(what, made)
        except OSError as error:
            print(trouble_of(error), file=sys.stderr)
            return None

    def seal(self, what: What, task: Task) -> None:
        """Writes down that the seal was broken, with what was promised before, the first time."""
        try:
            self._books.go_on(self.rule, task.program.text)
            book = self._books.read(self.rule)
            if book.seal is not None:
                return
            sealed = sealed_from(task.ground.panel)
            broken = seal_broken(
                task.program, task.ground, sealed, task.account, task.settings, what, book, time.time()
            )
            self._books.add(self.rule, broken)
            print(seal_words(broken), file=sys.stderr)
        except OSError as error:
            print(trouble_of(error), file=sys.stderr)
        except (RunProblem, Cancelled):
            return

    def sweep(self, what: What, ranges: Sequence[Range], rows: Sequence[Tried], *, sealed: bool) -> None:
        """Records the result of a sweep."""
        try:
            self._books.keep_sweep(self.rule, what, ranges, rows, sealed=sealed)
        except OSError as error:
            print(trouble_of(error), file=sys.stderr)


def _alike(known: Try, entry: Try) -> bool:
    return known.metrics == entry.metrics and known.sealed == entry.sealed
