"""Where a program's state lives: one row of floats for each symbol.

First the scalars (counters, slots, fold totals), at places known when the program is compiled; then the
buffers of rings and folds, whose sizes depend on the settings and are worked out before a run.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from oakladder.rung.plan.inputs import Given, Input, IntrabarColumn
from oakladder.rung.plan.liveness import Live
from oakladder.rung.plan.ops import Domain, Op, Ring, RollingAggregate, Slot, Table, items_of

_NAN = float("nan")


@dataclass(slots=True)
class StateMap:
    """Places of the scalars, in order of the domains, and the buffers in order of the size table."""

    scalars: dict[object, int] = field(default_factory=dict)
    starts: list[float] = field(default_factory=list)
    regions: dict[Domain, tuple[int, int]] = field(default_factory=dict)
    shadows: dict[Domain, int] = field(default_factory=dict)
    rings: list[Ring] = field(default_factory=list)
    folds: list[RollingAggregate] = field(default_factory=list)
    cells: list[Table] = field(default_factory=list)
    inputs: dict[Domain, list[Input]] = field(default_factory=dict)
    #: Tables that the chart's own bars read at any place.
    tables: list[IntrabarColumn] = field(default_factory=list)
    _rows: dict[object, int] = field(default_factory=dict)

    @property
    def all_inputs(self) -> list[Input]:
        """What comes in on any of the domains, each once."""
        return list(dict.fromkeys(what for read in self.inputs.values() for what in read))

    def place(self, key: object) -> int:
        return self.scalars[key]

    def ring_row(self, ring: Ring) -> int:
        """First entry of a ring in the size table: its offset, then its mask."""
        return self._row(ring)

    def fold_row(self, fold: RollingAggregate) -> int:
        """First entry of a fold in the size table: the offset of its cells, then its length."""
        return self._row(fold)

    def cells_row(self, table: Table) -> int:
        """First entry of a table in the size table: the offset of its cells, then its size."""
        return self._row(table)

    def _row(self, buffer: Ring | RollingAggregate | Table) -> int:
        if not self._rows:
            self._rows = {b: 2 * k for k, b in enumerate([*self.rings, *self.folds, *self.cells])}
        return self._rows[buffer]


def map_state(live: Live) -> StateMap:
    """Gives every piece of live state its place."""
    made = StateMap()
    everything = _ordered_ops(live)
    ordered = [op for op in everything if op not in live.given]
    made.folds = list(dict.fromkeys(op.attr for op in ordered if isinstance(op.attr, RollingAggregate)))
    made.cells = list(dict.fromkeys(op.attr for op in ordered if isinstance(op.attr, Table)))
    ring_order = {id(op.attr): k for k, op in enumerate(ordered) if isinstance(op.attr, Ring)}
    made.rings = sorted(live.rings, key=lambda r: ring_order[id(r)])
    slot_order: dict[int, int] = {}
    for k, op in enumerate(ordered):
        if isinstance(op.attr, Slot):
            slot_order.setdefault(id(op.attr), k)
    slots = sorted(live.slots, key=lambda s: slot_order.get(id(s), 1 << 40))
    for domain in live.domains:
        first = len(made.starts)
        _add(made, ("bar", domain), 0.0)
        for slot in slots:
            if slot.lasting and slot.domain is domain and slot not in made.scalars:
                _add(made, slot, slot.start)
        for fold in made.folds:
            if fold.domain is domain:
                _add(made, ("phase", fold), 0.0)
                if fold.total not in made.scalars:
                    _add(made, fold.total, fold.identity)
        read = (op.attr for op in ordered if op.code == "input" and op.domain is domain)
        known = (Given(op) for op in everything if op in live.given and op.domain is domain)
        made.inputs[domain] = [*dict.fromkeys(attr for attr in read if isinstance(attr, Input)), *dict.fromkeys(known)]
        made.tables += dict.fromkeys(
            op.attr for op in ordered if isinstance(op.attr, IntrabarColumn) and op.domain is domain
        )
        if domain.timeframe is not None:
            for what in made.inputs[domain]:
                _add(made, (what, domain), _NAN)
        size = len(made.starts) - first
        made.regions[domain] = (first, size)
        if domain.forming:
            made.shadows[domain] = len(made.starts)
            made.starts.extend([_NAN] * size)
    return made


def _ordered_ops(live: Live) -> list[Op]:
    """The live operations in the order they run, so that the layout does not depend on chance."""
    found: list[Op] = []
    for domain in live.domains:
        for block in (domain.body, domain.tail):
            for item in items_of(block):
                if isinstance(item, Op) and item in live.ops:
                    found.append(item)
                elif (slot := getattr(item, "slot", None)) is not None:
                    found.append(Op("get", attr=slot))
    return found


def _add(made: StateMap, key: object, start: float) -> None:
    made.scalars[key] = len(made.starts)
    made.starts.append(start)
