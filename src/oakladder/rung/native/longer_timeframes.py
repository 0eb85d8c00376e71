"""Longer timeframes: their own function that runs one longer bar, and how the bars of the chart are gathered into it."""

from __future__ import annotations

from oakladder.rung.native.blocks import Blocks
from oakladder.rung.native.ops import choice
from oakladder.rung.native.text import IN, OFTEN, STATE
from oakladder.rung.plan.inputs import Input, IntrabarColumn, Merge
from oakladder.rung.plan.ops import Append, Domain, Op

_NONE = float("nan")


class Step(Blocks):
    """A function that runs one bar of a longer timeframe; its scalars and inputs are at ``%own``."""

    #: What the function is marked with.
    marked = ""

    def read_input(self, what: Input) -> str:
        first, _ = self.state.regions[self.domain]
        row = self.state.place((what, self.domain)) - first
        place = self.new(f"getelementptr {self.cell_type}, ptr %own, i64 {row}")
        return self.new(f"load {self.real}, ptr {place}, {STATE}")

    def read_table(self, what: IntrabarColumn, place: Op) -> str:
        raise AssertionError("tables are read on the chart's own bars only")

    def row_place(self, item: Append) -> str:
        raise AssertionError("logs are written on the chart's own bars only")

    def going_on(self) -> str:
        return "%going_on"

    def text(self, name: str) -> str:
        first, _ = self.state.regions[self.domain]
        self.bar()
        loads, stores = self.transfers("%own", first)
        body = [
            "entry:",
            *self.entry,
            *self.at_state,
            *loads,
            "  br label %go",
            "go:",
            *self.lines,
            *stores,
            "  ret void",
        ]
        return (
            f"define internal void @{name}(ptr %own, ptr %state, ptr %fixed, ptr %table, i1 %going_on){self.marked} {{\n"
            + "\n".join(body)
            + "\n}\n"
        )


