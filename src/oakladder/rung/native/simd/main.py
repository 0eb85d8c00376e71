"""The entry point for lanes: groups of symbols, then tiles of bars, then bars.

    run(groups, starts, sizes, counts, which, shared, columns, steps, outs, fixed, table, scratch, templates, stride,
        size, before, from, to)

A group has as many symbols as there are lanes, the longest first: ``starts`` are the places of their first bars,
``sizes`` how many bars they have (at least one), ``counts`` how many are written (0 for a lane that only fills up the
group), ``which`` their numbers in the panel. ``shared`` tells for each group and longer timeframe whether its bars end
together in all lanes. State and tiles are in ``scratch``, lane by lane. Bars ``from`` up to ``to`` are
run, both whole numbers of tiles. From 0 each group begins from its template, ``stride`` numbers behind that of the one
before. With a stride longer than a state, templates hold a state for each lane, one beside the other, and groups begin
with them wherever ``from`` is. Else, later than from 0, the one group goes on.
"""

from __future__ import annotations

from collections.abc import Sequence

from oakladder.rung.native.longer_timeframes import Gathering
from oakladder.rung.native.registers import SharedCode
from oakladder.rung.native.simd.blocks import SimdBlocks
from oakladder.rung.native.simd.longer_timeframes import steps_text
from oakladder.rung.native.simd.text import TILE, attributes, helpers
from oakladder.rung.native.text import IN, META, OFTEN, OUT, PRELUDE, STATE
from oakladder.rung.plan.inputs import BarColumn, Input, IntrabarColumn
from oakladder.rung.plan.ops import Append, Domain, Op
from oakladder.rung.values import PER_SYMBOL


