"""The words of `trade`, declared once: its clauses, the values of a position, and why a position is left."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import IntEnum, StrEnum

from oakladder.rung.kinds import Kind, Type, Unit, number

TRADE = "trade"
POSITION = "position"


class Side(IntEnum):
    """Which way a trade goes."""

    LONG = 1
    SHORT = -1

    @property
    def word(self) -> str:
        """How a script says it."""
        return self.name.lower()


class Reason(StrEnum):
    """Why a position was left; the number by which the code of a script says it is its place here, from 1."""

    LEAVE = "leave"
    STOP = "stop"
    TARGET = "target"
    TIME = "time"
    CLOCK = "clock"
    SESSION = "session"
    REVERSE = "reverse"

    @property
    def number(self) -> int:
        return list(Reason).index(self) + 1


class TradeWord(StrEnum):
    """The clauses of a trade, each by the rule that reads it."""

    ENTER = "enter_when"
    ENTER_AT = "enter_at"
    LEAVE = "leave_when"
    STOP = "stop_away"
    STOP_AT = "stop_at"
    TRAIL = "trail_away"
    PROTECT = "protect_away"
    PROTECT_RISKS = "protect_risks"
    TARGET = "target_away"
    TARGET_AT = "target_at"
    TARGET_RISKS = "target_risks"
    MOST = "at_most"
    FLAT_BY = "flat_by"
    FLAT_AT_END = "flat_at_end"
    PAUSE = "pause"
    RANK = "rank"


@dataclass(frozen=True, slots=True)
class TradeForm:
    """A clause of a trade: its rule, its first word, what stands behind that, and a sentence.

    ``kinds`` are the kinds of its values in order; of several clauses with one ``once`` a trade takes one.
    """

    rule: TradeWord
    word: str
    reads: str
    form: str
    about: str
    kinds: tuple[Kind, ...]
    once: str = ""
    group: str = "A trade"
    #: What it is called, where that is more than its first word.
    name: str = ""

    @property
    def said(self) -> str:
        """What it is called in a sentence."""
        return self.name or self.word

    @property
    def part(self) -> str:
        """What a trade has once."""
        return self.once or self.rule


_N, _F = Kind.NUMBER, Kind.FLAG
TRADE_FORMS: tuple[TradeForm, ...] = (
    TradeForm(
        TradeWord.ENTER,
        "enter",
        '"when" expr',
        "enter when FLAG",
        "decided at the close of a bar on which it holds, filled at the next open",
        (_F,),
        "enter",
    ),
    TradeForm(
        TradeWord.ENTER_AT,
        "enter",
        '"at" expr "when" expr ["for" expr "bars"]',
        "enter at PRICE when FLAG [for N bars]",
        "an order that rests at a price for the next N bars (1): at that price or better where it lies on the near side "
        "of the close, at that price or worse where it lies beyond",
        (_N, _F, _N),
        "enter",
    ),
    TradeForm(
        TradeWord.LEAVE, "leave", '"when" expr', "leave when FLAG", "decided at a close, filled at the next open", (_F,)
    ),
    TradeForm(
        TradeWord.STOP,
        "stop",
        "expr",
        "stop DISTANCE",
        "left so far from the fill price: a distance in price, or a ratio such as 5%; as of the deciding bar",
        (_N,),
    ),
    TradeForm(
        TradeWord.STOP_AT,
        "stop",
        '"at" expr',
        "stop at PRICE",
        "left at a price, read again at each close; it only ever tightens, and none changes nothing",
        (_N,),
    ),
    TradeForm(
        TradeWord.TRAIL,
        "trail",
        "expr",
        "trail DISTANCE",
        "a stop so far behind the best price since the fill; it only ever tightens",
        (_N,),
    ),
    TradeForm(
        TradeWord.PROTECT,
        "protect",
        '"after" expr',
        "protect after DISTANCE",
        "once the best price is so far beyond the fill, the stop is no farther than the fill price",
        (_N,),
        "protect",
    ),
    TradeForm(
        TradeWord.PROTECT_RISKS,
        "protect",
        '"after" expr "risks"',
        "protect after N risks",
        "the same, counted in risks",
        (_N,),
        "protect",
    ),
    TradeForm(TradeWord.TARGET, "target", "expr", "target DISTANCE", "left so far beyond the fill price", (_N,)),
    TradeForm(
        TradeWord.TARGET_AT,
        "target",
        '"at" expr',
        "target at PRICE",
        "left at a price, read again at each close; none changes nothing",
        (_N,),
    ),
    TradeForm(
        TradeWord.TARGET_RISKS,
        "target",
        'expr "risks"',
        "target N risks",
        "left N risks beyond the fill; a risk is the distance from the fill to the first stop",
        (_N,),
    ),
    TradeForm(
        TradeWord.MOST,
        "at",
        '"most" expr "bars"',
        "at most N bars",
        "left at the open N bars after the fill",
        (_N,),
        name="at most",
    ),
    TradeForm(
        TradeWord.FLAT_BY,
        "flat",
        '"by" expr',
        "flat by CLOCK",
        "left at the first open at or after a time of day; nothing is decided on bars that close then or later",
        (Kind.CLOCK,),
    ),
    TradeForm(
        TradeWord.FLAT_AT_END,
        "flat",
        '"at" "session" "end"',
        "flat at session end",
        "left at the close of the session's last bar; nothing is decided on that bar",
        (),
    ),
    TradeForm(
        TradeWord.PAUSE,
        "pause",
        'expr "bars"',
        "pause N bars",
        "the trade is not entered again on the bar on which it was left and the N bars after it",
        (_N,),
    ),
    TradeForm(
        TradeWord.RANK,
        "rank",
        "expr",
        "rank NUMBER",
        "where an account cannot take every entry of one moment, the highest first",
        (_N,),
    ),
)
FORMS: dict[TradeWord, TradeForm] = {f.rule: f for f in TRADE_FORMS}
#: The words with which the lines of a trade begin.
TRADE_LINE_WORDS = frozenset(f.word for f in TRADE_FORMS)
#: Words inside those lines.
TRADE_INNER_WORDS = frozenset({"after", "risks", "by", "session", "long", "short"})

#: What a script can know of its position, none while it has none.
POSITION_VALUES: dict[str, tuple[Type, str]] = {
    "side": (number(), "1 long, -1 short, 0 without a position"),
    "entry": (number(Unit.PRICE), "the price at which it was filled"),
    "bars": (number(Unit.BARS), "bars after the fill, 0 on its bar"),
    "gain": (number(Unit.RATIO), "what it has gained at this close, as a ratio of the entry"),
    "best": (number(Unit.PRICE), "the best price since the fill"),
    "stop": (number(Unit.PRICE), "the stop in force for the next bar"),
    "risk": (number(Unit.PRICE), "the distance from the fill to the first stop"),
}
POSITION_TYPE = Type(
    Kind.BUNDLE,
    of_position=True,
    results=tuple((name, replace(type_, of_position=True)) for name, (type_, _) in POSITION_VALUES.items()),
)


def trade_lines() -> str:
    """The lines of a trade, for the grammar."""
    lines = [f'     | "{f.word}" {f.reads} -> {f.rule}' for f in TRADE_FORMS]
    return "\n".join([f'     | "{TRADE}" NAME SIDE -> trade_line', *lines])


def trade_sides() -> str:
    """The sides of a trade, for the grammar."""
    return "SIDE: " + " | ".join(f'"{side.word}"' for side in Side)
