"""The look-ahead check: everything a script shows that could not have been seen or traded at the time."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.execute import run
from oakladder.rung.program import Program
from oakladder.rung.texts import count_words
from oakladder.trial.broker.money import Account
from oakladder.trial.judge.look_ahead.drawings import before_known
from oakladder.trial.judge.look_ahead.fills import at_the_extreme, thin, undecided, without_volume
from oakladder.trial.judge.look_ahead.finding import Clear, Finding, FindingKind
from oakladder.trial.judge.look_ahead.forming_bars import read_while_forming
from oakladder.trial.judge.look_ahead.own_history import BestValue, chosen, named
from oakladder.trial.judge.look_ahead.truncated_history import CUTS, changed, moments_of
from oakladder.trial.spans import before
from oakladder.trial.trial import TrialData, run_trial

#: The checks of trades.
OF_TRADES = frozenset({FindingKind.UNDECIDED, FindingKind.THROUGH, FindingKind.THIN, FindingKind.NO_VOLUME})


@dataclass(frozen=True, slots=True)
class Report:
    """The result of a check: its findings by `FindingKind`, and how much was checked."""

    findings: tuple[Finding, ...]
    symbols: int
    #: At how many moments history was cut.
    cuts: int
    #: Whether the script has trades, whose fills were looked at.
    has_trades: bool = True

    def rows(self) -> list[Finding | Clear]:
        """Every check: its findings, or that it found nothing."""
        made: list[Finding | Clear] = []
        for kind in FindingKind:
            made += [f for f in self.findings if f.kind is kind] or [Clear(kind, self.verdict(kind))]
        return made

    def verdict(self, kind: FindingKind) -> str:
        """What a check found, in words."""
        found = [f.words for f in self.findings if f.kind is kind]
        if found:
            return "; ".join(found)
        if kind in OF_TRADES and not self.has_trades:
            return "not checked: the script has no trade"
        if kind is FindingKind.CHANGED:
            return f"nothing found: cut at {count_words(self.cuts, 'moment')}"
        return f"nothing found on {count_words(self.symbols, 'symbol')}"

    def words(self) -> str:
        """The result in a sentence."""
        over, moments = count_words(self.symbols, "symbol"), count_words(self.cuts, "moment")
        if not self.findings:
            return f"Nothing found: cut at {moments} of history, on {over}, every value was the same as now."
        return f"{count_words(len(self.findings), 'thing')} found on {over}; history was cut at {moments}."


def check_look_ahead(
    program: Program,
    ground: TrialData,
    account: Account = Account(),
    settings: Mapping[str, object] | None = None,
    *,
    cut: Callable[[Panel, int], Panel] = before,
    cuts: int = CUTS,
    best: Sequence[BestValue] = (),
    context: RunContext = PLAIN,
) -> Report:
    """Checks a script on some ground. ``best`` are the settings whose value was found there. Raises `RunProblem` where it cannot run, and `Cancelled`."""
    panel, counted = ground.panel, ground.counted
    moments = moments_of(panel, cuts, ground.first)
    made = changed(program, panel, settings, cut=cut, cuts=cuts, first=ground.first, context=context)
    result = run(program, panel, settings, context=context.without_progress())
    made += before_known(result, counted)
    made += read_while_forming(result, counted, ground, settings, context.without_progress())
    made += named(program, panel) + chosen(program, panel, best)
    if program.plan.trading is not None:
        trial = run_trial(program, ground, account, settings, context=context.without_progress())
        made += undecided(trial) + at_the_extreme(trial) + thin(trial) + without_volume(trial)
    return Report(tuple(made), len(panel), len(moments), program.plan.trading is not None)
