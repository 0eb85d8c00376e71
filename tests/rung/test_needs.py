"""Twenty needs of people who trade, each as the script that they would write, compared bar by bar with plain Python."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import pytest

from helpers import daily_bars, values
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.picture.as_data import day_paint
from oakladder.engine.picture.draw import draw
from oakladder.engine.run.execute import run
from oakladder.rung import OtherScripts, analyse, compile_script

NAN = float("nan")


def days(seed: int = 3, count: int = 420) -> Bars:
    """A walk with trends and quiet stretches, nothing missing."""
    rng = np.random.default_rng(seed)
    drift = np.repeat(rng.normal(0, 0.004, count // 30 + 1), 30)[:count]
    width = np.repeat(rng.uniform(0.003, 0.03, count // 20 + 1), 20)[:count]
    close = np.round(50 * np.exp(np.cumsum(drift + rng.normal(0, 1, count) * width)), 2)
    open_ = np.round(np.concatenate([[close[0]], close[:-1]]) * (1 + rng.normal(0, 0.004, count)), 2)
    high = np.round(np.maximum(open_, close) * (1 + rng.uniform(0, 0.01, count)), 2)
    low = np.round(np.minimum(open_, close) * (1 - rng.uniform(0, 0.01, count)), 2)
    return daily_bars(close, open=open_, high=high, low=low, volume=np.floor(rng.uniform(1e3, 9e3, count)))


@pytest.fixture(scope="module")
def quarters(market: BarLibrary) -> Panel:
    """Bars of fifteen minutes of one symbol, with the early and late hours."""
    return market.panel(["SURGE"], Timeframe.parse("15m"), extended=True)


def means(x: Sequence[float], n: int) -> list[float]:
    return [NAN if k < n - 1 else float(np.mean(x[k - n + 1 : k + 1])) for k in range(len(x))]


def smoothed(x: Sequence[float], n: int, alpha: float) -> list[float]:
    """An average that begins with the mean of the first n."""
    made: list[float] = []
    for k in range(len(x)):
        if k < n - 1:
            made.append(NAN)
        elif k == n - 1:
            made.append(float(np.mean(x[:n])))
        else:
            made.append(made[-1] + alpha * (x[k] - made[-1]))
    return made


def strengths(x: Sequence[float], n: int) -> list[float]:
    """The oscillator of rises against falls, 0 to 100."""
    moves = np.diff(x)
    rises, falls = (smoothed(np.maximum(sign * moves, 0), n, 1 / n) for sign in (1, -1))
    return [NAN] + [100 * u / (u + d) if u == u and u + d else NAN for u, d in zip(rises, falls, strict=True)]


def ranges(b: Bars) -> list[float]:
    """The true range of each bar."""
    made = [float(b["high"][0] - b["low"][0])]
    for k in range(1, len(b)):
        before = b["close"][k - 1]
        made.append(float(max(b["high"][k], before) - min(b["low"][k], before)))
    return made


def crossed_up(a: Sequence[float], b: Sequence[float], k: int) -> bool:
    return k > 0 and bool(a[k] > b[k] and a[k - 1] <= b[k - 1])


def flags(made: np.ndarray) -> list[bool]:
    """Where a flag is yes."""
    return (np.nan_to_num(made) == 1).tolist()


def check(text: str, on: Bars | Panel, **expected: Sequence[float] | Sequence[bool]) -> None:
    """Runs a script that must have nothing wrong with it, and compares its values bar by bar."""
    problems = [p for p in analyse("rung 1\n" + text).problems if p.code != "R701"]
    assert problems == [], problems
    program = compile_script("rung 1\n" + text)
    result = run(program, on if isinstance(on, Panel) else panel_of([on]), extra=list(program.plan.values.values()))
    ops = program.plan.values | {o.name: o.roles["value"] for o in program.signals}
    made = {name: result.number(ops[name]) for name in expected}
    for name, wanted in expected.items():
        if isinstance(wanted[0], bool | np.bool_):
            assert flags(made[name]) == [bool(w) for w in wanted], name
            assert 0 < sum(wanted) < len(wanted), name
        else:
            np.testing.assert_allclose(made[name], wanted, rtol=1e-9, atol=1e-9, err_msg=name)


def test_averages_that_cross_below_a_longer_one() -> None:
    b = days(5)
    c = b["close"]
    fast, slow, long = means(c, 8), means(c, 21), means(c, 35)
    text = """let fast = sma(close, 8)