class SimdMain(SimdBlocks, Gathering):
    """Runs groups of symbols over their bars, with the chart's own domain in registers."""

    def __init__(self, code: SharedCode, domain: Domain, lanes: int):
        super().__init__(code, domain, lanes)
        #: The inputs that are moved into tiles, in order, and the inputs read once for each symbol.
        self.tiles: list[Input] = []
        self._once: dict[Input, list[str]] = {}

    def going_on(self) -> str:
        return "true"  # nothing is kept of a run on lanes: what its last bar leaves behind does not matter

    def row_place(self, item: Append) -> str:
        raise AssertionError("logs are not written on lanes")

    def read_input(self, what: Input) -> str:
        if isinstance(what, BarColumn) and what.name in PER_SYMBOL:
            return self._of_symbol(what)
        if self.is_one(what):
            return self.constant(1.0)
        if what not in self.tiles:
            self.tiles.append(what)
        place = self.new(f"getelementptr {self.real}, ptr %tile{self.tiles.index(what)}, i64 %k")
        return self.new(f"load {self.real}, ptr {place}, {IN}")

    def _of_symbol(self, what: BarColumn) -> str:
        """What is the same on all bars of a symbol is read on its first, once."""
        slot, n = self.scalar(("symbol", what)), len(self._once)
        if what not in self._once:
            column, made, lines = self.column(what), "poison", []
            for k in range(self.lanes):
                lines += [
                    f"  %oncep{n}_{k} = getelementptr double, ptr {column}, i64 %first{k}",
                    f"  %once{n}_{k} = load double, ptr %oncep{n}_{k}, {IN}",
                    f"  %oncev{n}_{k} = insertelement {self.real} {made}, double %once{n}_{k}, i64 {k}",
                ]
                made = f"%oncev{n}_{k}"
            self._once[what] = [*lines, f"  store {self.real} {made}, ptr {slot}"]
        return self.new(f"load {self.real}, ptr {slot}")

    def read_table(self, what: IntrabarColumn, place: Op) -> str:
        column = self.column(what)
        return self.gathered(
            [self.new(f"getelementptr double, ptr {column}, i64 {at}") for at in self.whole(place)], IN
        )

    def column(self, what: Input | IntrabarColumn) -> str:
        return self.table_pointer("columns", self.code.inputs.index(what))

    # --- longer timeframes ------------------------------------------------------------------------

    def advance(self, k: int, domain: Domain) -> None:
        together, apart, after = self.label("together"), self.label("apart"), self.label("advanced")
        self.put(f"br i1 %shared{k}, label %{together}, label %{apart}, {OFTEN}")
        self.begin(together)
        super().advance(k, domain)
        self.put(f"br label %{after}")
        self.begin(apart)
        self._advance_each(k, domain)
        self.put(f"br label %{after}")
        self.begin(after)

    def _advance_each(self, k: int, domain: Domain) -> None:
        """The same if the longer bars of the lanes end at different bars."""
        column = self.table_pointer("steps", k)
        marks = "poison"
        for lane in range(self.lanes):
            inside = self.new(f"icmp slt i64 %b, %size{lane}")
            bar = self.new(f"select i1 {inside}, i64 %b, i64 0")
            place = self.new(f"getelementptr i8, ptr {column}, i64 {self.new(f'add i64 %first{lane}, {bar}')}")
            mark = self.new(f"select i1 {inside}, i8 {self.new(f'load i8, ptr {place}, {IN}')}, i8 0")
            marks = self.new(f"insertelement <{self.lanes} x i8> {marks}, i8 {mark}, i64 {lane}")
        self._some(k, self._own(domain), self._bits(marks, 2))
        self._gather(domain, self._bits(marks, 0))
        if domain.forming:
            self._copy(domain)
            self._some(k, self._own(domain, shadow=True), self.sure(True), trying=True)
        self._some(k, self._own(domain), self._bits(marks, 1))

    def _bits(self, marks: str, bit: int) -> str:
        of = f"<{self.lanes} x i8>"
        mask = f"<{', '.join([f'i8 {1 << bit}'] * self.lanes)}>"
        return self.new(f"icmp ne {of} {self.new(f'and {of} {marks}, {mask}')}, zeroinitializer")

    def _some(self, k: int, own: str, mask: str, *, trying: bool = False) -> None:
        bits = self.new(f"zext i{self.lanes} {self.new(f'bitcast {self.bit} {mask} to i{self.lanes}')} to i64")
        going_on = "false" if trying else "true"
        self.put(f"call void @some{k}(ptr {own}, ptr %state, ptr %fixed, ptr %table, i64 {bits}, i1 {going_on})")

    # --- the whole --------------------------------------------------------------------------------

    def text(self, leaves: Sequence[Op]) -> str:
        for k, domain in enumerate(self.live.domains[1:]):
            self.advance(k, domain)
        self.bar()
        flushes = [self._out(k, op) for k, op in enumerate(leaves)]
        loads, stores = self.transfers("%state", 0)
        fills = []
        for k, what in enumerate(self.tiles):
            column = self.column(what)
            fills.append(f"  call void @fill(ptr %tile{k}, ptr {column}, ptr %gstarts, ptr %gsizes, i64 %t)")
        domains = len(self.live.domains) - 1
        earlier = [
            f"  call void @earlier{k}(ptr %state, ptr %fixed, ptr %table, ptr %before, ptr %gwhich)"
            for k in range(domains)
        ]
        group = [
            *self._shared_loads(domains),
            *self.at_state,
            *loads,
            *(line for lines in self._once.values() for line in lines),
        ]
        # Tiles stand behind the state: those of what is read, then those of what is written.
        tiles = [
            f"  %tile{k} = getelementptr {self.real}, ptr %tiles, i64 {k * TILE}" for k in range(len(self.tiles))
        ] + [
            f"  %out{k} = getelementptr {self.real}, ptr %tiles, i64 {(len(self.tiles) + k) * TILE}"
            for k in range(len(leaves))
        ]
        return f"""define void @run(i64 %groups, ptr %starts, ptr %sizes, ptr %counts, ptr %which, ptr %shared, ptr %columns, ptr %steps, ptr %outs, ptr %fixed, ptr %table, ptr %state, ptr %templates, i64 %stride, i64 %cells, ptr %before, i64 %from, i64 %to) #0 {{
entry:
  %tiles = getelementptr {self.real}, ptr %state, i64 %cells
{_lines(self.entry)}
{_lines(tiles)}
  br label %group
group:
  %g = phi i64 [ 0, %entry ], [ %g1, %group_end ]
  %g_more = icmp slt i64 %g, %groups
  br i1 %g_more, label %group_begin, label %leave
group_begin:
  %gw = mul i64 %g, {self.lanes}
  %gstarts = getelementptr i64, ptr %starts, i64 %gw
  %gsizes = getelementptr i64, ptr %sizes, i64 %gw
  %gcounts = getelementptr i64, ptr %counts, i64 %gw
  %gwhich = getelementptr i64, ptr %which, i64 %gw
  %gt = mul i64 %g, %stride
  %template = getelementptr double, ptr %templates, i64 %gt
{_lines(self._lane_loads())}
  %is_short = icmp slt i64 %size0, %to
  %limit = select i1 %is_short, i64 %size0, i64 %to
  %is_wide = icmp sgt i64 %stride, %cells
  %is_fresh = icmp eq i64 %from, 0
  br i1 %is_wide, label %own, label %usual
own:
  %o = phi i64 [ 0, %group_begin ], [ %o1, %own_begin ]
  %o_more = icmp slt i64 %o, %cells
  br i1 %o_more, label %own_begin, label %begin
own_begin:
  %op = getelementptr {self.real}, ptr %template, i64 %o
  %ov = load {self.real}, ptr %op, align 8, {IN}
  %ot = getelementptr {self.real}, ptr %state, i64 %o
  store {self.real} %ov, ptr %ot, {STATE}
  %o1 = add i64 %o, 1
  br label %own
usual:
  br i1 %is_fresh, label %cell, label %begin
cell:
  %c = phi i64 [ 0, %usual ], [ %c1, %cell_begin ]
  %c_more = icmp slt i64 %c, %cells
  br i1 %c_more, label %cell_begin, label %earlier
cell_begin:
  %cp = getelementptr double, ptr %template, i64 %c
  %cv = load double, ptr %cp, {IN}
  %cf = insertelement {self.real} poison, double %cv, i64 0
  %cw = {self._over("%cf", "double")}
  %ct = getelementptr {self.real}, ptr %state, i64 %c
  store {self.real} %cw, ptr %ct, {STATE}
  %c1 = add i64 %c, 1
  br label %cell
earlier:
{_lines(earlier)}
  br label %begin
begin:
{_lines(group)}
  br label %tile
tile:
  %t = phi i64 [ %from, %begin ], [ %t1, %tile_end ]
  %t_more = icmp slt i64 %t, %limit
  br i1 %t_more, label %tile_begin, label %group_end
tile_begin:
  %left = sub i64 %limit, %t
  %is_last = icmp slt i64 %left, {TILE}
  %bars = select i1 %is_last, i64 %left, i64 {TILE}
{_lines(fills)}
  br label %bar
bar:
  %k = phi i64 [ 0, %tile_begin ], [ %k1, %bar_end ]
  %k_more = icmp slt i64 %k, %bars
  br i1 %k_more, label %bar_begin, label %tile_end
bar_begin:
  %b = add i64 %t, %k
  %i = add i64 %first0, %b
{_lines(self.lines)}
  br label %bar_end
bar_end:
  %k1 = add i64 %k, 1
  br label %bar
tile_end:
{_lines(flushes)}
  %t1 = add i64 %t, {TILE}
  br label %tile
group_end:
{_lines(stores)}
  %g1 = add i64 %g, 1
  br label %group
leave:
  ret void
}}
"""

    def _lane_loads(self) -> list[str]:
        made = []
        for k in range(self.lanes):
            for name, table in (("first", "starts"), ("size", "sizes")):
                made += [
                    f"  %p{name}{k} = getelementptr i64, ptr %g{table}, i64 {k}",
                    f"  %{name}{k} = load i64, ptr %p{name}{k}, {IN}",
                ]
        return made

    @staticmethod
    def _shared_loads(domains: int) -> list[str]:
        made = [f"  %gshared = mul i64 %g, {domains}"] if domains else []
        for k in range(domains):
            made += [
                f"  %sharedi{k} = add i64 %gshared, {k}",
                f"  %sharedp{k} = getelementptr i8, ptr %shared, i64 %sharedi{k}",
                f"  %sharedv{k} = load i8, ptr %sharedp{k}, {IN}",
                f"  %shared{k} = trunc i8 %sharedv{k} to i1",
            ]
        return made

    def _out(self, k: int, op: Op) -> str:
        """Writes a result into its tile; gives what writes the tile back."""
        if op.is_flag:
            yes, no = self.flag(op)
            bytes_ = f"<{self.lanes} x i8>"
            one, less = (f"<{', '.join([f'i8 {v}'] * self.lanes)}>" for v in (1, -1))
            low = self.new(f"select {self.bit} {no}, {bytes_} zeroinitializer, {bytes_} {less}")
            value = self.new(f"select {self.bit} {yes}, {bytes_} {one}, {bytes_} {low}")
            place = self.new(f"getelementptr {bytes_}, ptr %out{k}, i64 %k")
            self.put(f"store {bytes_} {value}, ptr {place}, {OUT}")
        else:
            place = self.new(f"getelementptr {self.real}, ptr %out{k}, i64 %k")
            self.put(f"store {self.real} {self.number(op)}, ptr {place}, {OUT}")
        name, column = ("flush_flags" if op.is_flag else "flush"), self.table_pointer("outs", k)
        return f"  call void @{name}(ptr %out{k}, ptr {column}, ptr %gstarts, ptr %gcounts, i64 %t)"


def _lines(lines: Sequence[str]) -> str:
    return "\n".join(lines)


def tiles_needed(code: SharedCode, leaves: Sequence[Op]) -> int:
    """Max number of tiles that a module needs."""
    return len(code.inputs) + len(leaves)


def module_text(code: SharedCode, leaves: Sequence[Op], lanes: int) -> str:
    """The whole module for so many lanes."""
    steps = [steps_text(code, k, domain, lanes) for k, domain in enumerate(code.live.domains[1:])]
    main = SimdMain(code, code.live.domains[0], lanes).text(leaves)
    return PRELUDE + helpers(lanes) + "\n".join(steps) + main + META + attributes(lanes)
