"""What belongs to which pane of the chart."""

from __future__ import annotations

from collections.abc import Mapping, Set

import numpy as np
from PyQt6.QtGui import QColor

from oakladder.bars.bars import Bars
from oakladder.desk.chart.pane import Pane
from oakladder.desk.look.theme import Theme
from oakladder.engine.picture.parts import PRICE, Picture


def hand_out(
    panes: Mapping[str, Pane], bars: Bars, picture: Picture | None, hidden: Set[str], as_known: bool, theme: Theme
) -> None:
    """Hands every pane what belongs to it and is not hidden."""
    for name, pane in panes.items():
        pane.areas.as_known = pane.marks.as_known = as_known
        marks = tuple(m for m in picture.marks if m.pane == name and m.name not in hidden) if picture else ()
        labels = tuple(x for x in picture.labels if x.pane == name) if picture else ()
        pane.marks.show_all(bars, marks, labels, theme)
        if picture is None:
            pane.lines.show_lines([])
            pane.areas.show_areas(None, [], [], [], [])
            continue
        pane.lines.show_lines([line for line in picture.lines if line.pane == name and line.name not in hidden])
        pane.areas.show_areas(
            picture.ground_colours if name == PRICE else None,
            [band for band in picture.bands if band.pane == name and band.name not in hidden],
            [columns for columns in picture.histograms if columns.pane == name and columns.name not in hidden],
            list(picture.zones) if name == PRICE else [],
            [link for link in picture.links if link.pane == name],
        )


def last_price(bars: Bars, decimals: int, theme: Theme) -> tuple[float, QColor, str] | None:
    """The last known price of the newest bars, its colour and its text; None without one."""
    closes = bars["close"]
    known = np.flatnonzero(~np.isnan(closes[-50:]))
    if len(known):
        last = float(closes[-50:][known[-1]])
        before = float(closes[-2]) if len(closes) > 1 else last
        color = theme.color("rising" if last >= before else "falling")
        return last, color, f"{last:,.{decimals}f}"
    return None
