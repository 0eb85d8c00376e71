"""What is known of a symbol, and how that is written down."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any
from zoneinfo import available_timezones

import msgspec

from oakladder.bars.adjustments import Adjustments, adjustments_of_text, adjustments_text
from oakladder.bars.calendar_words import is_sound
from oakladder.bars.contract import PLAIN, Contract
from oakladder.bars.errors import UnknownSymbol
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import BarUnit, Timeframe
from oakladder.bars.zones import is_zone

#: Who has made a symbol: the user, by an import, or the demo market.
OWN, DEMO = "", "demo"
#: The parts of a `SymbolInfo` that a user can set; imports do not overwrite them.
BY_HAND = ("name", "sector", "kind", "tick", "calendar", "contract")


@dataclass(frozen=True, slots=True)
class SymbolInfo:
    """What the catalogue knows of a symbol."""

    symbol: str
    name: str
    sector: str
    kind: str
    tick: float
    calendar: Calendar
    #: Minutes between its stored bars within the day.
    step: int = 1
    #: Who has made it: `OWN` or `DEMO`.
    origin: str = OWN
    #: Which parts the user has set.
    by_hand: frozenset[str] = frozenset()
    #: What one unit of it is worth and ties up.
    contract: Contract = PLAIN
    #: What its real prices, which are stored, are adjusted by.
    adjustments: Adjustments | None = None

    @property
    def finest(self) -> Timeframe:
        """The shortest timeframe within the day that its stored bars can make."""
        return Timeframe(BarUnit.MINUTES, self.step)

    @property
    def decimals(self) -> int:
        """Decimals that a price is written with."""
        return _decimals(self.tick)


class SymbolInfos(dict[str, SymbolInfo]):
    """What is known of each symbol of a library, in the catalogue's order. Raises `UnknownSymbol` for any other."""

    def __missing__(self, symbol: str) -> SymbolInfo:
        raise UnknownSymbol(symbol)


@lru_cache(maxsize=64)
def _decimals(tick: float) -> int:
    return max(0, len(f"{tick:.8f}".rstrip("0").split(".")[1]))


@lru_cache(maxsize=1)
def zones() -> frozenset[str]:
    """Every time zone that is known."""
    return frozenset(available_timezones())


def calendar_text(calendar: Calendar) -> str:
    """A calendar as it is written down: JSON."""
    return _written(calendar)


@lru_cache(maxsize=256)
def _written(calendar: Calendar) -> str:
    plain = msgspec.to_builtins(calendar)
    plain["holidays"], plain["halves"] = sorted(calendar.holidays), sorted(calendar.halves)
    return msgspec.json.encode(plain).decode()


@lru_cache(maxsize=256)
def calendar_of_text(text: str) -> Calendar:
    """A calendar from what was written down. Raises `ValueError` where that makes no sense."""
    try:
        made = msgspec.json.decode(text, type=Calendar)
    except (msgspec.MsgspecError, RecursionError) as error:
        raise ValueError(f"no calendar: {error}") from None
    if not is_zone(made.zone):
        raise ValueError(f"there is no time zone {made.zone}")
    if not is_sound(made):
        raise ValueError("hours that make no sense")
    return made


def info_of(plain: dict[str, Any]) -> SymbolInfo:
    """What is known of a symbol from what was written down; parts that make no sense are as usual.

    Raises `ValueError` where the symbol itself does.
    """
    symbol = plain.get("symbol")
    if not isinstance(symbol, str) or not symbol:
        raise ValueError("no symbol")
    tick, step = plain.get("tick"), plain.get("step")
    try:
        calendar = calendar_of_text(str(plain.get("calendar")))
    except ValueError:
        calendar = Calendar()
    words = plain.get("by_hand")
    return SymbolInfo(
        symbol,
        _text(plain, "name") or symbol,
        _text(plain, "sector"),
        _text(plain, "kind") or "share",
        float(tick) if isinstance(tick, int | float) and 0 < tick < 1e9 else 0.01,
        calendar,
        step if isinstance(step, int) and 1 <= step <= 1440 else 1,
        _text(plain, "origin"),
        frozenset(w for w in (words.split(",") if isinstance(words, str) else ()) if w in BY_HAND),
        _contract(plain.get("contract")),
        adjustments_of_text(plain.get("adjustments")),
    )


def _contract(text: object) -> Contract:
    """The terms of a unit from what was written down; those of a share where that makes no sense."""
    try:
        made = msgspec.json.decode(text, type=Contract) if isinstance(text, str) and text else PLAIN
    except (msgspec.MsgspecError, RecursionError):
        return PLAIN
    return made if made.is_sound else PLAIN


def _text(plain: dict[str, Any], key: str) -> str:
    value = plain.get(key)
    return value if isinstance(value, str) else ""


def plain_of(info: SymbolInfo) -> dict[str, Any]:
    """What is known of a symbol, to be written down."""
    return {
        "symbol": info.symbol,
        "name": info.name,
        "sector": info.sector,
        "kind": info.kind,
        "tick": info.tick,
        "step": info.step,
        "origin": info.origin,
        "by_hand": ",".join(sorted(info.by_hand)),
        "calendar": calendar_text(info.calendar),
        "adjustments": adjustments_text(info.adjustments),
        "contract": "" if info.contract == PLAIN else msgspec.json.encode(info.contract).decode(),
    }


def with_hand(old: SymbolInfo, made: SymbolInfo) -> SymbolInfo:
    """A newer description of a symbol with everything that the user has set in the old one."""
    kept = {part: getattr(old, part) for part in old.by_hand}
    return replace(made, by_hand=old.by_hand, **kept)
