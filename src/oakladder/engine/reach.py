"""How far back a script looks: so that a scan of the last bars need not read the whole of history."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from oakladder.bars.timeframes import Timeframe
from oakladder.rung.plan import Branch, Fold, Live, Loop, Op, Save, items_of
from oakladder.rung.program import Program

from .job import laid_out


def reach(program: Program, settings: Mapping[str, object], ops: Sequence[Op], timeframe: Timeframe) -> int | None:
    """How many bars before a bar some values on it can depend on; None where that has no end.

    A run that begins at least as many bars earlier, with its counters as they would stand there, gives the same
    bits. It has no end where something is kept from bar to bar, as in an exponential average, and is not known
    where a longer timeframe is read. Raises `RunProblem`.
    """
    variant, _, layout = laid_out(program, settings, list(ops), timeframe)
    live, state = variant.live, variant.state
    totals = {fold.total for fold in state.folds}
    if len(live.domains) > 1 or any(slot.lasting and slot not in totals for slot in live.slots):
        return None
    if _remembers_now_and_then(live):
        return None
    rings = sum(int(layout.table[state.ring_row(ring) + 1]) for ring in state.rings)
    folds = sum(int(layout.table[state.fold_row(fold) + 1]) for fold in state.folds)
    return rings + folds + 1


def _remembers_now_and_then(live: Live) -> bool:
    """Whether something is remembered on some bars only: then the bars that it reaches over cannot be counted."""
    for domain in live.domains:
        for block in (domain.body, domain.tail):
            for item in block:
                if isinstance(item, Branch | Loop) and any(_remembers(i) for i in items_of([item]) if live.needs(i)):
                    return True
    return False


def _remembers(item: object) -> bool:
    return isinstance(item, Save) or (isinstance(item, Op) and isinstance(item.attr, Fold))
