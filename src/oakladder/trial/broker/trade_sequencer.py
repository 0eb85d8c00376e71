"""Chains trades whose exits are cached: native code that finds the next entry, copies its trade, and ends it sooner where
the script leaves."""

from __future__ import annotations

import ctypes
from functools import lru_cache

import numpy as np

from oakladder.rung.native.compile import Machine, written_by_hand
from oakladder.rung.trade_log import WIDTH, Column, Event, Moment
from oakladder.rung.trade_words import Reason, Side

#: Flags that are looked at together.
_WIDE = 32
#: The outcome of an entry, beside the events of the log: nothing before the bars end, or not known from its bar
#: alone. The bar where a run goes on after it is in the column of the symbol.
NOTHING, UNCLEAR = -1.0, 0.0
GOES_ON = Column.SYMBOL


def _find() -> str:
    """``find(flags, from, end, size)``: the first place from ``from`` on with a flag that is yes, or ``end``."""
    wide = f"<{_WIDE} x i8>"
    ones = ", ".join(["i8 1"] * _WIDE)
    return f"""
declare i{_WIDE} @llvm.cttz.i{_WIDE}(i{_WIDE}, i1)
declare void @llvm.prefetch.p0(ptr, i32, i32, i32)
declare void @llvm.memcpy.p0.p0.i64(ptr, ptr, i64, i1)
define internal i64 @find(ptr %flags, i64 %from, i64 %end, i64 %size) {{
entry:
  br label %next
next:
  %at = phi i64 [ %from, %entry ], [ %beyond, %none ], [ %on, %no ]
  %rest = sub i64 %end, %at
  %over = icmp sle i64 %rest, 0
  br i1 %over, label %nowhere, label %look
look:
  %beyond = add i64 %at, {_WIDE}
  %fits = icmp sle i64 %beyond, %size
  %here = getelementptr i8, ptr %flags, i64 %at
  br i1 %fits, label %many, label %one
many:
  %those = load {wide}, ptr %here, align 1
  %yes = icmp eq {wide} %those, <{ones}>
  %bits = bitcast <{_WIDE} x i1> %yes to i{_WIDE}
  %any = icmp ne i{_WIDE} %bits, 0
  br i1 %any, label %found, label %none
found:
  %by = call i{_WIDE} @llvm.cttz.i{_WIDE}(i{_WIDE} %bits, i1 true)
  %by64 = zext i{_WIDE} %by to i64
  %there = add i64 %at, %by64
  %before = icmp slt i64 %there, %end
  %place = select i1 %before, i64 %there, i64 %end
  ret i64 %place
none:
  br label %next
one:
  %this = load i8, ptr %here
  %is = icmp eq i8 %this, 1
  br i1 %is, label %at_once, label %no
at_once:
  ret i64 %at
no:
  %on = add i64 %at, 1
  br label %next
nowhere:
  ret i64 %end
}}
"""


