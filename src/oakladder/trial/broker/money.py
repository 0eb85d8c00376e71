"""What an account begins with, what it buys with it, and what that costs."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.rung.problems import RunProblem
from oakladder.trial.broker.ledger import Sizing

_NUMBER = r"\s*(\d+(?:\.\d*)?|\.\d+)\s*"
_SIZES = {"%": Sizing.SHARE, "m": Sizing.MONEY, "u": Sizing.UNITS, "%r": Sizing.RISK}


@dataclass(frozen=True, slots=True)
class Size:
    """The size of an entry: a share of equity, a sum of money, units, or a share of equity at risk."""

    kind: Sizing
    amount: float

    @classmethod
    def parse(cls, text: str) -> Size:
        """``100%``, ``5000m`` (money), ``100u`` (units), ``1%r`` (at risk). Raises `RunProblem` with a sentence."""
        found = re.fullmatch(_NUMBER + r"(%r|%|m|u)\s*", text)
        if found is None or float(found[1]) <= 0:
            raise RunProblem(
                f"Write a position size as 100% (of equity), 5000m (money), 100u (units) or 1%r (of equity at risk), not `{text}`."
            )
        kind = _SIZES[found[2]]
        share = kind in (Sizing.SHARE, Sizing.RISK)
        return cls(kind, float(found[1]) / (100 if share else 1))

    def __str__(self) -> str:
        share = self.kind in (Sizing.SHARE, Sizing.RISK)
        word = next(word for word, kind in _SIZES.items() if kind is self.kind)
        return f"{self.amount * (100 if share else 1):g}{word}"


#: What an account can be set to at most: its money, units and ticks, positions at once, and buying power.
MOST_MONEY, MOST_UNITS, MOST_POSITIONS, MOST_POWER = 1e12, 1e9, 100_000, 100.0


@dataclass(frozen=True, slots=True)
class Slippage:
    """By how much fills at the market and at stops are worse: ticks, a ratio of the price, a share of their bar's range, and
    a ratio of the price that grows with the share of the bar's volume: all of it at the whole volume, and no more beyond."""

    ticks: float = 0.0
    ratio: float = 0.0
    of_range: float = 0.0
    of_volume: float = 0.0

    @property
    def by_bar(self) -> bool:
        """Whether it depends on the range or the volume of the fill's bar."""
        return bool(self.of_range or self.of_volume)

    def of(self, price: np.ndarray, tick: np.ndarray, bar: FillBar | None = None) -> np.ndarray:
        """What fills at the market and at stops are worse by, at some prices with some price steps, on some bars where it
        depends on them. Each: shape (fills,), float64; so is the result, in money per unit."""
        made = self.ticks * tick + self.ratio * price
        if self.by_bar:
            assert bar is not None
            made = made + self.of_range * bar.spread + self.of_volume * np.abs(price) * bar.share
        return made

    @classmethod
    def parse(cls, text: str) -> Slippage:
        """``1t`` (ticks), ``0.02%``, ``10%range``, ``0.5%volume``, or several with ``+`` between them. Raises `RunProblem`
        with a sentence."""
        made: dict[str, float] = {}
        for part in text.split("+"):
            found = re.fullmatch(_NUMBER + r"(t|%\s*range|%\s*volume|%|)\s*", part)
            if found is None or (float(found[1]) != 0 and not found[2]):
                raise RunProblem(
                    "Write slippage as 1t (ticks), 0.02% (of the price), 10%range (of the bar's high to low) or 0.5%volume (of the "
                    f"price, for a fill as large as the bar's volume), with + between several, not `{text}`."
                )
            unit = "".join(found[2].split()) or "t"
            made[unit] = made.get(unit, 0.0) + float(found[1])
        return cls(*(made.get(unit, 0.0) / (1 if unit == "t" else 100) for unit in _SLIPPAGE))

    def __str__(self) -> str:
        parts = (self.ticks, self.ratio * 100, self.of_range * 100, self.of_volume * 100)
        told = [f"{part:g}{unit}" for part, unit in zip(parts, _SLIPPAGE, strict=True) if part]
        return "+".join(told) or "0t"


#: The units of slippage as they are written.
_SLIPPAGE = ("t", "%", "%range", "%volume")


class FillBar(NamedTuple):
    """The bars of some fills: from low to high, and which share of the volume the fill is, at most all of it. Each: shape (fills,), float64."""

    spread: np.ndarray
    share: np.ndarray

    @classmethod
    def of(cls, panel: Panel, bars: np.ndarray, units: np.ndarray | float) -> FillBar:
        """Those of fills of so many units (adjusted ones, as those of a `Book`) on some bars of a panel (int64, shape
        (fills,)). What is not known is nothing: a bar without a range, or without a volume."""
        spread = panel.column("high")[bars] - panel.column("low")[bars]
        volume = panel.column("volume")[bars]
        share = np.divide(units * panel.adjusted_on(bars), volume, out=np.zeros(np.shape(bars)), where=volume > 0)
        return cls(np.where(np.isnan(spread), 0.0, spread), np.minimum(share, 1.0))


