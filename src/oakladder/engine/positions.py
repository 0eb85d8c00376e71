"""Whether a script holds a position now: since when, and what it has gained."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from oakladder.engine.run.execute import Result
from oakladder.engine.sealed import OPEN, SealedDays
from oakladder.rung.plan.ops import Op
from oakladder.rung.program import Program
from oakladder.rung.texts import count_words

#: What a column is called that says since when a script holds a position.
IN_SINCE = "In since"


@dataclass(frozen=True, slots=True)
class Holding:
    """A position at the last bar: its side, the bars after its fill, and its gain as a ratio, none where that is
    sealed."""

    side: int
    bars: int
    gain: float | None

    def words(self) -> str:
        """The position in a few words."""
        since = "new" if self.bars == 0 else count_words(self.bars, "bar")
        gain = "" if self.gain is None else f" {self.gain:+.1%}"
        return f"{'' if self.side > 0 else 'short '}{since}{gain}"


def holding_ops(program: Program) -> list[Op]:
    """The values that say what is held; none for a script without trades."""
    plan = program.plan.trading
    return [plan.position[name] for name in ("side", "bars", "gain")] if plan is not None else []


def holdings(result: Result, sealed: SealedDays = OPEN) -> Mapping[str, Holding | None]:
    """What is held of each symbol at its last bar; None where nothing is. What it has gained is not told where that bar is
    sealed."""
    side, bars, gain = (result.number(op) for op in holding_ops(result.program))
    made: dict[str, Holding | None] = {}
    panel = result.panel
    hidden = sealed.hides_now(panel)
    for k, (symbol, start, end) in enumerate(
        zip(panel.symbols, panel.starts.tolist(), panel.ends.tolist(), strict=True)
    ):
        at = end - 1
        is_held = end > start and side[at] != 0
        brought = None if hidden[k] else float(gain[at])
        made[symbol] = Holding(int(side[at]), int(bars[at]), brought) if is_held else None
    return made
