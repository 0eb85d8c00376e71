"""Trials of the open rule: list, timeframe, account, variants, and their results."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.jobs import EXPECTED, Jobs, Ticket, sentence_of
from oakladder.app.replay import ReplayController
from oakladder.app.rule import OpenRule
from oakladder.app.seals import RuleSeal, SealKeeper
from oakladder.app.symbols import Symbols
from oakladder.app.timers import single_shot
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.sealed import OPEN
from oakladder.engine.universe.map import SkippedSymbol
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.problems import Cancelled
from oakladder.trial.broker.money import Account, Costs, Size, Slippage
from oakladder.trial.compose import Draft, draft_of, with_trade
from oakladder.trial.notebook import What, mark_of, what_of
from oakladder.trial.report import through_words
from oakladder.trial.spec import Change, TrialSpec, check_change, read_changes
from oakladder.trial.trial import Trial, TrialData, run_trial
from oakladder.trial.universe import TrialDataSource
from oakladder.user.lists import ALL, ListProblem, Watchlists
from oakladder.user.workspace import Workspace

#: Observers of trials: the Bench also wants one of the chart's symbol.
BENCH = "bench"
#: What is said where the open script has never been sound since it was opened.
NO_RULE = "The script has errors. Fix it on the Bench to test it here."
#: After the chart, so that typing is never held up.
_PAUSE_MS = 20


@dataclass(frozen=True, slots=True)
class Outcome:
    """The result of a spec: the trial, or a sentence that says why it failed."""

    words: str
    case: TrialSpec | None
    trial: Trial | None = None
    trouble: str = ""
    skipped: tuple[SkippedSymbol, ...] = ()
    #: What it changes that limits need trading through, where they do.
    through: str = ""


class TrialController(QObject):
    """Runs trials of the open rule while a view shows them.

    ``changed`` tells a new outcome of the plain rule, ``variants_changed`` those beside it, ``asked`` that one is on its
    way, ``moved`` how far that is; ``glanced`` the outcomes for the symbol of the chart and for the list, on its timeframe,
    ``to_remember`` that something is to be written down, ``told`` a sentence for the user.
    """

    changed = pyqtSignal(object)
    variants_changed = pyqtSignal(object)
    glanced = pyqtSignal(object, object)
    asked = pyqtSignal()
    moved = pyqtSignal(float)
    #: The list, timeframe or bars are otherwise, or what is sealed of them.
    ground_changed = pyqtSignal()
    to_remember = pyqtSignal()
    told = pyqtSignal(str)

    def __init__(
        self,
        workspace: Workspace,
        symbols: Symbols,
        lists: Watchlists,
        jobs: Jobs,
        rule: OpenRule,
        replay: ReplayController,
        seals: SealKeeper,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._workspace, self._symbols, self._lists, self._jobs = workspace, symbols, lists, jobs
        self._rule, self._replay = rule, replay
        self.list_name, self.timeframe, self.account, self.finer = ALL, ONE_DAY, Account(), False
        self.changes: list[Change] = []
        self.outcome: Outcome | None = None
        self.variants: list[Outcome] = []
        #: Where the chart looks; set by the session.
        self.where: Callable[[], tuple[str, Timeframe]] = lambda: ("", ONE_DAY)
        #: What is sealed for the open rule, and what of that has been seen; set by the session.
        self.sealing: Callable[[], RuleSeal] = lambda: seals.of_rule("")
        self.seen: Callable[[], object] = lambda: None
        self._watchers: set[str] = set()
        self._grounds = TrialDataSource(replay.source)
        self._pause = single_shot(self, _PAUSE_MS)
        self._pause.timeout.connect(self._ask)
        rule.compiled.connect(lambda _: self._soon())
        rule.changed.connect(self._soon)
        rule.problems_changed.connect(lambda _: self._soon() if rule.program is None else None)
        replay.changed.connect(self.bars_changed)

    # --- observers ----------------------------------------------------------------------------------

    def watch(self, who: str, on: bool) -> None:
        """Registers or removes an observer; without observers no trial runs."""
        before = who in self._watchers
        (self._watchers.add if on else self._watchers.discard)(who)
        if on and not before:
            self._soon()

    def place_changed(self) -> None:
        """The chart looks elsewhere."""
        if BENCH in self._watchers:
            self._soon()

    def _soon(self) -> None:
        if self._watchers:
            self._pause.start()

    @property
    def waiting(self) -> bool:
        """Whether something is still to be asked."""
        return self._pause.isActive()

    def stop(self) -> None:
        """Stops what runs; what was shown stays."""
        self._pause.stop()
        for kind in ("trial", "variants", "trial of symbol"):
            self._jobs.stop(kind)
        self.moved.emit(1.0)

    # --- what is tried ------------------------------------------------------------------------------

    def case(self) -> TrialSpec | None:
        """The plain rule with its settings, list, timeframe and account; None without a sound script.

        Raises `RunProblem` where it has nothing to trade by.
        """
        program = self._rule.program
        if program is None:
            return None
        return self._case_of(
            program.text if program.plan.trading is not None else with_trade(program, draft_of(program))
        )

    def case_to_check(self) -> TrialSpec | None:
        """The same, but of a script that has nothing to trade by as it is; None without a sound script."""
        program = self._rule.program
        if program is None:
            return None
        return self.case() if program.plan.trading is not None or program.signals else self._case_of(program.text)

    def _case_of(self, text: str) -> TrialSpec:
        settings = dict(self._rule.settings)
        return TrialSpec(text, settings, self.list_name, str(self.timeframe), self.account, self.finer)

    def text_mark(self) -> str:
        """The mark of the tested text, as notebooks store it; empty without one."""
        try:
            case = self.case()
        except RunProblem:
            return ""
        return mark_of(case.text) if case is not None else ""

    @property
    def draft(self) -> Draft | None:
        """The trade that is composed for a script without one; None where it has its own, or no signals."""
        program = self._rule.program
        if program is None or program.plan.trading is not None or not program.signals:
            return None
        return draft_of(program)

    def text_with_trade(self) -> str | None:
        """The open script with the composed trade in it."""
        program, draft = self._rule.program, self.draft
        return None if program is None or draft is None else with_trade(program, draft)

    def set_ground(
        self, list_name: str | None = None, timeframe: Timeframe | None = None, finer: bool | None = None
    ) -> None:
        """Looks at another list or timeframe, or at minutes within bars."""
        self.list_name = list_name if list_name is not None else self.list_name
        self.timeframe = timeframe if timeframe is not None else self.timeframe
        self.finer = finer if finer is not None else self.finer
        self.ground_changed.emit()
        self._again()

    def ground_asked(self) -> tuple[object, ...]:
        """The data of the trial: list, timeframe, minutes within bars, what of the sealed part has been seen, and the
        symbols of the list."""
        return self.list_name, self.timeframe, self.finer, self.seen(), tuple(self.symbols(self.list_name))

    def set_account(self, account: Account) -> None:
        """Tries with another account; says a sentence where it makes no sense."""
        try:
            account.check()
        except RunProblem as error:
            self.told.emit(str(error))
            return
        self.account = account
        self._again()

    def add_change(self, change: Change) -> None:
        """Puts a variant beside the plain rule."""
        case = self.outcome.case if self.outcome is not None else None
        try:
            if case is not None:
                check_change(change, case)
        except RunProblem as error:
            self.told.emit(str(error))
            return
        if change not in self.changes:
            self.changes.append(change)
            self._again()

    def remove_change(self, k: int) -> None:
        """Takes a variant away."""
        del self.changes[k]
        self._again()

    def _again(self) -> None:
        self.to_remember.emit()
        self._soon()

    def bars_changed(self) -> None:
        """Bars are otherwise now."""
        self._grounds = TrialDataSource(self._replay.source)
        self.seal_changed()

    def seal_changed(self) -> None:
        """More of history is open now, or less."""
        self.ground_changed.emit()
        self._soon()

    def ground_of(
        self,
        list_name: str,
        frame: BarSelection,
        finer: bool = False,
        *,
        whole: bool = False,
        what: What | None = None,
        text: str = "",
        variants: Sequence[Mapping[str, object]] = ({},),
    ) -> tuple[TrialData, tuple[SkippedSymbol, ...]]:
        """The bars of a list as far as they may be looked at, or the ``whole`` of them, and what was left out; made once
        for all who ask. Of ``what`` is tried on it, with its ``text`` and ``variants``, it says whether they were tuned on known data.
        Raises `RunProblem`."""
        symbols, sealing = self.symbols(list_name), self.sealing()
        seal = OPEN if whole else sealing.of(list_name, symbols)
        ground, skipped = self._grounds.of(symbols, frame, finer, seal)
        if what is not None and not seal.days:
            ground = replace(ground, is_tuned=sealing.is_tuned(what, text, ground.panel.symbols, variants))
        return ground, skipped

    @property
    def replays(self) -> bool:
        """Whether only what was known at some moment is shown."""
        return self._replay.moment is not None

    def other_scripts(self, text: str) -> OtherScripts:
        """The scripts that a text may take functions from."""
        return self._workspace.other_scripts(text)

    # --- asking -------------------------------------------------------------------------------------

    def _ask(self) -> None:
        try:
            case = self.case()
        except RunProblem as error:
            self._take(Outcome("the rule", None, trouble=str(error)))
            self.glanced.emit(self.outcome, self.outcome)
            return
        if case is None:
            self._take(Outcome("the rule", None, trouble=NO_RULE))
            self.glanced.emit(self.outcome, self.outcome)
            return
        self.asked.emit()
        grounds, sealing = self._grounds, self.sealing()
        self._jobs.stop("variants")
        if BENCH in self._watchers:
            symbol, frame = self.where()
            cases = [replace(case, timeframe=str(frame)), for_symbol(case, symbol, frame)]
            self._jobs.start(
                "trial of symbol",
                # The list first: its date holds for the symbol too.
                lambda ticket: [self._tried(c.list_name, c, grounds, sealing, ticket) for c in cases],
                lambda made: self.glanced.emit(*reversed(made)),
                self._not_glanced,
                slow=True,
            )
        if self._watchers == {BENCH}:
            return
        self._jobs.start(
            "trial",
            lambda ticket: self._tried("the rule", case, grounds, sealing, ticket),
            self._take,
            self._failed,
            self.moved.emit,
        )

    def _not_glanced(self, error: Exception) -> None:
        outcome = Outcome("the rule", None, trouble=sentence_of(error))
        self.glanced.emit(outcome, outcome)

    def _failed(self, error: Exception) -> None:
        self._take(Outcome("the rule", None, trouble=sentence_of(error)))

    def _take(self, outcome: Outcome) -> None:
        self.outcome = outcome
        self.moved.emit(1.0)
        self.changed.emit(outcome)
        self._ask_variants(outcome)

    def _ask_variants(self, outcome: Outcome) -> None:
        changes, case, grounds, sealing = list(self.changes), outcome.case, self._grounds, self.sealing()
        if case is None or not changes:
            self._jobs.stop("variants")
            self._take_variants([])
            return

        def work(ticket: Ticket) -> list[Outcome]:
            made = []
            for k, change in enumerate(changes):
                if ticket.cancelled():
                    raise Cancelled
                try:
                    made.append(self._tried(change.words(), change.of(case), grounds, sealing, ticket))
                except (RunProblem, ValueError) as error:
                    made.append(Outcome(change.words(), None, trouble=str(error)))
                ticket.report((k + 1) / len(changes))
            return made

        self._jobs.start("variants", work, self._take_variants, progress=self.moved.emit, slow=True)

    def _take_variants(self, made: list[Outcome]) -> None:
        self.variants = made
        self.moved.emit(1.0)
        self.variants_changed.emit(made)

    def _tried(
        self, words: str, case: TrialSpec, grounds: TrialDataSource, sealing: RuleSeal, ticket: Ticket
    ) -> Outcome:
        """Puts a case on trial; what is wrong with it becomes its trouble."""
        try:
            program = self._program(case, ticket.cancelled)
            settings = program.values_of(_plain(program, case))
            frame, symbols = BarSelection(Timeframe.parse(case.timeframe)), self.symbols(case.list_name)
            seal = sealing.of(case.list_name, symbols)
            ground, skipped = grounds.of(symbols, frame, case.finer, seal)
            if not seal.days:
                what = what_of(replace(case, settings=settings))
                ground = replace(ground, is_tuned=sealing.is_tuned(what, case.text, ground.panel.symbols))
            trial = run_trial(program, ground, case.account, settings, context=ticket.context())
            through = ""
            if case.account.through:
                at_touch = replace(case.account, through=False)
                through = through_words(trial, run_trial(program, ground, at_touch, settings, context=ticket.context()))
        except Cancelled:
            raise
        except EXPECTED as error:
            return Outcome(words, case, trouble=sentence_of(error))
        return Outcome(words, case, trial, skipped=skipped, through=through)

    def _program(self, case: TrialSpec, cancelled: Callable[[], bool]) -> Program:
        program = compile_script(case.text, self._workspace.other_scripts(case.text), cancelled)
        return program.finer() if case.finer else program

    def symbols(self, list_name: str) -> list[str]:
        """The symbols of a list, or the one symbol of that name."""
        infos = self._symbols.infos
        if list_name in infos:
            return [list_name]
        try:
            return self._lists.symbols(list_name, infos)
        except (ListProblem, KeyError):
            return list(infos)

    # --- remembering --------------------------------------------------------------------------------

    def as_plain(self) -> dict[str, object]:
        """What is set, as it is written down."""
        account, costs = self.account, self.account.costs
        return {
            "list": self.list_name,
            "timeframe": str(self.timeframe),
            "finer": self.finer,
            "money": account.money,
            "size": str(account.size) if account.size is not None else "",
            "lot": account.lot,
            "most": account.most or 0,
            "power": account.power,
            "apart": account.apart,
            "through": account.through,
            "fixed": costs.fixed,
            "per_unit": costs.per_unit,
            "cost": costs.ratio,
            "slip": str(costs.slippage),
            "financing": costs.financing,
            "borrow": costs.borrow,
            "currency": account.currency,
            "changes": [c.as_plain() for c in self.changes],
        }

    def restore(self, plain: dict[str, object]) -> None:
        """Takes what was written down; what makes no sense is as at the first start."""
        try:
            self.timeframe = Timeframe.parse(str(plain.get("timeframe", "1d")))
            numbers = {n: float(str(plain.get(n, d))) for n, d in _NUMBERS.items()}
            size = str(plain.get("size", ""))
            costs = Costs(
                numbers["fixed"],
                numbers["per_unit"],
                numbers["cost"],
                Slippage.parse(str(plain.get("slip", "1t"))),
                numbers["financing"],
                numbers["borrow"],
            )
            account = Account(
                numbers["money"],
                Size.parse(size) if size else None,
                numbers["lot"],
                int(numbers["most"]) or None,
                numbers["power"],
                costs,
                bool(plain.get("apart", False)),
                bool(plain.get("through", False)),
                str(plain.get("currency", "")),
            )
            account.check()
            self.account = account
        except (ValueError, OverflowError, RunProblem):
            pass
        self.list_name = str(plain.get("list", ALL))
        self.finer = bool(plain.get("finer", False))
        self.changes = read_changes(plain.get("changes"))


_NUMBERS = {"money": 10_000.0, "lot": 1.0, "most": 0.0, "power": 1.0, "fixed": 0.0, "per_unit": 0.0, "cost": 0.0005} | {
    "financing": 0.0,
    "borrow": 0.0,
}


def _plain(program: Program, case: TrialSpec) -> dict[str, object]:
    """The settings of a case that its script has."""
    names = {info.name for info in program.settings}
    return {name: value for name, value in case.settings.items() if name in names}


def for_symbol(case: TrialSpec, symbol: str, timeframe: Timeframe) -> TrialSpec:
    """The same rule on one symbol's bars alone."""
    return replace(case, list_name=symbol, timeframe=str(timeframe))
