"""What is wrong with bars as they come, and what is done about it: found, counted, shown, and cleaned as the user says."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from enum import StrEnum

import numpy as np

from oakladder.bars.bars import PRICES
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe
from oakladder.bars.zones import DAY
from oakladder.intake.closed_days import missing_days
from oakladder.intake.reading import Raw

#: A close this many times its usual step away, and back on the next bar, is a spike.
_SPIKE = 12.0
#: A high or low (as a logarithm) at least so far from everything around it is one too.
_LONE_WICK = 0.3
#: An overnight ratio within this of a plain fraction may be a split.
_SPLIT_CLOSE = 0.02
_SPLITS = tuple(sorted({a / b for a in (1, 2, 3, 4, 5, 10, 20, 25) for b in (1, 2, 3, 4, 5, 10, 20, 25) if a != b}))
#: How many places of each kind are shown.
_SHOWN = 5
#: No price and no volume is as large as this, or as small without being zero.
_MOST_PRICE, _MOST_VOLUME, _LEAST = 1e12, 1e16, 1e-12
#: Where prices lie below zero on more than this share of rows, they are meant to.
_BELOW_ZERO_SHARE = 0.05
#: Seconds after now from which on a bar has not been: markets are ahead of each other by a day.
_AHEAD = 2 * DAY


class Trouble(StrEnum):
    """What can be wrong with bars."""

    UNREAD = "unreadable row"
    UNREADABLE = "unreadable number"
    MISSING = "value missing or zero"
    SCALED = "number with K, M or B"
    BELOW_ZERO = "price below zero"
    ABSURD = "number out of all reach"
    FUTURE = "time still to come"
    ALIKE = "names that are one symbol"
    ORDER = "wrong order"
    REPEAT = "duplicate row"
    EMPTY = "empty or zero row"
    IMPOSSIBLE = "high below low, or open or close outside of them"
    NEGATIVE = "negative volume"
    NO_VOLUME = "no volume"
    SECONDS = "bars within a minute"
    SPIKE = "spike"
    SPLIT = "possible split"
    ADJUSTED = "dividends and splits"
    UNADJUSTED = "adjusted close that changes too often"
    HOLE = "missing session"
    CLOSED = "closed days recognised"
    RENAMED = "symbol cleaned"


class Repair(StrEnum):
    """What can be done about it."""

    KEEP = "keep"
    BLANK = "blank"
    DROP = "drop"
    MEND = "mend"


#: Trouble → what may be done, the usual first.
CHOICES: dict[Trouble, tuple[Repair, ...]] = {
    Trouble.UNREAD: (Repair.DROP,),
    Trouble.UNREADABLE: (Repair.BLANK, Repair.DROP),
    Trouble.MISSING: (Repair.BLANK, Repair.DROP),
    Trouble.SCALED: (Repair.KEEP, Repair.DROP),
    Trouble.BELOW_ZERO: (Repair.BLANK, Repair.KEEP, Repair.DROP),
    Trouble.ABSURD: (Repair.BLANK, Repair.DROP),
    Trouble.FUTURE: (Repair.DROP, Repair.KEEP),
    Trouble.ALIKE: (Repair.MEND,),
    Trouble.ORDER: (Repair.MEND,),
    Trouble.REPEAT: (Repair.DROP,),
    Trouble.EMPTY: (Repair.DROP,),
    Trouble.IMPOSSIBLE: (Repair.MEND, Repair.DROP, Repair.KEEP),
    Trouble.NEGATIVE: (Repair.MEND, Repair.DROP),
    Trouble.NO_VOLUME: (Repair.KEEP,),
    Trouble.SECONDS: (Repair.MEND,),
    Trouble.SPIKE: (Repair.KEEP, Repair.DROP),
    Trouble.SPLIT: (Repair.KEEP, Repair.MEND),
    Trouble.ADJUSTED: (Repair.KEEP, Repair.DROP),
    Trouble.UNADJUSTED: (Repair.DROP,),
    Trouble.HOLE: (Repair.KEEP,),
    Trouble.CLOSED: (Repair.KEEP, Repair.DROP),
    Trouble.RENAMED: (Repair.KEEP,),
}
WORDS: dict[tuple[Trouble, Repair], str] = {
    (Trouble.UNREAD, Repair.DROP): "left out",
    (Trouble.UNREADABLE, Repair.BLANK): "taken for no value",
    (Trouble.MISSING, Repair.BLANK): "no value",
    (Trouble.SCALED, Repair.KEEP): "multiplied out",
    (Trouble.BELOW_ZERO, Repair.BLANK): "taken for no value",
    (Trouble.ABSURD, Repair.BLANK): "taken for no value",
    (Trouble.ALIKE, Repair.MEND): "put together",
    (Trouble.SECONDS, Repair.MEND): "put together to whole minutes",
    (Trouble.ORDER, Repair.MEND): "sorted",
    (Trouble.REPEAT, Repair.DROP): "the last of each kept",
    (Trouble.EMPTY, Repair.DROP): "left out",
    (Trouble.IMPOSSIBLE, Repair.MEND): "high and low widened",
    (Trouble.NEGATIVE, Repair.MEND): "volume made none",
    (Trouble.CLOSED, Repair.KEEP): "entered in the calendar",
    (Trouble.CLOSED, Repair.DROP): "not entered",
    (Trouble.ADJUSTED, Repair.KEEP): "adjusted for signals",
    (Trouble.ADJUSTED, Repair.DROP): "real prices alone",
    (Trouble.UNADJUSTED, Repair.DROP): "not used",
    (Trouble.SPLIT, Repair.MEND): "earlier prices and volumes adjusted",
}


def done_words(trouble: Trouble, repair: Repair) -> str:
    """What is done about a trouble, in words."""
    return WORDS.get((trouble, repair), {Repair.KEEP: "kept", Repair.DROP: "left out"}.get(repair, "repaired"))


@dataclass(frozen=True, slots=True)
class Finding:
    """One kind of trouble: how often, some places (row of the file, time), and what was done."""

    trouble: Trouble
    count: int
    places: tuple[tuple[int, int], ...]
    repair: Repair
    #: What it is about, where that is no row.
    about: str = ""

    def words(self) -> str:
        """The finding as a sentence for a report."""
        done = done_words(self.trouble, self.repair)
        rows = ", ".join(str(row) for row, _ in self.places if row)
        where = f" (row {rows}{' …' if self.count > len(self.places) else ''})" if rows else ""
        where = f" ({self.about})" if self.about else where
        return f"{self.trouble.value}: {self.count}, {done}{where}"


@dataclass(slots=True)
class Tidied:
    """Bars fit for the library, and what was found on the way."""

    symbol: str
    times: np.ndarray
    columns: dict[str, np.ndarray]
    findings: list[Finding] = field(default_factory=list)


def clean_bars(
    raw: Raw, timeframe: Timeframe, calendar: Calendar, repairs: dict[Trouble, Repair] | None = None
) -> Tidied:
    """Finds what is wrong with a symbol's rows and cleans it; ``repairs`` overrides the default repairs."""
    made = _Tidying(raw, {t: (repairs or {}).get(t, choices[0]) for t, choices in CHOICES.items()})
    made.unread()
    made.alike()
    made.cells()
    made.future()
    made.below_zero(Trouble.BELOW_ZERO in (repairs or {}))
    made.absurd()
    made.order()
    made.repeats()
    made.empty()
    made.find_impossible()
    made.volume()
    made.spikes()
    made.splits()
    made.holes(timeframe, calendar)
    return Tidied(raw.symbol, made.times, made.columns, made.findings)


