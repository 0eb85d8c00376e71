"""Arrays of several symbols laid end to end."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

import numpy as np


def without(values: np.ndarray, offsets: np.ndarray, skips: np.ndarray) -> np.ndarray:
    """Values on every bar of a panel with these offsets, without the first ``skips[k]`` bars of each symbol. Values:
    shape (bars,), any dtype, kept; offsets: shape (symbols + 1,), skips: shape (symbols,), both int64."""
    sizes, parts = np.diff(offsets), []
    changes = np.flatnonzero((np.diff(sizes) != 0) | (np.diff(skips) != 0)) + 1
    begins, lost = offsets.tolist(), skips.tolist()
    for a, b in pairwise([0, *changes.tolist(), len(sizes)]):
        block = values[begins[a] : begins[b]]
        parts.append(block[lost[a] :] if b - a == 1 else block.reshape(b - a, -1)[:, lost[a] :].ravel())
    return end_to_end(parts)


def ends_of(sizes: Sequence[int] | np.ndarray) -> np.ndarray:
    """Where each of several parts of these sizes begins when they are laid end to end, and the end of the last. Sizes:
    shape (parts,); gives shape (parts + 1,), int64."""
    return np.concatenate([[0], np.cumsum(sizes)]).astype(np.int64)


def end_to_end(parts: list[np.ndarray]) -> np.ndarray:
    """Arrays laid end to end; a single one is not copied. Each has shape (length,) and one dtype, which is kept."""
    return parts[0] if len(parts) == 1 else np.concatenate(parts)
