"""Breaking the seal: what the open part of history promised, and what the sealed part then shows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.rung.problems import RunProblem
from oakladder.rung.program import Program
from oakladder.trial.broker.money import Account
from oakladder.trial.metrics.metrics import metric_words
from oakladder.trial.notebook import Broken, Notebook, What, kept
from oakladder.trial.spans import before
from oakladder.trial.trial import TrialData, run_trial, trial_data_of

#: The metrics in which promise and sealed part are compared.
COMPARED = ("growth", "drawdown", "trades", "winners", "average", "profit_factor", "sharpe")


def seal_broken(
    program: Program,
    whole: TrialData,
    sealed_from: int | None,
    account: Account,
    settings: Mapping[str, object],
    what: What,
    notebook: Notebook,
    moment: float,
    context: RunContext = PLAIN,
) -> Broken:
    """What the seal kept apart for a rule: a trial of each part, the sealed one with what came before it as its past.

    ``whole`` is the ground with nothing left out. Raises `RunProblem` where nothing is sealed, and `Cancelled`.
    """
    if sealed_from is None:
        raise RunProblem("Nothing is sealed here.")
    open_part = before(whole.panel, sealed_from)
    promised = run_trial(
        program, replace(trial_data_of(open_part), first=whole.first), account, settings, context=context
    )
    rest = TrialData(whole.panel, whole.grid, max(sealed_from, whole.first or sealed_from))
    showed = run_trial(program, rest, account, settings, context=context)
    tries = len(notebook.hypotheses) + (what.key not in notebook.tries)
    return Broken(moment, what, sealed_from, kept(promised.metrics), kept(showed.metrics), tries)


def seal_words(broken: Broken) -> str:
    """What was promised and what came, in a sentence."""
    promised, showed = (metric_words(f, "growth") for f in (broken.promised, broken.showed))
    fall, fallen = (metric_words(f, "drawdown") for f in (broken.promised, broken.showed))
    tries = "1 try" if broken.tries == 1 else f"{broken.tries:,} tries"
    return (
        f"After {tries} the open part of history had an annual return of {promised} and a max drawdown of {fall}; "
        f"the sealed part then had {showed} and {fallen}."
    )
