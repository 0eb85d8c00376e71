"""Walking forward: settings are chosen on a span, traded on the next, and so on; beside what hindsight would have chosen."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.rung.problems import RunProblem
from oakladder.trial.batch.task import Task, Tried
from oakladder.trial.broker.money import FillBar
from oakladder.trial.clock import Clock
from oakladder.trial.grid import grid_of
from oakladder.trial.metrics.equity import Equity
from oakladder.trial.metrics.metrics import METRICS, Value, defined, of_curve
from oakladder.trial.spans import TUNED_WORDS, before
from oakladder.trial.sweep.ranges import point_words
from oakladder.trial.sweep.run import swept
from oakladder.trial.trial import Trial, TrialData

#: Into so many spans of equally many bars a history is cut, and on so many before each one settings are chosen.
SPANS, CHOSEN_ON = 8, 3
#: A setting that moves by more than this share of its range from one span to the next jumps about.
_DRIFT = 0.34
#: A span has at least so many bars.
_FEWEST = 20


@dataclass(frozen=True, slots=True)
class Step:
    """A span that was traded: when it begins, when the next one begins (of the last span its last bar; UTC seconds), the
    settings that were the best before it, what they promised there and what they brought here."""

    first: int
    last: int
    settings: Mapping[str, object]
    promised: Value
    brought: Value
    trades: int


@dataclass(frozen=True, slots=True)
class Walk:
    """The spans one after the other as one curve, beside that of the settings which hindsight chooses for all of them."""

    metric: str
    steps: tuple[Step, ...]
    equity: Equity
    metrics: Mapping[str, Value]
    hindsight: Trial
    hindsight_settings: Mapping[str, object]
    #: The values of each setting that there were to choose from, in order.
    choices: Mapping[str, tuple[object, ...]] = field(default_factory=dict)

    def drift(self, name: str) -> np.ndarray:
        """Where the value of a setting that each step chose stands among its values, from 0 to 1; float64. Shape (steps,)."""
        values = self.choices[name]
        at = [values.index(s.settings[name]) for s in self.steps]
        return np.array(at) / max(len(values) - 1, 1)

    def drift_words(self) -> str:
        """How the chosen settings drift from step to step, in a sentence; empty where there was nothing to choose."""
        told = []
        for name, values in self.choices.items():
            if len(values) < 2:
                continue
            chosen = [s.settings[name] for s in self.steps]
            moved = np.abs(np.diff(self.drift(name)))
            jump = float(moved.mean()) if len(moved) else 0.0
            how = "stays" if not moved.any() else "drifts" if jump <= _DRIFT else "jumps about"
            told.append(f"{name} {how} ({', '.join(map(point_words, chosen))})")
        return f"From span to span {'; '.join(told)}." if told else ""

    def words(self) -> str:
        """What it comes to, in a sentence."""
        growth, other = self.metrics.get("growth"), self.hindsight.metrics.get("growth")
        if growth is None or other is None:
            return "The spans are too short for an annual return."
        drift = self.drift_words()
        return (
            f"{f'{TUNED_WORDS} ' if self.hindsight.ground.is_tuned else ''}"
            f"Chosen on the past and traded on what came next: {growth:+.1%} a year. "
            f"With the settings that hindsight chooses it would have been {other:+.1%}."
            f"{f' {drift}' if drift else ''}"
        )


def walk_forward(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    metric: str,
    *,
    spans: int = SPANS,
    chosen_on: int = CHOSEN_ON,
    context: RunContext = PLAIN,
) -> Walk:
    """Walks some variants forward over a ground, by one of `METRICS`. Raises `RunProblem` where there are too few bars or no
    variant has the metric, and `Cancelled`."""
    ground = task.ground
    times = ground.grid.times[ground.first_place :]
    if spans <= chosen_on or chosen_on < 1:
        raise RunProblem("There must be at least one span to choose on, and one more to trade.")
    if len(times) < spans * _FEWEST:
        raise RunProblem(
            f"{len(times)} bars are too few to be cut into {spans} spans of at least {_FEWEST}. Take shorter bars or fewer spans."
        )
    edges = [int(times[len(times) * k // spans]) for k in range(spans)] + [int(times[-1]) + 1]
    total, done = spans - chosen_on + 1, 0

    def tell(share: float) -> None:
        context.report((done + share) / total)

    steps, curves = [], []
    for k in range(chosen_on, spans):
        past = replace(task, ground=part_of(ground, edges[k - chosen_on], edges[k]))
        best, promised = _best(past, variants, metric, replace(context, progress=tell))
        here = replace(task, ground=part_of(ground, edges[k], edges[k + 1])).trial(best.settings, context.cancelled)
        steps.append(
            Step(
                edges[k],
                min(edges[k + 1], int(times[-1])),
                best.settings,
                promised,
                here.metrics.get(metric),
                int(here.metrics["trades"] or 0),
            )
        )
        curves.append(_left_at_the_end(here))
        done += 1
    rest = replace(task, ground=part_of(ground, edges[chosen_on], edges[-1]))
    best, _ = _best(rest, variants, metric, replace(context, progress=tell))
    joined = _joined(curves, ground)
    hindsight = rest.trial(best.settings, context.cancelled)
    metrics = {name: defined(value) for name, value in of_curve(joined).items()}
    metrics["trades"] = float(sum(s.trades for s in steps))
    names = dict.fromkeys(name for v in variants for name in v)
    choices = {n: tuple(sorted({v[n] for v in variants if n in v}, key=_in_order)) for n in names}
    return Walk(metric, tuple(steps), joined, metrics, hindsight, best.settings, choices)


def _in_order(value: object) -> tuple[bool, float, str]:
    """Numbers by their size, before words."""
    if isinstance(value, int | float):
        return False, float(value), ""
    return True, 0.0, str(value)


def part_of(ground: TrialData, first: int, end: int) -> TrialData:
    """The ground up to a moment, of which only what is decided from another on counts."""
    panel = before(ground.panel, end)
    return TrialData(
        panel, ground.grid if panel is ground.panel else grid_of(panel), first, ground.seal, ground.is_tuned
    )


def _best(
    task: Task,
    variants: Sequence[Mapping[str, object]],
    metric: str,
    context: RunContext,
) -> tuple[Tried, float]:
    """The variant with the best metric, the first of equals."""
    sign = -1 if METRICS[metric].good < 0 else 1
    best: tuple[Tried, float] | None = None
    trouble = ""
    for one in swept(task, variants, context=context):
        value, trouble = one.value(metric), trouble or one.problem
        if value is not None and (best is None or sign * value > sign * best[1]):
            best = one, value
    if best is None:
        raise RunProblem(trouble or f"No variant has the metric {METRICS[metric].title} on every span: too few trades.")
    return best


def _left_at_the_end(trial: Trial) -> Equity:
    """The curve of a span with what is still open at its end sold at the last close, costs and slippage paid."""
    equity, book, costs = trial.equity, trial.book, trial.account.costs
    which = np.flatnonzero(book.open)
    if not len(which) or not len(equity.value):
        return equity
    trades = book.trades
    symbol = trades.symbol[which]
    last = book.grid.closes[symbol, -1]
    units, panel = book.units[which], trades.panel
    ends = panel.ends[symbol] - 1
    factor = book.grid.factor(ends)
    bar = FillBar.of(panel, ends, units) if costs.slippage.by_bar else None
    worse = costs.slippage.of(last / factor, panel.ticks_on(symbol, ends), bar) * factor
    price = last - trades.side[which] * worse
    value = equity.value.copy()
    fills = costs.of_fills(units, price, units * panel.adjusted_on(ends))
    value[-1] -= float((units * worse + fills).sum())
    return replace(equity, value=value)


def _joined(curves: Sequence[Equity], ground: TrialData) -> Equity:
    """Curves one after the other: each goes on with the money that the one before left."""
    start = curves[0].start
    level, values = start, []
    held_level, held = start, []
    for one in curves:
        values.append(one.value / one.start * level)
        level = float(values[-1][-1])
        first = one.held[0] if len(one.held) and one.held[0] else one.start
        held.append(one.held / first * held_level)
        held_level = float(held[-1][-1])
    times = np.concatenate([c.times for c in curves])
    return Equity(
        times,
        np.concatenate(values),
        np.concatenate(held),
        np.concatenate([c.positions for c in curves]),
        start,
        Clock.of(times, ground.panel.timeline),
    )
