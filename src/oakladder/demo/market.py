"""The demo market: the Saltmere Exchange, invented and generated, the same on every machine.

An archipelago's market: ferries, kelp farms, boatyards, lighthouses, salt, tide power. Daily bars come from
a walk with a character for each symbol; minute bars are threaded through the daily bars, so that the
regular minutes of a day add up to its daily bar exactly.
"""

from __future__ import annotations

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.bars.zones import DAY
from oakladder.demo.companies import (
    LAST_DAY,
    YEARS,
    Character,
    character_of,
    generator,
    info_of,
)

MINUTE_SESSIONS = 60


_SUBSTEPS = 4


#: Symbols with something to show: a halted day, a dividend drop, missing minutes, a late start.
HALTED, DIVIDEND, ILLIQUID, LATE_START = "OAKUM", "BEACN", "PHARE", "SURGE"


def trading_days(calendar: Calendar, years: int = YEARS) -> np.ndarray:
    """The days that a market of the exchange has traded on, int64 days since 1970. Shape (days,)."""
    days = np.arange(LAST_DAY - int(years * 365.25), LAST_DAY + 1, dtype=np.int64)
    return days[calendar.trades_on(days)]


def daily(symbol: str) -> Bars:
    """Six years of daily bars."""
    info, character, rng = info_of(symbol), character_of(symbol), generator(symbol, "daily")
    days = trading_days(info.calendar)
    n = len(days)
    close_moves, volume_moves = _moves(character, n, rng)
    jumps = (rng.random(n) < character.gaps) * rng.normal(0, 3, n) * character.noise
    overnight = rng.normal(0, character.noise * 0.35, n) + jumps
    within = close_moves - overnight * 0.6
    close = character.price * np.exp(np.cumsum(overnight + within))
    before = np.concatenate([[character.price], close[:-1]])
    if symbol == DIVIDEND:
        for k in range(120, n, 253):
            close[k:] *= 0.93
        before = np.concatenate([[character.price], close[:-1]])
    open_ = before * np.exp(overnight)
    if symbol == DIVIDEND:
        for k in range(120, n, 253):
            open_[k] = before[k] * 0.93
    reach = np.abs(rng.normal(0, character.noise * 0.5, (2, n)))
    high = np.maximum(open_, close) * np.exp(reach[0])
    low = np.minimum(open_, close) * np.exp(-reach[1])
    volume = character.volume * np.exp(rng.normal(0, 0.35, n) + volume_moves + 14 * np.abs(within))
    tick = info.tick
    o, h, lo, c = (np.maximum(np.round(x / tick), 1) for x in (open_, high, low, close))
    h, lo = np.maximum.reduce([o, h, c]), np.minimum.reduce([o, lo, c])
    columns = {
        "open": priced(o, tick),
        "high": priced(h, tick),
        "low": priced(lo, tick),
        "close": priced(c, tick),
        "volume": np.round(volume),
    }
    keep = np.ones(n, dtype=bool)
    if symbol == HALTED:
        keep[[n - 40, n - 400]] = False
    return Bars(
        symbol, ONE_DAY, info.calendar, info.calendar.day_open(days[keep]), {k: v[keep] for k, v in columns.items()}
    )


def priced(ticks: np.ndarray, tick: float) -> np.ndarray:
    """Whole ticks as prices, each the float nearest to its decimal form. Any shape, float64; so is the result."""
    per_unit = round(1 / tick)
    return ticks / per_unit if per_unit > 1 else ticks * tick


