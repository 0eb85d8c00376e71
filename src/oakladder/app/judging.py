"""Whether the open rule is any good: evidence of its signals, its trial beside chance, and whether it is honest."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable
from dataclasses import dataclass, replace

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.jobs import EXPECTED, Jobs, Ticket, sentence_of
from oakladder.app.notebook import NotebookController
from oakladder.app.rule import OpenRule
from oakladder.app.timers import single_shot
from oakladder.app.trials import NO_RULE, Outcome, TrialController
from oakladder.bars.panel import Panel
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.sealed import SealedDays
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.rung.problems import Cancelled
from oakladder.trial.best_values import best_values
from oakladder.trial.judge.bootstrap import Bootstrap, bootstrap_of
from oakladder.trial.judge.evidence.breakdowns import Part
from oakladder.trial.judge.evidence.study import Evidence, evidence_of
from oakladder.trial.judge.look_ahead.check import check_look_ahead
from oakladder.trial.judge.look_ahead.finding import Clear, Finding
from oakladder.trial.judge.shift_test import ShiftTest, shift_test_of
from oakladder.trial.notebook import Broken, what_of
from oakladder.trial.seal import Seen, seal_broken, seen_by_others
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


@dataclass(frozen=True, slots=True)
class SealState:
    """Whether the rule has seen the sealed days of a list, how that went, and which other rules have seen them."""

    is_broken: bool
    broken: Broken | None
    others: tuple[Seen, ...]


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
    #: The list of trials is another, or its symbols.
    list_changed = pyqtSignal()

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
        trials.ground_changed.connect(self.list_changed)

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
        case = None
        with contextlib.suppress(RunProblem):  # without a trade it is no variant that could be tuned
            case = trials.case_to_check()
        if BENCH in self._watchers:
            symbol, frame = trials.where()
            asked = [(trials.list_name, frame, True), (symbol, frame, False)]  # its date holds for the symbol too
            self._jobs.start(
                "evidence at a glance",
                lambda ticket: [self._evidence(program, settings, name, *one, case, ticket) for one in asked],
                lambda made: self.glanced.emit(*reversed(made)),
                lambda error: self.glanced.emit(*[Judgement("", trouble=sentence_of(error))] * 2),
                slow=True,
            )
        if PLACE in self._watchers:
            where = trials.list_name, trials.timeframe, True
            self._jobs.start(
                "evidence",
                lambda ticket: self._evidence(program, settings, name, *where, case, ticket),
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
        case: TrialSpec | None,
        ticket: Ticket,
    ) -> Judgement:
        """Evidence somewhere; what is ``drawn`` of it is made here too, so that painting need not wait."""
        where = f"{list_name} {timeframe}"
        try:
            what, text = None, ""
            if case is not None:  # the same rule, looked at on this timeframe
                text = case.text
                what = what_of(replace(case, settings=program.values_of(settings), timeframe=str(timeframe)))
            ground, _ = self._trials.ground_of(list_name, BarSelection(timeframe), what=what, text=text)
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
        case, book = self._trials.case_to_check(), self._notebook.book
        if case is None:
            self.told.emit(NO_RULE)
            return

        def work(ticket: Ticket) -> Checked:
            program, ground = self._made_ready(case, ticket, whole=False)
            settings = program.values_of(dict(case.settings))
            best = best_values(book, what_of(replace(case, settings=settings)))
            found = check_look_ahead(program, ground, case.account, settings, best=best, context=ticket.context())
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

    def seal(self) -> SealState:
        """Whether the open rule has seen the sealed days of the list, and which other rules have."""
        symbols, book = self._trials.symbols(self._trials.list_name), self._notebook.book
        others = seen_by_others(self._notebook.seen_by_others, (), symbols)
        return SealState(self._notebook.has_seen(symbols), book.broken_for(symbols), tuple(others))

    def break_seal(self) -> None:
        """Breaks the seal of the open rule on the list, for good: what was promised before and what it then shows is written
        down."""
        case, book, trials, rule = self._sound_case(), self._notebook.book, self._trials, self._notebook.rule
        if case is None or self.seal().is_broken:
            return
        if trials.replays:
            self.told.emit("The end of history is not known in a replay. End the replay before you break the seal.")
            return
        sealing = trials.sealing()

        def work(ticket: Ticket) -> tuple[Program, Broken, Panel, SealedDays]:
            program, whole = self._made_ready(case, ticket, whole=True)
            settings = program.values_of(dict(case.settings))
            what = what_of(replace(case, settings=settings))
            sealed = sealing.of(case.list_name, whole.panel.symbols)
            context = ticket.context().without_progress()
            made = seal_broken(program, whole, sealed, case.account, settings, what, book, time.time(), context)
            return program, made, whole.panel, sealed

        def done(made: tuple[Program, Broken, Panel, SealedDays]) -> None:
            if rule == self._notebook.rule:
                self._notebook.broken(*made)

        self._jobs.start("seal", work, done, self._not_done, slow=True)

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
