"""A tint for each overlaid script, so that its marks can be distinguished."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from oakladder.engine.picture.parts import Picture
from oakladder.rung.colours import mix

#: The tints in their order, as colour words; a fifth script begins again.
TINTS = ("plum", "teal", "sand", "slate")
#: How much of a drawing's colour is the tint.
_SHARE = 0.7


def tint_word(k: int) -> str:
    """The tint of the k-th script beside the open one."""
    return TINTS[k % len(TINTS)]


def tinted(picture: Picture, caption: str, tint: int) -> Picture:
    """The same with lines, marks and labels in a tint (0xAARRGGBB), and a word for the legend where it has marks."""
    legends = ((caption, tint),) if picture.marks or picture.labels else ()
    return replace(
        picture,
        lines=tuple(replace(x, colours=_mixed(x.colours, tint)) for x in picture.lines),
        marks=tuple(replace(x, colours=_mixed(x.colours, tint)) for x in picture.marks),
        labels=tuple(replace(x, colours=_mixed(x.colours, tint)) for x in picture.labels),
        legends=legends,
    )


def _mixed(colours: np.ndarray, tint: int) -> np.ndarray:
    """Colours with a share of the tint; 0 stays none."""
    amount = np.full(len(colours), _SHARE)
    made = mix("blend", [colours, np.full(len(colours), tint, dtype=np.uint32)], amount)
    return np.where(colours == 0, np.uint32(0), made)
