"""What is wrong with bars as they come, and what is done about it: found, counted, shown, and cleaned as the user says."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np

from oakladder.bars.sessions import DAY, Calendar
from oakladder.bars.timeframes import Timeframe

from .reading import Raw

PRICES = ("open", "high", "low", "close")
#: A close this many times its usual step away, and back on the next bar, is a spike.
_SPIKE = 12.0
#: A high or low (as a logarithm) at least so far from everything around it is one too.
_LONE_WICK = 0.3
#: An overnight ratio within this of a plain fraction may be a split.
_SPLIT_CLOSE = 0.02
_SPLITS = tuple(sorted({a / b for a in (1, 2, 3, 4, 5, 10, 20, 25) for b in (1, 2, 3, 4, 5, 10, 20, 25) if a != b}))
#: How many places of each kind are shown.
_SHOWN = 5


class Trouble(StrEnum):
    """What can be wrong with bars."""

    UNREAD = "unreadable row"
    ORDER = "wrong order"
    REPEAT = "repeated time"
    EMPTY = "empty or zero row"
    IMPOSSIBLE = "high below low, or open or close outside of them"
    NEGATIVE = "negative volume"
    NO_VOLUME = "no volume"
    SPIKE = "spike"
    SPLIT = "possible split"
    HOLE = "missing session"


class Mend(StrEnum):
    """What can be done about it."""

    KEEP = "keep"
    DROP = "drop"
    MEND = "mend"


#: Trouble → what may be done, the usual first.
CHOICES: dict[Trouble, tuple[Mend, ...]] = {
    Trouble.UNREAD: (Mend.DROP,),
    Trouble.ORDER: (Mend.MEND,),
    Trouble.REPEAT: (Mend.DROP,),
    Trouble.EMPTY: (Mend.DROP,),
    Trouble.IMPOSSIBLE: (Mend.MEND, Mend.DROP, Mend.KEEP),
    Trouble.NEGATIVE: (Mend.MEND, Mend.DROP),
    Trouble.NO_VOLUME: (Mend.KEEP,),
    Trouble.SPIKE: (Mend.KEEP, Mend.DROP),
    Trouble.SPLIT: (Mend.KEEP, Mend.MEND),
    Trouble.HOLE: (Mend.KEEP,),
}
WORDS: dict[tuple[Trouble, Mend], str] = {
    (Trouble.UNREAD, Mend.DROP): "left out",
    (Trouble.ORDER, Mend.MEND): "sorted",
    (Trouble.REPEAT, Mend.DROP): "the last of each kept",
    (Trouble.EMPTY, Mend.DROP): "left out",
    (Trouble.IMPOSSIBLE, Mend.MEND): "high and low widened",
    (Trouble.NEGATIVE, Mend.MEND): "volume made none",
    (Trouble.SPLIT, Mend.MEND): "earlier prices and volumes adjusted",
}


@dataclass(frozen=True, slots=True)
class Finding:
    """One kind of trouble: how often, some places (row of the file, time), and what was done."""

    trouble: Trouble
    count: int
    places: tuple[tuple[int, int], ...]
    mend: Mend

    def words(self) -> str:
        """The finding as a sentence for a report."""
        done = WORDS.get((self.trouble, self.mend), {Mend.KEEP: "kept", Mend.DROP: "left out"}.get(self.mend, "mended"))
        rows = ", ".join(str(row) for row, _ in self.places if row)
        where = f" (row {rows}{' …' if self.count > len(self.places) else ''})" if rows else ""
        return f"{self.trouble.value}: {self.count}, {done}{where}"


@dataclass(slots=True)
class Tidied:
    """Bars fit for the library, and what was found on the way."""

    symbol: str
    times: np.ndarray
    columns: dict[str, np.ndarray]
    findings: list[Finding] = field(default_factory=list)


def tidy_up(raw: Raw, timeframe: Timeframe, calendar: Calendar, mends: dict[Trouble, Mend] | None = None) -> Tidied:
    """Finds what is wrong with a symbol's rows and cleans it; ``mends`` says where the usual is not wanted."""
    made = _Tidying(raw, {t: (mends or {}).get(t, choices[0]) for t, choices in CHOICES.items()})
    made.unread()
    made.order()
    made.repeats()
    made.empty()
    made.impossible()
    made.volume()
    made.spikes()
    made.splits()
    made.holes(timeframe, calendar)
    return Tidied(raw.symbol, made.times, made.columns, made.findings)


