"""A script's trades split in two: what no position touches, and what follows from orders and positions.

The first is the same for all symbols at once and runs on lanes. Its results are given to the second, which goes from
one symbol to the next and skips the bars on which there is neither order, nor position, nor an entry. Both together
give the bits of one run.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from oakladder.rung.plan.liveness import Idle, Live, live
from oakladder.rung.plan.ops import (
    PLACE,
    Append,
    Branch,
    Domain,
    Item,
    LeaveLoop,
    Loop,
    Op,
    Plan,
    Put,
    RollingAggregate,
    Save,
    Store,
    TradingPlan,
)

#: Values that are read again where needed: it costs as much as reading a given one.
_READ = frozenset({"input", "bar", PLACE})
#: Values that are computed again where needed, from one given value and fixed ones.
_AGAIN = frozenset({"add", "sub", "mul", "div", "neg", "abs", "guard", "to_number", "known", "not"})


@dataclass(frozen=True, slots=True)
class Split:
    """The values that the first run works out for the second, and what tells the second that a bar changes nothing."""

    values: tuple[Op, ...]
    idle: Idle | None

    @property
    def given(self) -> frozenset[Op]:
        return frozenset(self.values)


def split_trades(plan: Plan) -> Split | None:
    """How the trades of a plan are split; None where that cannot be done."""
    trading = plan.trading
    if trading is None:
        return None
    needed = live(plan.domains, trading.roots)
    if len({op.code for op in needed.ops} & {"fine", "ranked"}) or any(d.foreign for d in needed.domains):
        return None
    touched = _Touched(needed, set(trading.slots) | set(needed.logs))
    given = _given(touched, trading.roots)
    if given is None:
        return None
    return Split(*_idle(plan.domains, trading, touched, given))


def _idle(
    domains: list[Domain], trading: TradingPlan, touched: _Touched, given: dict[Op, None]
) -> tuple[tuple[Op, ...], Idle | None]:
    """What is given, and what tells that a bar changes nothing: nothing but orders and the position may live from bar to
    bar then."""
    enters = dict.fromkeys(t.enter for t in trading.trades)
    if not trading.idle or any(e.fixed or e in touched.ops or e not in touched.top for e in enters):
        return tuple(given), None
    leaves = {t.leave: None for t in trading.trades if t.leave is not None and not t.leave.fixed}
    more = given | enters | {op: None for op in leaves if op not in touched.ops and op in touched.top}
    second = live(domains, trading.roots, frozenset(more))
    lasting = {s for s in second.slots if s.lasting} - trading.slots
    folds = [op for op in second.ops if isinstance(op.attr, RollingAggregate) and op not in more]
    if lasting or folds or second.rings or second.tables or len(second.domains) > 1:
        return tuple(given), None
    needed = tuple(op for op in more if op in second.ops)
    return needed, Idle(tuple(s for s in trading.idle if s in second.slots), tuple(enters))


class _Touched:
    """What follows from orders and positions: stores and values, and the values that stand outside all conditions."""

    def __init__(self, needed: Live, stores: set[object]):
        self.needed, self.stores = needed, stores
        self.ops: set[Op] = set()
        self.top: set[Op] = set()
        #: Values that touched items use.
        self.used: dict[Op, None] = {}
        before = -1
        while before != len(self.stores) + len(self.ops):
            before = len(self.stores) + len(self.ops)
            for domain in needed.domains:
                self._block([*domain.body, *domain.tail], False)
        self.top = {i for d in needed.domains[:1] for i in (*d.body, *d.tail) if isinstance(i, Op)}

    def _block(self, block: Sequence[Item], under: bool) -> None:
        for item in block:
            if not self.needed.needs(item):
                continue
            match item:
                case Op():
                    if under or self._is_touched(item):
                        self.ops.add(item)
                        self._use(*item.args)
                case Put():
                    self._write(item.slot, under, item.value)
                case Save():
                    self._write(item.ring, under, item.value)
                case Store():
                    self._write(item.table, under, item.place, item.value)
                case Append():
                    self._use(*item.values)
                case Branch():
                    inside = under or item.condition in self.ops or self._holds([*item.then, *item.otherwise])
                    if inside:
                        self._use(item.condition)
                    self._block([*item.then, *item.otherwise], inside)
                case Loop():
                    inside = under or item.first in self.ops or item.last in self.ops or self._holds(item.body)
                    self._write(item.counter, inside, item.first, item.last)
                    self._block(item.body, inside)
                case LeaveLoop():
                    pass

    def _use(self, *values: Op) -> None:
        self.used.update(dict.fromkeys(values))

    def _write(self, store: object, under: bool, *values: Op) -> None:
        """A store is touched if anything that is written into it is; then so is all of that."""
        if under or store in self.stores or any(v in self.ops for v in values):
            self.stores.add(store)
            self._use(*values)

    def _is_touched(self, op: Op) -> bool:
        store = op.attr.total if isinstance(op.attr, RollingAggregate) else op.attr
        if isinstance(op.attr, RollingAggregate) and any(a in self.ops for a in op.args):
            self.stores.add(store)
        return store in self.stores or any(a in self.ops for a in op.args)

    def _holds(self, block: Sequence[Item]) -> bool:
        """Whether anything in a block is touched already."""
        for item in _all(block):
            if not self.needed.needs(item):
                continue
            match item:
                case Op():
                    touched = item in self.ops
                case Put():
                    touched = item.slot in self.stores or item.value in self.ops
                case Save():
                    touched = item.ring in self.stores or item.value in self.ops
                case Store():
                    touched = item.table in self.stores
                case Append():
                    touched = True
                case _:
                    touched = False
            if touched:
                return True
        return False


def _all(block: Sequence[Item]) -> Iterator[Item]:
    for item in block:
        yield item
        if isinstance(item, Branch):
            yield from _all([*item.then, *item.otherwise])
        elif isinstance(item, Loop):
            yield from _all(item.body)


def _given(touched: _Touched, roots: Sequence[Op]) -> dict[Op, None] | None:
    """The given values; None if one of them is in a place it cannot be taken from."""
    made: dict[Op, None] = {}
    todo, seen = [*touched.used, *roots], set()
    while todo:
        op = todo.pop()
        if op in seen or op.fixed or op in touched.ops:
            continue
        seen.add(op)
        if op.code in _READ or op in roots:
            continue
        rest = [a for a in op.args if not a.fixed]
        if op.code in _AGAIN and len([a for a in rest if a.code not in _READ]) <= 1:
            todo.extend(rest)
        elif op not in touched.top:
            return None
        else:
            made[op] = None
    return made
