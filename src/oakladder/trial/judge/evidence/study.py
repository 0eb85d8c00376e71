"""Evidence for or against a signal: what followed it, beside what usually follows, and how often chance does as well."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.engine.run.execute import run
from oakladder.rung.plan.ops import Output
from oakladder.rung.problems import RunProblem, did_you_mean
from oakladder.rung.program import Program
from oakladder.rung.words import Tone
from oakladder.trial.judge.evidence.fan import Fan, evenly, fan_of
from oakladder.trial.judge.evidence.shifts import Followed, followed
from oakladder.trial.judge.studentised import FEWEST_MOMENTS, SAME
from oakladder.trial.trial import TrialData

#: Horizons, in bars after a signal.
HORIZONS = (1, 2, 3, 5, 10, 20, 40)
#: The horizon that is spoken of first.
USUAL_HORIZON = 10


@dataclass(frozen=True, slots=True)
class Horizon:
    """What followed a signal so many bars later; ratios. What is not defined, without an occurrence, is none.

    ``count`` is the number of occurrences whose change is known, ``days`` on how many days they fell, ``up`` the share of
    changes above zero, ``usual`` the mean over all bars, ``difference`` that of the two means, and ``chance`` the share of
    the signal's shifts in time, itself among them, whose difference over its standard error is at least as good; none on
    too few moments.
    """

    bars: int
    count: int
    days: int
    mean: float | None
    median: float | None
    up: float | None
    usual: float | None
    difference: float | None
    chance: float | None
    #: How many shifts were looked at beside the signal itself.
    shifts: int
    #: The share of occurrences that begin before the one before them, on the same symbol, is so many bars old.
    overlapping: float


@dataclass(frozen=True)
class Evidence:
    """What speaks for a signal of a script and against it, on some ground."""

    program: Program
    signal: str
    tone: Tone
    ground: TrialData
    horizons: tuple[Horizon, ...]
    #: The share of shifts whose best horizon is at least as good as the signal's best: the chance of all horizons
    #: together. None where none of them has one.
    overall: float | None
    #: Of each horizon, the bars in the panel of the occurrences and the changes that followed.
    followed: tuple[Followed, ...]
    #: Where the signal is on, places in the panel.
    places: np.ndarray

    def at(self, bars: int) -> Horizon:
        """A horizon by its bars; the nearest if there is no such horizon."""
        return min(self.horizons, key=lambda h: abs(h.bars - bars))

    @cached_property
    def fan(self) -> Fan:
        """The paths after the signal."""
        return self._fan_of(self.places)

    @cached_property
    def usual_fan(self) -> Fan:
        """The paths after every bar."""
        panel, firsts = self.ground.panel, self.ground.firsts
        sizes = panel.ends - firsts
        before = np.cumsum(sizes) - sizes
        some = evenly(int(sizes.sum()))
        symbol = np.searchsorted(before + sizes, some, "right")
        return self._fan_of(firsts[symbol] + some - before[symbol])

    def _fan_of(self, places: np.ndarray) -> Fan:
        """The paths after some bars, but those of symbols with prices of 0 and below. Shape (paths,), int64."""
        panel, below = self.ground.panel, self.ground.grid.below_zero
        if below.any():
            places = places[~below[np.searchsorted(panel.offsets, places, "right") - 1]]
        return fan_of(panel, places, max(HORIZONS))


def signal_of(program: Program, name: str | None) -> Output:
    """A signal by name, or the only one there is. Raises `RunProblem` with a sentence."""
    names = [s.name for s in program.signals]
    if not names:
        raise RunProblem("The script has no signal to judge. Add one, such as `signal go = crosses_up(f, s)`.")
    if name is None:
        if len(names) > 1:
            raise RunProblem(f"The script has several signals: {', '.join(names)}. Say which is meant.")
        return program.signals[0]
    if name not in names:
        raise RunProblem(f"There is no signal {name}. {did_you_mean(name, names).replace('`', '')}".strip())
    return program.signals[names.index(name)]


def evidence_of(
    program: Program,
    ground: TrialData,
    signal: str | None = None,
    settings: Mapping[str, object] | None = None,
    *,
    context: RunContext = PLAIN,
) -> Evidence:
    """Judges a signal of a script. Raises `RunProblem` without such a signal, or if it cannot run, and `Cancelled`."""
    output = signal_of(program, signal)
    result = run(program, ground.panel, settings, outputs=[output], context=context.without_progress())
    flags = result.flag(output.roles["value"]) == 1
    return judged_flags(program, ground, output.name, output.tone, flags, context=context)


def judged_flags(
    program: Program,
    ground: TrialData,
    name: str,
    tone: Tone,
    flags: np.ndarray,
    *,
    context: RunContext = PLAIN,
) -> Evidence:
    """Judges flags (bool, as long as the panel) as a signal of some tone. Raises `Cancelled`, and `RunProblem` where no symbol
    has prices above 0 throughout. Shape (bars,)."""
    panel, firsts = ground.panel, ground.firsts
    if len(panel) and ground.grid.below_zero.all():
        raise RunProblem(
            f"{panel.symbols[0]} has prices of 0 and below, so changes in per cent have no meaning: there is no evidence on it. A "
            "trial in units shows the results of a rule."
        )
    found = followed(ground, flags, HORIZONS, context=context)
    places = np.flatnonzero(flags)
    symbol = np.searchsorted(panel.offsets, places, "right") - 1
    places = places[places >= firsts[symbol]] if len(places) else places
    horizons = tuple(_horizon(panel, one, tone) for one in found)
    return Evidence(program, name, tone, ground, horizons, overall_of(found, tone), tuple(found), places)


def _horizon(panel: Panel, one: Followed, tone: Tone) -> Horizon:
    there = ~np.isnan(one.changes)
    changes, places = one.changes[there], one.places[there]
    count = len(changes)
    usual = one.usual_sum / one.usual_count if one.usual_count else None
    if not count or usual is None:
        return Horizon(one.horizon, count, 0, None, None, None, usual, None, None, len(one.shifts) - 1, 0.0)
    mean = float(changes.mean())
    return Horizon(
        bars=one.horizon,
        count=count,
        days=days_of(panel, places),
        mean=mean,
        median=float(np.median(changes)),
        up=float((changes > 0).mean()),
        usual=usual,
        difference=mean - usual,
        chance=_chance(one, tone),
        shifts=len(one.shifts) - 1,
        overlapping=_overlapping(panel, places, one.horizon),
    )


def _good(one: Followed, tone: Tone) -> np.ndarray:
    """How good each shift is: up for a bullish signal, down for a bearish one, and away from nothing for a neutral one."""
    match tone:
        case Tone.BULLISH:
            return one.statistics
        case Tone.BEARISH:
            return -one.statistics
        case _:
            return np.abs(one.statistics)


def _chance(one: Followed, tone: Tone) -> float | None:
    """The share of shifts, none among them, that are at least as good as the signal as it is."""
    if one.moments < FEWEST_MOMENTS:
        return None
    good = _good(one, tone)
    return float((good >= good[0] - SAME).sum()) / len(good)


def overall_of(found: Sequence[Followed], tone: Tone) -> float | None:
    """The chance of all horizons together: each standardised by the mean and deviation of its shifts, the best of them at
    each shift that all have, compared with the best of the signal as it is."""
    some = [one for one in found if one.moments >= FEWEST_MOMENTS]
    if not some:
        return None
    count = min(len(one.statistics) for one in some)
    best = np.full(count, -np.inf)
    for one in some:
        good = _good(one, tone)
        spread = float(good.std())
        best = np.maximum(best, (good[:count] - good.mean()) / spread if spread > 0 else np.zeros(count))
    return float((best >= best[0] - SAME).sum()) / count


def days_of(panel: Panel, places: np.ndarray) -> int:
    """On how many days of the exchange's calendar some bars fall. Shape (places,), int64."""
    return len(np.unique(panel.column("day_number")[places])) if len(places) else 0


def _overlapping(panel: Panel, places: np.ndarray, bars: int) -> float:
    """The share of bars that come less than so many bars after the one before them of the same symbol."""
    if len(places) < 2:
        return 0.0
    symbol = np.searchsorted(panel.offsets, places, "right")
    near = (np.diff(places) < bars) & (symbol[1:] == symbol[:-1])
    return float(near.sum() / len(places))
