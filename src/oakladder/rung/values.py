"""The words Rung is born with, each declared once: bar values, colours, shapes, styles, primitives.

The checker, the lowering, completion, hover help and the documentation all read this file. Functions
that are written in Rung are not here: they live in ``library/``.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from oakladder.rung.kinds import Kind, Type, Unit, number


@dataclass(frozen=True, slots=True)
class BarValue:
    """A name that stands for something of the current bar. ``column`` names the input it is read from."""

    name: str
    type: Type
    about: str


_FLAG = Type(Kind.FLAG)
_PRICE = number(Unit.PRICE)

BAR_VALUES: dict[str, BarValue] = {
    v.name: v
    for v in [
        BarValue("open", _PRICE, "first price of the bar"),
        BarValue("high", _PRICE, "highest price of the bar"),
        BarValue("low", _PRICE, "lowest price of the bar"),
        BarValue("close", _PRICE, "last price of the bar"),
        BarValue("volume", number(Unit.VOLUME), "what was traded in the bar"),
        BarValue("range", _PRICE, "high minus low"),
        BarValue("body", _PRICE, "distance from open to close"),
        BarValue("hl2", _PRICE, "middle of high and low"),
        BarValue("hlc3", _PRICE, "mean of high, low and close"),
        BarValue("ohlc4", _PRICE, "mean of open, high, low and close"),
        BarValue("bar", number(Unit.BARS), "number of the bar, from 0"),
        BarValue("session_bar", number(Unit.BARS), "number of the bar within its session, from 0"),
        BarValue("clock", Type(Kind.CLOCK), "time of day at which the bar opened, on the exchange's clock"),
        BarValue("weekday", number(), "day of the week, 1 Monday to 7"),
        BarValue("day", number(), "day of the month"),
        BarValue("month", number(), "month of the year"),
        BarValue("year", number(), "year"),
        BarValue("extended", _FLAG, "whether the bar is outside regular hours"),
        BarValue("last_of_session", _FLAG, "whether this is the regular session's last bar, by the calendar"),
        BarValue("symbol", Type(Kind.TEXT, moving=False, per_symbol=True), "the symbol, as a text"),
        BarValue("timeframe", Type(Kind.TIMEFRAME, moving=False), "the timeframe that the script runs on"),
        BarValue("tick_size", Type(Kind.NUMBER, False, Unit.PRICE, per_symbol=True), "smallest step of the price"),
    ]
}

#: Bar values that are made of the five columns, as Rung would write them.
DERIVED: dict[str, str] = {
    "range": "high - low",
    "body": "abs(close - open)",
    "hl2": "(high + low) / 2",
    "hlc3": "(high + low + close) / 3",
    "ohlc4": "(open + high + low + close) / 4",
    "session_bar": "age(new(1d))",
}
#: What changes where a new day, week or month begins; `new` compares it with the bar before.
PERIODS: dict[str, str] = {
    "1d": "day_number",
    "1w": "floor((day_number + 3) / 7)",
    "1mo": "year * 12 + month",
}
#: Inputs that are read from the bars' times; ``day_number`` counts exchange days since 1970 and has no name in scripts.
TIME_INPUTS = ("clock", "weekday", "day", "month", "year", "day_number", "extended", "last_of_session", "tick_size")
#: Inputs that only the code of trades reads, by names that no script has: the time of day at which a bar closes, ticks in
#: 1.0 where that is a whole number, and the factor that made the prices of real ones, which alone have ticks.
TRADE_INPUTS = ("close_clock", "tick_count", "adjusted_by")
#: Inputs that are the same on all bars of a symbol.
PER_SYMBOL = frozenset({"tick_size", "tick_count"})
FLAG_INPUTS = frozenset(n for n in TIME_INPUTS if n in BAR_VALUES and BAR_VALUES[n].type.kind is Kind.FLAG)
COLUMNS = ("open", "high", "low", "close", "volume")

#: Palette names: the first five follow the theme, the others are the same in every theme.
THEMED = ("good", "bad", "calm", "warn", "mute")
PALETTE: dict[str, str] = {
    "good": "#3d6a9e",
    "bad": "#b5532d",
    "calm": "#7a9476",
    "warn": "#c98a1b",
    "mute": "#8d857a",
    "teal": "#2f8580",
    "amber": "#d39a2a",
    "rust": "#a8482a",
    "spruce": "#2f5d4a",
    "plum": "#7b4b78",
    "slate": "#52647a",
    "sand": "#c9b48a",
    "lime": "#8aa62f",
    "rose": "#c4707c",
    "sky": "#5f9cc4",
    "ink": "#4a423b",
}
SHAPES = (
    "arrow_up",
    "arrow_down",
    "wedge_up",
    "wedge_down",
    "dot",
    "ring",
    "square",
    "diamond",
    "cross",
    "star",
    "flag",
)
STYLES = ("solid", "dashed", "dotted", "steps", "dots")
#: The most minutes of a bar within the day.
MOST_MINUTES = 24 * 60
TIMEFRAMES = ("1m", "3m", "5m", "15m", "30m", "45m", "1h", "2h", "4h", "1d", "1w", "1mo")


def is_timeframe(text: str) -> bool:
    """Whether a text is a timeframe: a whole number of minutes or hours up to a day, or one day, week or month."""
    found = re.fullmatch(r"([1-9][0-9]{0,3})([mh])|1(d|w|mo)", text)
    if found is None:
        return False
    return found[1] is None or int(found[1]) * (60 if found[2] == "h" else 1) <= MOST_MINUTES


def minutes_of(timeframe: str) -> int:
    """About how long a bar of a timeframe is, in minutes: longer ones have more."""
    count, unit = re.fullmatch(r"(\d+)(\w+)", timeframe).groups()  # type: ignore[union-attr]
    return int(count) * {"m": 1, "h": 60, "d": 1440, "w": 7 * 1440, "mo": 30 * 1440}[unit]


def makes(shorter: str, longer: str) -> bool:
    """Whether bars of one timeframe can be put together from those of another."""
    a, b = minutes_of(shorter), minutes_of(longer)
    return a <= b and (b > MOST_MINUTES or longer.endswith("d") or b % a == 0)


class Wants:
    """What a primitive wants of an argument."""

    NUMBER = "number"
    FLAG = "flag"
    ANY = "any"
    LENGTH = "length"
    TIMEFRAME = "timeframe"
    COLOUR = "colour"


@dataclass(frozen=True, slots=True)
class Primitive:
    """A built-in function. ``holds`` says that it keeps state between bars."""

    name: str
    parameters: tuple[tuple[str, str], ...]
    gives: Kind
    about: str
    unit: str = "same"
    holds: bool = False
    #: A line that calls it.
    example: str = ""
    #: Whether it takes any number of values like its only parameter.
    variadic: bool = False


PRIMITIVES: dict[str, Primitive] = {
    p.name: p
    for p in [
        Primitive(
            "sum",
            (("x", Wants.NUMBER), ("n", Wants.LENGTH)),
            Kind.NUMBER,
            "sum of x over the last n bars; none until n values are there",
            holds=True,
            example="line sum(volume, 20)",
        ),
        Primitive(
            "highest",
            (("x", Wants.NUMBER), ("n", Wants.LENGTH)),
            Kind.NUMBER,
            "highest x of the last n bars; none until n values are there",
            holds=True,
            example="line highest(high, 20)",
        ),
        Primitive(
            "lowest",
            (("x", Wants.NUMBER), ("n", Wants.LENGTH)),
            Kind.NUMBER,
            "lowest x of the last n bars; none until n values are there",
            holds=True,
            example="line lowest(low, 20)",
        ),
        Primitive(
            "ranked",
            (("x", Wants.NUMBER), ("n", Wants.LENGTH), ("k", Wants.LENGTH)),
            Kind.NUMBER,
            "the k-th smallest x of the last n bars; none until n values are there",
            holds=True,
            example="line ranked(close, 20, 1)",
        ),
        Primitive(
            "rank_of",
            (("x", Wants.NUMBER), ("n", Wants.LENGTH)),
            Kind.NUMBER,
            "how many x of the last n bars are smaller than this one; none until n values are there",
            unit="plain",
            holds=True,
            example="line rank_of(close, 20)",
        ),
        Primitive("abs", (("x", Wants.NUMBER),), Kind.NUMBER, "x without its sign", example="line abs(close - open)"),
        Primitive(
            "min",
            (("a", Wants.NUMBER), ("b", Wants.NUMBER)),
            Kind.NUMBER,
            "the smaller of two numbers",
            example="line min(open, close)",
        ),
        Primitive(
            "max",
            (("a", Wants.NUMBER), ("b", Wants.NUMBER)),
            Kind.NUMBER,
            "the larger of two numbers",
            example="line max(open, close)",
        ),
        Primitive(
            "floor", (("x", Wants.NUMBER),), Kind.NUMBER, "the whole number at or below x", example="line floor(close)"
        ),
        Primitive(
            "ceil", (("x", Wants.NUMBER),), Kind.NUMBER, "the whole number at or above x", example="line ceil(close)"
        ),
        Primitive(
            "sqrt", (("x", Wants.NUMBER),), Kind.NUMBER, "square root; none below zero", example="line sqrt(volume)"
        ),
        Primitive(
            "log",
            (("x", Wants.NUMBER),),
            Kind.NUMBER,
            "natural logarithm; none at or below zero",
            unit="plain",
            example="line log(close)",
        ),
        Primitive(
            "exp",
            (("x", Wants.NUMBER),),
            Kind.NUMBER,
            "e to the power of x",
            unit="plain",
            example="line exp(close / close[1])",
        ),
        Primitive(
            "new",
            (("timeframe", Wants.TIMEFRAME),),
            Kind.FLAG,
            "yes on the first bar of a new day, week, month or longer bar, as in new(1d)",
            unit="plain",
            holds=True,
            example="mark new(1d)",
        ),
        Primitive(
            "fade",
            (("colour", Wants.COLOUR), ("opacity", Wants.NUMBER)),
            Kind.COLOUR,
            "the colour, so much per cent opaque, as in fade(teal, 40)",
            unit="plain",
            example="line close color fade(teal, 40)",
        ),
        Primitive(
            "blend",
            (("colour", Wants.COLOUR), ("other", Wants.COLOUR), ("share", Wants.NUMBER)),
            Kind.COLOUR,
            "a mixture: share 0 is the first colour, 1 the other",
            unit="plain",
            example="line close color blend(good, bad, 0.5)",
        ),
        Primitive(
            "how_many",
            (("f", Wants.FLAG),),
            Kind.NUMBER,
            "how many of some flags are yes; none until all of them are known",
            unit="plain",
            example="line how_many(close > open, volume > volume[1], close > sma(close, 20))",
            variadic=True,
        ),
        Primitive(
            "known",
            (("x", Wants.ANY),),
            Kind.FLAG,
            "yes where x is not none",
            unit="plain",
            example="mark known(close[200])",
        ),
    ]
}
