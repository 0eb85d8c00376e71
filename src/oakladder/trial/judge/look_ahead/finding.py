"""What the look-ahead check finds, each with the bar on which it is seen best."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from oakladder.bars.panel import Panel
from oakladder.bars.time_words import iso, opening_words


class FindingKind(Enum):
    """Each way in which a script can show more than could be had: its name, and what is wrong with it."""

    CHANGED = ("changed", "A value changed after its bar had closed.")
    BEFORE_KNOWN = ("before known", "A drawing is on a bar before it was known.")
    FORMING = ("forming", "A longer bar is read before it is complete, so it may still change.")
    OWN_HISTORY = (
        "own history",
        "A date, a bar number or a setting that was found on this very history decides, so it tells nothing of other times.",
    )
    UNDECIDED = ("undecided", "A bar reached both stop and target, and the order is not known.")
    THROUGH = (
        "needs trading through",
        "A limit or target is at its bar's exact extreme: nothing traded beyond it, so it may not have been filled.",
    )
    THIN = ("thin", "An entry is too large for its bar's volume to be filled at that price.")
    NO_VOLUME = ("no volume", "No volume is known, so the size of an entry cannot be checked.")

    def __init__(self, word: str, about: str):
        self.word, self.about = word, about


@dataclass(frozen=True, slots=True)
class Finding:
    """One kind of thing at one place of a script: how often it was seen, and its latest bar.

    ``line`` is the line of the script, 0 where it is no single one.
    """

    kind: FindingKind
    words: str
    count: int
    symbol: str
    #: Opening of the bar, UTC seconds, and as the exchange's calendar says it.
    time: int
    when: str
    line: int = 0

    def as_plain(self) -> dict[str, object]:
        """As it is written in JSON."""
        return {
            "sin": self.kind.word,
            "words": self.words,
            "count": self.count,
            "symbol": self.symbol,
            "bar": iso(self.time),
            "line": self.line or None,
        }


def finding(kind: FindingKind, words: str, count: int, panel: Panel, place: int, line: int = 0) -> Finding:
    """A finding whose bar is a place in a panel."""
    symbol = int(panel.offsets.searchsorted(place, "right")) - 1
    time = int(panel.times[place])
    when = opening_words(panel.calendars[symbol], panel.timeframe, time)
    return Finding(kind, words, count, panel.symbols[symbol], time, when, line)


@dataclass(frozen=True, slots=True)
class Clear:
    """A kind of which nothing was found, and what was looked at."""

    kind: FindingKind
    words: str
