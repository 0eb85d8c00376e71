"""What another place hands to the Bench: where to go, and what to show there."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from oakladder.bars.timeframes import Timeframe


@dataclass(frozen=True, slots=True)
class PickedSymbol:
    """A symbol that was picked. Without a timeframe or script the Bench keeps its own; ``time`` is that of a bar to mark."""

    symbol: str
    timeframe: Timeframe | None = None
    time: int | None = None
    script: Path | None = None
    settings: Mapping[str, object] = field(default_factory=dict)
    extended: bool | None = None
