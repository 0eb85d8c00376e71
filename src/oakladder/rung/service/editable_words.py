"""Words of a script that the editor can change by mouse or key: colours, sizes and widths."""

from __future__ import annotations

import re
from dataclasses import dataclass

from oakladder.rung.values import PALETTE


@dataclass(frozen=True, slots=True)
class Word:
    """A word in the text: where it begins and ends (characters from the start), and what it says."""

    start: int
    end: int
    text: str


_COLOUR = re.compile(r"#[0-9a-fA-F]{6}\b|\b(?:" + "|".join(PALETTE) + r")\b")
_SIZED = re.compile(r"\b(size|width)\s+([0-9]+(?:\.[0-9]+)?)")
_SKIPPED = re.compile(r"--[^\n]*|\"(?:\\.|[^\"\\\n])*\"?")
_COLOUR_OR_SKIPPED = re.compile(f"{_SKIPPED.pattern}|(?P<colour>{_COLOUR.pattern})")
#: What Ctrl and the wheel change: the smallest and largest value, and the step.
STEPS = {"size": (1.0, 5.0, 1.0), "width": (0.5, 8.0, 0.5)}


def plain(text: str) -> str:
    """The text with comments and quoted texts blanked out, of the same length."""
    return _SKIPPED.sub(lambda m: " " * len(m.group()), text)


def colours(text: str, own: frozenset[str] = frozenset()) -> list[Word]:
    """Every colour word and hex value outside comments and texts; ``own`` are names that the script has taken."""
    found = (m for m in _COLOUR_OR_SKIPPED.finditer(text) if m["colour"])
    return [Word(m.start(), m.end(), m.group()) for m in found if m.group() not in own]


def stepped(text: str, at: int, by: int) -> tuple[Word, str] | None:
    """The number of a `size` or `width` at a place, and the same a few steps up or down; None without one."""
    for found in _SIZED.finditer(plain(text)):
        if found.start() <= at <= found.end():
            low, high, step = STEPS[found[1]]
            value = min(max(float(found[2]) + by * step, low), high)
            return Word(found.start(2), found.end(2), found[2]), f"{value:g}"
    return None