let slow = sma(close, 21)
signal down = crosses_down(fast, slow) and slow < sma(close, 35)
"""
    check(
        text,
        b,
        down=[k > 0 and fast[k] < slow[k] and fast[k - 1] >= slow[k - 1] and slow[k] < long[k] for k in range(len(c))],
    )


def test_an_extreme_on_twice_the_volume_not_in_the_first_bars_of_a_session(quarters: Panel) -> None:
    b = quarters.bars(0)
    c, v = b["close"], b["volume"]
    day, minutes = b.calendar.days(b.times), b.calendar.minutes(b.times)
    r = strengths(c, 14)
    wanted = []
    for k in range(len(c)):
        usual = np.mean(v[k - 20 : k]) if k >= 20 else NAN
        regular = 540 <= minutes[k] < 930
        nth = sum(1 for j in range(k, -1, -1) if day[j] == day[k]) - 1 if k else 0
        wanted.append(bool(r[k] < 35 and v[k] > 1.5 * usual and regular and nth >= 10))
    text = """let r = rsi(close, 14)
signal spent = r < 35 and volume > 1.5 * sma(volume, 20)[1] and not extended and session_bar >= 10
"""
    check(text, quarters, spent=wanted)


def test_a_fall_below_the_day_before() -> None:
    b = days(5)
    c, low = b["close"], b["low"]
    text = "signal fell = low < close[1] * (1 - 3%)\nlet share = low / close[1] - 1\n"
    share = [NAN, *(low[1:] / c[:-1] - 1)]
    check(text, b, fell=[s < -0.03 for s in share], share=share)


def test_five_lanes_of_states() -> None:
    b = days()
    c, v = b["close"], b["volume"]
    conditions = {
        "over": [bool(a > m) for a, m in zip(c, means(c, 20), strict=True)],
        "rising": [k >= 3 and bool(c[k] > c[k - 1] > c[k - 2] > c[k - 3]) for k in range(len(c))],
        "busy": [bool(a > 1.2 * m) for a, m in zip(v, means(v, 20), strict=True)],
        "strong": [bool(r > 55) for r in strengths(c, 14)],
        "high": [k >= 19 and bool(c[k] == max(c[k - 19 : k + 1])) for k in range(len(c))],
    }
    text = """let over = close > sma(close, 20)
let rises = streak(close > close[1]) >= 3
let busy = volume > 1.2 * sma(volume, 20)
let strong = rsi(close, 14) > 55
let top = close == highest(close, 20)
lane "over" color if over then good else bad
lane "rising" color if rises then good else bad
lane "busy" color if busy then good else bad
lane "strong" color if strong then good else bad
lane "high" color if top then good else bad
"""
    picture = draw(run(compile_script("rung 1\n" + text), panel_of([b])), day_paint)
    good = day_paint("good")
    for lane in picture.lanes:
        assert (lane.colours == good).tolist() == conditions[lane.name], lane.name


def test_a_squeeze_with_its_length_and_its_end() -> None:
    b = days()
    c = b["close"]
    mid, spread = means(c, 20), [NAN if k < 19 else float(np.std(c[k - 19 : k + 1])) for k in range(len(c))]
    wide, middle = smoothed(ranges(b), 20, 1 / 20), smoothed(c, 20, 2 / 21)
    on = [
        bool(mid[k] + 2 * spread[k] < middle[k] + 1.5 * wide[k] and mid[k] - 2 * spread[k] > middle[k] - 1.5 * wide[k])
        for k in range(len(c))
    ]
    length, run_ = [], 0
    for yes in on:
        run_ = run_ + 1 if yes else 0
        length.append(float(run_))
    text = """let tight, width = squeeze(20, 2, 1.5)
let bars = streak(tight)
signal released = ends(tight) and bars[1] >= 2
label "squeezed {bars[1]}" above when released
"""
    released = [k > 0 and on[k - 1] and not on[k] and length[k - 1] >= 2 for k in range(len(c))]
    check(text, b, bars=length, released=released)


def test_closes_in_a_row_in_four_ways_that_agree() -> None:
    b = days()
    c = b["close"]
    n = 3
    wanted = [k >= n and all(c[k - j] > c[k - j - 1] for j in range(n)) for k in range(len(c))]
    text = """setting n = 3 range 1..20
let up = close > close[1]
signal one = streak(up) >= n
signal two = all(up, n)
signal three = count(up, n) == n
fresh every = known(close[n])
for k in 0..n - 1
    if not (close[k] > close[k + 1])
        set every = no