class Gathering(Blocks):
    """The chart's own domain, as far as it feeds longer ones."""

    def table_pointer(self, table: str, k: int) -> str:
        key = (table, k)
        if key not in self.slots:
            place = self.at_entry(f"getelementptr ptr, ptr %{table}, i64 {k}")
            self.slots[key] = self.at_entry(f"load ptr, ptr {place}, {IN}")
        return self.slots[key]

    def _own(self, domain: Domain, shadow: bool = False) -> str:
        first, _ = self.state.regions[domain]
        return self.cell(str(self.state.shadows[domain] if shadow else first))

    def _step(self, k: int, own: str, *, trying: bool = False) -> None:
        self.put(
            f"call void @step{k}(ptr {own}, ptr %state, ptr %fixed, ptr %table, i1 {'false' if trying else 'true'})"
        )

    def advance(self, k: int, domain: Domain) -> None:
        """Gathers this bar into the longer bar and runs the longer domain where its bar ends."""
        marks = self.table_pointer("steps", k)
        mark_place = self.new(f"getelementptr i8, ptr {marks}, i64 %i")
        mark = self.new(f"load i8, ptr {mark_place}, {IN}")
        within, special, after = self.label("within"), self.label("special"), self.label("after")
        self.put(f"br i1 {self.new(f'icmp eq i8 {mark}, 0')}, label %{within}, label %{special}, {OFTEN}")
        self.begin(within)
        self._gather(domain, None)
        if domain.forming:
            self._try(k, domain)
        self.put(f"br label %{after}")
        self.begin(special)
        self._step_where(k, domain, self._bit(mark, 2))
        self._gather(domain, self.spread_bit(self._bit(mark, 0)))
        if domain.forming:
            self._try(k, domain)
        self._step_where(k, domain, self._bit(mark, 1))
        self.put(f"br label %{after}")
        self.begin(after)

    def _bit(self, mark: str, bit: int) -> str:
        shifted = self.new(f"lshr i8 {mark}, {bit}") if bit else mark
        return self.new(f"trunc i8 {shifted} to i1")

    def _step_where(self, k: int, domain: Domain, test: str) -> None:
        run, after = self.label("step"), self.label("stepped")
        self.put(f"br i1 {test}, label %{run}, label %{after}")
        self.begin(run)
        self._step(k, self._own(domain))
        self.put(f"br label %{after}")
        self.begin(after)

    def _try(self, k: int, domain: Domain) -> None:
        """Runs a forming domain on the bar so far, on a copy of its scalars."""
        self._copy(domain)
        self._step(k, self._own(domain, shadow=True), trying=True)

    def _copy(self, domain: Domain) -> None:
        """Copies the scalars of a forming domain to where they may be changed."""
        shadow, own = self._own(domain, shadow=True), self._own(domain)
        size = self.state.regions[domain][1] * 8 * self.lanes
        self.put(f"call void @llvm.memcpy.p0.p0.i64(ptr {shadow}, ptr {own}, i64 {size}, i1 false)")

    def _gather(self, domain: Domain, new: str | None) -> None:
        """Puts this bar's values into the longer bar; with ``new``, where that holds a longer bar begins."""
        for what in self.state.inputs[domain]:
            x = self.read_input(what)
            place = str(self.state.place((what, domain)))
            old = self.load_cell(place)
            if new is not None:
                old = choice(self, new, self.constant(_NONE), old)
            self.store_cell(place, self._merge(what.merge, old, x))

    def _merge(self, how: Merge, old: str, x: str) -> str:
        """The counterpart of `reference._merged`."""
        if how is Merge.NEWEST:
            return x
        if how is Merge.FIRST:
            return choice(self, self._is_none(old), x, old)
        if how in (Merge.HIGHEST, Merge.LOWEST):
            beyond = self.new(f"fcmp {'ogt' if how is Merge.HIGHEST else 'olt'} {self.real} {x}, {old}")
            return choice(self, self.new(f"or {self.bit} {beyond}, {self._is_none(old)}"), x, old)
        lost = self._is_none(x)
        if how is Merge.SUM:
            x = choice(self, self._is_none(old), x, self.new(f"fadd {self.real} {old}, {x}"))
        return choice(self, lost, old, x)

    def _is_none(self, x: str) -> str:
        return self.new(f"fcmp uno {self.real} {x}, {x}")

    def before(self) -> list[str]:
        """Runs the longer domains over their own bars from before the first bar of the chart."""
        kept, self.lines = self.lines, []
        width = 2 + len(self.code.inputs)
        for k, domain in enumerate(self.live.domains[1:]):
            head, body, exit_ = self.label("earlier"), self.label("early"), self.label("ready")
            entry = self.label("enter")
            first = self._before_bound(k * width)
            last = self._before_bound(k * width + 1)
            self.put(f"br label %{entry}")
            self.begin(entry)
            self.put(f"br label %{head}")
            self.begin(head)
            j, after = f"%j{k}", f"%jn{k}"
            self.put(f"{j} = phi i64 [ {first}, %{entry} ], [ {after}, %{body} ]")
            self.put(f"br i1 {self.new(f'icmp slt i64 {j}, {last}')}, label %{body}, label %{exit_}")
            self.begin(body)
            for what in self.state.inputs[domain]:
                column = self.table_pointer("before", k * width + 2 + self.code.inputs.index(what))
                place = self.new(f"getelementptr double, ptr {column}, i64 {j}")
                self.store_cell(str(self.state.place((what, domain))), self.new(f"load double, ptr {place}, {IN}"))
            self._step(k, self._own(domain))
            self.put(f"{after} = add i64 {j}, 1")
            self.put(f"br label %{head}")
            self.begin(exit_)
        made, self.lines = self.lines, kept
        return made

    def _before_bound(self, k: int) -> str:
        table = self.table_pointer("before", k)
        place = self.new(f"getelementptr i64, ptr {table}, i64 %s")
        return self.new(f"load i64, ptr {place}, {IN}")
