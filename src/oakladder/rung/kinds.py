"""Kinds and units of values: what the checker knows of an expression before anything runs."""

from __future__ import annotations

from dataclasses import dataclass, replace
from enum import Enum


class Kind(Enum):
    """What sort of value an expression is."""

    NUMBER = "number"
    FLAG = "flag"
    TEXT = "text"
    COLOUR = "colour"
    TIMEFRAME = "timeframe"
    CLOCK = "clock"
    NONE = "none"
    BUNDLE = "several results"
    UNKNOWN = "unknown"

    @property
    def with_article(self) -> str:
        return {"none": "none", "several results": "several results"}.get(self.value, f"a {self.value}")


class Unit(Enum):
    """What a number measures. PLAIN goes with everything; UNKNOWN silences the warnings."""

    PRICE = "price"
    VOLUME = "volume"
    BARS = "bars"
    RATIO = "ratio"
    PERCENT = "percent points"
    MONEY = "money"
    CLOCK = "clock"
    PLAIN = "plain"
    UNKNOWN = "unknown"


@dataclass(frozen=True, slots=True)
class Type:
    """The kind of a value, whether it moves from bar to bar, its unit, and its value if already known.

    ``counter`` marks what depends on a loop counter: it moves, but may be a lag. ``per_symbol`` marks
    what is fixed for a symbol but differs between symbols.
    """

    kind: Kind
    moving: bool = True
    unit: Unit = Unit.PLAIN
    value: object = None
    counter: bool = False
    per_symbol: bool = False
    #: Whether it is made of a zone's own values, which have no past.
    of_zone: bool = False
    #: Whether it is made of the position, which the bars of the script itself have.
    of_position: bool = False
    results: tuple[tuple[str, Type], ...] = ()

    @property
    def known_kind(self) -> bool:
        return self.kind not in (Kind.UNKNOWN, Kind.NONE)


UNKNOWN = Type(Kind.UNKNOWN, moving=False, unit=Unit.UNKNOWN, counter=True)


def number(unit: Unit = Unit.PLAIN, *, moving: bool = True) -> Type:
    return Type(Kind.NUMBER, moving, unit)


def blend(*types: Type, kind: Kind, unit: Unit = Unit.PLAIN, value: object = None) -> Type:
    """The type of something made of other values: it moves if any of them does."""
    moving = counter = per_symbol = of_zone = of_position = False
    steady = True  # what moves is a counter
    for one in types:
        moving = moving or one.moving
        steady = steady and (one.counter or not one.moving)
        counter = counter or one.counter
        per_symbol = per_symbol or one.per_symbol
        of_zone = of_zone or one.of_zone
        of_position = of_position or one.of_position
    return Type(
        kind,
        moving,
        unit,
        value,
        counter=steady and counter,
        per_symbol=per_symbol,
        of_zone=of_zone,
        of_position=of_position,
    )


def joined(a: Type, b: Type) -> Type:
    """The type of a value that is either of two: of one kind, moving if one is."""
    kind = b.kind if a.kind in (Kind.NONE, Kind.UNKNOWN) else a.kind
    if {a.kind, b.kind} == {Kind.CLOCK, Kind.NUMBER}:  # a clock counts its minutes
        kind = Kind.NUMBER
    unit = a.unit if b.kind is Kind.NONE else b.unit if a.kind is Kind.NONE else common_unit(a.unit, b.unit)
    if a.kind is Kind.BUNDLE and b.kind is Kind.BUNDLE:
        return replace(a, moving=True, value=None)
    return blend(a, b, kind=kind, unit=unit)


def common_unit(a: Unit, b: Unit) -> Unit:
    """The unit of a sum, a choice or an extreme of two numbers."""
    if a is b:
        return a
    if a is Unit.PLAIN:
        return b
    if b is Unit.PLAIN:
        return a
    if Unit.UNKNOWN in (a, b):  # most likely the same thing by another way, as a deviation of prices is
        return b if a is Unit.UNKNOWN else a
    return Unit.UNKNOWN


def unlike(a: Unit, b: Unit) -> bool:
    """Whether comparing or adding two units is likely a mistake."""
    return a is not b and not {a, b} & {Unit.PLAIN, Unit.UNKNOWN} and {a, b} != {Unit.RATIO, Unit.PERCENT}


def product_unit(a: Unit, b: Unit) -> Unit:
    if Unit.UNKNOWN in (a, b):
        return Unit.UNKNOWN
    neutral = {Unit.PLAIN, Unit.RATIO}
    if a in neutral:
        return b if b is not Unit.PLAIN else a
    if b in neutral:
        return a
    return Unit.MONEY if {a, b} == {Unit.PRICE, Unit.VOLUME} else Unit.UNKNOWN


def quotient_unit(a: Unit, b: Unit) -> Unit:
    if Unit.UNKNOWN in (a, b):
        return Unit.UNKNOWN
    if a is b:
        return Unit.RATIO if a is not Unit.PLAIN else Unit.PLAIN
    if b in (Unit.PLAIN, Unit.RATIO, Unit.BARS):
        return a
    if a is Unit.MONEY and b in (Unit.PRICE, Unit.VOLUME):
        return Unit.VOLUME if b is Unit.PRICE else Unit.PRICE
    return Unit.UNKNOWN
