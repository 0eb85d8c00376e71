"""Random scripts with trades, bars to run them on, and the same rules for the independent broker."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from helpers import values
from oakladder.bars.adjustments import Adjustments
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe
from trial.independent_broker import Bar, Rule

LETS = """let f = sma(close, 3)
let s = sma(close, 8)
let a = atr(5)
let up = crosses_up(f, s)
let down = crosses_down(f, s)
let dip = close < lowest(low, 5)[1]
let pop = close > highest(high, 5)[1]
let wild = range > 1.2 * sma(range, 10)
let rare = volume > 2000
let under = lowest(low, 4) - 0.05
let over = highest(high, 4) + 0.07
let near = close - 0.4 * a
let far = close + 0.6 * a
let share = a / close
let holey = if close > open then lowest(low, 3) else none
let holey_top = if close > open then none else highest(high, 6)
"""
FLAGS = ("up", "down", "dip", "pop", "wild", "rare")
BELOW, ABOVE = ("under", "near", "holey", "close"), ("over", "far", "holey_top", "close")


@dataclass
class Case:
    """A script with trades, and its rules for the broker once the values are known."""

    script: str
    drafts: list[dict[str, object]]

    def rules(self, panel: Panel) -> list[Rule]:
        """The rules with the values of every bar of a panel of one symbol."""
        known = values(LETS, panel)
        made = []
        close = panel.column("close")

        def series(name: str, scale: float = 1.0) -> list[float | None]:
            column = close if name == "close" else known[name]
            return [None if v != v else float(v) * scale for v in column]

        for draft in self.drafts:
            rule = Rule(str(draft["name"]), int(draft["side"]), [v == 1 for v in known[str(draft["enter"])]])  # type: ignore[call-overload]
            for key, value in draft.items():
                if key in ("price", "stop_at", "target_at"):
                    setattr(rule, key, series(str(value)))
                elif key in ("stop", "trail", "target", "protect"):
                    name, scale = value  # type: ignore[misc]
                    if name in ("a", "share"):
                        setattr(rule, key, (series(name, scale), name == "share"))
                    else:
                        setattr(rule, key, ([scale] * panel.size, True))
                elif key == "leave":
                    rule.leave = [v == 1 for v in known[str(value)]]
                elif key not in ("name", "side", "enter"):
                    setattr(rule, key, value)
            made.append(rule)
        return made


def random_case(rng: np.random.Generator, *, within_day: bool) -> Case:
    """One to three trades with any clauses."""
    text, drafts = LETS, []
    for k in range(int(rng.integers(1, 4))):
        side = 1 if rng.random() < 0.6 else -1
        name = f"t{k}"
        draft: dict[str, object] = {"name": name, "side": side, "enter": rng.choice(FLAGS)}
        lines: list[str] = []

        def maybe(share: float) -> bool:
            return bool(rng.random() < share)

        def distance(word: str, key: str, low: float, high: float, draft: dict[str, object] = draft) -> str:
            kind = rng.choice(["a", "share", "fixed"])
            scale = round(float(rng.uniform(low, high)), 2)
            if kind == "fixed":
                percent = round(scale, 1) or 0.5
                draft[key] = ("fixed", percent / 100)
                return f"{word} {percent}%"
            draft[key] = (kind, scale)
            return f"{word} {scale} * {kind}"

        if maybe(0.45):
            prices = (*BELOW, *ABOVE)
            draft["price"] = rng.choice(prices)
            draft["wait"] = int(rng.integers(1, 5))
            wait = f" for {draft['wait']} bars" if draft["wait"] != 1 or maybe(0.5) else ""
            lines.append(f"enter at {draft['price']} when {draft['enter']}{wait}")
        else:
            lines.append(f"enter when {draft['enter']}")
        if maybe(0.4):
            draft["leave"] = rng.choice(FLAGS)
            lose = maybe(0.4)
            if lose:
                draft["lose"] = -0.01
            lines.append(f"leave when {draft['leave']}" + (" or position.gain < -1%" if lose else ""))
        if maybe(0.5):
            lines.append(distance("stop", "stop", 0.3, 2))
        if maybe(0.3):
            draft["stop_at"] = rng.choice(BELOW if side > 0 else ABOVE)
            lines.append(f"stop at {draft['stop_at']}")
        if maybe(0.3):
            lines.append(distance("trail", "trail", 0.5, 3))
        stops = bool({"stop", "stop_at", "trail"} & draft.keys())
        if maybe(0.3):
            lines.append(distance("target", "target", 0.5, 3))
        if maybe(0.3):
            draft["target_at"] = rng.choice(ABOVE if side > 0 else BELOW)
            lines.append(f"target at {draft['target_at']}")
        if stops and maybe(0.4):
            draft["target_risks"] = float(rng.choice([1, 1.5, 3]))
            lines.append(f"target {draft['target_risks']} risks")
        if maybe(0.3):
            if stops and maybe(0.5):
                draft["protect_risks"] = 0.5
                lines.append("protect after 0.5 risks")
            else:
                lines.append(distance("protect after", "protect", 0.3, 1.5))
        if maybe(0.4):
            draft["most"] = int(rng.integers(1, 12))
            lines.append(f"at most {draft['most']} bars")
        if maybe(0.3):
            draft["pause"] = int(rng.integers(0, 6))
            lines.append(f"pause {draft['pause']} bars")
        if within_day and maybe(0.5):
            if maybe(0.5):
                draft["by"] = 14 * 60
                lines.append("flat by 14:00")
            else:
                draft["at_end"] = True
                lines.append("flat at session end")
        rng.shuffle(lines)
        text += f"trade {name} {'long' if side > 0 else 'short'}\n" + "".join(f"    {line}\n" for line in lines)
        drafts.append(draft)
    return Case(text, drafts)


#: A market that trades from 10:00 to 15:00.
HOURS = Calendar(start=600, end=900, early=540, late=960)


def market(rng: np.random.Generator, count: int, timeframe: str, *, minutes: int = 0) -> Bars:
    """A random walk in cents with ties, flat stretches and gaps; some bars are missing."""
    parsed = Timeframe.parse(timeframe)
    if parsed.intraday:
        days = np.arange(19_000, 19_000 + count, dtype=np.int64)
        opens = HOURS.day_open(days[HOURS.trades_on(days)])
        step = parsed.count * 60
        times = (opens[:, None] + np.arange(0, 5 * 3600, step)[None, :]).ravel()
        times = times[rng.random(len(times)) < 0.95][:count]
    else:
        days = np.arange(15_000, 15_000 + 2 * count, dtype=np.int64)
        times = HOURS.day_open(days[HOURS.trades_on(days)])
        times = times[rng.random(len(times)) < 0.97][:count]
    n = len(times)
    steps = rng.normal(0, 40, n) * (rng.random(n) < 0.85)
    close = 10_000 + np.round(np.cumsum(steps))
    jump = np.round(rng.normal(0, 60, n)) * (rng.random(n) < 0.25)
    open_ = np.concatenate([[10_000], close[:-1]]) + jump
    high = np.maximum(open_, close) + np.round(np.abs(rng.normal(0, 30, n))) * (rng.random(n) < 0.8)
    low = np.minimum(open_, close) - np.round(np.abs(rng.normal(0, 30, n))) * (rng.random(n) < 0.8)
    volume = np.floor(rng.exponential(1000, n))
    columns = {"open": open_ / 100, "high": high / 100, "low": low / 100, "close": close / 100, "volume": volume}
    return Bars("SALT", parsed, HOURS, times, columns)


def for_broker(bars: Bars) -> list[Bar]:
    """Bars as the independent broker wants them."""
    day = bars.calendar.days(bars.times)
    clock = bars.calendar.minutes(bars.times)
    length = bars.timeframe.count if bars.timeframe.intraday else HOURS.end - HOURS.start
    made = []
    for k in range(len(bars)):
        closes = min(int(clock[k]) + length, HOURS.end)
        prices = (float(bars[n][k]) for n in ("open", "high", "low", "close"))
        made.append(Bar(*prices, int(clock[k]), closes, int(day[k]), closes == HOURS.end))
    return made


def random_adjustments(rng: np.random.Generator, bars: Bars) -> Adjustments:
    """Some dividends, and a split or two, on days of some bars."""
    days = np.unique(bars.calendar.days(bars.times))
    turns = np.sort(rng.choice(days[1:], min(len(days) - 1, int(rng.integers(1, 8))), replace=False))
    ratios = np.where(rng.random(len(turns)) < 0.3, rng.choice([0.5, 0.25, 3.0], len(turns)), rng.uniform(0.95, 0.999))
    factors = np.append(np.cumprod(ratios[::-1])[::-1], 1.0)
    return Adjustments((int(days[0]), *turns.tolist()), tuple(factors.tolist()), int(days[-1]))


def panel_with_tick(bars: Bars, tick: float = 0.01) -> Panel:
    """A panel of one symbol whose prices move in such ticks."""
    panel = panel_of([bars])
    panel.ticks = (tick,)
    return panel