signal four = every
"""
    check(text, b, one=wanted, two=wanted, three=wanted, four=wanted)


def test_averaged_candles() -> None:
    b = days()
    o, h, low, c = (b[name] for name in ("open", "high", "low", "close"))
    opens, closes = [], []
    for k in range(len(b)):
        closes.append(float((o[k] + h[k] + low[k] + c[k]) / 4))
        opens.append(float((o[0] + c[0]) / 2) if k == 0 else (opens[-1] + closes[-2]) / 2)
    rising = [a > b_ for a, b_ in zip(closes, opens, strict=True)]
    text = """let candle = smoothed_candle()
let rises = candle.close > candle.open
signal turns = starts(rises)
let body_open = candle.open
let top = candle.high
"""
    tops = [max(float(h[k]), opens[k], closes[k]) for k in range(len(b))]
    turns = [k > 0 and rising[k] and not rising[k - 1] for k in range(len(b))]
    check(text, b, rises=rising, turns=turns, body_open=opens, top=tops)


def followed(b: Bars, n: int, factor: float) -> tuple[list[float], list[bool]]:
    """The stop of a trend follower, and whether it rises."""
    wide = smoothed(ranges(b), n, 1 / n)
    lower = upper = NAN
    rising = True
    stops, rises = [], []
    for k in range(len(b)):
        if wide[k] == wide[k]:
            middle = (b["high"][k] + b["low"][k]) / 2
            raw_low, raw_high = middle - factor * wide[k], middle + factor * wide[k]
            before = b["close"][k - 1]
            low_before, high_before = lower, upper
            lower = max(raw_low, lower) if before > lower else raw_low
            upper = min(raw_high, upper) if before < upper else raw_high
            if rising and b["close"][k] < low_before:
                rising = False
            elif not rising and b["close"][k] > high_before:
                rising = True
        stops.append(float(lower if rising else upper))
        rises.append(rising and wide[k] == wide[k])
    return stops, rises


def test_an_early_warning_before_a_trend_follower_turns() -> None:
    b = days()
    stops, rises = followed(b, 10, 2)
    wide = smoothed(ranges(b), 10, 1 / 10)
    near = [bool(rises[k] and b["close"][k] - stops[k] < 0.5 * wide[k]) for k in range(len(b))]
    text = """let follow = supertrend(10, 2)
let near = follow.rising and close - follow.stop < 0.5 * atr(10)
signal warn_early = starts(near)
signal turns_down = ends(follow.rising)
"""
    check(
        text,
        b,
        near=near,
        warn_early=[k > 10 and near[k] and not near[k - 1] for k in range(len(b))],
        turns_down=[k > 0 and rises[k - 1] and not rises[k] for k in range(len(b))],
    )


def test_divergence_within_five_to_fifty_bars() -> None:
    b = days(8, 700)
    low = b["low"]
    r = strengths(b["close"], 14)
    swings: list[tuple[int, float, float]] = []
    wanted = []
    for k in range(len(b)):
        at, hit = k - 3, False
        if at >= 3 and all(low[at] < low[at - j] for j in (1, 2, 3)) and all(low[at] <= low[at + j] for j in (1, 2, 3)):
            if swings and r[at] == r[at] and swings[-1][2] == swings[-1][2]:
                bar, price, strength = swings[-1]
                hit = bool(5 <= at - bar <= 50 and low[at] < price and r[at] > strength)
            swings.append((at, float(low[at]), r[at]))
        wanted.append(hit)
    text = """let found = swing_low(3, 3)
let r = rsi(close, 14)
let at = known(found)
let before_price = latch(at, found, 1)
let before_r = latch(at, r[3], 1)
let apart = bar - latch(at, bar, 1)
signal diverges = at and found < before_price and r[3] > before_r and apart between 5 and 50
link before_price ago 3 to found ago 3 when diverges
"""
    check(text, b, diverges=wanted)


def test_gaps_as_zones() -> None:
    b = days(4)
    high, low = b["high"], b["low"]
    text = 'let gap = gap_up()\nzone gap.lower to gap.upper when gap.on until low <= bottom named "gap"\n'
    wanted = []
    for t in range(2, len(b)):
        if low[t] > high[t - 2]:
            end = next((j for j in range(t + 1, len(b)) if low[j] <= high[t - 2]), len(b) - 1)
            wanted.append((t, end, float(high[t - 2]), float(low[t])))
    made = draw(run(compile_script("rung 1\n" + text), panel_of([b])), day_paint).zones
    assert [(z.start, z.end, z.low, z.high) for z in made] == wanted and len(wanted) > 10


def test_swings_with_a_trailing_level() -> None:
    b = days()
    low, c = b["low"], b["close"]
    level, levels, broken = NAN, [], []
    for k in range(len(b)):
        at = k - 2
        before = level
        if at >= 2 and all(low[at] < low[at - j] for j in (1, 2)) and all(low[at] <= low[at + j] for j in (1, 2)):
            level = float(low[at]) if not level > low[at] else level
        if c[k] < before:
            level = NAN
        levels.append(level)
        broken.append(bool(c[k] < before))
    text = """let found = swing_low(2, 2)
