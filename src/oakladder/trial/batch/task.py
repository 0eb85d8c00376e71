"""A rule whose variants are tested: shared data, and the result of each."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from oakladder.engine.run.context import RunContext
from oakladder.engine.run.signal_cache import SignalCache
from oakladder.rung import Program
from oakladder.rung.other_scripts import OtherScripts
from oakladder.rung.problems import Cancelled, RunProblem
from oakladder.trial.broker.money import Account
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.broker.trades import Trades
from oakladder.trial.metrics.metrics import Value, without_book
from oakladder.trial.trial import Trial, TrialData, counts_of, judged, summarize, trades_from


@dataclass(frozen=True, slots=True)
class Tried:
    """The result of a variant: its settings, metrics and counts, or the problem that kept it from running."""

    settings: dict[str, object]
    metrics: dict[str, Value] = field(default_factory=dict)
    counts: dict[str, int] = field(default_factory=dict)
    problem: str = ""

    def value(self, name: str) -> Value:
        """A metric; none where it is not defined."""
        return self.metrics.get(name)


@dataclass(frozen=True, slots=True)
class Task:
    """A rule whose variants are to be tried: the ground, the account, and the settings that stay as they are."""

    program: Program
    ground: TrialData
    account: Account = field(default_factory=Account)
    settings: Mapping[str, object] = field(default_factory=dict)
    #: The scripts that it may take functions from, and whether minutes are walked through.
    other_scripts: OtherScripts = field(default_factory=OtherScripts)
    finer: bool = False
    #: Results shared by variants that differ only in how they handle a position.
    signal_cache: SignalCache = field(default_factory=SignalCache, compare=False, repr=False)

    def trial(self, changed: Mapping[str, object], cancelled: Callable[[], bool] | None = None) -> Trial:
        """The trial of one variant. Raises `RunProblem` or `Cancelled`."""
        settings = {**self.settings, **changed}
        return judged(self.program, settings, self.ground, self.account, self._trades(settings, cancelled))

    def tried(self, changed: Mapping[str, object], cancelled: Callable[[], bool] | None = None) -> Tried:
        """The result of one variant: as of its trial, but the metrics alone, which are quicker. Raises the same."""
        settings = {**self.settings, **changed}
        trades = self._trades(settings, cancelled)
        sums = summarize(trades, self.account, self.ground)
        made = sums or judged(self.program, settings, self.ground, self.account, trades)
        return Tried(dict(changed), without_book(made.metrics), counts_of(trades))

    def _trades(self, settings: Mapping[str, object], cancelled: Callable[[], bool] | None) -> Trades:
        self.account.check()
        panel = self.ground.panel
        self.account.check_prices(panel.symbols, self.ground.grid.below_zero)
        context = RunContext(cancelled=cancelled, thorough=True, signal_cache=self.signal_cache)
        found = find_trades(self.program, panel, settings, through=self.account.through, context=context)
        return trades_from(found, self.ground)


def sharing(task: Task, variants: Sequence[Mapping[str, object]]) -> Task:
    """The task with a cache for results that some variants share."""
    seen: dict[str, set[object]] = {}
    for variant in variants:
        for name, value in variant.items():
            seen.setdefault(name, set()).add(value)
    return replace(task, signal_cache=SignalCache(name for name, values in seen.items() if len(values) > 1))


def try_one(task: Task, changed: Mapping[str, object], cancelled: Callable[[], bool] | None) -> Tried:
    if cancelled is not None and cancelled():
        raise Cancelled
    try:
        return task.tried(changed, cancelled)
    except RunProblem as problem:
        return Tried(dict(changed), problem=str(problem))