def parse_ratio(text: str) -> float:
    """``0.05%`` as 0.0005; 0 needs no sign. Raises `RunProblem` with a sentence."""
    found = re.fullmatch(_NUMBER + r"(%?)\s*", text)
    if found is None or (float(found[1]) != 0 and not found[2]):
        raise RunProblem(f"Write a commission as a share of the value, such as 0.05%, not `{text}`.")
    return float(found[1]) / 100


@dataclass(frozen=True, slots=True)
class Costs:
    """What a fill costs: a sum, a sum for each unit, a ratio of its value, and slippage; and what holding costs."""

    fixed: float = 0.0
    per_unit: float = 0.0
    ratio: float = 0.0005
    slippage: Slippage = Slippage(ticks=1)
    #: What holding costs a year, as ratios of what was paid: of a long position, and of a short one.
    financing: float = 0.0
    borrow: float = 0.0

    def of_fills(self, units: np.ndarray, price: np.ndarray, real_units: np.ndarray) -> np.ndarray:
        """What fills cost, slippage apart; prices may be adjusted ones, and ``units`` with them. Each: shape (fills,), float64;
        so is the result, in money."""
        return self.fixed + self.per_unit * real_units + self.ratio * units * price


@dataclass(frozen=True, slots=True)
class Account:
    """The money of a trial. Without a ``size`` entries take all of it for one symbol and a tenth for several.

    ``apart`` gives each symbol a separate account, each with all of the ``money``.
    """

    money: float = 10_000.0
    size: Size | None = None
    lot: float = 1.0
    #: The most positions at once; None for as many as there is money for.
    most: int | None = None
    #: Buying power in multiples of equity.
    power: float = 1.0
    costs: Costs = field(default_factory=Costs)
    apart: bool = False
    #: Whether limits and targets fill only where prices go at least a tick beyond them.
    through: bool = False
    #: The currency of its money; empty for that of the symbols.
    currency: str = ""

    def check(self) -> None:
        """Raises `RunProblem` with a sentence for what makes no sense."""
        if not 0 < self.money <= MOST_MONEY:
            raise RunProblem(f"Starting money must be above 0 and at most {MOST_MONEY:,.0f}.")
        if not 0 < self.lot <= MOST_UNITS:
            raise RunProblem(f"The step of a size must be more than 0, and at most {MOST_UNITS:,.0f}.")
        if self.most is not None and not 1 <= self.most <= MOST_POSITIONS:
            raise RunProblem(f"An account holds at least one position at once, and at most {MOST_POSITIONS:,}.")
        if not 0 < self.power <= MOST_POWER:
            raise RunProblem(
                f"Buying power is a multiple of equity above 0, and at most {MOST_POWER:g}; "
                "1 buys for as much as there is."
            )
        if self.size is not None and not 0 < self.size.amount <= MOST_MONEY:
            raise RunProblem(f"The size of an entry is more than 0, and at most {MOST_MONEY:,.0f}.")
        costs = self.costs
        slip = costs.slippage
        if (
            min(
                costs.fixed,
                costs.per_unit,
                costs.ratio,
                slip.ticks,
                slip.ratio,
                slip.of_range,
                slip.of_volume,
                costs.financing,
                costs.borrow,
            )
            < 0
        ):
            raise RunProblem("Costs and slippage are 0 or more.")
        if not all(
            x <= 1 for x in (costs.ratio, slip.ratio, slip.of_range, slip.of_volume, costs.financing, costs.borrow)
        ):
            raise RunProblem("Costs and slippage are at most 100% of a fill.")
        if not all(x <= MOST_UNITS for x in (costs.fixed, costs.per_unit, costs.slippage.ticks)):
            raise RunProblem(f"Costs and slippage are at most {MOST_UNITS:,.0f}.")

    def check_prices(self, symbols: Sequence[str], below_zero: np.ndarray) -> None:
        """Raises `RunProblem` where sizes or costs depend on the value of an entry, and a symbol has prices of 0 and
        below. ``below_zero``: shape (symbols,), bool."""
        if not below_zero.any():
            return
        costs, size = self.costs, self.size_for(len(symbols))
        if size.kind in (Sizing.SHARE, Sizing.MONEY) or costs.ratio or costs.slippage.ratio or costs.slippage.of_volume:
            raise RunProblem(
                f"{symbols[int(np.argmax(below_zero))]} has prices of 0 and below, so an entry has no value to reckon by. Size "
                "entries in units or by risk (100u, 1%r), and give commission and slippage as sums or ticks (0%, 1t)."
            )

    def size_for(self, symbols: int) -> Size:
        """The size of an entry where so many symbols are traded."""
        if self.size is not None:
            return self.size
        return Size(Sizing.SHARE, 1.0 if symbols <= 1 or self.apart else 0.1)
