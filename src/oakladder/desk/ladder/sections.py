"""How the sections of the Ladder's table are shown, from one start to the next."""

from __future__ import annotations

from dataclasses import dataclass

#: No section is remembered at a place as far to the right as this.
_MOST_SECTIONS = 2000


@dataclass(frozen=True, slots=True)
class Section:
    """How a section is shown: its width, whether it is hidden, and which place from the left it was dragged to, if any."""

    width: int
    hidden: bool = False
    at: int | None = None


def read_sections(state: object) -> dict[str, Section]:
    """Sections from what was written down; what makes no sense is left out."""
    made = {}
    for key, entry in state.items() if isinstance(state, dict) else ():
        if isinstance(entry, list) and len(entry) == 3 and isinstance(entry[0], int):
            at = entry[2] if isinstance(entry[2], int) and 0 <= entry[2] < _MOST_SECTIONS else None
            made[str(key)] = Section(min(max(entry[0], 24), 600), bool(entry[1]), at)
    return made
