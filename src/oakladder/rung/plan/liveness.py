"""What of a plan a run needs: the operations, stores and domains that some values rest on."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from oakladder.rung.plan.ops import (
    Append,
    Branch,
    Domain,
    Item,
    LeaveLoop,
    Log,
    Loop,
    Op,
    Put,
    Ring,
    RollingAggregate,
    Save,
    Slot,
    Store,
    Table,
    items_of,
)


@dataclass(frozen=True, slots=True)
class Idle:
    """What tells that a bar changes nothing: all of the slots are 0, and none of the given flags is yes."""

    slots: tuple[Slot, ...]
    flags: tuple[Op, ...]
    #: Whether a run follows its first bar alone: the flags are yes there and nowhere else, all others
    #: that are given are never, and it ends on the next bar that changes nothing.
    alone: bool = False


@dataclass(slots=True)
class Live:
    """What a run for some outputs needs: the operations, slots, rings, folds and domains that matter.

    Dicts without values are sets with an order: the text of the code, by which it is cached, must not depend on chance.
    """

    ops: dict[Op, None]
    slots: dict[Slot, None]
    rings: dict[Ring, None]
    domains: list[Domain]
    logs: dict[Log, None] = field(default_factory=dict)
    tables: dict[Table, None] = field(default_factory=dict)
    #: Values that are not worked out but given, and what tells that a bar changes nothing.
    given: frozenset[Op] = frozenset()
    idle: Idle | None = None
    #: The loops that are needed, the outer ones before those within them.
    loops: list[Loop] = field(default_factory=list)

    def __post_init__(self) -> None:
        found = (item for domain in self.domains for item in items_of(domain.body))
        self.loops = [item for item in found if isinstance(item, Loop) and self.needs(item)]

    def block(self, block: list[Item]) -> list[Item]:
        """The items of a block that are needed."""
        return [item for item in block if self.needs(item)]

    def needs(self, item: Item, in_needed_loop: bool = True) -> bool:
        """Whether an item matters; leaving a loop matters only where the loop does."""
        match item:
            case Op():
                return item in self.ops
            case Put():
                return item.slot in self.slots
            case Save():
                return item.ring in self.rings
            case Append():
                return item.log in self.logs
            case Store():
                return item.table in self.tables
            case LeaveLoop():
                return in_needed_loop
            case Branch():
                return any(self.needs(i, in_needed_loop) for i in (*item.then, *item.otherwise))
            case Loop():
                return any(self.needs(i, False) for i in item.body)


class _Writers:
    """What writes each store, and what stands above it; what stands above the ends of each loop."""

    def __init__(self) -> None:
        self.of: dict[object, list[tuple[Op, tuple[Op, ...]]]] = {}
        self.stops: dict[Slot, list[Op]] = {}

    def scan(self, block: list[Item], above: tuple[Op, ...] = (), loop: Slot | None = None) -> None:
        """Takes up the writers of a block, which stands below conditions and in a loop."""
        for item in block:
            match item:
                case Put():
                    self._add(item.slot, item.value, above)
                case Save():
                    self._add(item.ring, item.value, above)
                case Append():
                    for value in item.values:
                        self._add(item.log, value, above)
                case Store():
                    self._add(item.table, item.value, (*above, item.place))
                case Branch():
                    self.scan(item.then, (*above, item.condition), loop)
                    self.scan(item.otherwise, (*above, item.condition), loop)
                case Loop():
                    self._add(item.counter, item.first, (item.last,))
                    inner = (*above, Op("get", attr=item.counter, domain=item.counter.domain))
                    self.scan(item.body, inner, item.counter)
                case LeaveLoop():
                    if loop is not None:
                        self.stops.setdefault(loop, []).extend(above)

    def _add(self, store: object, value: Op, above: tuple[Op, ...]) -> None:
        self.of.setdefault(store, []).append((value, above))


def live(
    all_domains: list[Domain], roots: list[Op], given: frozenset[Op] = frozenset(), idle: Idle | None = None
) -> Live:
    """Works out what is needed for some values of one symbol's domains (the rest is not run), where those in ``given``
    are known already."""
    found = _Writers()
    for domain in all_domains:
        found.scan(domain.body)
        found.scan(domain.tail)

    ops: dict[Op, None] = {}
    stores: dict[object, None] = {}
    domains: list[Domain] = []
    todo = list(roots)
    while todo:
        op = todo.pop()
        if op in ops:
            continue
        ops[op] = None
        if op in given:
            continue
        todo.extend(op.args)
        home, store = op.domain, op.attr
        if isinstance(store, RollingAggregate):
            todo.append(store.length)
            store = store.total
        if isinstance(store, Slot | Ring | Log | Table):
            home = store.domain
            if store not in stores:
                stores[store] = None
                for value, above in found.of.get(store, []):
                    todo.append(value)
                    todo.extend(above)
                todo.extend(found.stops.get(store, []) if isinstance(store, Slot) else [])
            if isinstance(store, Ring):
                todo.extend(store.lags)
            if isinstance(store, Table):
                todo.append(store.size)
        if home is not None and home not in domains:
            domains.append(home)
            if home.timeframe is not None:
                todo.append(home.timeframe)
    ordered = _by_need([d for d in all_domains if d in domains or d is all_domains[0]], ops)
    slots, rings = {s: None for s in stores if isinstance(s, Slot)}, {r: None for r in stores if isinstance(r, Ring)}
    logs, tables = {g: None for g in stores if isinstance(g, Log)}, {c: None for c in stores if isinstance(c, Table)}
    return Live(ops, slots, rings, ordered, logs, tables, given, idle)


def _by_need(domains: list[Domain], ops: Iterable[Op]) -> list[Domain]:
    """The chart's domain first, then the others in dependency order."""
    reads: dict[Domain, dict[Domain, None]] = {d: {} for d in domains}
    for op in ops:
        if op.code == "export" and isinstance(op.attr, Slot) and op.domain in reads:
            reads[op.domain][op.attr.domain] = None
    done: list[Domain] = []
    for domain in domains[1:]:
        _after_its_reads(domain, reads, done)
    return [domains[0], *(d for d in done if d is not domains[0])]


def _after_its_reads(
    domain: Domain, reads: dict[Domain, dict[Domain, None]], done: list[Domain], above: tuple[Domain, ...] = ()
) -> None:
    """Appends a domain after the domains it reads."""
    if domain in done or domain in above:
        return
    for other in reads[domain]:
        if other in reads:
            _after_its_reads(other, reads, done, (*above, domain))
    done.append(domain)
