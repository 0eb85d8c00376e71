"""Trades of a trial in groups, and its curve by months."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from oakladder.bars.sessions import Calendar
from oakladder.rung.trade_words import Reason, Side
from oakladder.trial.metrics.metrics import Value, of_trades
from oakladder.trial.trial import Trial

WEEKDAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


@dataclass(frozen=True, slots=True)
class TradeGroup:
    """Some closed trades of a trial: what they have in common, and their metrics."""

    name: str
    metrics: Mapping[str, Value]


def grouped(trial: Trial, keys: np.ndarray, name: Callable[[int], str]) -> list[TradeGroup]:
    """Closed trades by a whole number of each trade (int64, shape (trades,)), in the order of the numbers."""
    book, results = trial.book, trial.results
    made = []
    for key in np.unique(keys[book.done]).tolist():
        some = book.done & (keys == key)
        plain = of_trades(book.net[some], results.ratio[some], results.risks[some], results.bars[some])
        metrics = {n: float(v) if np.isfinite(v) else None for n, v in plain.items()}
        made.append(TradeGroup(name(key), metrics))
    return made


def by_side(trial: Trial) -> list[TradeGroup]:
    """Long and short apart."""
    return grouped(trial, -trial.trades.side, lambda key: Side(-key).word)


def by_reason(trial: Trial) -> list[TradeGroup]:
    """By why trades were left."""
    return grouped(trial, trial.trades.reason, lambda key: list(Reason)[key - 1].value)


def by_symbol(trial: Trial) -> list[TradeGroup]:
    return grouped(trial, trial.trades.symbol, lambda key: trial.ground.panel.symbols[key])


def by_group(trial: Trial, group_of: Mapping[str, str]) -> list[TradeGroup]:
    """By the group that each symbol belongs to."""
    names = sorted({group_of.get(s, "") for s in trial.ground.panel.symbols})
    of_symbol = np.array([names.index(group_of.get(s, "")) for s in trial.ground.panel.symbols], dtype=np.int64)
    return grouped(trial, of_symbol[trial.trades.symbol], lambda key: names[key] or "no group")


def by_weekday(trial: Trial) -> list[TradeGroup]:
    """By the weekday of the entry."""
    return grouped(trial, _entry_clock(trial, "weekday"), lambda key: WEEKDAYS[key - 1])


def by_hour(trial: Trial) -> list[TradeGroup]:
    """By the hour of the entry, on the exchange's clock."""
    return grouped(trial, _entry_clock(trial, "clock") // 60, lambda key: f"{key:02d}:00")


def by_entry_month(trial: Trial) -> list[TradeGroup]:
    """By the month of the year of the entry."""
    names = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
    return grouped(trial, _entry_clock(trial, "month"), lambda key: names[key - 1])


def _entry_clock(trial: Trial, name: str) -> np.ndarray:
    column = trial.ground.panel.column(name)
    entered = trial.trades.entered
    return column[entered].astype(np.int64) if len(entered) else np.zeros(0, dtype=np.int64)


@dataclass(frozen=True, slots=True)
class Month:
    """By how much a curve changed in a month, as a ratio of its value at the end of the month before."""

    year: int
    month: int
    change: float


def months(trial: Trial) -> list[Month]:
    """The months of a trial's curve, oldest first, each from the end of the one before."""
    equity = trial.equity
    if not len(equity.times):
        return []
    calendar = _calendar(trial)
    dates = calendar.days(equity.times).astype("datetime64[D]").astype("datetime64[M]").astype(np.int64)
    lasts = np.flatnonzero(np.append(dates[1:] != dates[:-1], True))
    ends = equity.value[lasts]
    before = np.concatenate([[equity.start], ends[:-1]])
    changes = np.divide(ends, before, out=np.ones(len(ends)), where=before > 0) - 1
    return [
        Month(1970 + int(dates[k]) // 12, int(dates[k]) % 12 + 1, float(c))
        for k, c in zip(lasts.tolist(), changes, strict=True)
    ]


def _calendar(trial: Trial) -> Calendar:
    timeline = trial.ground.panel.timeline
    return timeline.calendars[int(np.argmax(timeline.sizes > 0))]
