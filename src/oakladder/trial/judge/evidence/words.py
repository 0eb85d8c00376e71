"""What evidence says, in plain sentences."""

from __future__ import annotations

from dataclasses import dataclass

from oakladder.trial.judge.evidence.study import USUAL_HORIZON, Evidence, Horizon
from oakladder.trial.judge.studentised import FEWEST_MOMENTS
from oakladder.trial.spans import TUNED_WORDS

#: Fewer occurrences, or days, say little whatever they show.
FEW = 30
#: From this share of overlapping occurrences on the count flatters.
_OVERLAP = 0.5
#: Occurrences a day from which on they are clustered: a single day's luck counts many times.
_CLUSTERED = 5.0
#: Largest share of random shifts that does as well for a signal worth a closer look.
RARE = 0.05


def sentence(evidence: Evidence, bars: int = USUAL_HORIZON) -> str:
    """The summary: how chance does over all horizons; then how often, what followed beside what usually follows, and how
    chance does at one horizon."""
    told = _sentence(evidence, bars)
    return f"{TUNED_WORDS} {told}" if evidence.ground.is_tuned else told


def _sentence(evidence: Evidence, bars: int) -> str:
    one = evidence.at(bars)
    if not evidence.places.size:
        return f"`{evidence.signal}` never occurred here."
    if not one.count or one.difference is None:
        return f"`{evidence.signal}` came {_times(len(evidence.places))}, never with {one.bars} bars behind it."
    change = f"{abs(one.difference):.2%} {'more' if one.difference >= 0 else 'less'} than usual"
    beside = f" ({_share_words(one.chance)} of shifts)" if one.chance is not None and one.shifts else ""
    return f"{overall_words(evidence)} After {_times(one.count)} on {_days(one.days)}: {_bars(one.bars)} later {change}{beside}."


def overall_words(evidence: Evidence) -> str:
    """How chance does over all horizons together, in a sentence."""
    if evidence.overall is None:
        return f"The signal came on fewer than {FEWEST_MOMENTS} bars in time: too few to compare with chance."
    if not any(h.shifts for h in evidence.horizons):
        return "The history is too short to shift the signal."
    return f"Over all horizons, {_share_words(evidence.overall)} of random shifts did at least as well."


def chance_words(one: Horizon) -> str:
    """How chance does at one horizon, in a sentence."""
    if one.chance is None:
        return ""
    if not one.shifts:
        return "The history is too short to shift the signal."
    words = f"{_share_words(one.chance)} of random shifts did at least as well."
    return words[0].upper() + words[1:]


def _share_words(share: float) -> str:
    """A share, as many of 100 as it is, of 1,000 where that is less than one."""
    if share >= 0.01:
        return f"{round(share * 100)} %"
    return f"{share * 100:.1f} %" if share >= 0.001 else "less than 0.1 %"


@dataclass(frozen=True, slots=True)
class Weakness:
    """What keeps evidence from meaning much: in a word, and in a sentence."""

    word: str
    words: str


def warnings(evidence: Evidence, bars: int = USUAL_HORIZON) -> list[str]:
    """What keeps the numbers from meaning much, in sentences."""
    return [weakness.words for weakness in weaknesses(evidence, bars)]


def weaknesses(evidence: Evidence, bars: int = USUAL_HORIZON) -> list[Weakness]:
    """What keeps the numbers from meaning much: too few, too clustered, too overlapping, too short."""
    one = evidence.at(bars)
    if not one.count:
        return []
    made: list[Weakness] = []
    if one.count < FEW:
        made.append(Weakness("few", f"Only {_times(one.count)}: one more good or bad day would change the result."))
    elif one.days < FEW:
        words = f"All {one.count:,} fell on only {_days(one.days)}: what happened then counts many times."
        made.append(Weakness("on few days", words))
    elif one.count > _CLUSTERED * one.days:
        words = (
            f"{one.count / one.days:,.0f} came on one day in the mean: many symbols did the same thing together, "
            "so they are fewer cases than they look."
        )
        made.append(Weakness("clustered", words))
    if one.overlapping > _OVERLAP:
        words = (
            f"{one.overlapping:.0%} came within {_bars(one.bars)} of the one before, so the same move is counted again."
        )
        made.append(Weakness("overlapping", words))
    usable = one.shifts + 1
    if one.count and usable < 100:
        words = f"The history is short: there are only {one.shifts} other places in time to compare with."
        made.append(Weakness("short history", words))
    return made


#: What stands over a horizon's cells.
HORIZON_HEADS = ("Bars", "Times", "Days", "Mean", "Median", "Up", "Usual", "More", "Chance")


def horizon_words(one: Horizon) -> list[str]:
    """A horizon as a row of a table; a dash for undefined values."""
    changes = [one.mean, one.median, one.usual, one.difference]
    mean, median, usual, difference = ("–" if c is None else f"{c:+.2%}" for c in changes)
    up = "–" if one.up is None else f"{one.up:.0%}"
    chance = "–" if one.chance is None else f"{one.chance:.1%}"
    return [str(one.bars), f"{one.count:,}", f"{one.days:,}", mean, median, up, usual, difference, chance]


def _times(count: int) -> str:
    return "once" if count == 1 else f"{count:,} times"


def _days(count: int) -> str:
    return "1 day" if count == 1 else f"{count:,} days"


def _bars(count: int) -> str:
    return "1 bar" if count == 1 else f"{count} bars"
