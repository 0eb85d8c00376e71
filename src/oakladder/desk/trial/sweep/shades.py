"""The colours of a sweep's squares, one by one and as a picture."""

from __future__ import annotations

import numpy as np
from PyQt6.QtGui import QColor, QImage

from oakladder.desk.look.theme import Theme


def shades(values: np.ndarray, good: int, theme: Theme) -> np.ndarray:
    """A colour for each value, bluer the better it is than the middle of all, redder the worse; ``good`` below zero
    says that less is better. As 0xAARRGGBB, uint32, shape of the values; of none of them a calm one where there is no
    value. Values: any shape, float64."""
    made = np.full(len(values), theme.color("sunken").rgba(), dtype=np.uint32)
    known = np.isfinite(values)
    if not known.any():
        return made
    seen = values[known]
    low, middle, high = seen.min(), np.median(seen), seen.max()
    more = seen >= middle
    span = np.where(more, high - middle, middle - low)
    share = np.divide(np.abs(seen - middle), span, out=np.zeros(len(seen)), where=span > 0)
    hues = [theme.color(role).rgb() & 0xFFFFFF for role in ("falling", "rising")]
    alpha = (20 + 150 * share).astype(np.uint32) << 24
    made[known] = alpha | np.where(more == (good > 0), hues[1], hues[0]).astype(np.uint32)
    return made


def picture(colors: np.ndarray, rows: np.ndarray, columns: np.ndarray, size: tuple[int, int], ground: QColor) -> QImage:
    """Squares as a pixel each, the first row at the bottom; ``size`` is rows and columns. Colours: shape (squares,),
    uint32; rows and columns: shape (squares,), int64."""
    dots = np.full(size, ground.rgba(), dtype=np.uint32)
    dots[size[0] - 1 - rows, columns] = colors
    return QImage(dots.tobytes(), size[1], size[0], size[1] * 4, QImage.Format.Format_ARGB32).copy()