def _module() -> str:
    bytes_ = WIDTH * 8

    def cell(name: str, column: Column, row: str) -> str:
        return f"%{name}.at = getelementptr double, ptr %{row}, i64 {column.value}"

    def read(name: str, column: Column, row: str = "known.exit") -> str:
        return f"{cell(name, column, row)}\n  %{name} = load double, ptr %{name}.at"

    def write(name: str, column: Column, value: str) -> str:
        return f"{cell(name, column, 'to')}\n  store double {value}, ptr %{name}.at"

    return (
        _find()
        + f"""
define void @run(i64 %symbols, ptr %starts, ptr %ends, i64 %size, ptr %enters, ptr %leaves, ptr %exits, ptr %opens, ptr %highs, ptr %lows, i64 %side, ptr %rows, ptr %touched, ptr %counts) {{
entry:
  %leaves.known = icmp ne ptr %leaves, null
  %long = icmp eq i64 %side, {int(Side.LONG)}
  %touched.count = getelementptr i64, ptr %counts, i64 1
  %failed = getelementptr i64, ptr %counts, i64 2
  br label %symbol
symbol:
  %s = phi i64 [ 0, %entry ], [ %s.next, %symbol.done ]
  %r0 = phi i64 [ 0, %entry ], [ %r, %symbol.done ]
  %t0 = phi i64 [ 0, %entry ], [ %t, %symbol.done ]
  %s.more = icmp slt i64 %s, %symbols
  br i1 %s.more, label %begin, label %end
begin:
  %start.at = getelementptr i64, ptr %starts, i64 %s
  %start = load i64, ptr %start.at
  %end.at = getelementptr i64, ptr %ends, i64 %s
  %last = load i64, ptr %end.at
  %s.number = sitofp i64 %s to double
  br label %ahead
ahead:
  %soon = phi i64 [ %start, %begin ], [ %later, %fetch ]
  %far = call i64 @find(ptr %enters, i64 %soon, i64 %last, i64 %size)
  %is.far = icmp slt i64 %far, %last
  br i1 %is.far, label %fetch, label %next
fetch:
  %far.cell = mul i64 %far, {WIDTH}
  %far.row = getelementptr double, ptr %exits, i64 %far.cell
  %far.rest = getelementptr double, ptr %far.row, i64 {WIDTH // 2}
  call void @llvm.prefetch.p0(ptr %far.row, i32 0, i32 3, i32 1)
  call void @llvm.prefetch.p0(ptr %far.rest, i32 0, i32 3, i32 1)
  %later = add i64 %far, 1
  br label %ahead
next:
  %from = phi i64 [ %start, %ahead ], [ %goes.on, %nothing ], [ %goes.on, %touch ], [ %goes.on, %whole ], [ %left.bar, %cut ]
  %r = phi i64 [ %r0, %ahead ], [ %r, %nothing ], [ %r, %touch ], [ %r.more, %whole ], [ %r.more, %cut ]
  %t = phi i64 [ %t0, %ahead ], [ %t, %nothing ], [ %t.more, %touch ], [ %t, %whole ], [ %t, %cut ]
  %bar = call i64 @find(ptr %enters, i64 %from, i64 %last, i64 %size)
  %some = icmp slt i64 %bar, %last
  br i1 %some, label %look, label %symbol.done
symbol.done:
  %s.next = add i64 %s, 1
  br label %symbol
look:
  %place = mul i64 %bar, {WIDTH}
  %known.exit = getelementptr double, ptr %exits, i64 %place
  %event = load double, ptr %known.exit
  {read("goes", GOES_ON)}
  %goes.on = fptosi double %goes to i64
  %is.closed = fcmp oeq double %event, {float(Event.CLOSED)}
  %is.open = fcmp oeq double %event, {float(Event.OPEN)}
  %is.trade = or i1 %is.closed, %is.open
  br i1 %is.trade, label %trade, label %other
other:
  %is.touched = fcmp oeq double %event, {float(Event.TOUCHED)}
  br i1 %is.touched, label %touch, label %no.trade
no.trade:
  %is.nothing = fcmp oeq double %event, {NOTHING}
  br i1 %is.nothing, label %nothing, label %fail
nothing:
  br label %next
touch:
  %touched.at = getelementptr i64, ptr %touched, i64 %t
  store i64 %goes.on, ptr %touched.at
  %t.more = add i64 %t, 1
  br label %next
trade:
  %r.more = add i64 %r, 1
  %out = mul i64 %r, {WIDTH}
  %to = getelementptr double, ptr %rows, i64 %out
  call void @llvm.memcpy.p0.p0.i64(ptr align 8 %to, ptr align 8 %known.exit, i64 {bytes_}, i1 false)
  {write("symbol", GOES_ON, "%s.number")}
  %entered = add i64 %bar, 1
  br i1 %leaves.known, label %ask, label %whole
ask:
  %before = sub i64 %last, 1
  %held.to = select i1 %is.closed, i64 %goes.on, i64 %before
  %said = call i64 @find(ptr %leaves, i64 %entered, i64 %held.to, i64 %size)
  %is.said = icmp slt i64 %said, %held.to
  br i1 %is.said, label %sooner, label %whole
whole:
  br label %next
sooner:
  %left.bar = add i64 %said, 1
  %price.at = getelementptr double, ptr %opens, i64 %left.bar
  %price = load double, ptr %price.at
  %is.priced = fcmp ord double %price, %price
  {read("first.risk", Column.FIRST_RISK)}
  {read("risk", Column.RISK)}
  %none.first = fcmp uno double %first.risk, %first.risk
  %some.later = fcmp ord double %risk, %risk
  %came.later = and i1 %none.first, %some.later
  %same.risk = xor i1 %came.later, true
  %clear = and i1 %is.priced, %same.risk
  br i1 %clear, label %extremes, label %fail
extremes:
  {read("entry.price", Column.ENTRY)}
  br label %held
held:
  %at = phi i64 [ %entered, %extremes ], [ %at.next, %held.bar ]
  %top = phi double [ %entry.price, %extremes ], [ %top.next, %held.bar ]
  %bottom = phi double [ %entry.price, %extremes ], [ %bottom.next, %held.bar ]
  %more = icmp sle i64 %at, %said
  br i1 %more, label %held.bar, label %cut
held.bar:
  %high.at = getelementptr double, ptr %highs, i64 %at
  %high = load double, ptr %high.at
  %low.at = getelementptr double, ptr %lows, i64 %at
  %low = load double, ptr %low.at
  %higher = fcmp ogt double %high, %top
  %top.next = select i1 %higher, double %high, double %top
  %lower = fcmp olt double %low, %bottom
  %bottom.next = select i1 %lower, double %low, double %bottom
  %at.next = add i64 %at, 1
  br label %held
cut:
  {write("event.to", Column.EVENT, str(float(Event.CLOSED)))}
  %left.number = sitofp i64 %left.bar to double
  {write("left.to", Column.LEFT, "%left.number")}
  {write("exit.to", Column.EXIT, "%price")}
  {write("reason.to", Column.REASON, str(float(Reason.LEAVE.number)))}
  {write("moment.to", Column.MOMENT, str(float(Moment.OPEN)))}
  %best = select i1 %long, double %top, double %bottom
  %against = select i1 %long, double %bottom, double %top
  {write("best.to", Column.BEST, "%best")}
  {write("against.to", Column.AGAINST, "%against")}
  br label %next
fail:
  store i64 1, ptr %failed
  br label %end
end:
  %made = phi i64 [ %r0, %symbol ], [ %r, %fail ]
  %touches = phi i64 [ %t0, %symbol ], [ %t, %fail ]
  store i64 %made, ptr %counts
  store i64 %touches, ptr %touched.count
  ret void
}}
"""
    )


