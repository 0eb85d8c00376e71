"""What a scan says of itself, in sentences."""

from __future__ import annotations

import numpy as np

from oakladder.engine.picture.thumbnail import Marking
from oakladder.engine.scan.conditions import Condition, rules_of
from oakladder.engine.scan.run import FOLLOWED_BARS, Occurrence, ScanResult
from oakladder.engine.scan.why_not import WhyNot
from oakladder.engine.universe.map import SkippedSymbol
from oakladder.rung.texts import count_words


def marking_of(condition: Condition) -> Marking | None:
    """The first signal of a condition: the small charts carry its marks."""
    for rule in rules_of(condition):
        if any(s.name == rule.name for s in rule.program.signals):
            return Marking(rule.program, (rule.name,), rule.settings)
    return None


def found_words(made: ScanResult) -> str:
    """What was found."""
    new = sum(f.is_new for f in made.found)
    words = f"{len(made.found)} of {count_words(made.looked_at, 'symbol')} in {made.seconds:.2f} s; {new} new"
    words += f", {len(made.gone)} gone since the previous bar"
    words += f": {', '.join(made.gone[:6])}" if made.gone else ""
    return words + "." + ("" if made.found else " Look back shows when it did.") + _left_out(made.skipped)


def past_words(found: list[Occurrence], skipped: tuple[SkippedSymbol, ...]) -> str:
    """How many past occurrences there are, and what followed."""
    days = len({o.day for o in found})
    words = f"It was true {count_words(len(found), 'time')} on {count_words(days, 'day')}."
    hidden = sum(o.sealed for o in found)
    after = np.array([o.after for o in found if o.after == o.after])
    if len(after):
        words += (
            f" {FOLLOWED_BARS} bars later the middle one stood {np.median(after):+.1%}, "
            f"and {np.mean(after > 0):.0%} of {len(after):,} had risen."
        )
    if hidden:
        words += f" What followed {count_words(hidden, 'time')} lies in the sealed part of history and is not shown."
    return words + _left_out(skipped)


def why_not_words(symbol: str, made: WhyNot, list_name: str, *, listed: bool) -> str:
    """Whether a symbol is found, and what keeps it out."""
    if made.found:
        return f"{symbol} matches." if listed else f"{symbol} matches, but is not in {list_name}."
    if made.first is None:
        return f"{symbol} does not match: no condition holds."
    return f"{symbol} does not match, because of condition {made.first + 1}: {made.answers[made.first].words}."


def _left_out(skipped: tuple[SkippedSymbol, ...]) -> str:
    if not skipped:
        return ""
    return f" {len(skipped)} skipped: {skipped[0].symbol}, {skipped[0].reason}"
