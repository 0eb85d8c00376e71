"""The entry point of a program: symbols, then bars.

Writing the text directly is quicker than building it as objects. The entry point is

    run(symbols, starts, ends, columns, steps, outs, fixed, table, state, stride, template, size, mode, before)

where ``mode`` has bit 0 for "start from the template" and bit 1 for "keep the state afterwards".
Flags are pairs of bits (is yes, is no); neither set is none.
"""

from __future__ import annotations

from collections.abc import Sequence

from oakladder.rung.native.longer_timeframes import Gathering, Step
from oakladder.rung.native.registers import SharedCode
from oakladder.rung.native.text import IN, META, OUT, PRELUDE, SORTING
from oakladder.rung.plan.inputs import BarColumn, Given, Input, IntrabarColumn
from oakladder.rung.plan.liveness import Idle
from oakladder.rung.plan.ops import LOG_ROWS, ROWS_A_BAR, Append, Domain, Log, Op
from oakladder.rung.values import PER_SYMBOL

#: So many flags are looked at together.
_AT_ONCE = 32


class Main(Gathering):
    """Runs every symbol over its bars, with the chart's own domain in registers."""

    def __init__(self, code: SharedCode, domain: Domain):
        super().__init__(code, domain)
        self._once: dict[Input, list[str]] = {}
        self._passes_over = False

    def read_input(self, what: Input) -> str:
        if isinstance(what, BarColumn) and what.name in PER_SYMBOL:
            return self._of_symbol(what)
        if self.is_one(what):
            return self.constant(1.0)
        place = self.new(f"getelementptr double, ptr {self.column(what)}, i64 %i")
        return self.new(f"load double, ptr {place}, {IN}")

    def going_on(self) -> str:
        more = self.new(f"icmp slt i64 {self.new('add i64 %i, 1')}, %b1")
        return self.new(f"or i1 {more}, %is_kept")

    def _of_symbol(self, what: BarColumn) -> str:
        """What is the same on all bars of a symbol is read on its first, once."""
        slot, k = self.scalar(("symbol", what)), len(self._once)
        if what not in self._once:
            self._once[what] = [
                f"  %once{k} = getelementptr double, ptr {self.column(what)}, i64 %b0",
                f"  %first{k} = load double, ptr %once{k}, {IN}",
                f"  store double %first{k}, ptr {slot}",
            ]
        return self.new(f"load double, ptr {slot}")

    def take(self, op: Op) -> None:
        if op.is_flag and self.live.idle is not None and self.live.idle.alone:
            is_first = self.new("icmp eq i64 %i, %b0") if op in self.live.idle.flags else "false"
            self.flags[op] = (is_first, self.new(f"xor i1 {is_first}, true"))
            return
        column = self.column(Given(op))
        if op.is_flag:
            raw = self.new(f"load i8, ptr {self.new(f'getelementptr i8, ptr {column}, i64 %i')}, {IN}")
            self.flags[op] = (self.new(f"icmp eq i8 {raw}, 1"), self.new(f"icmp eq i8 {raw}, 0"))
        else:
            place = self.new(f"getelementptr double, ptr {column}, i64 %i")
            self.numbers[op] = self.new(f"load double, ptr {place}, {IN}")

    def _unless_idle(self, idle: Idle) -> None:
        """Goes on to the next bar where this one changes nothing."""
        tests = [self.new(f"fcmp oeq double {self.load_scalar(slot)}, 0.0") for slot in idle.slots]
        for op in idle.flags:
            self.take(op)
            tests.append(self.new(f"xor i1 {self.flags.pop(op)[0]}, true"))
        all_of = tests[0]
        for test in tests[1:]:
            all_of = self.new(f"and i1 {all_of}, {test}")
        rest, busy = self.label("idle"), self.label("busy")
        self.put(f"br i1 {all_of}, label %{rest}, label %{busy}")
        self.begin(rest)
        if idle.alone:
            self.put("br label %symbol_done")
        else:
            self._to_the_next(idle, rest)
        self.begin(busy)

    def _to_the_next(self, idle: Idle, here: str) -> None:
        """Looks for the next bar on which a flag is yes, many at a time: until then nothing changes."""
        self.lines += [
            "  %idle_next = add i64 %i, 1",
            "  br label %idle_many",
            "idle_many:",
            f"  %idle_from = phi i64 [ %idle_next, %{here} ], [ %idle_to, %idle_look ]",
            f"  %idle_to = add i64 %idle_from, {_AT_ONCE}",
            "  %idle_fits = icmp sle i64 %idle_to, %b1",
            "  br i1 %idle_fits, label %idle_look, label %idle_more",
            "idle_look:",
        ]
        found = self._any_flag(idle, "%idle_from", f"<{_AT_ONCE} x i8>", f"<{_AT_ONCE} x i1>")
        bits = self.new(f"bitcast <{_AT_ONCE} x i1> {found} to i{_AT_ONCE}")
        self.lines += [
            f"  %idle_none = icmp eq i{_AT_ONCE} {bits}, 0",
            "  br i1 %idle_none, label %idle_many, label %idle_found",
            "idle_found:",
            f"  %idle_bit = call i{_AT_ONCE} @llvm.cttz.i{_AT_ONCE}(i{_AT_ONCE} {bits}, i1 true)",
            f"  %idle_by = zext i{_AT_ONCE} %idle_bit to i64",
            "  %idle_there = add i64 %idle_from, %idle_by",
            "  br label %idle_end",
            "idle_more:",
            "  %idle_one = phi i64 [ %idle_from, %idle_many ], [ %idle_on, %idle_step ]",
            "  %idle_left = icmp slt i64 %idle_one, %b1",
            "  br i1 %idle_left, label %idle_step, label %idle_end",
            "idle_step:",
            "  %idle_on = add i64 %idle_one, 1",
        ]
        self.put(f"br i1 {self._any_flag(idle, '%idle_one', 'i8', 'i1')}, label %idle_end, label %idle_more")
        bar = ("bar", self.domain)
        self.lines += [
            "idle_end:",
            "  %idle_at = phi i64 [ %idle_there, %idle_found ], [ %idle_one, %idle_more ], [ %idle_one, %idle_step ]",
            "  %idle_bars = sub i64 %idle_at, %i",
        ]
        self.store_count(bar, self.new(f"add i64 {self.load_count(bar)}, %idle_bars"))
        self.put("br label %bar")
        self._passes_over = True

    def _any_flag(self, idle: Idle, place: str, bytes_: str, bits: str) -> str:
        """Whether any of the flags is yes, at a place or at each of some in a row."""
        found = "zeroinitializer" if bits != "i1" else "false"
        one = "1" if bits == "i1" else f"<{', '.join(['i8 1'] * _AT_ONCE)}>"
        for op in idle.flags:
            at = self.new(f"getelementptr i8, ptr {self.column(Given(op))}, i64 {place}")
            raw = self.new(f"load {bytes_}, ptr {at}, align 1, {IN}")
            found = self.new(f"or {bits} {found}, {self.new(f'icmp eq {bytes_} {raw}, {one}')}")
        return found

    def read_table(self, what: IntrabarColumn, place: Op) -> str:
        at = self.new(f"fptosi double {self.number(place)} to i64")
        cell = self.new(f"getelementptr double, ptr {self.column(what)}, i64 {at}")
        return self.new(f"load double, ptr {cell}, {IN}")

    def row_place(self, item: Append) -> str:
        log = item.log
        row = self.load_count(("rows", log))
        if not item.open:
            self.store_count(("rows", log), self.new(f"add i64 {row}, 1"))
        self.store_count(("open", log), f"{item.open:d}")
        base = self.table_pointer("outs", self._log_outs[log])
        return self.new(f"getelementptr double, ptr {base}, i64 {self.new(f'mul i64 {row}, {log.width}')}")

    def column(self, what: Input | IntrabarColumn) -> str:
        return self.table_pointer("columns", self.code.inputs.index(what))

    def text(self, leaves: Sequence[Op]) -> str:
        self._log_outs = {op.attr: k for k, op in enumerate(leaves) if op.code == LOG_ROWS and isinstance(op.attr, Log)}
        for log in self._log_outs:
            # Rows of all symbols of a call stand end to end: they are few, and would touch a page each otherwise.
            k, place = self._log_outs[log], self.scalar(("rows", log))
            self.at_state += [
                f"  %is_first{k} = icmp eq i64 %s, 0",
                f"  %first_row{k} = mul i64 %b0, {ROWS_A_BAR}",
                f"  %next_row{k} = load i64, ptr {place}",
                f"  %row{k} = select i1 %is_first{k}, i64 %first_row{k}, i64 %next_row{k}",
                f"  store i64 %row{k}, ptr {place}",
                f"  store i64 0, ptr {self.scalar(('open', log))}",
            ]
        for k, domain in enumerate(self.live.domains[1:]):
            self.advance(k, domain)
        if self.live.idle is not None:
            self._unless_idle(self.live.idle)
        self.bar()
        for k, op in enumerate(leaves):
            self._out(k, op)
        loads, stores = self.transfers("%state", 0)
        earlier = self.before()
        head = """define void @run(i64 %symbols, ptr %starts, ptr %ends, ptr %columns, ptr %steps, ptr %outs, ptr %fixed, ptr %table, ptr %all, i64 %stride, ptr %template, i64 %size, i64 %mode, ptr %before) {
entry:
  %is_fresh = trunc i64 %mode to i1
  %mode2 = lshr i64 %mode, 1
  %is_kept = trunc i64 %mode2 to i1
  %bytes = mul i64 %size, 8
"""
        symbols = f"""  br label %symbol
symbol:
  %s = phi i64 [ 0, %entry ], [ %s1, %symbol_end ]
  %s_more = icmp slt i64 %s, %symbols
  br i1 %s_more, label %symbol_begin, label %leave
symbol_begin:
  %shift = mul i64 %s, %stride
  %state = getelementptr double, ptr %all, i64 %shift
  %p0 = getelementptr i64, ptr %starts, i64 %s
  %b0 = load i64, ptr %p0, {IN}
  %p1 = getelementptr i64, ptr %ends, i64 %s
  %b1 = load i64, ptr %p1, {IN}
  br i1 %is_fresh, label %fresh, label %begin
fresh:
  call void @llvm.memcpy.p0.p0.i64(ptr %state, ptr %template, i64 %bytes, i1 false)
"""
        bars = f"""  %has_bars = icmp slt i64 %b0, %b1
  br i1 %has_bars, label %once, label %ready
once:
{chr(10).join(line for lines in self._once.values() for line in lines)}
  br label %ready
ready:
  br label %bar
bar:
  %i = phi i64 [ %b0, %ready ], [ %i1, %bar_end ]{", [ %idle_at, %idle_end ]" if self._passes_over else ""}
  %i_more = icmp slt i64 %i, %b1
  br i1 %i_more, label %bar_begin, label %symbol_done
bar_begin:
"""
        ending = [
            "  br label %bar_end",
            "bar_end:",
            "  %i1 = add i64 %i, 1",
            "  br label %bar",
            "symbol_done:",
            *self._log_ends(),
            "  br i1 %is_kept, label %keep, label %symbol_end",
            "keep:",
            *stores,
            "  br label %symbol_end",
            "symbol_end:",
            "  %s1 = add i64 %s, 1",
            "  br label %symbol",
            "leave:",
            "  ret void",
            "}",
        ]
        return (
            head
            + "\n".join(self.entry)
            + "\n"
            + symbols
            + "\n".join(earlier)
            + "\n  br label %begin\nbegin:\n"
            + "\n".join([*self.at_state, *loads])
            + "\n"
            + bars
            + "\n".join(self.lines)
            + "\n"
            + "\n".join(ending)
            + "\n"
        )

    def _log_ends(self) -> list[str]:
        """Writes a row of 0 behind the last row of each log."""
        made = []
        for log, k in self._log_outs.items():
            made += [
                f"  %last_row{k} = load i64, ptr {self.scalar(('rows', log))}",
                f"  %open_row{k} = load i64, ptr {self.scalar(('open', log))}",
                f"  %end_row{k} = add i64 %last_row{k}, %open_row{k}",
                f"  store i64 %end_row{k}, ptr {self.scalar(('rows', log))}",
                f"  %end_cell{k} = mul i64 %end_row{k}, {log.width}",
                f"  %end_place{k} = getelementptr double, ptr {self.table_pointer('outs', k)}, i64 %end_cell{k}",
                f"  store double 0.0, ptr %end_place{k}, {OUT}",
            ]
        return made

    def _out(self, k: int, op: Op) -> None:
        if op.code == LOG_ROWS:
            return
        base = self.table_pointer("outs", k)
        if op.is_flag:
            yes, no = self.flag(op)
            low = self.new(f"select i1 {no}, i8 0, i8 -1")
            value = self.new(f"select i1 {yes}, i8 1, i8 {low}")
            place = self.new(f"getelementptr i8, ptr {base}, i64 %i")
            self.put(f"store i8 {value}, ptr {place}, {OUT}")
        else:
            place = self.new(f"getelementptr double, ptr {base}, i64 %i")
            self.put(f"store double {self.number(op)}, ptr {place}, {OUT}")


def module_text(code: SharedCode, leaves: Sequence[Op]) -> str:
    """The whole module: the entry point, which writes out the given numbers and flags, and a step for each longer domain."""
    steps = [Step(code, domain).text(f"step{k}") for k, domain in enumerate(code.live.domains[1:])]
    main = Main(code, code.live.domains[0]).text(leaves)
    return PRELUDE + (SORTING if code.sorts else "") + "\n".join(steps) + main + META
