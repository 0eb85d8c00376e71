"""What a careful programmer would write for numba to find the trades of one rule and what they bring, and nothing else."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

#: Fields of a trade of the broker: the bars of the entry and of the exit (-1 while it is open), their prices, whether
#: it was left inside its bar, and whether at its target.
EXITS = ("entered", "left", "entry", "exit", "inside", "aimed")


def broker_by_hand() -> Callable[..., int]:
    """The example rule of `speed.trial` and its fills as one loop over plain arrays; each trade is a row of `EXITS`."""
    import numba

    @numba.njit(cache=False)
    def up(price):  # type: ignore[no-untyped-def]
        n = price * 100
        near = np.floor(n + 0.5)
        return near / 100 if abs(n - near) <= 1e-6 else np.floor(n) / 100

    @numba.njit(cache=False)
    def broker(o, h, low, c, starts, ends, fast, slow, out):  # type: ignore[no-untyped-def]
        made = 0
        for s in range(len(starts)):
            a, b = starts[s], ends[s]
            sum_f = sum_s = seen = atr = 0.0
            pf = ps = np.nan
            side = 0
            order = leaving = False
            entry = best = stop = target = usual = 0.0
            held = 0
            for i in range(a, b):
                k = i - a
                # Orders in force.
                if side == 1:
                    held += 1
                    price, inside, aimed = 0.0, 0.0, 0.0
                    if leaving or held >= 60 or o[i] <= stop:
                        price = o[i]
                    elif o[i] >= target:
                        price, aimed = o[i], 1.0
                    elif low[i] <= stop:
                        price, inside = stop, 1.0
                    elif h[i] >= target:
                        price, inside, aimed = target, 1.0, 1.0
                    if price > 0:
                        out[made, 1] = i
                        out[made, 3] = price
                        out[made, 4] = inside
                        out[made, 5] = aimed
                        made += 1
                        side = 0
                        leaving = False
                if order and side == 0:
                    order = False
                    entry = o[i]
                    first = max(up(entry - 2 * usual), up(entry - 3 * usual))
                    risk = entry - first
                    goal = up(entry + 4 * risk)
                    if risk > 0 and goal > entry:
                        side, held, best, stop, target = 1, 0, entry, first, goal
                        out[made, 0] = i
                        out[made, 2] = entry
                        if low[i] <= stop or h[i] >= target:
                            out[made, 1] = i
                            out[made, 3] = stop if low[i] <= stop else target
                            out[made, 4] = 1
                            out[made, 5] = not low[i] <= stop
                            made += 1
                            side = 0
                # Values of the bar.
                true_range = h[i] - low[i] if k == 0 else max(h[i], c[i - 1]) - min(low[i], c[i - 1])
                if seen < 14:
                    seen += 1
                    atr += true_range
                    if seen == 14:
                        atr /= 14
                else:
                    atr += (true_range - atr) / 14
                sum_f += c[i]
                sum_s += c[i]
                if k >= fast:
                    sum_f -= c[i - fast]
                if k >= slow:
                    sum_s -= c[i - slow]
                f = sum_f / fast if k >= fast - 1 else np.nan
                m = sum_s / slow if k >= slow - 1 else np.nan
                if side == 1:
                    best = max(best, h[i])
                    if best - 3 * atr > stop:
                        stop = max(stop, up(best - 3 * atr))
                    if f < m and pf >= ps:
                        leaving = True
                elif f > m and pf <= ps:
                    order = True
                    usual = atr if seen >= 14 else np.nan
                pf, ps = f, m
            if side == 1:
                out[made, 1] = -1
                made += 1
        return made

    return broker


def account_by_hand() -> Callable[..., float]:
    """One account for symbols that have the same bars: a tenth of equity for each trade, a tick of slippage, 0.05 % a
    fill; and the main metrics of its trades and of its curve."""
    import numba

    @numba.njit(cache=False)
    def account(trades, made, closes, bars, money, tick, ratio, metrics):  # type: ignore[no-untyped-def]
        symbols = len(closes)
        first = np.zeros(symbols + 1, np.int64)
        for k in range(made):
            first[int(trades[k, 0]) // bars + 1] += 1
        for s in range(symbols):
            first[s + 1] += first[s]
        at = first[:-1].copy()
        # When each symbol is entered next, and when what is held of it is left.
        enters, leaves = np.full(symbols, -1), np.full(symbols, -1)
        for s in range(symbols):
            if at[s] < first[s + 1]:
                enters[s] = int(trades[at[s], 0]) - s * bars
        units, paid = np.zeros(symbols), np.zeros(symbols)
        count, winners, won, lost, shares, spent = 0, 0, 0.0, 0.0, 0.0, 0.0
        cash = peak = before = last = money
        fall = fall_money = total = squares = 0.0
        under = longest = held_bars = 0
        for m in range(bars):
            for inside in range(2):
                if inside == 1:  # what is entered at the open comes between
                    invested = -1.0
                    for s in range(symbols):
                        if enters[s] != m:
                            continue
                        if invested < 0:
                            invested = 0.0
                            for k in range(symbols):
                                invested += units[k] * closes[k, m - 1]
                        price = trades[at[s], 2] + tick
                        lots = np.floor(0.1 * before / price + 1e-9)
                        if lots < 1 or invested + lots * price > before * (1 + 1e-9):
                            at[s] += 1  # it does not come back
                            enters[s] = int(trades[at[s], 0]) - s * bars if at[s] < first[s + 1] else -1
                            continue
                        cost = ratio * lots * price
                        units[s], paid[s] = lots, price
                        enters[s] = -1
                        leaves[s] = int(trades[at[s], 1]) - s * bars
                        cash -= lots * price + cost
                        invested += lots * price
                        spent += cost
                for s in range(symbols):
                    if leaves[s] != m or trades[at[s], 4] != inside:
                        continue
                    k = at[s]
                    got = trades[k, 3] - (0.0 if trades[k, 5] == 1 else tick)
                    lots, price = units[s], paid[s]
                    cost = ratio * lots * got
                    cash += lots * got - cost
                    spent += cost
                    net = lots * (got - price) - cost - ratio * lots * price
                    count += 1
                    shares += net / (lots * price)
                    if net > 0:
                        winners += 1
                        won += net
                    else:
                        lost += net
                    units[s] = 0
                    at[s] += 1
                    leaves[s] = -1
                    enters[s] = int(trades[at[s], 0]) - s * bars if at[s] < first[s + 1] else -1
            value, some = cash, False
            for s in range(symbols):
                if units[s] > 0:
                    value += units[s] * closes[s, m]
                    some = True
            held_bars += some
            before = value
            peak = max(peak, value)
            fall, fall_money = max(fall, 1 - value / peak), max(fall_money, peak - value)
            under = 0 if value >= peak else under + 1
            longest = max(longest, under)
            if m > 0:
                change = value / last - 1
                total += change
                squares += change * change
            last = value
        mean = total / (bars - 1)
        deviation = np.sqrt(max(squares - (bars - 1) * mean * mean, 0.0) / (bars - 2))
        metrics[0], metrics[1], metrics[2] = count, winners / max(count, 1), won / -lost if lost < 0 else np.nan
        metrics[3], metrics[4], metrics[5] = won + lost, spent, shares / max(count, 1)
        metrics[6], metrics[7], metrics[8] = fall, fall_money, longest
        metrics[9], metrics[10] = held_bars / bars, mean / deviation if deviation > 0 else np.nan
        return before

    return account
