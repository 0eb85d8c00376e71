"""Panels without their first bars: what is needed of a long history is often its end alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial

import numpy as np

from oakladder.bars.concatenation import without
from oakladder.bars.panel import Panel


def tail_view(panel: Panel, skips: np.ndarray) -> Panel:
    """The panel without the first ``skips[k]`` bars of each symbol; columns are read from there on only. Shape
    (symbols,), int64."""
    if not skips.any():
        return panel
    made = Panel(
        panel.symbols,
        panel.timeline.after(skips),
        source=_CutColumns(panel, skips),
        background=panel.background,
        ticks=panel.ticks,
        contracts=panel.contracts,
        adjustments=panel.adjustments,
        skipped=skips if panel.skipped is None else panel.skipped + skips,
        whole=panel.whole or panel,
    )
    made.timeline.read = partial(_times, panel, skips)
    return made


def _times(panel: Panel, skips: np.ndarray) -> np.ndarray:
    return _CutColumns(panel, skips).read(["time"])[0]


@dataclass(frozen=True, slots=True)
class _CutColumns:
    """The columns of a panel without its first bars."""

    panel: Panel
    skips: np.ndarray

    def read(self, names: Sequence[str], skips: np.ndarray | None = None) -> list[np.ndarray]:
        panel = self.panel
        assert skips is None  # what was cut is cut again as it stands
        known = any(not panel.timeline.is_unread if n == "time" else n in panel.columns for n in names)
        if panel.source is not None and panel.skipped is None and not known:
            return panel.source.read(names, self.skips)
        return [without(panel.times if n == "time" else panel.column(n), panel.offsets, self.skips) for n in names]
