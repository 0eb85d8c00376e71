"""Whether the open rule is any good: evidence of its signals, its trial beside chance, and whether it is honest."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.jobs import EXPECTED, Jobs, Ticket, sentence_of
from oakladder.app.notebook import NotebookController, what_of_outcome
from oakladder.app.rule import OpenRule
from oakladder.app.timers import single_shot
from oakladder.app.trials import NO_RULE, Outcome, TrialController
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.rung.problems import Cancelled
from oakladder.trial.judge.bootstrap import Bootstrap, bootstrap_of
from oakladder.trial.judge.evidence.breakdowns import Part
from oakladder.trial.judge.evidence.study import Evidence, evidence_of
from oakladder.trial.judge.look_ahead.check import check_look_ahead
from oakladder.trial.judge.look_ahead.finding import Clear, Finding
from oakladder.trial.judge.shift_test import ShiftTest, shift_test_of
from oakladder.trial.notebook import Broken
from oakladder.trial.seal import seal_broken
from oakladder.trial.spans import sealed_from
from oakladder.trial.spec import TrialSpec
from oakladder.trial.trial import TrialData
from oakladder.work import parallel

#: After the chart, so that typing is never held up.
_PAUSE_MS = 20
#: Observers of evidence: the Bench also wants it for the chart's symbol.
BENCH, PLACE = "bench", "place"


@dataclass(frozen=True, slots=True)
class Judgement:
    """Evidence of a signal on some symbols, or a sentence that says why it is missing."""

    where: str
    evidence: Evidence | None = None
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class BesideChance:
    """A trial beside chance, or a sentence that says why not."""

    chance: ShiftTest | None = None
    bootstrap: Bootstrap | None = None
    trouble: str = ""


@dataclass(frozen=True, slots=True)
class Checked:
    """What the look-ahead check found, on which timeframe, in a sentence and kind by kind."""

    words: str
    timeframe: Timeframe
    rows: tuple[Finding | Clear, ...] = ()


class JudgingController(QObject):
    """Judges the open rule while a view shows the result.

    ``judged`` tells evidence for the place, ``parted`` its parts, ``glanced`` that for the chart's symbol and for the list, ``chanced`` a trial
    beside chance, ``checked`` the look-ahead check, ``moved`` how far that is, ``told`` a sentence for the user.
    """

    judged = pyqtSignal(object)
    parted = pyqtSignal(object)
    glanced = pyqtSignal(object, object)
    chanced = pyqtSignal(object)
    checked = pyqtSignal(object)
    moved = pyqtSignal(float)
    told = pyqtSignal(str)

    def __init__(
        self,
        rule: OpenRule,
        trials: TrialController,
        notebook: NotebookController,
        jobs: Jobs,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._rule, self._trials, self._notebook, self._jobs = rule, trials, notebook, jobs
        #: The signal that is judged; the first where it has no such.
        self.signal = ""
        self._watchers: set[str] = set()
        self._pause = single_shot(self, _PAUSE_MS)
        self._pause.timeout.connect(self._ask)
        rule.compiled.connect(lambda _: self.soon())
        rule.changed.connect(self.soon)
        rule.problems_changed.connect(lambda _: self.soon() if rule.program is None else None)
        trials.ground_changed.connect(self.soon)

    # --- evidence -----------------------------------------------------------------------------------

    def watch(self, who: str, on: bool) -> None:
        """Registers or removes an observer of evidence; without observers nothing is computed."""
        before = who in self._watchers
        (self._watchers.add if on else self._watchers.discard)(who)
        if on and not before:
            self.soon()

    def place_changed(self) -> None:
        """The chart looks elsewhere."""
        if BENCH in self._watchers:
            self.soon()

    def soon(self) -> None:
        """Schedules a new evaluation."""
        if self._watchers:
            self._pause.start()

    @property
    def waiting(self) -> bool:
        """Whether something is still to be asked."""
        return self._pause.isActive()

    def set_signal(self, name: str) -> None:
        """Judges another signal."""
        self.signal = name
        self.soon()

    def signal_names(self) -> list[str]:
        """The signals that can be judged."""
        return [s.name for s in self._rule.program.signals] if self._rule.program is not None else []

    def _ask(self) -> None:
        program, names = self._rule.program, self.signal_names()
        if program is None:
            self._take_evidence(Judgement("", trouble=NO_RULE))
            self.glanced.emit(*[Judgement("", trouble=NO_RULE)] * 2)
            return
        name = self.signal if self.signal in names else (names[0] if names else None)
        settings, trials = dict(self._rule.settings), self._trials
        if BENCH in self._watchers:
            symbol, frame = trials.where()
            asked = [(symbol, frame, False), (trials.list_name, frame, True)]
            self._jobs.start(
                "evidence at a glance",
                lambda ticket: [self._evidence(program, settings, name, *one, ticket) for one in asked],
                lambda made: self.glanced.emit(*made),
                lambda error: self.glanced.emit(*[Judgement("", trouble=sentence_of(error))] * 2),
                slow=True,
            )
        if PLACE in self._watchers:
            where = trials.list_name, trials.timeframe, True
            self._jobs.start(
                "evidence",
                lambda ticket: self._evidence(program, settings, name, *where, ticket),
                self._take_evidence,
                lambda error: self._take_evidence(Judgement("", trouble=sentence_of(error))),
                self.moved.emit,
                slow=True,
            )

    def ask_parts(self, split: Callable[[Evidence, int], list[Part]], evidence: Evidence, bars: int) -> None:
        """Has evidence taken apart; ``parted`` tells the parts."""
        self._jobs.start("parts", lambda ticket: split(evidence, bars), self.parted.emit)

    def _take_evidence(self, made: Judgement) -> None:
        self.moved.emit(1.0)
        self.judged.emit(made)

    def _evidence(
        self,
        program: Program,
        settings: dict[str, object],
        name: str | None,
        list_name: str,
        timeframe: Timeframe,
        drawn: bool,
        ticket: Ticket,
    ) -> Judgement:
        """Evidence somewhere; what is ``drawn`` of it is made here too, so that painting need not wait."""
        where = f"{list_name} {timeframe}"
        try:
            ground, _ = self._trials.ground_of(list_name, BarSelection(timeframe))
            with parallel() as executor:
                made = evidence_of(
                    program,
                    ground,
                    name,
                    program.values_of(settings),
                    context=ticket.context(executor),
                )
            if drawn:
                _ = made.fan, made.usual_fan
            return Judgement(where, made)
        except Cancelled:
            raise
        except EXPECTED as error:
            return Judgement(where, trouble=sentence_of(error))

    # --- chance -------------------------------------------------------------------------------------

    def ask_chance(self, outcome: Outcome | None) -> None:
        """Puts a trial beside chance."""
        trial = outcome.trial if outcome is not None else None
        if trial is None:
            self._jobs.stop("chance")
            self.chanced.emit(BesideChance(trouble=outcome.trouble if outcome is not None else ""))
            return

        def work(ticket: Ticket) -> BesideChance:
            try:
                made = shift_test_of(trial, cancelled=ticket.cancelled, progress=ticket.report)
                return BesideChance(made, bootstrap_of(trial, cancelled=ticket.cancelled))
            except RunProblem as error:
                return BesideChance(trouble=str(error))

        self._jobs.start("chance", work, self._take_chance, self._not_done, self.moved.emit, slow=True)

    def _take_chance(self, made: BesideChance) -> None:
        self.moved.emit(1.0)
        self.chanced.emit(made)

    # --- look-ahead, and the seal ----------------------------------------------------------------------

    def check(self) -> None:
        """Looks whether the rule shows what could not have been seen or had; drawings alone are enough for that."""
        case = self._trials.case_to_check()
        if case is None:
            self.told.emit(NO_RULE)
            return

        def work(ticket: Ticket) -> Checked:
            program, ground = self._made_ready(case, ticket, whole=False)
            settings = program.values_of(dict(case.settings))
            found = check_look_ahead(program, ground, case.account, settings, context=ticket.context())
            rows = sorted(found.rows(), key=lambda row: isinstance(row, Clear))  # what was found stands first
            return Checked(found.words(), ground.panel.timeframe, tuple(rows))

        self.moved.emit(0.0)
        self._jobs.start("look_ahead", work, self._take_checked, self._not_done, self.moved.emit, slow=True)

    def _take_checked(self, made: Checked) -> None:
        self.moved.emit(1.0)
        self.checked.emit(made)

    def _not_done(self, error: Exception) -> None:
        self.moved.emit(1.0)
        self.told.emit(sentence_of(error))

    def break_seal(self) -> None:
        """Breaks the seal of the open rule, for good: what was promised before and what it then shows is written down."""
        case, outcome, book = self._sound_case(), self._trials.outcome, self._notebook.book
        what = what_of_outcome(outcome) if outcome is not None else None
        if not self._notebook.sealed or case is None:
            return
        if what is None:
            self.told.emit("Wait until the rule's trial has finished.")
            return
        if self._trials.replays:
            self.told.emit("The end of history is not known in a replay. End the replay before you break the seal.")
            return

        def work(ticket: Ticket) -> Broken:
            program, whole = self._made_ready(case, ticket, whole=True)
            settings = program.values_of(dict(case.settings))
            sealed = sealed_from(whole.panel)
            context = ticket.context().without_progress()
            return seal_broken(program, whole, sealed, case.account, settings, what, book, time.time(), context)

        self._jobs.start("seal", work, self._notebook.broken, self._not_done, slow=True)

    def _sound_case(self) -> TrialSpec | None:
        """The plain rule as it is tried; says why where it cannot be."""
        try:
            case = self._trials.case()
        except RunProblem as error:
            self.told.emit(str(error))
            return None
        if case is None:
            self.told.emit(NO_RULE)
        return case

    def _made_ready(self, case: TrialSpec, ticket: Ticket, *, whole: bool) -> tuple[Program, TrialData]:
        program = compile_script(case.text, self._trials.other_scripts(case.text), ticket.cancelled)
        frame = BarSelection(Timeframe.parse(case.timeframe))
        ground, _ = self._trials.ground_of(case.list_name, frame, case.finer, whole=whole)
        return program.finer() if case.finer else program, ground

    def stop(self) -> None:
        """Stops what runs; what was shown stays."""
        self._pause.stop()
        for kind in ("evidence", "evidence at a glance", "parts", "chance", "look_ahead", "seal"):
            self._jobs.stop(kind)
        self.moved.emit(1.0)
