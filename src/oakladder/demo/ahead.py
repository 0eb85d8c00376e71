"""The demo market after its last stored day: what would trade, the same for the same seed on every machine."""

from __future__ import annotations

import zlib
from functools import lru_cache

import numpy as np

from oakladder.bars.bars import COLUMNS, Bars
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY
from oakladder.demo import companies, market
from oakladder.demo.companies import LAST_DAY, VERSION

#: How often a symbol is halted for a while on a day, and for how many minutes at least and at most.
_HALTS, _SHORTEST, _LONGEST = 0.02, 15, 60
#: So many days without trade are looked over for the next one that trades.
_LOOK = 30


class MarketAhead:
    """Minutes of the demo market, those that are stored and any number of days after them. Times are UTC seconds."""

    def __init__(self, seed: int = 0):
        self._seed = seed
        self.infos = {info.symbol: info for info in companies.symbols()}
        self._closes: dict[str, list[float]] = {}
        self._days: dict[str, list[int]] = {}
        self._session = lru_cache(maxsize=2000)(self._made)
        self._stored = lru_cache(maxsize=200)(market.minutes)

    def minutes(self, symbol: str, start: int, end: int) -> Bars:
        """The minutes of a symbol that begin from ``start`` on and before ``end``. Raises `KeyError`."""
        info = self.infos[symbol]
        calendar = info.calendar
        first, last = (int(d) for d in calendar.days(np.array([start, max(end - 1, start)], dtype=np.int64)))
        parts = [self._stored(symbol)] if first <= LAST_DAY else []
        days = np.arange(max(first, LAST_DAY + 1), last + 1)
        parts += [self._session(symbol, int(d)) for d in days[calendar.trades_on(days)]] if len(days) else []
        if not parts:
            parts = [self._stored(symbol).part(0, 0)]
        times = np.concatenate([p.times for p in parts])
        low, high = np.searchsorted(times, (start, end))
        columns = {n: np.concatenate([p[n] for p in parts])[low:high] for n in COLUMNS}
        return Bars(symbol, parts[0].timeframe, calendar, times[low:high], columns, True)

    def first(self, symbol: str) -> int:
        """The time of the first minute that there is."""
        return int(self._stored(symbol).times[0])

    def daily(self, symbol: str, day: int) -> Bars:
        """The day's bar that its regular minutes add up to, but for a halt. Raises `KeyError` for a day without trade."""
        info = self.infos[symbol]
        rng, character = self._generator(symbol, day), companies.character_of(symbol)
        before = self._close_before(symbol, day)
        noise = character.noise
        overnight = rng.normal(0, noise * 0.35) + (rng.random() < character.gaps) * rng.normal(0, 3) * noise
        within = rng.standard_t(5) * 0.78 * noise + character.drift - overnight * 0.6
        open_, reach = before * np.exp(overnight), np.abs(rng.normal(0, noise * 0.5, 2))
        close = open_ * np.exp(within)
        high, low = max(open_, close) * np.exp(reach[0]), min(open_, close) * np.exp(-reach[1])
        volume = np.round(character.volume * np.exp(rng.normal(0, 0.35) + 14 * abs(within)))
        o, h, lo, c = (np.maximum(np.round(np.array([x]) / info.tick), 1) for x in (open_, high, low, close))
        h, lo = np.maximum.reduce([o, h, c]), np.minimum.reduce([o, lo, c])
        prices = (market.priced(x, info.tick) for x in (o, h, lo, c))
        columns = dict(zip(COLUMNS, (*prices, np.array([volume])), strict=True))
        return Bars(symbol, ONE_DAY, info.calendar, info.calendar.day_open(np.array([day])), columns)

    def next_trade(self, after: int) -> int:
        """The time of the next minute after a time in which anything trades."""
        found = []
        for info in self.infos.values():
            day = int(info.calendar.days(np.array([after]))[0])
            made = self.minutes(info.symbol, after + 1, after + 86_400)
            if not len(made):
                days = np.arange(day, day + _LOOK)
                opened = info.calendar.day_open(days[info.calendar.trades_on(days)], True)
                later = opened[opened > after]
                made = self.minutes(info.symbol, int(later[0]), int(later[0]) + 86_400)
            found.append(int(made.times[0]))
        return min(found)

    def next_opening(self, after: int) -> int:
        """When the exchange's next regular session after a time begins."""
        day = int(companies.EXCHANGE.days(np.array([after]))[0])
        days = np.arange(day, day + _LOOK)
        opens = companies.EXCHANGE.day_open(days[companies.EXCHANGE.trades_on(days)])
        return int(opens[opens > after][0])

    def _generator(self, symbol: str, day: int) -> np.random.Generator:
        return np.random.default_rng(zlib.crc32(f"saltmere {VERSION} {symbol} {self._seed} {day}".encode()))

    def _close_before(self, symbol: str, day: int) -> float:
        """The close before a day after the last stored one: each day goes on from the one before it."""
        calendar = self.infos[symbol].calendar
        days, closes = self._days.setdefault(symbol, []), self._closes.setdefault(symbol, [])
        if not days:
            days.append(LAST_DAY)
            closes.append(float(market.daily(symbol)["close"][-1]))
        while (later := np.arange(days[-1] + 1, day)).size and (traded := later[calendar.trades_on(later)]).size:
            days.append(int(traded[0]))
            closes.append(float(self.daily(symbol, days[-1])["close"][0]))
        return closes[int(np.searchsorted(days, day)) - 1]

    def _made(self, symbol: str, day: int) -> Bars:
        """The minutes of a day, with a halt now and then."""
        info: SymbolInfo = self.infos[symbol]
        rng = np.random.default_rng(zlib.crc32(f"{VERSION} {symbol} {self._seed} {day} minutes".encode()))
        bars = market.threaded(self.daily(symbol, day), info.tick, rng)
        if rng.random() >= _HALTS or len(bars) < 2 * _LONGEST:
            return bars
        begin = int(rng.integers(_SHORTEST, len(bars) - _LONGEST))
        keep = np.ones(len(bars), dtype=bool)
        keep[begin : begin + int(rng.integers(_SHORTEST, _LONGEST))] = False
        columns = {n: bars[n][keep] for n in COLUMNS}
        return Bars(symbol, bars.timeframe, bars.calendar, bars.times[keep], columns, True)