_P, _N = ctypes.c_void_p, ctypes.c_int64
_SIGNATURE = ctypes.CFUNCTYPE(None, _N, _P, _P, _N, _P, _P, _P, _P, _P, _P, _N, _P, _P, _P)


@lru_cache(maxsize=1)
def _code() -> Machine:
    return written_by_hand(_module(), _SIGNATURE)


def sequence_trades(
    offsets: np.ndarray,
    enters: np.ndarray,
    leaves: np.ndarray | None,
    exits: np.ndarray,
    columns: dict[str, np.ndarray],
    side: Side,
) -> tuple[np.ndarray, np.ndarray] | None:
    """The rows of the trades of all symbols and the bars on which an entry was not made since its stop or target was
    reached already; None where what becomes of an entry is not clear.

    ``enters`` and ``leaves`` are flags on every bar (int8), ``exits`` the cached exit of an entry decided there, shape (bars,
    `WIDTH`); ``columns`` are the bars' ``open``, ``high`` and ``low``.
    """
    most = int(np.count_nonzero(enters == 1))
    rows, touched = np.empty((most, WIDTH)), np.empty(most, dtype=np.int64)
    counts = np.zeros(3, dtype=np.int64)
    firsts, lasts = np.ascontiguousarray(offsets[:-1]), np.ascontiguousarray(offsets[1:])
    _code().call(
        len(firsts),
        firsts.ctypes.data,
        lasts.ctypes.data,
        len(enters),
        enters.ctypes.data,
        leaves.ctypes.data if leaves is not None else None,
        exits.ctypes.data,
        *(columns[name].ctypes.data for name in ("open", "high", "low")),
        int(side),
        rows.ctypes.data,
        touched.ctypes.data,
        counts.ctypes.data,
    )
    made, touches, failed = counts.tolist()
    return None if failed else (rows[:made], touched[:touches])