class _Tidying:
    """The rows of one symbol on their way to being clean."""

    def __init__(self, raw: Raw, mends: dict[Trouble, Mend]):
        self.raw, self.mends = raw, mends
        self.times, self.rows = raw.times, raw.rows
        self.columns = {n: np.array(v, dtype=np.float64) for n, v in raw.columns.items()}
        self.findings: list[Finding] = []
        self._spikes = np.zeros(0, dtype=np.int64)

    def _found(self, trouble: Trouble, where: np.ndarray, count: int | None = None) -> Mend:
        """Writes down where something is wrong; gives what shall be done about it."""
        at = np.flatnonzero(where)[:_SHOWN]
        places = tuple((int(self.rows[k]), int(self.times[k])) for k in at)
        mend = self.mends[trouble]
        total = int(where.sum()) if count is None else count
        if total:
            self.findings.append(Finding(trouble, total, places, mend))
        return mend

    def _keep(self, keep: np.ndarray) -> None:
        self.times, self.rows = self.times[keep], self.rows[keep]
        self.columns = {n: v[keep] for n, v in self.columns.items()}

    def unread(self) -> None:
        if self.raw.unread:
            self._found(Trouble.UNREAD, np.zeros(len(self.times), dtype=bool), self.raw.unread)

    def order(self) -> None:
        steps = np.diff(self.times)
        falling = np.concatenate([[False], steps < 0])
        if not falling.any():
            return
        if (steps <= 0).all():  # newest first all along is a manner of writing, not trouble
            self._keep(np.arange(len(self.times))[::-1])
            return
        self._found(Trouble.ORDER, falling)
        self._keep(np.argsort(self.times, kind="stable"))

    def repeats(self) -> None:
        if len(self.times) < 2:
            return
        again = np.concatenate([self.times[1:] == self.times[:-1], [False]])
        if again.any():
            self._found(Trouble.REPEAT, again)
            self._keep(~again)

    def empty(self) -> None:
        prices = np.stack([self.columns[n] for n in PRICES])
        none = ~(prices > 0).any(axis=0)
        lost = np.isnan(self.columns["close"]) | none
        if lost.any():
            self._found(Trouble.EMPTY, lost)
            self._keep(~lost)
        for name in PRICES:  # a zero among good prices is no price
            self.columns[name][self.columns[name] == 0] = np.nan

    def impossible(self) -> None:
        o, h, lo, c = (self.columns[n] for n in PRICES)
        with np.errstate(invalid="ignore"):
            wrong = (h < lo) | (h < np.fmax(o, c)) | (lo > np.fmin(o, c))
        if not wrong.any():
            return
        mend = self._found(Trouble.IMPOSSIBLE, wrong)
        if mend is Mend.DROP:
            self._keep(~wrong)
        elif mend is Mend.MEND:
            # Exchanged if each is where the other should be; else each reaches as far as open and close, and no
            # further because of the other, which may be the wrong one.
            with np.errstate(invalid="ignore"):
                exchanged = (h <= np.fmin(o, c)) & (lo >= np.fmax(o, c))
            high, low = np.where(exchanged, lo, h), np.where(exchanged, h, lo)
            self.columns["high"] = np.where(wrong, np.fmax(high, np.fmax(o, c)), h)
            self.columns["low"] = np.where(wrong, np.fmin(low, np.fmin(o, c)), lo)

    def volume(self) -> None:
        volume = self.columns["volume"]
        if np.isnan(volume).all():
            self._found(Trouble.NO_VOLUME, np.zeros(len(volume), dtype=bool), len(volume))
            self.columns["volume"] = np.zeros(len(volume))
            return
        with np.errstate(invalid="ignore"):
            negative = volume < 0
        if negative.any():
            if self._found(Trouble.NEGATIVE, negative) is Mend.DROP:
                self._keep(~negative)
            else:
                volume[negative] = np.nan

    def spikes(self) -> None:
        close = self.columns["close"]
        if len(close) < 10:
            return
        steps = np.diff(np.log(np.where(close > 0, close, np.nan)))
        usual = np.nanmedian(np.abs(steps[steps != 0])) if (steps != 0).any() else 0.0
        if not usual > 0:
            return
        far = np.abs(steps) > max(_SPIKE * usual, 0.1)
        with np.errstate(invalid="ignore"):
            back = np.abs(steps[:-1] + steps[1:]) < 3 * usual + 0.1 * np.abs(steps[:-1])
        spike = np.concatenate([[False], far[:-1] & far[1:] & back, [False]]) | self._lone_wicks(usual)
        if spike.any() and self._found(Trouble.SPIKE, spike) is Mend.DROP:
            self._keep(~spike)
        elif spike.any():
            self._spikes = self.times[spike]

    def _lone_wicks(self, usual: float) -> np.ndarray:
        """Bars whose high or low alone is far from everything around it: from its own open and close, and the bars beside."""
        body_top = np.fmax(self.columns["open"], self.columns["close"])
        body_foot = np.fmin(self.columns["open"], self.columns["close"])
        limit = max(_SPIKE * usual, _LONE_WICK)

        def beside(values: np.ndarray, how: Callable[[np.ndarray, np.ndarray], np.ndarray]) -> np.ndarray:
            return how(np.concatenate([values[1:2], values[:-1]]), np.concatenate([values[1:], values[-2:-1]]))

        with np.errstate(invalid="ignore", divide="ignore"):
            high, low = np.log(self.columns["high"]), np.log(self.columns["low"])
            up = np.fmin(high - np.log(body_top), high - beside(high, np.fmax))
            down = np.fmin(np.log(body_foot) - low, beside(low, np.fmin) - low)
            return np.asarray((up > limit) | (down > limit))

    def splits(self) -> None:
        """Jumps by a plain ratio between two sessions that stay: prices before them may be in other shares."""
        close, open_ = self.columns["close"], self.columns["open"]
        if len(close) < 3:
            return
        apart = self.times[1:] // DAY != self.times[:-1] // DAY
        with np.errstate(invalid="ignore", divide="ignore"):
            ratio = close[:-1] / np.where(np.isnan(open_[1:]), close[1:], open_[1:])
        near = np.zeros(len(ratio), dtype=bool)
        exact = np.ones(len(ratio))
        for plain in _SPLITS:
            if 0.6 < plain < 1.6:
                continue  # too small to be told from a bad day
            here = np.abs(ratio / plain - 1) < _SPLIT_CLOSE
            near |= here
            exact[here] = plain
        spike = np.isin(self.times, self._spikes)
        jump = np.concatenate([[False], near & apart & ~spike[1:] & ~spike[:-1]])
        if not jump.any():
            return
        if self._found(Trouble.SPLIT, jump) is Mend.MEND:
            factors = np.ones(len(close))
            factors[1:][jump[1:]] = exact[jump[1:]]
            # Every bar before a split is divided by its ratio; the newest prices stay as they are.
            later = np.append(np.cumprod(factors[::-1])[::-1][1:], 1.0)
            for name in PRICES:
                self.columns[name] = self.columns[name] / later
            self.columns["volume"] = self.columns["volume"] * later

    def holes(self, timeframe: Timeframe, calendar: Calendar) -> None:
        """Sessions of the calendar without a single bar, between the first and the last."""
        if timeframe.order > 10_000 or len(self.times) < 2:
            return
        days = np.unique(calendar.days(self.times))
        scheduled = np.arange(days[0], days[-1] + 1)
        scheduled = scheduled[calendar.trades_on(scheduled)]
        missing = np.setdiff1d(scheduled, days)
        if len(missing):
            opens = calendar.day_open(missing[:_SHOWN])
            places = tuple((0, int(t)) for t in opens)
            self.findings.append(Finding(Trouble.HOLE, len(missing), places, Mend.KEEP))
