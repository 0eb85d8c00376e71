"""Sliding windows: sums and extremes that never drift, and values kept in order. See `plan.ops.Fold`."""

from __future__ import annotations

from oakladder.rung.native.ops import extreme
from oakladder.rung.native.registers import Registers
from oakladder.rung.native.text import NONE, OFTEN, STATE
from oakladder.rung.plan.ops import RollingAggregate


def fold(w: Registers, fold: RollingAggregate, x: str) -> str:
    """One step of a sliding fold; see `plan.Fold`."""
    row = w.state.fold_row(fold)
    cells = w.pointer(row)
    held = w.scalar(("held", fold))
    phase = w.load_count(("phase", fold))
    total = _join(w, fold, w.load_scalar(fold.total), x)
    place = w.new(f"getelementptr {w.cell_type}, ptr {cells}, i64 {phase}")
    w.put(f"store {w.real} {x}, ptr {place}, {STATE}")
    within, full, joined = w.label("within"), w.label("full"), w.label("window")
    w.put(f"br i1 {w.new(f'icmp sgt i64 {phase}, 0')}, label %{within}, label %{full}, {OFTEN}")
    w.begin(within)
    before = w.new(f"sub i64 {phase}, 1")
    tail_place = w.new(f"getelementptr {w.cell_type}, ptr {cells}, i64 {before}")
    tail = w.new(f"load {w.real}, ptr {tail_place}, {STATE}")
    w.put(f"store {w.real} {_join(w, fold, tail, total)}, ptr {held}")
    w.store_scalar(fold.total, total)
    w.store_count(("phase", fold), before)
    w.put(f"br label %{joined}")
    w.begin(full)
    w.put(f"store {w.real} {total}, ptr {held}")
    _turn(w, fold, cells, row)
    w.store_scalar(fold.total, w.constant(fold.identity))
    w.store_count(("phase", fold), w.new(f"sub i64 {w.size(row + 1)}, 1"))
    w.put(f"br label %{joined}")
    w.begin(joined)
    return w.new(f"load {w.real}, ptr {held}")


def _join(w: Registers, fold: RollingAggregate, a: str, b: str) -> str:
    if fold.how == "sum":
        return w.new(f"fadd {w.real} {a}, {b}")
    return extreme(w, "max" if fold.how == "highest" else "min", a, b)


def _turn(w: Registers, fold: RollingAggregate, cells: str, row: int) -> None:
    """Turns the cells of a full block into the folds of its last parts, unless this bar is only tried.

    The counterpart of `reference.turn`.
    """
    ready, head, body, exit_ = (w.label(stem) for stem in ("ready", "turn", "turning", "turned"))
    k_place, last = w.scalar(("k", fold)), w.scalar(("last", fold))
    w.put(f"br i1 {w.going_on()}, label %{ready}, label %{exit_}")
    w.begin(ready)
    newest = w.new(f"load {w.real}, ptr {cells}, {STATE}")
    w.put(f"store {w.real} {newest}, ptr {last}")
    w.put(f"store i64 1, ptr {k_place}")
    w.put(f"br label %{head}")
    w.begin(head)
    k = w.new(f"load i64, ptr {k_place}")
    w.put(f"br i1 {w.new(f'icmp slt i64 {k}, {w.size(row + 1)}')}, label %{body}, label %{exit_}")
    w.begin(body)
    _turn_eight(w, fold, cells, k, last)
    more = w.new(f"add i64 {k}, 8")
    w.put(f"store i64 {more}, ptr {k_place}")
    w.put(f"br label %{head}")
    w.begin(exit_)


def _turn_eight(w: Registers, fold: RollingAggregate, cells: str, k: str, last: str) -> None:
    def how(x: str, y: str) -> str:
        return _join(w, fold, x, y)

    places = [w.new(f"getelementptr {w.cell_type}, ptr {cells}, i64 {w.new(f'add i64 {k}, {j}')}") for j in range(8)]
    a, b, c, d, e, f, g, h = (w.new(f"load {w.real}, ptr {place}, {STATE}") for place in places)
    before = w.new(f"load {w.real}, ptr {last}")
    ab, cd, ef, gh = how(b, a), how(d, c), how(f, e), how(h, g)
    abcd = how(cd, ab)
    values = [a, ab, how(c, ab), abcd, how(e, abcd), how(ef, abcd), how(how(g, ef), abcd), how(how(gh, ef), abcd)]
    for place, value in zip(places, values, strict=True):
        made = how(value, before)
        w.put(f"store {w.real} {made}, ptr {place}, {STATE}")
    w.put(f"store {w.real} {made}, ptr {last}")