def _at(places: np.ndarray, count: int) -> np.ndarray:
    """A mask that is true at some places."""
    made = np.zeros(count, dtype=bool)
    made[places] = True
    return made


class _Tidying:
    """The rows of one symbol on their way to being clean."""

    def __init__(self, raw: Raw, repairs: dict[Trouble, Repair]):
        self.raw, self.repairs = raw, repairs
        self.times, self.rows = raw.times, raw.rows
        self.columns = dict(raw.columns)  # modified in place: a file is read again each time
        self.findings: list[Finding] = []
        self._spikes = np.zeros(0, dtype=np.int64)

    def _found(self, trouble: Trouble, where: np.ndarray, count: int | None = None) -> Repair:
        """Writes down where something is wrong; gives what shall be done about it."""
        at = np.flatnonzero(where)[:_SHOWN]
        places = tuple((int(self.rows[k]), int(self.times[k])) for k in at)
        repair = self.repairs[trouble]
        total = int(where.sum()) if count is None else count
        if total:
            self.findings.append(Finding(trouble, total, places, repair))
        return repair

    def _keep(self, keep: np.ndarray) -> None:
        self.times, self.rows = self.times[keep], self.rows[keep]
        self.columns = {n: v[keep] for n, v in self.columns.items()}

    def unread(self) -> None:
        """Rows whose time or width cannot be read."""
        rows = self.raw.unread_rows
        if len(rows):
            places = tuple((int(row), 0) for row in rows[:_SHOWN])
            self.findings.append(Finding(Trouble.UNREAD, len(rows), places, self.repairs[Trouble.UNREAD]))

    def alike(self) -> None:
        """Names in the file that are one symbol here."""
        if self.raw.alike:
            names = ", ".join(self.raw.alike[:_SHOWN])
            self.findings.append(Finding(Trouble.ALIKE, len(self.raw.alike), (), Repair.MEND, names))

    def cells(self) -> None:
        """Cells that hold no number, or none that is plainly one."""
        keep = np.ones(len(self.times), dtype=bool)
        missing = _at(self.raw.missing, len(keep))
        prices = np.stack([self.columns[n] for n in PRICES])
        zero = (prices == 0).any(axis=0) & (np.nan_to_num(prices) != 0).any(axis=0) & ~(prices < 0).any(axis=0)
        for name in PRICES:  # a zero among good prices is no price
            self.columns[name][zero & (self.columns[name] == 0)] = np.nan
        none = ~np.isfinite(prices).any(axis=0)  # told as an empty row
        for trouble, where in (
            (Trouble.UNREADABLE, _at(self.raw.unreadable, len(keep))),
            (Trouble.MISSING, (missing | zero) & ~none),
            (Trouble.SCALED, _at(self.raw.scaled, len(keep))),
        ):
            if where.any() and self._found(trouble, where) is Repair.DROP:
                keep &= ~where
        if not keep.all():
            self._keep(keep)

    def future(self) -> None:
        """Bars that cannot have been yet."""
        ahead = self.times > time.time() + _AHEAD
        if ahead.any() and self._found(Trouble.FUTURE, ahead) is Repair.DROP:
            self._keep(~ahead)

    def below_zero(self, said: bool) -> None:
        """Prices below zero; where they are many and nothing else is said, they stay."""
        with np.errstate(invalid="ignore"):
            cells = {n: self.columns[n] < 0 for n in PRICES}
        where = np.logical_or.reduce(list(cells.values()))
        if not where.any():
            return
        if not said and where.mean() > _BELOW_ZERO_SHARE:
            self.repairs[Trouble.BELOW_ZERO] = Repair.KEEP
        self._blank_or_drop(Trouble.BELOW_ZERO, cells)

    def absurd(self) -> None:
        """Numbers larger or smaller than any price or volume."""
        limits = dict.fromkeys(PRICES, _MOST_PRICE) | {"volume": _MOST_VOLUME}
        with np.errstate(invalid="ignore"):
            sizes = {n: np.abs(self.columns[n]) for n in limits}
            cells = {n: (sizes[n] >= limit) | ((sizes[n] > 0) & (sizes[n] < _LEAST)) for n, limit in limits.items()}
        self._blank_or_drop(Trouble.ABSURD, cells)

    def _blank_or_drop(self, trouble: Trouble, cells: dict[str, np.ndarray]) -> None:
        where = np.logical_or.reduce(list(cells.values()))
        if not where.any():
            return
        repair = self._found(trouble, where)
        if repair is Repair.DROP:
            self._keep(~where)
        elif repair is Repair.BLANK:
            for name, here in cells.items():
                self.columns[name][here] = np.nan

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
        none = (np.isnan(prices) | (prices == 0)).all(axis=0)
        lost = np.isnan(self.columns["close"]) | none
        if lost.any():
            self._found(Trouble.EMPTY, lost)
            self._keep(~lost)

    def find_impossible(self) -> None:
        o, h, lo, c = (self.columns[n] for n in PRICES)
        with np.errstate(invalid="ignore"):
            wrong = (h < lo) | (h < np.fmax(o, c)) | (lo > np.fmin(o, c))
        if not wrong.any():
            return
        repair = self._found(Trouble.IMPOSSIBLE, wrong)
        if repair is Repair.DROP:
            self._keep(~wrong)
        elif repair is Repair.MEND:
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
            if self._found(Trouble.NEGATIVE, negative) is Repair.DROP:
                self._keep(~negative)
            else:
                volume[negative] = np.nan

    def spikes(self) -> None:
        close = self.columns["close"]
        if len(close) < 10:
            return
        steps = np.diff(np.log(np.where(close > 0, close, np.nan)))
        moved = steps[np.isfinite(steps) & (steps != 0)]
        usual = float(np.median(np.abs(moved))) if len(moved) else 0.0
        if not usual > 0:
            return
        far = np.abs(steps) > max(_SPIKE * usual, 0.1)
        with np.errstate(invalid="ignore"):
            back = np.abs(steps[:-1] + steps[1:]) < 3 * usual + 0.1 * np.abs(steps[:-1])
        spike = np.concatenate([[False], far[:-1] & far[1:] & back, [False]]) | self._lone_wicks(usual)
        if spike.any() and self._found(Trouble.SPIKE, spike) is Repair.DROP:
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
        if "adjusted" in self.columns:  # what it accounts for need not be asked about
            with np.errstate(invalid="ignore", divide="ignore"):
                factor = self.columns["adjusted"] / close
            factor[~((factor > 0) & np.isfinite(factor))] = 1.0
            close, open_ = close * factor, open_ * factor
        apart = self.times[1:] // DAY != self.times[:-1] // DAY
        with np.errstate(invalid="ignore", divide="ignore"):
            ratio = close[:-1] / np.where(np.isnan(open_[1:]), close[1:], open_[1:])
        near = np.zeros(len(ratio), dtype=bool)
        exact = np.ones(len(ratio))
        for plain in _SPLITS:
            if 0.6 < plain < 1.6:
                continue  # too small to distinguish from a bad day
            here = np.abs(ratio / plain - 1) < _SPLIT_CLOSE
            near |= here
            exact[here] = plain
        spike = np.isin(self.times, self._spikes)
        jump = np.concatenate([[False], near & apart & ~spike[1:] & ~spike[:-1]])
        if not jump.any():
            return
        if self._found(Trouble.SPLIT, jump) is Repair.MEND:
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
        missing = missing_days(np.unique(calendar.days(self.times)), calendar)
        if len(missing):
            opens = calendar.day_open(missing[:_SHOWN])
            places = tuple((0, int(t)) for t in opens)
            self.findings.append(Finding(Trouble.HOLE, len(missing), places, Repair.KEEP))
