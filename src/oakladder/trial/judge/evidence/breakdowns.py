"""Evidence in parts: by year, group, weekday and hour of the occurrence."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from oakladder.trial.breakdowns import WEEKDAYS
from oakladder.trial.judge.evidence.study import USUAL_HORIZON, Evidence, days_of


@dataclass(frozen=True, slots=True)
class Part:
    """Some of the occurrences of a signal; ``usual`` is the mean change over all bars of the same kind."""

    name: str
    count: int
    days: int
    mean: float
    up: float
    usual: float
    difference: float


def by_year(evidence: Evidence, bars: int = USUAL_HORIZON) -> list[Part]:
    return _parts(evidence, bars, evidence.ground.panel.column("year"), str)


def by_weekday(evidence: Evidence, bars: int = USUAL_HORIZON) -> list[Part]:
    return _parts(evidence, bars, evidence.ground.panel.column("weekday"), lambda key: WEEKDAYS[key - 1])


def by_hour(evidence: Evidence, bars: int = USUAL_HORIZON) -> list[Part]:
    """By the hour of the bar's opening, on the exchange's clock; nothing on bars of a day and longer."""
    panel = evidence.ground.panel
    if not panel.timeframe.intraday:
        return []
    return _parts(evidence, bars, panel.column("clock") // 60, lambda key: f"{key:02d}:00")


def by_group(evidence: Evidence, group_of: Mapping[str, str], bars: int = USUAL_HORIZON) -> list[Part]:
    """By the group that each symbol belongs to."""
    panel = evidence.ground.panel
    names = sorted({group_of.get(s, "") for s in panel.symbols})
    keys = panel.per_symbol(names.index(group_of.get(s, "")) for s in panel.symbols)
    return _parts(evidence, bars, keys, lambda key: names[key] or "no group")


def _parts(evidence: Evidence, bars: int, keys: np.ndarray, name: Callable[[int], str]) -> list[Part]:
    panel = evidence.ground.panel
    horizon = evidence.at(bars).bars
    found = next(f for f in evidence.followed if f.horizon == horizon)
    there = ~np.isnan(found.changes)
    changes, places = found.changes[there], found.places[there]
    usual, usual_keys = _usual(evidence, horizon, keys)
    of_places = keys[places].astype(np.int64)
    made = []
    for key in np.unique(of_places).tolist():
        some = of_places == key
        mean = float(changes[some].mean())
        beside = float(usual[usual_keys == key].mean())
        up = float((changes[some] > 0).mean())
        made.append(Part(name(key), int(some.sum()), days_of(panel, places[some]), mean, up, beside, mean - beside))
    return made


def _usual(evidence: Evidence, horizon: int, keys: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """The known changes of all usable bars, and their keys."""
    panel = evidence.ground.panel
    usable = np.zeros(panel.size, dtype=bool)
    below = evidence.ground.grid.below_zero.tolist()
    for first, end, is_below in zip(evidence.ground.firsts.tolist(), panel.ends.tolist(), below, strict=True):
        usable[first : max(end - horizon, first)] = not is_below
    at = np.flatnonzero(usable)
    with np.errstate(divide="ignore", invalid="ignore"):
        opens = panel.column("open")[at + 1]
        changes = np.where(opens > 0, panel.column("close")[at + horizon] / opens - 1, np.nan)
    known = np.isfinite(changes)
    return changes[known], keys[at[known]].astype(np.int64)
