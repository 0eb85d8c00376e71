"""The honesty check: all that a script shows which could not have been seen or had at the time."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from concurrent.futures import Executor

from oakladder.bars.panel import Panel
from oakladder.engine.run import run
from oakladder.rung.program import Program
from oakladder.trial.honesty.cuts import CUTS, changed
from oakladder.trial.honesty.drawings import before_known
from oakladder.trial.honesty.fills import thin, undecided
from oakladder.trial.honesty.finding import Finding
from oakladder.trial.honesty.forming import read_while_forming
from oakladder.trial.money import Account
from oakladder.trial.spans import before
from oakladder.trial.trial import Ground, put_on_trial


def honest(
    program: Program,
    ground: Ground,
    account: Account = Account(),
    settings: Mapping[str, object] | None = None,
    *,
    cut: Callable[[Panel, int], Panel] = before,
    cuts: int = CUTS,
    executor: Executor | None = None,
    cancelled: Callable[[], bool] | None = None,
    progress: Callable[[float], None] | None = None,
) -> list[Finding]:
    """Every finding of a script on some ground, in the order of `Sin`. Raises `RunProblem` where it cannot run, and
    `Cancelled`."""
    panel = ground.panel
    made = changed(program, panel, settings, cut=cut, cuts=cuts, cancelled=cancelled, progress=progress)
    result = run(program, panel, settings, executor=executor, cancelled=cancelled)
    made += before_known(result)
    made += read_while_forming(result)
    if program.plan.trading is not None:
        trial = put_on_trial(program, ground, account, settings, executor=executor, cancelled=cancelled)
        made += undecided(trial) + thin(trial)
    return made


def summary(findings: list[Finding], symbols: int, cuts: int = CUTS) -> str:
    """What the check came to, in a sentence."""
    over = "1 symbol" if symbols == 1 else f"{symbols:,} symbols"
    if not findings:
        return f"Nothing found: cut at {cuts} moments of history, on {over}, every value stood as it stands now."
    count = "1 thing" if len(findings) == 1 else f"{len(findings)} things"
    return f"{count} found on {over}; history was cut at {cuts} moments."
