"""An independent account: trades that a broker made, taken with money in plain loops, and the metrics of that."""

from __future__ import annotations

import math
from dataclasses import dataclass, field


@dataclass
class Deal:
    """A trade of one symbol as a broker made it; bars are numbers of moments that all symbols share."""

    symbol: int
    side: int
    entered: int
    entry: float
    limit: bool
    inside: bool
    risk: float | None
    rank: float | None = None
    left: int | None = None
    exit: float | None = None
    reason: str = ""
    when: str = "open"  # open, inside, close
    #: The high less the low, and the volume, of the bars of its fills.
    in_bar: tuple[float, float] = (0.0, 0.0)
    out_bar: tuple[float, float] = (0.0, 0.0)
    #: By how much its fills are worse beside what the terms say, in money per unit.
    slip_in: float = 0.0
    slip_out: float = 0.0
    #: How many real units one of its units is at its entry and its exit, where prices are adjusted.
    real_in: float = 1.0
    real_out: float = 1.0
    units: float = math.nan
    why_not: str = ""
    net: float = math.nan


@dataclass
class Terms:
    money: float = 10_000.0
    kind: str = "share"  # share, money, units, risk
    size: float = 0.1
    lot: float = 1.0
    most: int | None = None
    power: float = 1.0
    fixed: float = 0.0
    per_unit: float = 0.0
    ratio: float = 0.0
    slip: float = 0.0  # in price
    slip_range: float = 0.0  # of the bar's high less its low
    slip_volume: float = 0.0  # of the price, for all of the bar's volume
    long_year: float = 0.0  # what holding costs a year of 365.25 days, of what was paid
    short_year: float = 0.0
    tied: float = 1.0  # of its value, by a position
    tied_unit: float = 0.0  # money, by each unit
    tied_by: list[float] = field(default_factory=list)  # the same as ``tied`` by symbol, where they differ
    slip_ratio: float = 0.0  # of the price


@dataclass
class Told:
    deals: list[Deal] = field(default_factory=list)
    curve: list[float] = field(default_factory=list)
    positions: list[int] = field(default_factory=list)


def account(deals: list[Deal], closes: list[list[float]], terms: Terms, clock: list[float]) -> Told:
    """Goes through moments one by one. ``closes[symbol][moment]`` is the last close known then; ``clock`` says in seconds
    when moments close."""
    told = Told(deals)
    cash = terms.money
    held: list[Deal] = []

    def fee(units: float, price: float, real: float) -> float:
        return terms.fixed + terms.per_unit * units * real + terms.ratio * units * price

    def worse(price: float, bar: tuple[float, float], units: float) -> float:
        spread, volume = bar
        share = min(units / volume, 1.0) if volume > 0 else 0.0
        return terms.slip + terms.slip_ratio * price + terms.slip_range * spread + terms.slip_volume * price * share

    def paid(deal: Deal, units: float) -> float:
        if deal.limit:
            return deal.entry
        return deal.entry + deal.side * (worse(deal.entry, deal.in_bar, units * deal.real_in) + deal.slip_in)

    def got(deal: Deal) -> float:
        assert deal.exit is not None
        if deal.reason == "target":
            return deal.exit
        return deal.exit - deal.side * (worse(deal.exit, deal.out_bar, deal.units * deal.real_out) + deal.slip_out)

    def holding(deal: Deal, until: int) -> float:
        """What it has cost to hold a position up to the close of a moment."""
        rate = terms.long_year if deal.side > 0 else terms.short_year
        years = (clock[until] - clock[deal.entered]) / 86_400 / 365.25
        return rate * deal.units * paid(deal, deal.units) * years

    def ties(deal: Deal, units: float, value: float) -> float:
        return value * (terms.tied_by or [terms.tied] * 99)[deal.symbol] + units * deal.real_in * terms.tied_unit

    def enter(deal: Deal) -> None:
        nonlocal cash, invested
        price = paid(deal, 0.0)  # the size is reckoned before it moves the price
        if terms.kind == "risk" and not deal.risk:
            deal.why_not = "no stop"
            return
        if terms.most is not None and len(held) >= terms.most:
            deal.why_not = "max open positions reached"
            return
        if equity <= 0:
            deal.why_not = "no money"
            return
        raw = {
            "share": terms.size * equity / price,
            "money": terms.size / price,
            "units": terms.size / deal.real_in,
            "risk": terms.size * equity / deal.risk if deal.risk else 0.0,
        }[terms.kind]
        lots = math.floor(raw * deal.real_in / terms.lot + 1e-9)
        units = lots * terms.lot / deal.real_in
        if lots < 1:
            deal.why_not = "too small"
            return
        price = paid(deal, units)
        if invested + ties(deal, units, units * price) > terms.power * equity * (1 + 1e-9):
            deal.why_not = "no money"
            return
        deal.units = units
        cash -= deal.side * units * price + fee(units, price, deal.real_in)
        invested += ties(deal, units, units * price)
        worth[id(deal)] = ties(deal, units, units * price)
        held.append(deal)

    def leave(deal: Deal) -> None:
        nonlocal cash, invested
        if deal not in held:
            return
        held.remove(deal)
        cash += deal.side * deal.units * got(deal) - fee(deal.units, got(deal), deal.real_out) - holding(deal, moment)
        invested -= worth.pop(id(deal))
        bought = paid(deal, deal.units)
        costs = fee(deal.units, bought, deal.real_in) + fee(deal.units, got(deal), deal.real_out)
        deal.net = deal.side * deal.units * (got(deal) - bought) - costs - holding(deal, moment)

    def ranked(some: list[Deal]) -> list[Deal]:
        return sorted(some, key=lambda d: (-(d.rank if d.rank is not None else -math.inf), d.symbol))

    for moment in range(len(closes[0])):
        before = moment - 1
        worth = {id(d): ties(d, d.units, d.units * closes[d.symbol][before]) for d in held}
        equity = cash + sum(d.side * d.units * closes[d.symbol][before] - holding(d, before) for d in held)
        invested = sum(worth.values())
        for when in ("open", "inside", "close"):
            now = [d for d in deals if d.left == moment and d.when == when]
            for deal in sorted(now, key=lambda d: d.symbol):
                if not (when == "inside" and deal.entered == moment and deal.inside):
                    leave(deal)
            if when != "close":
                for deal in ranked([d for d in deals if d.entered == moment and d.inside == (when == "inside")]):
                    enter(deal)
                    if when == "inside" and deal.left == moment and deal.when == "inside":
                        leave(deal)  # before the next one enters
            for deal in sorted(now, key=lambda d: d.symbol):
                leave(deal)
        told.curve.append(cash + sum(d.side * d.units * closes[d.symbol][moment] - holding(d, moment) for d in held))
        told.positions.append(len(held))
    return told
