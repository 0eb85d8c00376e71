"""An independent broker: the contract of trades as plain loops over bars, for one symbol. It knows nothing of the engine.

Conditions, prices and distances come in as lists, one value for each bar, None for none.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from decimal import ROUND_CEILING, ROUND_FLOOR, Decimal

Series = list[float | None]


@dataclass
class Rule:
    """A trade. Distances are (values, whether they are ratios)."""

    name: str
    side: int
    enter: list[bool]
    price: Series | None = None
    wait: int = 1
    leave: list[bool] | None = None
    lose: float | None = None  # leave when position.gain < lose too
    stop: tuple[Series, bool] | None = None
    stop_at: Series | None = None
    trail: tuple[Series, bool] | None = None
    protect: tuple[Series, bool] | None = None
    protect_risks: float | None = None
    target: tuple[Series, bool] | None = None
    target_at: Series | None = None
    target_risks: float | None = None
    most: int | None = None
    by: int | None = None
    at_end: bool = False
    pause: int | None = None


@dataclass
class Bar:
    open: float
    high: float
    low: float
    close: float
    clock: int = 0
    closes: int = 0  # clock at its close
    day: int = 0
    last: bool = True  # of its session
    minutes: list[tuple[float, float, float]] = field(default_factory=list)


@dataclass
class Done:
    """A trade that was made. ``exit`` is None while it is open."""

    name: str
    side: int
    decided: int
    entered: int
    entry: float
    left: int | None = None
    exit: float | None = None
    reason: str = ""
    risk: float | None = None


@dataclass
class Book:
    """What a broker has to tell."""

    trades: list[Done] = field(default_factory=list)
    undecided: int = 0
    touched: int = 0
    contradictions: int = 0
    stops: list[float | None] = field(default_factory=list)


@dataclass
class _Held:
    rule: Rule
    done: Done
    stop: float | None
    targets: dict[str, float]
    best: float
    inside: str = ""


@dataclass
class _Wanted:
    rule: Rule
    bar: int
    kind: str  # market, limit, stop
    price: float = math.nan
    left: int = 0


def to_tick(price: float | None, tick: float, buys: bool) -> float | None:
    """A price on a tick, the buyer's rounded up and the seller's down."""
    if price is None:
        return None
    step = Decimal(str(tick))
    count = Decimal(repr(round(price / tick, 6)))
    whole = count.to_integral_value(ROUND_CEILING if buys else ROUND_FLOOR)
    return float(whole * step)


def trade(
    bars: list[Bar],
    rules: list[Rule],
    tick: float = 0.01,
    *,
    finer: bool = False,
    through: bool = False,
    factors: list[float] | None = None,
) -> Book:
    """Trades some rules over the bars of one symbol. With ``through`` limits and targets fill a tick beyond only; ``factors``
    made the prices of each bar of real ones, which alone have ticks."""
    book = Book()
    factor = 1.0
    held: _Held | None = None
    wanted: _Wanted | None = None
    leaving = ""
    rests: dict[int, int] = {}  # rule -> last bar on which it is not decided

    def away(distance: tuple[Series, bool], bar: int, of: float) -> float | None:
        value = distance[0][bar]
        return None if value is None else value * of if distance[1] else value

    def tighter(a: float | None, b: float | None, side: int) -> float | None:
        known = [x for x in (a, b) if x is not None]
        return None if not known else max(known) if side > 0 else min(known)

    def on_tick(price: float | None, buys: bool, at: int | None = None) -> float | None:
        """On a tick of the real prices of the present bar, or of the one that the order was made on."""
        by = factor if at is None or factors is None else factors[at]
        made = to_tick(None if price is None else price / by, tick, buys)
        return None if made is None else made * by

    def far(beyond: float) -> bool:
        """Whether a price so far beyond a limit or target fills it."""
        return beyond > 0.5 * tick * factor if through else beyond >= 0

    def nearest(position: _Held) -> float | None:
        prices = list(position.targets.values())
        return None if not prices else min(prices) if position.rule.side > 0 else max(prices)

    def leave(bar: int, price: float, reason: str) -> None:
        nonlocal held, leaving
        assert held is not None
        held.done.left, held.done.exit, held.done.reason = bar, price, reason
        if held.rule.pause is not None:
            rests[id(held.rule)] = bar + held.rule.pause
        held, leaving = None, ""

    def enter(bar: int, price: float, inside: str) -> None:
        nonlocal held, wanted
        assert wanted is not None
        rule, at = wanted.rule, wanted.bar
        side, buys = rule.side, rule.side < 0  # what is left of a short is bought
        stop: float | None = None
        for distance in (rule.stop, rule.trail):
            if distance is not None and (d := away(distance, at, price)) is not None:
                stop = tighter(stop, on_tick(price - side * d, buys), side)
        if rule.stop_at is not None:
            stop = tighter(stop, on_tick(rule.stop_at[at], buys, at), side)
        risk = None if stop is None else abs(price - stop)
        targets: dict[str, float] = {}
        if rule.target is not None and (d := away(rule.target, at, price)) is not None:
            targets["away"] = on_tick(price + side * d, buys)  # type: ignore[assignment]
        if rule.target_risks is not None and risk is not None:
            targets["risks"] = on_tick(price + side * rule.target_risks * risk, buys)  # type: ignore[assignment]
        if rule.target_at is not None and rule.target_at[at] is not None:
            targets["at"] = on_tick(rule.target_at[at], buys, at)  # type: ignore[assignment]
        wanted = None
        reached = stop is not None and side * (price - stop) <= 0
        reached = reached or any(side * (target - price) <= 0 for target in targets.values())
        if reached:
            book.touched += 1
            return
        done = Done(rule.name, side, at, bar, price, risk=risk)
        book.trades.append(done)
        held = _Held(rule, done, stop, targets, price, inside)

    def part(bar: int, b: Bar, o: float, h: float, low: float, first: bool) -> None:
        nonlocal wanted
        # The open: what leaves first.
        if held is not None:
            side, rule = held.rule.side, held.rule
            target = nearest(held)
            reason = ""
            if first:
                before = bars[bar - 1]
                if leaving:
                    reason = leaving
                elif rule.most is not None and bar - held.done.entered >= rule.most:
                    reason = "time"
                elif rule.by is not None and (b.clock >= rule.by or b.day != before.day):
                    reason = "clock"
                elif rule.at_end and b.day != before.day:
                    reason = "session"
            if not reason and held.stop is not None and side * (o - held.stop) <= 0:
                reason = "stop"
            if not reason and target is not None and far(side * (o - target)):
                reason = "target"
            if reason:
                leave(bar, o, reason)
        # Then what enters.
        if held is None and wanted is not None:
            side, price = wanted.rule.side, wanted.price
            if wanted.kind == "market":
                enter(bar, o, "")
            elif wanted.kind == "limit":
                if far(side * (price - o)):
                    enter(bar, o, "")
                elif far(price - low if side > 0 else h - price):
                    enter(bar, price, "limit")
            elif side * (o - price) >= 0:
                enter(bar, o, "")
            elif (h >= price) if side > 0 else (low <= price):
                enter(bar, price, "stop")
        # Inside the bar.
        if held is not None:
            side, target = held.rule.side, nearest(held)
            stopped = held.stop is not None and (low <= held.stop if side > 0 else h >= held.stop)
            reached = target is not None and far(h - target if side > 0 else target - low) and held.inside != "limit"
            if stopped:
                book.undecided += reached
                leave(bar, held.stop, "stop")  # type: ignore[arg-type]
            elif reached:
                leave(bar, target, "target")  # type: ignore[arg-type]
        if held is not None:
            held.inside = ""

    for bar, b in enumerate(bars):
        factor = 1.0 if factors is None else factors[bar]
        rested = wanted is not None and wanted.kind != "market"
        if finer and b.minutes:
            for k, (o, h, low) in enumerate(b.minutes):
                part(bar, b, o, h, low, k == 0)
        else:
            part(bar, b, b.open, b.high, b.low, True)
        if rested and wanted is not None:
            wanted.left -= 1
            if wanted.left == 0:
                wanted = None
        # The close of the session.
        if held is not None and b.last and (held.rule.at_end or held.rule.by is not None):
            leave(bar, b.close, "session" if held.rule.at_end else "clock")
        # What this bar's values do to the position.
        if held is not None:
            rule, side, buys = held.rule, held.rule.side, held.rule.side < 0
            held.best = max(held.best, b.high) if side > 0 else min(held.best, b.low)
            entry = held.done.entry
            d: float | None = None
            if rule.protect is not None:
                d = away(rule.protect, held.done.decided, entry)
            elif rule.protect_risks is not None and held.done.risk is not None:
                d = rule.protect_risks * held.done.risk
            if d is not None and side * (held.best - entry) >= d:
                held.stop = tighter(held.stop, on_tick(entry, buys), side)
            own: float | None = None
            if rule.stop_at is not None:
                own = tighter(own, on_tick(rule.stop_at[bar], buys), side)
            if rule.trail is not None and (d := away(rule.trail, bar, held.best)) is not None:
                own = tighter(own, on_tick(held.best - side * d, buys), side)
            open_to_loss = held.stop is None or side * (entry - held.stop) > 0
            held.stop = tighter(held.stop, own, side)
            if held.done.risk is None and own is not None and open_to_loss and side * (entry - own) > 0:
                held.done.risk = abs(entry - own)
                if rule.target_risks is not None:
                    risks = entry + side * rule.target_risks * held.done.risk
                    held.targets["risks"] = on_tick(risks, buys)  # type: ignore[assignment]
            if rule.target_at is not None and rule.target_at[bar] is not None:
                held.targets["at"] = on_tick(rule.target_at[bar], buys)  # type: ignore[assignment]
        book.stops.append(held.stop if held is not None else None)
        # Decisions for the next bar.
        if held is not None:
            rule = held.rule
            gain = (b.close / held.done.entry - 1) * rule.side
            late = (rule.by is not None and b.closes >= rule.by) or (rule.at_end and b.last)
            if not late and (
                (rule.leave is not None and rule.leave[bar]) or (rule.lose is not None and gain < rule.lose)
            ):
                leaving = "leave"
        chosen: dict[int, Rule] = {}
        for rule in rules:
            decided = rule.enter[bar] and not (rule.price is not None and rule.price[bar] is None)
            decided = decided and not (rule.by is not None and b.closes >= rule.by)
            decided = decided and not (rule.at_end and b.last) and rests.get(id(rule), -1) < bar
            if held is not None:
                decided = decided and held.rule.side != rule.side and rule.price is None
            if decided:
                chosen.setdefault(rule.side, rule)
        if len(chosen) == 2:
            book.contradictions += 1
        elif chosen:
            rule = next(iter(chosen.values()))
            if rule.price is None:
                wanted = _Wanted(rule, bar, "market")
                if held is not None:
                    leaving = "reverse"
            else:
                raw = rule.price[bar]
                assert raw is not None
                near = rule.side * (raw - b.close) <= 1e-6 * tick * factor
                price = on_tick(raw, rule.side > 0)
                wanted = _Wanted(rule, bar, "limit" if near else "stop", price, rule.wait)  # type: ignore[arg-type]
    return book
