"""Which symbol the bars of a file belong to, and what speaks against it: two files that claim one symbol, and prices that
contradict known bars."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from enum import Enum
from pathlib import Path

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.zones import DAY

#: Closes this many times the known ones, or as small a part, belong to another instrument (or another currency).
_OTHER_LEVEL = 1.5
#: Without bars in common: how far prices may jump between two files, and for longer gaps than so many days.
_JUMP, _LONG_GAP, _LONG_JUMP = 3.0, 90 * DAY, 10.0
#: Number of common bars that decide whether prices move alike; and the part of a usual move by which they may differ.
_LEAST_COMMON, _OTHER_MOVE = 20, 0.5


class Conflict(Enum):
    """Why it is doubtful that a file's bars belong to its symbol."""

    CLAIMED = "another file claims the symbol"
    CONTRADICTS = "the prices contradict the known ones"


def contradiction(old: Bars, new: Bars) -> str:
    """How new bars of a symbol contradict the known ones, as the end of a sentence; empty if they do not.

    Both are bars of one base timeframe. Corrections, splits of less than half and dividend adjustments are no
    contradiction: the level is about the same, and prices move alike.
    """
    common, here, there = np.intersect1d(new.times, old.times, return_indices=True)
    a, b = new["close"][here], old["close"][there]
    good = (a > 0) & (b > 0)
    if good.any():
        return _level(a[good], b[good]) or _moves(a[good], b[good])
    return "" if len(common) else _gap(old, new)


def _level(a: np.ndarray, b: np.ndarray) -> str:
    ratio = float(np.median(a / b))
    if 1 / _OTHER_LEVEL <= ratio <= _OTHER_LEVEL:
        return ""
    return f"closes such as {a[-1]:g} where {b[-1]:g} is there on the same bar"


def _moves(a: np.ndarray, b: np.ndarray) -> str:
    if len(a) < _LEAST_COMMON:
        return ""
    one, other = np.diff(np.log(a)), np.diff(np.log(b))
    usual = float(np.median(np.abs(other)))
    if usual == 0 or float(np.median(np.abs(one - other))) <= _OTHER_MOVE * usual:
        return ""
    return f"the prices move differently from the known ones, on {len(a):,} bars in common"


def _gap(old: Bars, new: Bars) -> str:
    """The jump between bars that follow one another without one in common."""
    first, last = (old, new) if old.times[-1] < new.times[0] else (new, old)
    if first.times[-1] >= last.times[0]:
        return ""
    before, after = float(first["close"][-1]), float(last["close"][0])
    if not (before > 0 and after > 0):
        return ""
    most = _LONG_JUMP if last.times[0] - first.times[-1] > _LONG_GAP else _JUMP
    if 1 / most <= after / before <= most:
        return ""
    ours, theirs = (after, before) if last is new else (before, after)
    return f"a close of {ours:g} next to {theirs:g}"


def claimed_twice(symbols: Mapping[Path, str]) -> dict[Path, Sequence[Path]]:
    """The files whose names claim a symbol that another one's claims too, each with all that do."""
    by_symbol: dict[str, list[Path]] = {}
    for path, symbol in symbols.items():
        by_symbol.setdefault(symbol, []).append(path)
    return {path: paths for paths in by_symbol.values() if len(paths) > 1 for path in paths}


def claim_words(symbol: str, paths: Sequence[Path]) -> str:
    """What is said of a symbol that several files claim."""
    names = [p.name for p in paths]
    shown = names if len(set(names)) == len(names) else [f"{p.parent.name}/{p.name}" for p in paths]
    listed = ", ".join(shown[:3]) + (f" and {len(shown) - 3} more" if len(shown) > 3 else "")
    return f"{symbol} is claimed by {len(paths)} files: {listed}."