keep level = none
let before = level
if known(found)
    set level = max(level else found, found)
let broken = close < before
if broken
    set level = none
line level style steps
signal falls_through = broken
"""
    check(text, b, level=levels, falls_through=broken)


def test_two_followers_that_agree() -> None:
    b = days()
    (_, quick), (_, slow) = followed(b, 7, 1.5), followed(b, 14, 3)
    both = [q and s for q, s in zip(quick, slow, strict=True)]
    text = """let both = supertrend(7, 1.5).rising and supertrend(14, 3).rising
signal agree = starts(both)
paint bars color good when both
"""
    # Before the slower one is known they agree on nothing, and its first bar begins nothing.
    agree = [k > 14 and both[k] and not both[k - 1] for k in range(len(b))]
    check(text, b, both=both, agree=agree)


def test_wide_bars_within_hours(quarters: Panel) -> None:
    b = quarters.bars(0)
    wide = b["high"] - b["low"]
    minutes = b.calendar.minutes(b.times)
    wanted = [
        k >= 20 and bool(wide[k] > 2 * np.mean(wide[k - 20 : k]) and 600 <= minutes[k] <= 870) for k in range(len(b))
    ]
    check("signal wide = range > 2 * sma(range, 20)[1] and clock between 10:00 and 14:30\n", quarters, wide=wanted)


def test_opening_range_session_average_with_bands_and_yesterdays_levels(quarters: Panel) -> None:
    b = quarters.bars(0)
    day, minutes = b.calendar.days(b.times), b.calendar.minutes(b.times)
    h, low, c, v = (b[name] for name in ("high", "low", "close", "volume"))
    top, mean, band, y_high, breaks = [], [], [], [], []
    for k in range(len(b)):
        part = [j for j in range(max(k - 60, 0), k + 1) if day[j] == day[k]]
        regular = [j for j in part if 540 <= minutes[j] < 930]
        opening = [j for j in regular if minutes[j] < minutes[regular[0]] + 30]
        top.append(float(max(h[opening])) if opening else NAN)
        price = (h[part] + low[part] + c[part]) / 3
        mean.append(float(np.sum(price * v[part]) / np.sum(v[part])))
        band.append(float(np.sqrt(max(np.sum(price**2 * v[part]) / np.sum(v[part]) - mean[-1] ** 2, 0))))
        yesterday = np.flatnonzero(day == (day[day < day[k]].max() if (day < day[k]).any() else -1))
        y_high.append(float(max(h[yesterday])) if len(yesterday) else NAN)
        breaks.append(bool(k and c[k] > top[k] and c[k - 1] <= top[k - 1] and minutes[k] >= 570))
    text = """let opening = opening_range(30).high
let mean = vwap(1d)
let begins = new(1d)
let spread = sqrt(max(sum_since(begins, hlc3 * hlc3 * volume) / sum_since(begins, volume) - mean * mean, 0))
keep high_so_far = none
keep yesterday = none
if begins
    set yesterday = high_so_far
    set high_so_far = none
set high_so_far = max(high_so_far else high, high)
signal breaks_out = crosses_up(close, opening) and clock >= 09:30
band mean + spread, mean - spread
"""
    check(text, quarters, opening=top, mean=mean, yesterday=y_high, breaks_out=breaks)
    spread = values(text, quarters)["spread"]
    np.testing.assert_allclose(spread, band, rtol=1e-4, atol=2e-3)  # a small difference of large numbers


def test_strength_against_an_index(market: BarLibrary) -> None:
    panel = market.panel(["BRINE"], Timeframe.parse("1d"))
    b, index = panel.bars(0), market.bars("SALTX", Timeframe.parse("1d"))
    there = dict(zip(index.times.tolist(), index["close"].tolist(), strict=True))
    ratio = [float(c / there[t]) for t, c in zip(b.times.tolist(), b["close"], strict=True)]
    usual = means(ratio, 50)
    text = """let ratio = close / (close of "SALTX")
