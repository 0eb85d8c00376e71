"""How tables show the cells of script columns."""

from __future__ import annotations

from oakladder.desk.widgets.rows_model import Look
from oakladder.engine.columns.cells import NOTHING, Cell

#: Fills are painted in so many strengths.
_STEPS = 8


def words_of(cell: Cell | None, *, waiting: bool) -> str:
    """What a cell says; a sign while it is awaited."""
    return cell.words if cell is not None else "…" if waiting else ""


def look_of(cell: Cell | None) -> Look:
    """The fill of a cell and its ink: quiet where there is nothing, or where the symbol could not be looked at."""
    if cell is None:
        return None, "ink"
    strength = round(cell.strength * _STEPS) / _STEPS
    fill = (cell.fill, strength) if cell.fill is not None else None
    return fill, "faint" if cell.reason or cell.words == NOTHING else "ink"