def _moves(character: Character, n: int, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Daily log moves and the log of how much more than usual is traded."""
    lively = np.ones(n)
    if character.squeeze:
        phase = np.cumsum(rng.uniform(0.6, 1.4, n)) * 2 * np.pi / 55
        lively = 1 + character.squeeze * np.sin(phase)
    heat = np.exp(_smooth(rng.normal(0, 0.5, n), 0.95))
    moves = rng.standard_t(5, n) * 0.78 * character.noise * lively * heat + character.drift
    if character.trend:
        moves += _smooth(rng.normal(0, 1, n), 0.985) * character.trend * character.noise * 0.25
    more = 0.4 * (lively - 1)
    for k in np.flatnonzero(rng.random(n) < character.shocks):
        moves[k] -= rng.uniform(0.10, 0.18)
        more[k] += 1.6
    for k in np.flatnonzero(rng.random(n) < character.exhaustion):
        slide = slice(max(k - 6, 0), k)
        moves[slide] -= 0.02
        more[k] += 2.0
        moves[k : k + 8] += 0.015
    return moves, more


def _smooth(x: np.ndarray, keep: float) -> np.ndarray:
    """A slow wave from noise, scaled back to the size of its input."""
    made = np.empty_like(x)
    level = 0.0
    for k, value in enumerate(x.tolist()):
        level = keep * level + (1 - keep) * value
        made[k] = level
    return made * np.sqrt((1 + keep) / (1 - keep))


def minutes(symbol: str) -> Bars:
    """Sixty sessions of minute bars, early and late hours included."""
    days_bars = daily(symbol)
    count = min(MINUTE_SESSIONS, len(days_bars))
    days_bars = days_bars.part(len(days_bars) - count, len(days_bars))
    info, rng = info_of(symbol), generator(symbol, "minutes")
    calendar = info.calendar
    parts = [_session(days_bars, calendar, 0, info.tick, rng)]
    if symbol == LATE_START:
        late = count - 12
        pieces = ((0, late, 0), (late, late + 1, 47), (late + 1, count, 0))
        parts = [_session(days_bars.part(a, b), calendar, delay, info.tick, rng) for a, b, delay in pieces]
    return _with_outside(days_bars, info.tick, rng, parts)


def threaded(bars: Bars, tick: float, rng: np.random.Generator) -> Bars:
    """The minutes of some days, early and late hours included."""
    return _with_outside(bars, tick, rng, [_session(bars, bars.calendar, 0, tick, rng)])


def _with_outside(
    bars: Bars, tick: float, rng: np.random.Generator, parts: list[tuple[np.ndarray, dict[str, np.ndarray]]]
) -> Bars:
    """The minutes of some days, of which the regular ones are given: their times on the exchange's clock, and columns."""
    symbol, calendar = bars.symbol, bars.calendar
    if calendar.early < calendar.start:
        parts += _outside(calendar.days(bars.times), bars, calendar, tick, rng)
    local = np.concatenate([p[0] for p in parts])
    order = np.argsort(local, kind="stable")
    columns = {name: np.concatenate([p[1][name] for p in parts])[order] for name in parts[0][1]}
    local = local[order]
    keep = columns["volume"] > 0
    return Bars(symbol, ONE_MINUTE, calendar, calendar.utc(local[keep]), {k: v[keep] for k, v in columns.items()}, True)


def _session(
    bars: Bars, calendar: Calendar, delay: int, tick: float, rng: np.random.Generator
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """The regular minutes of some days, from ``delay`` minutes after the opening on."""
    length = calendar.end - calendar.start - delay
    clock = calendar.days(bars.times)[:, None] * DAY + (calendar.start + delay + np.arange(length))[None, :] * 60
    return _flat(clock, _thread(bars, length, tick, rng))


def _flat(clock: np.ndarray, columns: dict[str, np.ndarray]) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    return clock.ravel(), {k: v.ravel() for k, v in columns.items()}


def _thread(bars: Bars, length: int, tick: float, rng: np.random.Generator) -> dict[str, np.ndarray]:
    """Minute bars, shape (days, length), that add up to the daily bars."""
    n, points = len(bars), length * _SUBSTEPS + 1
    steps = rng.normal(0, 1, (n, points - 1))
    walk = np.concatenate([np.zeros((n, 1)), np.cumsum(steps, axis=1)], axis=1)
    along = np.linspace(0, 1, points)
    bridge = walk - walk[:, -1:] * along
    o, h, lo, c = (bars[k][:, None] for k in ("open", "high", "low", "close"))
    spread = np.maximum(h - lo, tick)
    path = o + (c - o) * along + bridge / (np.abs(bridge).max(axis=1, keepdims=True) + 1e-9) * spread * 0.6
    top, bottom = np.maximum(o, c), np.minimum(o, c)
    over = np.maximum(path.max(axis=1, keepdims=True) - top, 1e-12)
    under = np.maximum(bottom - path.min(axis=1, keepdims=True), 1e-12)
    path = np.where(path > top, top + (path - top) * (h - top) / over, path)
    path = np.where(path < bottom, bottom - (bottom - path) * (bottom - lo) / under, path)
    rows = np.arange(n)
    inner = path[:, 1:-1]
    inner[rows, inner.argmax(axis=1)] = h[:, 0]
    inner[rows, inner.argmin(axis=1)] = lo[:, 0]
    ticks = np.round(path / tick)
    cuts = ticks[:, :-1].reshape(n, length, _SUBSTEPS)
    last = ticks[:, _SUBSTEPS::_SUBSTEPS]
    high = np.maximum(cuts.max(axis=2), last)
    low = np.minimum(cuts.min(axis=2), last)
    shape = 1.0 + 1.4 * np.cos(np.linspace(0, 2 * np.pi, length)) ** 2 * rng.uniform(0.5, 1.5, (n, length))
    weights = shape + 4 * np.abs(last - cuts[:, :, 0]) / np.maximum(np.abs(last - cuts[:, :, 0]).mean(), 1e-9)
    volume = np.floor(bars["volume"][:, None] * weights / weights.sum(axis=1, keepdims=True))
    if bars.symbol == ILLIQUID:
        volume *= (rng.random((n, length)) < 0.35) | (np.arange(length) % (length - 1) == 0)
        volume *= 1.0
        high_at, low_at = high.argmax(axis=1), low.argmin(axis=1)
        volume[rows, high_at] = np.maximum(volume[rows, high_at], 100)
        volume[rows, low_at] = np.maximum(volume[rows, low_at], 100)
    volume[:, 0] = np.maximum(volume[:, 0], 1)
    volume[:, -1] = np.maximum(volume[:, -1] + bars["volume"] - volume.sum(axis=1), 1)
    over_all = volume.sum(axis=1) - bars["volume"]
    fullest = volume.argmax(axis=1)
    volume[rows, fullest] -= over_all
    return {
        "open": priced(cuts[:, :, 0], tick),
        "high": priced(high, tick),
        "low": priced(low, tick),
        "close": priced(last, tick),
        "volume": volume,
    }


def _outside(
    days: np.ndarray, bars: Bars, calendar: Calendar, tick: float, rng: np.random.Generator
) -> list[tuple[np.ndarray, dict[str, np.ndarray]]]:
    """Thin trade before and after the regular session; many minutes have none."""
    made = []
    previous = np.concatenate([bars["open"][:1], bars["close"][:-1]])
    for first, last, begin, end in (
        (calendar.early, calendar.start, previous, bars["open"]),
        (calendar.end, calendar.late, bars["close"], bars["close"] * np.exp(rng.normal(0, 0.003, len(days)))),
    ):
        length = last - first
        along = np.linspace(0, 1, length + 1)
        walk = np.cumsum(rng.normal(0, 0.0004, (len(days), length + 1)), axis=1)
        path = (begin[:, None] + (end - begin)[:, None] * along) * np.exp(
            walk - walk[:, :1] * (1 - along) - walk[:, -1:] * along
        )
        ticks = np.maximum(np.round(path / tick), 1)
        opens, closes = ticks[:, :-1], ticks[:, 1:]
        wick = rng.integers(0, 2, (2, len(days), length))
        high, low = np.maximum(opens, closes) + wick[0], np.maximum(np.minimum(opens, closes) - wick[1], 1)
        volume = np.floor(rng.exponential(bars["volume"][:, None] / 390 * 0.08, (len(days), length)))
        volume *= rng.random((len(days), length)) < 0.55
        clock = days[:, None] * DAY + (first + np.arange(length))[None, :] * 60
        made.append(
            _flat(
                clock,
                {
                    "open": priced(opens, tick),
                    "high": priced(high, tick),
                    "low": priced(low, tick),
                    "close": priced(closes, tick),
                    "volume": volume,
                },
            )
        )
    return made


def make(symbol: str, base: Timeframe) -> Bars:
    """The stored bars of a symbol at a base timeframe."""
    return minutes(symbol) if base.intraday else daily(symbol)
