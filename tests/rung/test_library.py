"""The library against independent formulas, on data with ties, flat stretches, gaps and nones."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import pytest

from helpers import daily_bars, random_bars, values
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import Timeframe
from oakladder.rung import compile_script, library


def window(x: np.ndarray, n: int, how: Callable[[np.ndarray], float]) -> np.ndarray:
    made = np.full(len(x), np.nan)
    for k in range(n - 1, len(x)):
        part = x[k - n + 1 : k + 1]
        if not np.isnan(part).any():
            made[k] = how(part)
    return made


def smooth(x: np.ndarray, n: int, alpha: float) -> np.ndarray:
    made = np.full(len(x), np.nan)
    known: list[float] = []
    level = np.nan
    for k, value in enumerate(x):
        if not np.isnan(value):
            known.append(value)
            if len(known) == n:
                level = float(np.mean(known))
            elif len(known) > n:
                level = level + alpha * (value - level)
        made[k] = level
    return made


def shift(x: np.ndarray, n: int = 1) -> np.ndarray:
    return np.concatenate([np.full(n, np.nan), x[:-n]])


def rsi(x: np.ndarray, n: int) -> np.ndarray:
    move = x - shift(x)
    up = smooth(np.where(np.isnan(move), np.nan, np.clip(move, 0, None)), n, 1 / n)
    down = smooth(np.where(np.isnan(move), np.nan, np.clip(-move, 0, None)), n, 1 / n)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(up + down == 0, np.nan, 100 * up / (up + down))


def true_range(b: Bars) -> np.ndarray:
    before = shift(b["close"])
    high = np.where(np.isnan(before), b["high"], np.maximum(b["high"], before))
    low = np.where(np.isnan(before), b["low"], np.minimum(b["low"], before))
    return high - low


def ages(flags: np.ndarray) -> np.ndarray:
    made, last = np.full(len(flags), np.nan), None
    for k, flag in enumerate(flags):
        last = k if flag else last
        made[k] = np.nan if last is None else k - last
    return made


def streaks(flags: np.ndarray) -> np.ndarray:
    made, run = np.zeros(len(flags)), 0
    for k, flag in enumerate(flags):
        run = run + 1 if flag else 0
        made[k] = run
    return made


def crossing(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    now, before = a > b, shift(a) <= shift(b)
    known_now, known_before = ~np.isnan(a + b), ~np.isnan(shift(a) + shift(b))
    false = (known_now & ~now) | (known_before & ~before)
    return np.where(false, 0.0, np.where(known_now & known_before, 1.0, np.nan))


def ratio(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    with np.errstate(invalid="ignore", divide="ignore"):
        made = a / b
    return np.where(np.isfinite(made), made, np.nan)


def as_number(flag: np.ndarray, known: np.ndarray) -> np.ndarray:
    return np.where(known, flag.astype(float), np.nan)


def fit(part: np.ndarray) -> tuple[float, float]:
    """Slope and end point of the least-squares line, from the normal equations."""
    t = np.arange(len(part), dtype=float)
    if len(part) == 1:
        return np.nan, float(part[0])
    matrix = np.array([[np.sum(t * t), np.sum(t)], [np.sum(t), len(t)]])
    slope, start = np.linalg.solve(matrix, np.array([np.sum(t * part), np.sum(part)]))
    return float(slope), float(start + slope * (len(part) - 1))


def pairs(x: np.ndarray, y: np.ndarray, n: int) -> np.ndarray:
    made = np.full(len(x), np.nan)
    for k in range(n - 1, len(x)):
        a, b = x[k - n + 1 : k + 1], y[k - n + 1 : k + 1]
        if not np.isnan(a + b).any() and np.ptp(a) > 0 and np.ptp(b) > 0:
            made[k] = np.corrcoef(a, b)[0, 1]
    return made


def newest(part: np.ndarray, value: float) -> float:
    return float(np.flatnonzero(part[::-1] == value)[0])


def typical(b: Bars) -> np.ndarray:
    return (b["high"] + b["low"] + b["close"]) / 3


def hull(x: np.ndarray, n: int) -> np.ndarray:
    half, root = max(n // 2, 1), max(int(np.sqrt(n)), 1)
    return weighted(2 * weighted(x, half) - weighted(x, n), root)


def weighted(x: np.ndarray, n: int) -> np.ndarray:
    return window(x, n, lambda p: float(np.average(p, weights=np.arange(1, n + 1))))


def stochastic(b: Bars, n: int) -> np.ndarray:
    top, bottom = window(b["high"], n, np.max), window(b["low"], n, np.min)
    return window(100 * ratio(b["close"] - bottom, top - bottom), 3, np.mean)


def money_flow(b: Bars, n: int) -> np.ndarray:
    flow, move = typical(b) * b["volume"], typical(b) - shift(typical(b))
    lost = np.isnan(move)
    up = window(np.where(lost, np.nan, np.where(move > 0, flow, 0)), n, np.sum)
    down = window(np.where(lost, np.nan, np.where(move < 0, flow, 0)), n, np.sum)
    return 100 * ratio(up, up + down)


def directional(b: Bars, n: int) -> dict[str, np.ndarray]:
    up, down = b["high"] - shift(b["high"]), shift(b["low"]) - b["low"]
    lost = np.isnan(up + down)
    rise = np.where(lost, np.nan, np.where((up > down) & (up > 0), up, 0))
    fall = np.where(lost, np.nan, np.where((down > up) & (down > 0), down, 0))
    far = smooth(np.where(np.isnan(shift(b["close"])), np.nan, true_range(b)), n, 1 / n)
    plus, minus = 100 * ratio(smooth(rise, n, 1 / n), far), 100 * ratio(smooth(fall, n, 1 / n), far)
    return {"plus": plus, "minus": minus, "adx": smooth(100 * ratio(np.abs(plus - minus), plus + minus), n, 1 / n)}


def since(starts: np.ndarray, x: np.ndarray, how: Callable[[np.ndarray], float]) -> np.ndarray:
    made, first = np.full(len(x), np.nan), None
    for k in range(len(x)):
        first = k if starts[k] else first
        if first is not None:
            made[k] = how(x[first : k + 1])
    return made


def adaptive(x: np.ndarray, n: int) -> np.ndarray:
    made, v = np.full(len(x), np.nan), np.nan
    for k in range(len(x)):
        part = x[max(k - n, 0) : k + 1]
        if k >= n and not np.isnan(part).any():
            path = np.abs(np.diff(part)).sum()
            e = abs(part[-1] - part[0]) / path if path else 0.0
            s = (e * (2 / 3 - 2 / 31) + 2 / 31) ** 2
            before = x[k - 1] if np.isnan(v) else v
            v = before + s * (x[k] - before)
        made[k] = v
    return made


def variable(x: np.ndarray, m: int, n: int) -> np.ndarray:
    made, v = np.full(len(x), np.nan), np.nan
    for k in range(len(x)):
        part = x[max(k - m, 0) : k + 1]
        if k >= m and not np.isnan(part).any():
            moves = np.diff(part)
            total = np.abs(moves).sum()
            c = abs(moves.sum()) / total if total else 0.0
            v = x[k] if np.isnan(v) else v + 2 / (n + 1) * c * (x[k] - v)
        made[k] = v
    return made


def swing_high(b: Bars, left: int, right: int) -> np.ndarray:
    h, made = b["high"], np.full(len(b), np.nan)
    for k in range(left + right, len(b)):
        at = k - right
        before, after = h[at - left : at], h[at + 1 : k + 1]
        if (h[at] > before).all() and (h[at] >= after).all():
            made[k] = h[at]
    return made


def supertrend(b: Bars, n: int, factor: float) -> np.ndarray:
    atr, middle = smooth(true_range(b), n, 1 / n), (b["high"] + b["low"]) / 2
    made, rising, lower, upper = np.full(len(b), np.nan), True, np.nan, np.nan
    for k in range(len(b)):
        low, high, close = middle[k] - factor * atr[k], middle[k] + factor * atr[k], b["close"]
        if np.isnan(low):
            made[k] = lower if rising else upper
            continue
        old_lower, old_upper = lower, upper
        lower = max(low, old_lower) if close[k - 1] > old_lower else low
        upper = min(high, old_upper) if close[k - 1] < old_upper else high
        if rising and close[k] < old_lower:
            rising = False
        elif not rising and close[k] > old_upper:
            rising = True
        made[k] = lower if rising else upper
    return made


def parabolic(b: Bars) -> np.ndarray:
    high, low = b["high"], b["low"]
    made = np.full(len(b), np.nan)
    stop, peak, speed, rising = low[0], max(high[0], high[1]), 0.02, True
    made[1] = stop
    for k in range(2, len(b)):
        stop += speed * (peak - stop)
        stop = min(stop, low[k - 1], low[k - 2]) if rising else max(stop, high[k - 1], high[k - 2])
        touched = low[k] <= stop if rising else high[k] >= stop
        beyond = high[k] > peak if rising else low[k] < peak
        if touched:
            stop, peak, speed, rising = peak, (low[k] if rising else high[k]), 0.02, not rising
        elif beyond:
            peak, speed = (high[k] if rising else low[k]), min(speed + 0.02, 0.2)
        made[k] = stop
    return made


def alternating(b: Bars, n: int) -> np.ndarray:
    tops, bottoms = swing_high(b, n, n), -swing_high(upside_down(b), n, n)
    price, kind, made = np.nan, 0, np.full(len(b), np.nan)
    for k in range(len(b)):
        if not np.isnan(tops[k]) and (kind != 1 or tops[k] > price):
            price, kind = tops[k], 1
        if not np.isnan(bottoms[k]) and (kind != -1 or bottoms[k] < price):
            price, kind = bottoms[k], -1
        made[k] = price
    return made


def upside_down(b: Bars) -> Bars:
    return daily_bars(-b["close"], open=-b["open"], high=-b["low"], low=-b["high"], volume=b["volume"])


def calm_candles(b: Bars) -> np.ndarray:
    o, c = np.nan, np.nan
    made = np.full(len(b), np.nan)
    for k in range(len(b)):
        mean = (b["open"][k] + b["high"][k] + b["low"][k] + b["close"][k]) / 4
        if not np.isnan(mean):
            o = (o + c) / 2 if not np.isnan(o) else (b["open"][k] + b["close"][k]) / 2
            c = mean
        made[k] = o
    return made


def months(b: Bars) -> np.ndarray:
    month = b.calendar.days(b.times).astype("datetime64[D]").astype("datetime64[M]").astype(int)
    return np.diff(month, prepend=-1) != 0


def spread(b: Bars, n: int) -> np.ndarray:
    return window(b["close"], n, np.std)


UP, KNOWN = (lambda b: b["close"] > b["open"]), (lambda b: ~np.isnan(b["close"] + b["open"]))
FORMULAS: dict[str, Callable[[Bars, int], np.ndarray]] = {
    "sum(close, N)": lambda b, n: window(b["close"], n, np.sum),
    "sma(close, N)": lambda b, n: window(b["close"], n, np.mean),
    "highest(high, N)": lambda b, n: window(b["high"], n, np.max),
    "lowest(low, N)": lambda b, n: window(b["low"], n, np.min),
    "stdev(close, N)": lambda b, n: window(b["close"], n, np.std),
    "ema(close, N)": lambda b, n: smooth(b["close"], n, 2 / (n + 1)),
    "wilder(close, N)": lambda b, n: smooth(b["close"], n, 1 / n),
    "rsi(close, N)": lambda b, n: rsi(b["close"], n),
    "true_range()": lambda b, n: true_range(b),
    "atr(N)": lambda b, n: smooth(true_range(b), n, 1 / n),
    "change(close, N)": lambda b, n: b["close"] - shift(b["close"], n),
    "age(close > close[1])": lambda b, n: ages(b["close"] > shift(b["close"])),
    "streak(close > close[1])": lambda b, n: streaks(b["close"] > shift(b["close"])),
    "crosses_up(close, open)": lambda b, n: crossing(b["close"], b["open"]),
    "crosses_down(close, open)": lambda b, n: crossing(-b["close"], -b["open"]),
    "avg(close, N)": lambda b, n: window(b["close"], n, np.mean),
    "median(close, N)": lambda b, n: window(b["close"], n, np.median),
    "slope(close, N)": lambda b, n: window(b["close"], n, lambda p: fit(p)[0]),
    "linear(close, N)": lambda b, n: window(b["close"], n, lambda p: fit(p)[1]),
    "correlation(close, high, N + 1)": lambda b, n: pairs(b["close"], b["high"], n + 1),
    "percent_rank(close, N + 1)": lambda b, n: window(b["close"], n + 1, lambda p: 100 * np.sum(p[:-1] < p[-1]) / n),
    "count(close > open, N)": lambda b, n: window(as_number(UP(b), KNOWN(b)), n, np.sum),
    "any(close > open, N)": lambda b, n: window(as_number(UP(b), KNOWN(b)), n, np.max),
    "all(close > open, N)": lambda b, n: window(as_number(UP(b), KNOWN(b)), n, np.min),
    "highest_ago(high, N)": lambda b, n: window(b["high"], n, lambda p: newest(p, p.max())),
    "lowest_ago(low, N)": lambda b, n: window(b["low"], n, lambda p: newest(p, p.min())),
    "wma(close, N)": lambda b, n: weighted(b["close"], n),
    "hull(close, N)": lambda b, n: hull(b["close"], n),
    "volume_weighted(close, N)": lambda b, n: ratio(
        window(b["close"] * b["volume"], n, np.sum), window(b["volume"] + 0 * b["volume"], n, np.sum)
    ),
    "double_ema(close, N)": lambda b, n: (
        2 * smooth(b["close"], n, 2 / (n + 1)) - smooth(smooth(b["close"], n, 2 / (n + 1)), n, 2 / (n + 1))
    ),
    "roc(close, N)": lambda b, n: 100 * (b["close"] / shift(b["close"], n) - 1),
    "momentum(close, N)": lambda b, n: b["close"] - shift(b["close"], n),
    "williams(N)": lambda b, n: (
        -100
        * ratio(window(b["high"], n, np.max) - b["close"], window(b["high"], n, np.max) - window(b["low"], n, np.min))
    ),
    "cci(N)": lambda b, n: ratio(
        typical(b) - window(typical(b), n, np.mean),
        0.015 * window(typical(b), n, lambda p: np.abs(p - p.mean()).mean()),
    ),
    "macd(close, N, N + 5, 3).gap": lambda b, n: (
        (line := smooth(b["close"], n, 2 / (n + 1)) - smooth(b["close"], n + 5, 2 / (n + 6))) - smooth(line, 3, 0.5)
    ),
    "stochastic(N, 3, 2).k": lambda b, n: stochastic(b, n),
    "stochastic(N, 3, 2).d": lambda b, n: window(stochastic(b, n), 2, np.mean),
    "directional(N).plus": lambda b, n: directional(b, n)["plus"],
    "directional(N).minus": lambda b, n: directional(b, n)["minus"],
    "directional(N).adx": lambda b, n: directional(b, n)["adx"],
    "aroon(N).up": lambda b, n: 100 * (n - window(b["high"], n + 1, lambda p: newest(p, p.max()))) / n,
    "aroon(N).down": lambda b, n: 100 * (n - window(b["low"], n + 1, lambda p: newest(p, p.min()))) / n,
    "bollinger(close, N, 2).upper": lambda b, n: window(b["close"], n, np.mean) + 2 * spread(b, n),
    "keltner(N, 2).lower": lambda b, n: smooth(b["close"], n, 2 / (n + 1)) - 2 * smooth(true_range(b), n, 1 / n),
    "donchian(N).mid": lambda b, n: (window(b["high"], n, np.max) + window(b["low"], n, np.min)) / 2,
    "squeeze(N, 2, 1.5).width": lambda b, n: ratio(4 * spread(b, n), 3 * smooth(true_range(b), n, 1 / n)),
    "ichimoku(N, 7, 9).quick": lambda b, n: (window(b["high"], n, np.max) + window(b["low"], n, np.min)) / 2,
    "ichimoku(3, 7, N).cloud_b": lambda b, n: shift(
        (window(b["high"], n, np.max) + window(b["low"], n, np.min)) / 2, 7
    ),
    "money_flow(N)": money_flow,
    "relative_volume(N)": lambda b, n: ratio(b["volume"], shift(window(b["volume"], n, np.mean))),
    "adaptive(close, N)": lambda b, n: adaptive(b["close"], n),
    "variable(close, N, 4)": lambda b, n: variable(b["close"], n, 4),
    "swing_high(N, 2)": lambda b, n: swing_high(b, n, 2),
    "swing_low(2, N)": lambda b, n: -swing_high(upside_down(b), 2, n),
    "swings(N).price": alternating,
    "supertrend(N, 2).stop": lambda b, n: supertrend(b, n, 2),
    "highest_since(new(1mo), high)": lambda b, n: since(months(b), b["high"], np.max),
    "sum_since(new(1mo), volume)": lambda b, n: since(months(b), b["volume"], np.nansum),
    "count_since(new(1mo), close > open)": lambda b, n: since(months(b), UP(b).astype(float), np.sum),
    "smoothed_candle().open": lambda b, n: calm_candles(b),
    "obv()": lambda b, n: np.cumsum(np.nan_to_num(np.sign(b["close"] - shift(b["close"])) * b["volume"])),
    "vwap(1mo)": lambda b, n: ratio(
        since(months(b), typical(b) * b["volume"], np.nansum), since(months(b), b["volume"], np.nansum)
    ),
    "gap_up().lower": lambda b, n: np.where(b["low"] > shift(b["high"], 2), shift(b["high"], 2), np.nan),
    "gap_down().upper": lambda b, n: np.where(b["high"] < shift(b["low"], 2), shift(b["low"], 2), np.nan),
    "clamp(close, 90, 110)": lambda b, n: np.clip(b["close"], 90, 110),
    "round(close)": lambda b, n: np.floor(b["close"] + 0.5),
    "sign(close - open)": lambda b, n: np.sign(b["close"] - b["open"]),
}
#: Formulas whose state cannot be carried over a none in the same simple way: tested on data without them.
WITHOUT_NONES = {"swings(N).price", "supertrend(N, 2).stop", "highest_since(new(1mo), high)", "vwap(1mo)"}


@pytest.mark.parametrize("call", FORMULAS)
@pytest.mark.parametrize("length", [1, 2, 5, 37])
def test_a_function_agrees_with_its_formula(call: str, length: int) -> None:
    for seed in (1, 2):
        bars = random_bars(seed, 400, holes=call not in WITHOUT_NONES)
        made = values(f"let x = {call.replace('N', str(length))}", bars)["x"]
        np.testing.assert_allclose(made, FORMULAS[call](bars, length), rtol=1e-9, atol=1e-9)


def test_every_function_of_the_library_is_tested() -> None:
    elsewhere = {
        "crosses",
        "ends",
        "starts",
        "latch",
        "lowest_since",
        "rising",
        "falling",
        "triple_ema",
        "parabolic",
        "accumulation",
        "previous_close",
        "session_high",
        "session_low",
        "opening_range",
    }
    assert {call.split("(")[0] for call in FORMULAS} | elsewhere >= set(library.names())


def test_parabolic_follows_its_rules() -> None:
    for seed in (3, 4):
        bars = random_bars(seed, 300, holes=False)
        np.testing.assert_allclose(values("let x = parabolic().stop", bars)["x"], parabolic(bars), rtol=1e-9)


def test_triple_ema_and_accumulation() -> None:
    bars = random_bars(6, 200, holes=False)
    made = values("let x = triple_ema(close, 5)\nlet y = accumulation", bars)
    e = smooth(bars["close"], 5, 1 / 3)
    ee = smooth(e, 5, 1 / 3)
    np.testing.assert_allclose(made["x"], 3 * e - 3 * ee + smooth(ee, 5, 1 / 3), rtol=1e-9)
    place = np.nan_to_num(ratio(2 * bars["close"] - bars["low"] - bars["high"], bars["high"] - bars["low"]))
    np.testing.assert_allclose(made["y"], np.cumsum(place * bars["volume"]), rtol=1e-9)


def test_events_and_latches() -> None:
    script = """let up = close > 2
