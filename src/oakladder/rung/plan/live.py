"""What of a plan a run needs: the operations, stores and domains that some values rest on."""

from __future__ import annotations

from dataclasses import dataclass, field

from oakladder.rung.plan.ops import (
    Append,
    Branch,
    Domain,
    Fold,
    Item,
    LeaveLoop,
    Log,
    Loop,
    Op,
    Put,
    Ring,
    Save,
    Slot,
    Store,
    Table,
    items_of,
)


@dataclass(slots=True)
class Live:
    """What a run for some outputs needs: the operations, slots, rings, folds and domains that matter."""

    ops: set[Op]
    slots: set[Slot]
    rings: set[Ring]
    domains: list[Domain]
    logs: set[Log] = field(default_factory=set)
    tables: set[Table] = field(default_factory=set)
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


def live(all_domains: list[Domain], roots: list[Op]) -> Live:
    """Works out what is needed for the given values of one symbol's domains (the rest is not run)."""
    writers: dict[object, list[tuple[Op, tuple[Op, ...]]]] = {}
    stops: dict[Slot, list[Op]] = {}

    def scan(block: list[Item], above: tuple[Op, ...], loop: Slot | None) -> None:
        for item in block:
            match item:
                case Put():
                    writers.setdefault(item.slot, []).append((item.value, above))
                case Save():
                    writers.setdefault(item.ring, []).append((item.value, above))
                case Append():
                    writers.setdefault(item.log, []).extend((value, above) for value in item.values)
                case Store():
                    writers.setdefault(item.table, []).append((item.value, (*above, item.place)))
                case Branch():
                    scan(item.then, (*above, item.condition), loop)
                    scan(item.otherwise, (*above, item.condition), loop)
                case Loop():
                    writers.setdefault(item.counter, []).append((item.first, (item.last,)))
                    inner = (*above, Op("get", attr=item.counter, domain=item.counter.domain))
                    scan(item.body, inner, item.counter)
                case LeaveLoop():
                    if loop is not None:
                        stops.setdefault(loop, []).extend(above)

    for domain in all_domains:
        scan(domain.body, (), None)
        scan(domain.tail, (), None)

    ops: set[Op] = set()
    stores: set[object] = set()
    domains: list[Domain] = []
    todo = list(roots)
    while todo:
        op = todo.pop()
        if op in ops:
            continue
        ops.add(op)
        todo.extend(op.args)
        home = op.domain
        store = (
            op.attr
            if isinstance(op.attr, Slot | Ring | Log | Table)
            else op.attr.total
            if isinstance(op.attr, Fold)
            else None
        )
        if isinstance(op.attr, Fold):
            todo.append(op.attr.length)
        if isinstance(store, Slot | Ring | Log | Table):
            home = store.domain
            if store not in stores:
                stores.add(store)
                for value, above in writers.get(store, []):
                    todo.append(value)
                    todo.extend(above)
                todo.extend(stops.get(store, []) if isinstance(store, Slot) else [])
            if isinstance(store, Ring):
                todo.extend(store.lags)
            if isinstance(store, Table):
                todo.append(store.size)
        if home is not None and home not in domains:
            domains.append(home)
            if home.timeframe is not None:
                todo.append(home.timeframe)
    ordered = _by_need([d for d in all_domains if d in domains or d is all_domains[0]], ops)
    slots, rings = {s for s in stores if isinstance(s, Slot)}, {r for r in stores if isinstance(r, Ring)}
    logs, tables = {g for g in stores if isinstance(g, Log)}, {c for c in stores if isinstance(c, Table)}
    return Live(ops, slots, rings, ordered, logs, tables)


def _by_need(domains: list[Domain], ops: set[Op]) -> list[Domain]:
    """The chart's own domain first, then the others, each after those that it reads."""
    reads: dict[Domain, set[Domain]] = {d: set() for d in domains}
    for op in ops:
        if op.code == "export" and isinstance(op.attr, Slot) and op.domain in reads:
            reads[op.domain].add(op.attr.domain)
    done: list[Domain] = []

    def visit(domain: Domain, above: tuple[Domain, ...]) -> None:
        if domain in done or domain in above:
            return
        for other in reads[domain]:
            if other in reads:
                visit(other, (*above, domain))
        done.append(domain)

    for domain in domains[1:]:
        visit(domain, ())
    return [domains[0], *(d for d in done if d is not domains[0])]
