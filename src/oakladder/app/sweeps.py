"""Sweeps of the open rule: many settings tried, and walked forward."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.jobs import Jobs, Ticket, sentence_of
from oakladder.app.notebook import NotebookController
from oakladder.app.timers import single_shot
from oakladder.app.trials import NO_RULE, TrialController
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.trial.batch.processes import Workers
from oakladder.trial.batch.task import Task, Tried
from oakladder.trial.notebook import What, what_of
from oakladder.trial.spec import TrialSpec
from oakladder.trial.sweep.map import map_of
from oakladder.trial.sweep.ranges import Range, drawn_settings, grid_of_settings
from oakladder.trial.sweep.run import swept
from oakladder.trial.sweep.walk_forward import Walk, walk_forward


@dataclass(frozen=True, slots=True)
class Sweep:
    """The result of a sweep: rule and data, ranges, and one row per combination."""

    program: Program
    what: What
    ranges: tuple[Range, ...]
    rows: tuple[Tried, ...]
    #: Whether the last part of history stayed out of it, and else whether that had been seen before.
    sealed: bool = True
    tuned: bool = False


#: How long processes are kept after a sweep.
_KEPT_MS = 120_000


class SweepController(QObject):
    """Runs sweeps in the background. ``swept`` delivers a `Sweep`, ``mapped`` a `SweepMap`, ``walked`` a `Walk`, ``moved`` the progress, ``told`` a message."""

    swept = pyqtSignal(object)
    mapped = pyqtSignal(object)
    walked = pyqtSignal(object)
    moved = pyqtSignal(float)
    told = pyqtSignal(str)

    def __init__(
        self, trials: TrialController, notebook: NotebookController, jobs: Jobs, parent: QObject | None = None
    ):
        super().__init__(parent)
        self._trials, self._notebook, self._jobs = trials, notebook, jobs
        self.workers = Workers()
        self._rest = single_shot(self, _KEPT_MS)
        self._rest.timeout.connect(self.workers.shutdown)

    def run(self, ranges: Sequence[Range], drawn: int | None) -> None:
        """Tries every combination of some ranges, or so many drawn at random."""
        case, variants = self._ready(ranges, drawn)
        if case is None or variants is None:
            return

        def work(ticket: Ticket) -> Sweep:
            task, what = self._task(case, variants, ticket)
            rows = tuple(swept(task, variants, context=ticket.context(self.workers)))
            return Sweep(task.program, what, tuple(ranges), rows, task.ground.seal is not None, task.ground.is_tuned)

        self._start("sweep", work, self._take)

    def ask_map(self, ranges: Sequence[Range], rows: Sequence[Tried], metric: str) -> None:
        """Has the map of a sweep made, by a metric."""
        self._jobs.start("map", lambda ticket: map_of(ranges, rows, metric), self.mapped.emit)

    def walk(self, ranges: Sequence[Range], drawn: int | None, metric: str) -> None:
        """Walks the combinations of some ranges forward, by a metric."""
        case, variants = self._ready(ranges, drawn)
        if case is None or variants is None:
            return

        def work(ticket: Ticket) -> Walk:
            task, _ = self._task(case, variants, ticket)
            return walk_forward(task, variants, metric, context=ticket.context(self.workers))

        self._start("sweep", work, self._take_walk)

    def _ready(
        self, ranges: Sequence[Range], drawn: int | None
    ) -> tuple[TrialSpec | None, list[dict[str, object]] | None]:
        try:
            case = self._trials.case()
            if case is None:
                raise RunProblem(NO_RULE)
            if not ranges:
                raise RunProblem("Select a setting and its range first.")
            return case, drawn_settings(ranges, drawn) if drawn is not None else grid_of_settings(ranges)
        except RunProblem as error:
            self.told.emit(str(error))
            return None, None

    def _task(self, case: TrialSpec, variants: Sequence[Mapping[str, object]], ticket: Ticket) -> tuple[Task, What]:
        other_scripts = self._trials.other_scripts(case.text)
        program = compile_script(case.text, other_scripts, ticket.cancelled)
        settings = program.values_of(dict(case.settings))
        what = what_of(replace(case, settings=settings))
        frame = BarSelection(Timeframe.parse(case.timeframe))
        ground, _ = self._trials.ground_of(
            case.list_name, frame, case.finer, what=what, text=case.text, variants=variants
        )
        program = program.finer() if case.finer else program
        return Task(program, ground, case.account, settings, other_scripts, case.finer), what

    def _start(self, kind: str, work, then) -> None:  # type: ignore[no-untyped-def]
        self._rest.stop()
        self.moved.emit(0.0)
        self._jobs.start(kind, work, then, self._failed, self.moved.emit, slow=True)

    def _ended(self) -> None:
        """The bar is full, and the processes are kept for the next sweep, which often follows soon."""
        self._rest.start()
        self.moved.emit(1.0)

    def close(self) -> None:
        """Ends the processes."""
        self._rest.stop()
        self.workers.shutdown()

    def _failed(self, error: Exception) -> None:
        self._ended()
        self.told.emit(sentence_of(error))

    def _take(self, made: Sweep) -> None:
        self._ended()
        if not self._trials.replays:  # what was known at some moment is another history each time
            self._notebook.keep_sweep(
                made.program, made.what, made.ranges, made.rows, sealed=made.sealed, tuned=made.tuned
            )
        self.swept.emit(made)

    def _take_walk(self, made: Walk) -> None:
        self._ended()
        self.walked.emit(made)

    def stop(self) -> None:
        """Stops what runs."""
        for kind in ("sweep", "map"):
            self._jobs.stop(kind)
        self._ended()
