"""The honesty check: everything a script shows that could not have been seen or traded at the time."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.execute import run
from oakladder.rung.program import Program
from oakladder.rung.texts import count_words
from oakladder.trial.broker.money import Account
from oakladder.trial.judge.look_ahead.drawings import before_known
from oakladder.trial.judge.look_ahead.fills import thin, undecided
from oakladder.trial.judge.look_ahead.finding import Finding
from oakladder.trial.judge.look_ahead.forming_bars import read_while_forming
from oakladder.trial.judge.look_ahead.truncated_history import CUTS, changed, moments_of
from oakladder.trial.spans import before
from oakladder.trial.trial import TrialData, run_trial


@dataclass(frozen=True, slots=True)
class Report:
    """The result of a check: its findings in the order of `Sin`, and how much was checked."""

    findings: tuple[Finding, ...]
    symbols: int
    #: At how many moments history was cut.
    cuts: int

    def words(self) -> str:
        """The result in a sentence."""
        over = count_words(self.symbols, "symbol")
        moments = f"{count_words(self.cuts, 'moment')} of history"
        if not self.findings:
            return f"Nothing found: cut at {moments}, on {over}, every value was the same as now."
        return f"{count_words(len(self.findings), 'thing')} found on {over}; history was cut at {moments}."


def check_look_ahead(
    program: Program,
    ground: TrialData,
    account: Account = Account(),
    settings: Mapping[str, object] | None = None,
    *,
    cut: Callable[[Panel, int], Panel] = before,
    cuts: int = CUTS,
    context: RunContext = PLAIN,
) -> Report:
    """Checks a script on some ground. Raises `RunProblem` where it cannot run, and `Cancelled`."""
    panel, counted = ground.panel, ground.counted
    moments = moments_of(panel, cuts, ground.first)
    made = changed(program, panel, settings, cut=cut, cuts=cuts, first=ground.first, context=context)
    result = run(program, panel, settings, context=context.without_progress())
    made += before_known(result, counted)
    made += read_while_forming(result, counted)
    if program.plan.trading is not None:
        trial = run_trial(program, ground, account, settings, context=context.without_progress())
        made += undecided(trial) + thin(trial)
    return Report(tuple(made), len(panel), len(moments))