let s = ends(up)
let c = crosses(close, 2)
let last = latch(up, bar)
let before = latch(up, bar, 1)
let deep = lowest_since(up, close)
let r = rising(close, 2)
let f = falling(close, 2)
"""
    made = values(script, daily_bars([3, 1, 5, 6, 1, 0, 9]))
    nan = np.nan
    for name, expected in {
        "s": [0, 1, 0, 0, 1, 0, 0],
        "c": [nan, 1, 1, 0, 1, 0, 1],
        "last": [0, 0, 2, 3, 3, 3, 6],
        "before": [nan, nan, 0, 2, 2, 2, 3],
        "deep": [3, 1, 5, 6, 1, 0, 9],
        "r": [nan, nan, 0, 1, 0, 0, 0],
        "f": [nan, nan, 0, 0, 0, 1, 0],
    }.items():
        np.testing.assert_array_equal(made[name], expected, err_msg=name)


def test_the_day_as_the_session_functions_see_it(market: BarLibrary) -> None:
    panel = market.panel(["SURGE"], Timeframe.parse("15m"), extended=True)
    script = "let h = opening_range(60).high\nlet top = session_high\nlet bottom = session_low\nlet p = previous_close(1d)\nlet s = session_bar"
    made = values(script, panel)
    bars = panel.bars(0)
    days, minutes = bars.calendar.days(bars.times), bars.calendar.minutes(bars.times)
    for day in np.unique(days)[[1, 30, -12, -1]]:
        part = np.flatnonzero(days == day)
        regular = [k for k in part if 540 <= minutes[k] < 930]
        first = [k for k in regular if minutes[k] < minutes[regular[0]] + 60]
        assert made["h"][part[-1]] == bars["high"][first].max()
        assert made["top"][part[-1]] == bars["high"][part].max()
        assert made["bottom"][part[5]] == bars["low"][part[:6]].min()
        assert made["p"][part[3]] == bars["close"][part[0] - 1]
        assert made["s"][part].tolist() == list(range(len(part)))


def test_one_missing_value_is_left_out_of_what_goes_through_a_session(market: BarLibrary) -> None:
    whole = market.panel(["SURGE"], Timeframe.parse("15m"))
    bars = whole.bars(0)
    days = bars.calendar.days(bars.times)
    first = np.flatnonzero(np.diff(days, prepend=-1))
    lost = np.concatenate([first[3:] - 1, first[3:] + 1])  # the last bar of a day, and the second of the next
    lost[0] = first[3]  # and for once the first
    columns = {n: v.copy() for n, v in bars.columns.items()}
    for values_of in columns.values():
        values_of[lost] = np.nan
    script = "let h = opening_range(60).high\nlet l = opening_range(60).low\nlet top = session_high\nlet bottom = session_low\nlet p = previous_close(1d)"
    made = values(script, panel_of([Bars(bars.symbol, bars.timeframe, bars.calendar, bars.times, columns)]))
    minutes = bars.calendar.minutes(bars.times)
    for day in np.unique(days)[3:-1]:
        part = np.flatnonzero(days == day)
        opening = [k for k in part if minutes[k] < minutes[part[0]] + 60]
        assert made["h"][part[-1]] == np.nanmax(columns["high"][opening])
        assert made["l"][part[-1]] == np.nanmin(columns["low"][opening])
        assert made["top"][part[-1]] == np.nanmax(columns["high"][part])
        assert made["bottom"][part[-1]] == np.nanmin(columns["low"][part])
        before = columns["close"][: part[0]]
        assert made["p"][part[5]] == before[~np.isnan(before)][-1]


@pytest.mark.parametrize(("frame", "extended"), [("15m", False), ("15m", True), ("1h", False), ("4h", True)])
def test_the_last_bar_of_a_session_is_so_by_the_calendar(market: BarLibrary, frame: str, extended: bool) -> None:
    panel = market.panel(["SURGE"], Timeframe.parse(frame), extended=extended)
    made = values("let last = last_of_session\nlet whole = last_of_session on 1d\nlet done = close on 1d", panel)
    bars = panel.bars(0)
    minutes, days = bars.calendar.minutes(bars.times), bars.calendar.days(bars.times)
    for day in np.unique(days):
        part = np.flatnonzero((days == day) & (minutes >= 540) & (minutes < 930))
        ends = [k for k in part if minutes[k] + bars.timeframe.count >= 930]
        assert np.flatnonzero((made["last"] == 1) & (days == day)).tolist() == ends[-1:]
        if ends and not extended:  # with it the day is complete
            assert made["done"][ends[-1]] == bars["close"][part[-1]]
    assert set(made["whole"][~np.isnan(made["whole"])]) == {1.0}


def test_every_bar_of_a_day_is_the_last_of_its_session() -> None:
    assert values("let last = last_of_session", daily_bars([1, 2, 3]))["last"].tolist() == [1, 1, 1]


def test_starts_needs_a_known_bar_before() -> None:
    made = values("let x = starts(close > 2)", daily_bars([3, 1, 5, 6, 1, 9]))["x"]
    np.testing.assert_array_equal(made, [np.nan, 0, 1, 0, 0, 1])


def test_windows_do_not_drift_over_two_million_bars() -> None:
    rng = np.random.default_rng(3)
    x = rng.normal(0, 1, 2_000_000)
    x[1_000_000] = 1e15
    made = values("let s = sum(close, 20)\nlet d = stdev(close, 20)", daily_bars(x, first_day=1000))
    tail = x[-20:]
    assert made["s"][-1] == pytest.approx(tail.sum(), rel=1e-9)
    assert made["d"][-1] == pytest.approx(tail.std(), rel=1e-9)
    after = x[1_000_001:1_000_021]
    assert made["s"][1_000_020] == pytest.approx(after.sum(), rel=1e-9)


@pytest.mark.parametrize("name", library.names())
def test_every_function_describes_itself_and_its_example_runs(name: str) -> None:
    found = library.function(name)
    assert found is not None
    assert found.about.endswith(".")
    assert all(found.parameters.values()), f"a parameter of {name} is not described"
    compile_script(f"rung 1\n{found.example}")


def test_bare_names_and_brackets_are_the_same() -> None:
    made = values("let a = true_range\nlet b = true_range()", random_bars(5, 50))
    np.testing.assert_array_equal(made["a"], made["b"])
