"""The contrast of two colours, by the formula of WCAG 2.1 (relative luminance, contrast ratio)."""

from __future__ import annotations

from PyQt6.QtGui import QColor

#: What text, and what marks and fills, must reach against their ground.
TEXT, MARK = 4.5, 3.0
_STEP, _MOST = 104, 60


def luminance(color: QColor) -> float:
    """Relative luminance, from 0 (black) to 1 (white)."""
    parts = (color.redF(), color.greenF(), color.blueF())
    red, green, blue = (p / 12.92 if p <= 0.04045 else ((p + 0.055) / 1.055) ** 2.4 for p in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def ratio(one: QColor, other: QColor) -> float:
    """The contrast of two opaque colours, from 1 to 21."""
    high, low = sorted((luminance(one), luminance(other)), reverse=True)
    return (high + 0.05) / (low + 0.05)


def told_from(color: QColor, ground: QColor, least: float = MARK) -> QColor:
    """The colour itself, or darker (on a light ground) or lighter until it has enough contrast."""
    light = luminance(ground) > 0.4
    made = QColor(color)
    for _ in range(_MOST):
        if ratio(made, ground) >= least:
            break
        made = made.darker(_STEP) if light else made.lighter(_STEP) if made.valueF() > 0.05 else QColor(40, 40, 40)
    return made
