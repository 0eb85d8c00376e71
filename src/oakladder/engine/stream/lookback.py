"""How far back a script looks: so that a scan of the last bars need not read the whole of history."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from oakladder.bars.timeframes import Timeframe
from oakladder.engine.run.setup import laid_out
from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import Branch, Loop, Op, Put, Ring, RollingAggregate, Save, Slot, items_of
from oakladder.rung.program import Program


def lookback(program: Program, settings: Mapping[str, object], ops: Sequence[Op], timeframe: Timeframe) -> int | None:
    """How many bars before a bar some values on it can depend on; None where that has no end.

    A run that begins at least as many bars earlier, with its counters seeded for that bar, gives the same
    bits. It has no end where something is kept from bar to bar, as in an exponential average, and is not known
    where a longer timeframe is read. Raises `RunProblem`.
    """
    variant, _, layout = laid_out(program, settings, list(ops), timeframe)
    live, state = variant.live, variant.state
    if len(live.domains) > 1:
        return None
    writers = _writers(live)
    totals = {fold.total for fold in state.folds}
    before = [slot for slot in live.slots if slot.lasting and slot not in totals]
    if writers is None or any(_is_kept(slot, live, writers) for slot in before):
        return None
    rings = sum(int(layout.table[state.ring_row(ring) + 1]) for ring in state.rings)
    folds = sum(int(layout.table[state.fold_row(fold) + 1]) for fold in state.folds)
    return len(before) + rings + folds + 1


_Writers = dict[object, list[Op]]


def _writers(live: Live) -> _Writers | None:
    """What is written into each slot and ring; None where something that outlives the bar is written on some bars only."""
    made: _Writers = {}
    for item, always in _items(live):
        if isinstance(item, Put | Save):
            store = item.slot if isinstance(item, Put) else item.ring
            if not always and (isinstance(store, Ring) or store.lasting):
                return None
            made.setdefault(store, []).append(item.value)
        elif not always and isinstance(item, Op) and isinstance(item.attr, RollingAggregate):
            return None
    return made


def _items(live: Live) -> Iterator[tuple[object, bool]]:
    """Every item that is needed, and whether it is done on every bar exactly once."""
    for block in (live.domains[0].body, live.domains[0].tail):
        for top in live.block(block):
            for item in items_of([top]):
                yield item, not isinstance(top, Branch | Loop)


def _is_kept(slot: Slot, live: Live, writers: _Writers) -> bool:
    """Whether a lasting slot is more than the value of the bar before: read on its own bar, or made of itself."""
    if any(op.attr is slot and op.code != "prev" for op in live.ops):
        return True
    seen: set[Op] = set()
    todo = list(writers.get(slot, []))
    while todo:
        op = todo.pop()
        if op in seen:
            continue
        seen.add(op)
        if op.attr is slot:
            return True
        todo += [*op.args, *(writers.get(op.attr, []) if isinstance(op.attr, Slot | Ring) else [])]
    return False
