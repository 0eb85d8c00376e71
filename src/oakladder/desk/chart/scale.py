"""How prices become heights: as they are, by their logarithm, or in per cent of the first bar seen."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from oakladder.app.chart_options import ScaleKind


@dataclass(frozen=True, slots=True)
class Scale:
    """Turns prices into heights and back. ``base`` is the price that counts as 0 %."""

    kind: ScaleKind = ScaleKind.PLAIN
    base: float = 1.0

    def to(self, values: np.ndarray | float) -> np.ndarray:
        """Heights of prices; NaN where the scale has none (a logarithm of zero or less). Any shape, float64; float64 of
        that shape."""
        values = np.asarray(values, dtype=np.float64)
        match self.kind:
            case ScaleKind.LOG:
                with np.errstate(invalid="ignore", divide="ignore"):
                    return np.where(values > 0, np.log10(values), np.nan)
            case ScaleKind.PERCENT:
                return (values / self.base - 1) * 100
        return values

    def back(self, height: float) -> float:
        """The price at a height."""
        match self.kind:
            case ScaleKind.LOG:
                return float(10**height) if height < 300 else float("inf")
            case ScaleKind.PERCENT:
                return (height / 100 + 1) * self.base
        return height
