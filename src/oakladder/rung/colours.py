"""Colour words: palette names, ``#rrggbb``, and mixtures of them, written as Rung writes them.

A mixture stays a word (``fade(teal, 40)``) until a theme is known; then `resolve` makes a colour of it.
Colours are 0xAARRGGBB.
"""

from __future__ import annotations

import re
from collections.abc import Callable

import numpy as np

_MIXTURE = re.compile(r"(fade|blend)\((.*)\)")


def resolve(word: str, plain: Callable[[str], int]) -> int:
    """The colour of a word; ``plain`` knows the names and ``#rrggbb``."""
    found = _MIXTURE.fullmatch(word)
    if found is None:
        return plain(word)
    *colours, amount = _parts(found[2])
    shades = [np.array([resolve(c, plain)], dtype=np.uint32) for c in colours]
    return int(mix(found[1], shades, np.array([float(amount)]))[0])


def _parts(text: str) -> list[str]:
    """What stands between the outer commas."""
    parts, depth = [""], 0
    for letter in text:
        depth += {"(": 1, ")": -1}.get(letter, 0)
        if letter == "," and depth == 0:
            parts.append("")
        else:
            parts[-1] += letter
    return [p.strip() for p in parts]


def mix(code: str, colours: list[np.ndarray], amount: np.ndarray) -> np.ndarray:
    """Many mixtures at once, uint32: ``fade`` takes an opacity of 0 to 100, ``blend`` the share of the second, 0 to 1.

    An amount that is none leaves the first colour as it is. No mixture is 0, which stands for none.

    Colours: each shape (bars,), uint32; amount: shape (bars,), float64.
    """
    return np.maximum(_mixed(code, colours, amount), np.uint32(1))


def _mixed(code: str, colours: list[np.ndarray], amount: np.ndarray) -> np.ndarray:
    first = colours[0].astype(np.uint32)
    if code == "fade":
        share = np.clip(np.nan_to_num(amount, nan=100.0), 0, 100) / 100
        alpha = np.rint((first >> 24) * share).astype(np.uint32)
        return (first & np.uint32(0xFFFFFF)) | (alpha << np.uint32(24))
    share = np.clip(np.nan_to_num(amount, nan=0.0), 0, 1)
    made = np.zeros(len(first), dtype=np.uint32)
    for shift in (0, 8, 16, 24):
        a, b = ((c >> np.uint32(shift)) & np.uint32(255) for c in (first, colours[1]))
        made |= np.rint(a + (b.astype(float) - a) * share).astype(np.uint32) << np.uint32(shift)
    return made
