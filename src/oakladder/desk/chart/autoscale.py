"""How the panes are scaled to what they show of the bars that are seen."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np

from oakladder.app.chart_options import ScaleKind
from oakladder.bars.bars import Bars
from oakladder.desk.chart.bars import PriceBars, VolumeColumns
from oakladder.desk.chart.minmax_pyramid import ends_of
from oakladder.desk.chart.pane import Pane
from oakladder.desk.chart.scale import Scale
from oakladder.desk.chart.stack import LANES
from oakladder.engine.picture.parts import PRICE, VOLUME

#: Empty margin at the right, as a share of the bars seen.
RIGHT_MARGIN = 0.06
#: Margin above and below the price, as a share of its range; and the height of a legend of two lines, in pixels.
_EDGE, _LEGEND = 0.09, 44.0


def price_scale(kind: ScaleKind, bars: Bars, first: int, last: int) -> Scale:
    """The scale of the price pane; per cent count from the first bar seen."""
    base = 1.0
    if kind is ScaleKind.PERCENT:
        closes = bars["close"][first:last]
        known = closes[~np.isnan(closes)][:1]
        base = float(known[0]) if len(known) and known[0] else 1.0
    return Scale(kind, base)


def fit(panes: Mapping[str, Pane], bars: PriceBars, volume: VolumeColumns, first: int, last: int) -> None:
    """Fits each pane's scale to what it shows."""
    low, high = bars.pyramid("low").ends(first, last)[0], bars.pyramid("high").ends(first, last)[1]
    for name, pane in panes.items():
        if name == LANES:
            continue
        ends = [pane.lines.ends(line, first, last) for line in pane.lines.lines]
        for part in [p for b in pane.areas.bands for p in (b.first, b.second)] + [
            p for c in pane.areas.histograms for p in (c.values, c.base)
        ]:
            ends.append(ends_of(part[first:last]))
        a = _least([e[0] for e in ends])
        b = -_least([-e[1] for e in ends])
        if name == PRICE:
            if low == low:  # a line far away must not flatten the bars
                span = max(high - low, 1e-12)
                a, b = max(a, low - span * 0.6), min(b, high + span * 0.6)
            above = _room_above(_LEGEND + pane.marks.above, pane.view.size().height())
            pane.scale_to(float(np.fmin(low, a)), float(np.fmax(high, b)), _EDGE, above)
        elif name == VOLUME:
            top = float(np.fmax(volume.pyramid("volume").ends(first, last)[1], b))
            pane.show_heights(0, top * 1.08 if top > 0 else 1)
        else:
            pane.scale_to(a, b)


def _room_above(pixels: float, height: float) -> float:
    """So many pixels of a pane of some height as a share of the price range below them; at most a third of it."""
    share = min(pixels / max(height, 1), 1 / 3)
    return max(share * (1 + _EDGE) / (1 - share), _EDGE)


def _least(values: list[float]) -> float:
    known = [v for v in values if v == v]
    return min(known) if known else float("nan")
