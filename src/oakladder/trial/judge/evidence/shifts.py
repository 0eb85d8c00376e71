"""What followed a flag, compared with every circular shift of the flag in time.

A symbol's usable bars for a horizon h are those t with t + h in the data; its forward change is close[t+h] / open[t+1] - 1.
The flag on its usable bars is shifted round by k, by the same k for all symbols, so that clusters and days in common stay
as they are. The sums of all shifts are one circular correlation (`correlating`).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.context import PLAIN, RunContext
from oakladder.trial.judge.evidence.correlation import Correlation, flags_of

#: About so many numbers are gone through together: few enough for the cache.
_TOGETHER = 65_536
#: So many symbols of one length are gone through at a time, between which stopping takes effect.
_MOST_ROWS = 256


@dataclass(slots=True)
class Followed:
    """What followed a flag after one horizon, over all symbols of a panel.

    ``sums[k]`` and ``counts[k]`` are the sum of the known changes, and their number, over the flag shifted by k bars;
    ``changes`` those of the flag as it is, NaN where one is not known, and ``places`` its bars in the panel.
    """

    horizon: int
    sums: np.ndarray
    counts: np.ndarray
    usual_sum: float
    usual_count: int
    changes: np.ndarray
    places: np.ndarray

    @property
    def shifts(self) -> int:
        """How many shifts there are beside none: one less than the longest symbol has usable bars."""
        return max(len(self.sums) - 1, 0)

    @property
    def means(self) -> np.ndarray:
        """The mean change over the flag shifted by each number of bars, NaN where none is known; float64. Shape
        (shifts,)."""
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self.counts > 0, self.sums / self.counts, np.nan)


def followed(
    panel: Panel,
    flags: np.ndarray,
    horizons: Sequence[int],
    firsts: np.ndarray | None = None,
    *,
    context: RunContext = PLAIN,
) -> list[Followed]:
    """What followed a flag (bool, as long as the panel) after each horizon, from each symbol's bar ``firsts`` on.

    Raises `Cancelled`.

    Flags: shape (bars,); firsts: shape (symbols,), int64.
    """
    panel.fetch(("open", "close"))
    starts = panel.starts if firsts is None else firsts
    sizes = panel.ends - starts
    tasks = [
        (int(size), starts[rows[k : k + _MOST_ROWS]])
        for size in np.unique(sizes).tolist()
        for rows in [np.flatnonzero(sizes == size)]
        for k in range(0, len(rows), _MOST_ROWS)
    ]

    def work(task: tuple[int, np.ndarray]) -> list[Followed]:
        context.check()
        return _of_one_length(panel.column("open"), panel.column("close"), flags, *task, horizons, context)

    made: list[list[Followed]] = []
    done, every = 0, max(int(sizes.sum()), 1)
    for task, part in zip(tasks, context.map(work, tasks), strict=True):
        made.append(part)
        done += task[0] * len(task[1])
        context.report(done / every)
    return [_together(horizon, [part[k] for part in made]) for k, horizon in enumerate(horizons)]


def _together(horizon: int, parts: list[Followed]) -> Followed:
    """Symbols of several lengths: a short one has been all round when a long one has not."""
    longest = max((len(p.sums) for p in parts), default=0)
    sums, counts = np.zeros(longest), np.zeros(longest)
    for part in parts:
        if len(part.sums):
            sums += np.resize(part.sums, longest)
            counts += np.resize(part.counts, longest)
    empty = np.zeros(0)
    changes = np.concatenate([p.changes for p in parts] or [empty])
    places = np.concatenate([p.places for p in parts] or [empty.astype(np.int64)])
    order = np.argsort(places)
    usual_sum, usual_count = sum(p.usual_sum for p in parts), sum(p.usual_count for p in parts)
    return Followed(horizon, sums, counts, usual_sum, usual_count, changes[order], places[order])


def _of_one_length(
    opens: np.ndarray,
    closes: np.ndarray,
    flags: np.ndarray,
    size: int,
    starts: np.ndarray,
    horizons: Sequence[int],
    context: RunContext,
) -> list[Followed]:
    """Symbols that have equally many bars; the horizons rise."""
    made = [Followed(h, np.zeros(0), np.zeros(0), 0.0, 0, np.zeros(0), np.zeros(0, np.int64)) for h in horizons]
    sums, counts = ([Correlation(max(size - h, 0)) for h in horizons] for _ in range(2))
    kept: list[list[tuple[np.ndarray, np.ndarray]]] = [[] for _ in horizons]
    step = max(_TOGETHER // max(2 * size, 1), 1)
    for k in range(0, len(starts) if size else 0, step):
        context.check()
        some = starts[k : k + step]
        before, after = (_side_by_side(column, some, size) for column in (opens, closes))
        there = flags_of(_side_by_side(flags, some, size))
        for j, horizon in enumerate(h for h in horizons if h < size):
            growth, known = _growth(before, after, horizon)
            number = growth.size if known is None else int(known.sum())
            made[j].usual_count += number
            made[j].usual_sum += float(growth.sum()) - number
            hits = there.before(size - horizon)
            if not len(hits.row):
                continue
            values = growth[hits.row, hits.bar] - 1
            if known is not None:
                values = np.where(known[hits.row, hits.bar], values, np.nan)
            kept[j].append((values, some[hits.row] + hits.bar))
            # What grows by a change is 1 and the change: the ones are taken off again, shift by shift.
            sums[j].add(hits, growth)
            if known is None:
                counts[j].flat += len(hits.row)
            else:
                counts[j].add(hits, known.astype(np.float64))
    for one, total, count, values_at in zip(made, sums, counts, kept, strict=True):
        one.counts = np.round(count.turned())
        one.sums = total.turned() - one.counts
        if values_at:
            one.changes = np.concatenate([v for v, _ in values_at])
            one.places = np.concatenate([p for _, p in values_at])
    return made


def _side_by_side(column: np.ndarray, starts: np.ndarray, size: int) -> np.ndarray:
    """A column of some symbols of one length, one below the other; nothing is copied where they stand end to end."""
    if len(starts) and int(starts[-1] - starts[0]) == (len(starts) - 1) * size:
        return column[starts[0] : starts[0] + len(starts) * size].reshape(len(starts), size)
    return column[starts[:, None] + np.arange(size)]


def _growth(opens: np.ndarray, closes: np.ndarray, horizon: int) -> tuple[np.ndarray, np.ndarray | None]:
    """What 1 becomes after each usable bar, 0 where that is not known; and where it is, unless everywhere."""
    before, after = opens[:, 1 : opens.shape[1] - horizon + 1], closes[:, horizon:]
    with np.errstate(divide="ignore", invalid="ignore"):
        made = after / before
    known = np.isfinite(made) & (before > 0)
    if known.all():
        return made, None
    return np.where(known, made, 0.0), known
