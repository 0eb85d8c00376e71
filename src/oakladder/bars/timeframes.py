"""Timeframes: how long a bar lasts, and how to write that down."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import Enum


class BarUnit(Enum):
    """What a timeframe counts."""

    MINUTES = "m"
    DAY = "d"
    WEEK = "w"
    MONTH = "mo"


_ORDERS = {BarUnit.DAY: 10_000, BarUnit.WEEK: 70_000, BarUnit.MONTH: 300_000}


@dataclass(frozen=True, slots=True)
class Timeframe:
    """A bar length: ``count`` minutes, or one day, week or month."""

    span: BarUnit
    count: int = 1

    @classmethod
    def parse(cls, text: str) -> Timeframe:
        """Reads ``5m``, ``4h``, ``1d``, ``1w``, ``1mo``; raises `ValueError` with a sentence that says what is allowed."""
        found = re.fullmatch(r"([0-9]+)(mo|m|h|d|w)", text.strip())
        if not found:
            raise ValueError(
                f"`{text}` is no timeframe. Write 5m, 4h, 1d, 1w or 1mo, or any whole number of minutes or hours."
            )
        count, unit = int(found.group(1)), found.group(2)
        if unit in ("d", "w", "mo"):
            if count != 1:
                raise ValueError(f"`{text}` is no timeframe: of days, weeks and months only 1 can be taken.")
            return cls({"d": BarUnit.DAY, "w": BarUnit.WEEK, "mo": BarUnit.MONTH}[unit])
        minutes = count * (60 if unit == "h" else 1)
        if not 0 < minutes <= 1440:
            raise ValueError(f"`{text}` is no timeframe: bars within a day last from 1m to 24h.")
        return cls(BarUnit.MINUTES, minutes)

    @property
    def intraday(self) -> bool:
        return self.span is BarUnit.MINUTES

    @property
    def order(self) -> int:
        """Grows with the length of the bar: minutes for intraday bars, more than any of them for the others."""
        return self.count if self.span is BarUnit.MINUTES else _ORDERS[self.span]

    def __str__(self) -> str:
        if self.span is not BarUnit.MINUTES:
            return f"1{self.span.value}"
        return f"{self.count // 60}h" if self.count % 60 == 0 else f"{self.count}m"


ONE_MINUTE, ONE_DAY = Timeframe(BarUnit.MINUTES, 1), Timeframe(BarUnit.DAY)
ONE_WEEK, ONE_MONTH = Timeframe(BarUnit.WEEK), Timeframe(BarUnit.MONTH)
#: The steps of the timeframe ladder, shortest first.
STANDARD = tuple(
    Timeframe.parse(t) for t in ("1m", "3m", "5m", "15m", "30m", "45m", "1h", "2h", "4h", "1d", "1w", "1mo")
)