let usual = sma(ratio, 50)
signal leads = crosses_up(ratio, usual)
"""
    check(text, panel, ratio=ratio, usual=usual, leads=[crossed_up(ratio, usual, k) for k in range(len(b))])


def test_stacked_averages_for_the_first_time() -> None:
    b = days()
    c = b["close"]
    a, m, s = (smoothed(c, n, 2 / (n + 1)) for n in (5, 13, 34))
    stacked = [bool(a[k] > m[k] > s[k]) for k in range(len(c))]
    wanted = [stacked[k] and k >= 40 and not any(stacked[k - 5 : k]) for k in range(len(c))]
    text = """let stacked = ema(close, 5) > ema(close, 13) > ema(close, 34)
signal first = stacked and not any(stacked, 5)[1] and known(any(stacked, 5)[1])
"""
    check(text, b, first=wanted)


def test_bar_patterns_shared_by_use() -> None:
    tools = """rung 1
title "Patterns"
define is_small()
    give body < 0.3 * range
define inside()
    give high < high[1] and low > low[1]
define quiet_inside()
    give inside() and is_small()
"""
    text = 'rung 1\nuse quiet_inside from "Patterns"\nsignal waits = quiet_inside()\n'
    program = compile_script(text, OtherScripts((("Patterns", tools),)))
    b = days()
    o, h, low, c = (b[name] for name in ("open", "high", "low", "close"))
    wanted = [
        k > 0 and bool(h[k] < h[k - 1] and low[k] > low[k - 1] and abs(c[k] - o[k]) < 0.3 * (h[k] - low[k]))
        for k in range(len(b))
    ]
    result = run(program, panel_of([b]))
    assert (result.flag(program.signals[0].roles["value"]) == 1).tolist() == wanted and any(wanted)


def test_a_channel_and_the_rank_of_volatility() -> None:
    b = days()
    h, low, c = (b[name] for name in ("high", "low", "close"))
    n = 20
    top = [NAN if k < n else float(max(h[k - n : k])) for k in range(len(b))]
    wide = h - low
    rank = [NAN if k < 99 else 100 * sum(wide[k - 99 : k] < wide[k]) / 99 for k in range(len(b))]
    text = """let top = donchian(20).upper[1]
let rank = percent_rank(range, 100)
signal breaks_calmly = close > top and rank < 30
"""
    check(text, b, top=top, rank=rank, breaks_calmly=[bool(c[k] > top[k] and rank[k] < 30) for k in range(len(b))])


def test_pivots_of_the_day_before(quarters: Panel) -> None:
    b = quarters.bars(0)
    day = b.calendar.days(b.times)
    h, low, c = (b[name] for name in ("high", "low", "close"))
    pivot = []
    for k in range(len(b)):
        before = np.flatnonzero(day == (day[day < day[k]].max() if (day < day[k]).any() else -1))
        pivot.append(float((max(h[before]) + min(low[before]) + c[before[-1]]) / 3) if len(before) else NAN)
    text = """let begins = new(1d)
let top = highest_since(begins, high)
let bottom = lowest_since(begins, low)
keep pivot = none
if begins
    set pivot = (top[1] + bottom[1] + close[1]) / 3
signal over = crosses_up(close, pivot)
"""
    check(text, quarters, pivot=pivot, over=[crossed_up(c, pivot, k) for k in range(len(b))])


def test_seasons() -> None:
    b = days(2, 700)
    c = b["close"]
    dates = b.calendar.days(b.times).astype("datetime64[D]")
    months = dates.astype("datetime64[M]").astype(int) % 12 + 1
    change = [NAN, *(c[1:] / c[:-1] - 1)]
    sums, counts, usual = dict.fromkeys(range(1, 13), 0.0), dict.fromkeys(range(1, 13), 0), []
    for k in range(len(b)):
        m = int(months[k])
        usual.append(sums[6] / counts[6] if counts[6] else NAN)
        if change[k] == change[k]:
            sums[m] += change[k]
            counts[m] += 1
    text = """let change_today = close / close[1] - 1
keep total = 0
keep days_seen = 0
let usual = total / days_seen
if month == 6 and known(change_today)
    set total = total + change_today
    set days_seen = days_seen + 1
signal season = month == 6 and known(usual)
"""
    check(text, b, usual=usual, season=[bool(months[k] == 6 and usual[k] == usual[k]) for k in range(len(b))])