def sort(w: Registers, fold: RollingAggregate, x: str) -> str:
    """Puts a value in order among the last ones; the counterpart of `reference.Stepper._sort`."""
    row = w.state.fold_row(fold)
    came, length = w.pointer(row), w.size(row + 1)
    ordered = w.new(f"getelementptr double, ptr {came}, i64 {length}")
    x = w.new(f"fadd double {x}, 0.0")
    phase, known = (
        w.load_count(("phase", fold)),
        w.new(f"fptosi double {w.load_scalar(fold.total)} to i64"),
    )
    newest = w.new(f"getelementptr double, ptr {came}, i64 {phase}")
    old = w.new(f"load double, ptr {newest}, {STATE}")
    is_old, is_new = w.new(f"fcmp ord double {old}, {old}"), w.new(f"fcmp ord double {x}, {x}")
    hole = _found(w, ordered, known, old, is_old)
    place = _found(w, ordered, known, x, is_new)
    less = w.new(f"sub i64 {known}, {w.new(f'zext i1 {is_old} to i64')}")
    now = w.new(f"add i64 {less}, {w.new(f'zext i1 {is_new} to i64')}")
    full = w.new(f"icmp eq i64 {now}, {length}")
    up = w.new(f"icmp slt i64 {hole}, {place}")
    mine = w.new(f"sub i64 {place}, {w.new(f'zext i1 {up} to i64')}")
    keep, after = w.label("keep"), w.label("sorted")
    w.put(f"br i1 {w.going_on()}, label %{keep}, label %{after}")
    w.begin(keep)
    w.put(f"call void @oak_put(ptr {ordered}, i64 {hole}, i64 {place}, double {x})")
    w.put(f"store double {x}, ptr {newest}, {STATE}")
    w.put(f"br label %{after}")
    w.begin(after)
    w.store_scalar(fold.total, w.new(f"sitofp i64 {now} to double"))
    w.lately[fold] = (ordered, hole, mine, x, full)
    last = w.new(f"icmp eq i64 {phase}, 0")
    first = w.new(f"select i1 {last}, i64 {length}, i64 {phase}")
    w.store_count(("phase", fold), w.new(f"sub i64 {first}, 1"))
    return w.new(f"select i1 {full}, double {w.new(f'sitofp i64 {mine} to double')}, double {NONE}")


def _found(w: Registers, ordered: str, known: str, x: str, is_there: str) -> str:
    """The index of a value among sorted ones; behind them if it is NaN."""
    w.code.sorts = True
    at = w.new(f"call i64 @oak_find(ptr {ordered}, i64 {known}, double {x})")
    return w.new(f"select i1 {is_there}, i64 {at}, i64 {known}")


def ranked(w: Registers, fold: RollingAggregate, k: str) -> str:
    """A value by its place among the last ones; where this bar is only tried they have not been changed."""
    ordered, hole, mine, x, full = w.lately[fold]
    length = w.size(w.state.fold_row(fold) + 1)
    wanted = w.new(f"sub i64 {w.new(f'fptosi double {k} to i64')}, 1")
    inside = w.new(f"and i1 {full}, {w.new(f'icmp ult i64 {wanted}, {length}')}")
    at = w.new(f"select i1 {inside}, i64 {wanted}, i64 0")
    above = w.new(f"icmp sgt i64 {at}, {mine}")
    later = w.new(f"sub i64 {at}, {w.new(f'zext i1 {above} to i64')}")
    past = w.new(f"zext i1 {w.new(f'icmp sge i64 {later}, {hole}')} to i64")
    before = w.new(f"add i64 {later}, {past}")
    top = w.new(f"icmp slt i64 {before}, {length}")
    tried = w.new(f"select i1 {top}, i64 {before}, i64 0")
    kept = w.going_on()
    place = w.new(f"select i1 {kept}, i64 {at}, i64 {tried}")
    raw = w.new(f"load double, ptr {w.new(f'getelementptr double, ptr {ordered}, i64 {place}')}, {STATE}")
    own = w.new(f"and i1 {w.new(f'xor i1 {kept}, true')}, {w.new(f'icmp eq i64 {at}, {mine}')}")
    value = w.new(f"select i1 {own}, double {x}, double {raw}")
    return w.new(f"select i1 {inside}, double {value}, double {NONE}")
