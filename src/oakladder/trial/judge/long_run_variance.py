"""The long-run variance of many columns of sums at once, in native code: each is read three times, from the cache.

Newey and West's variance with Bartlett's weights is the sum of the squares of all sums over lag + 1 moments in a row, over
lag + 1, so that it takes one running sum for any lag.
"""

from __future__ import annotations

import ctypes
from functools import lru_cache

import numpy as np

from oakladder.rung.native.compile import Machine, written_by_hand

#: Numbers in a register and registers in a block.
_WIDE, _MANY = 4, 4
#: So many columns are gone through at once: their number is a multiple of it.
COLUMNS = _WIDE * _MANY


def _module() -> str:
    kind, each = f"<{_WIDE} x double>", range(_MANY)

    def lines(*parts: str) -> str:
        """Lines for each register."""
        return "\n  ".join(part.replace("#", str(i)).replace("@step", str(i * _WIDE)) for i in each for part in parts)

    def spread(name: str) -> str:
        """A number in every place of a register."""
        return (
            f"%{name}.one = insertelement {kind} undef, double %{name}, i32 0\n"
            f"  %{name}.all = shufflevector {kind} %{name}.one, {kind} undef, <{_WIDE} x i32> zeroinitializer"
        )

    return f"""
define void @run(ptr noalias %sums, ptr noalias %counts, ptr noalias %out, i64 %moments, i64 %columns, i64 %wide, double %every) {{
entry:
  {spread("every")}
  %span = sitofp i64 %wide to double
  {spread("span")}
  %last = sub nsw i64 %moments, 1
  %from = sub nsw i64 %moments, %wide
  %negative = icmp slt i64 %from, 0
  %tail.first = select i1 %negative, i64 0, i64 %from
  br label %block
block:
  %k = phi i64 [ 0, %entry ], [ %k.next, %store ]
  %here = getelementptr double, ptr %sums, i64 %k
  br label %add
add:
  %d = phi i64 [ 0, %block ], [ %d.next, %add ]
  {lines(f"%total.# = phi {kind} [ zeroinitializer, %block ], [ %total.next.#, %add ]", f"%square.# = phi {kind} [ zeroinitializer, %block ], [ %square.next.#, %add ]")}
  %row = mul i64 %d, %columns
  %at = getelementptr double, ptr %here, i64 %row
  {lines("%at.# = getelementptr double, ptr %at, i64 @step", f"%x.# = load {kind}, ptr %at.#, align 8", f"%total.next.# = fadd {kind} %total.#, %x.#", f"%xx.# = fmul {kind} %x.#, %x.#", f"%square.next.# = fadd {kind} %square.#, %xx.#")}
  %d.next = add nuw nsw i64 %d, 1
  %added = icmp eq i64 %d.next, %moments
  br i1 %added, label %means, label %add
means:
  {lines(f"%mean.# = fdiv {kind} %total.next.#, %every.all")}
  br label %walk
walk:
  %w = phi i64 [ 0, %means ], [ %w.next, %windowed ]
  {lines(f"%run.# = phi {kind} [ zeroinitializer, %means ], [ %run.next.#, %windowed ]", f"%acc.# = phi {kind} [ zeroinitializer, %means ], [ %acc.next.#, %windowed ]")}
  %count.at = getelementptr double, ptr %counts, i64 %w
  %count = load double, ptr %count.at
  {spread("count")}
  %walk.row = mul i64 %w, %columns
  %walk.at = getelementptr double, ptr %here, i64 %walk.row
  {lines("%walk.at.# = getelementptr double, ptr %walk.at, i64 @step", f"%y.# = load {kind}, ptr %walk.at.#, align 8", f"%usual.# = fmul {kind} %mean.#, %count.all", f"%error.# = fsub {kind} %y.#, %usual.#", f"%run.next.# = fadd {kind} %run.#, %error.#", f"store {kind} %run.next.#, ptr %walk.at.#, align 8")}
  %before = sub nsw i64 %w, %wide
  %inner = icmp sge i64 %before, 0
  br i1 %inner, label %behind, label %windowed
behind:
  %old.row = mul i64 %before, %columns
  %old.at = getelementptr double, ptr %here, i64 %old.row
  {lines("%old.at.# = getelementptr double, ptr %old.at, i64 @step", f"%old.# = load {kind}, ptr %old.at.#, align 8")}
  br label %windowed
windowed:
  {lines(f"%gone.# = phi {kind} [ zeroinitializer, %walk ], [ %old.#, %behind ]")}
  {lines(f"%window.# = fsub {kind} %run.next.#, %gone.#", f"%ww.# = fmul {kind} %window.#, %window.#", f"%acc.next.# = fadd {kind} %acc.#, %ww.#")}
  %w.next = add nuw nsw i64 %w, 1
  %walked = icmp eq i64 %w.next, %moments
  br i1 %walked, label %tail, label %walk
tail:
  %t = phi i64 [ %tail.first, %windowed ], [ %t.next, %tail.body ]
  {lines(f"%sum.# = phi {kind} [ %acc.next.#, %windowed ], [ %sum.next.#, %tail.body ]")}
  %more.tail = icmp slt i64 %t, %last
  br i1 %more.tail, label %tail.body, label %store
tail.body:
  %tail.row = mul i64 %t, %columns
  %tail.at = getelementptr double, ptr %here, i64 %tail.row
  {lines("%tail.at.# = getelementptr double, ptr %tail.at, i64 @step", f"%z.# = load {kind}, ptr %tail.at.#, align 8", f"%rest.# = fsub {kind} %run.next.#, %z.#", f"%rr.# = fmul {kind} %rest.#, %rest.#", f"%sum.next.# = fadd {kind} %sum.#, %rr.#")}
  %t.next = add nuw nsw i64 %t, 1
  br label %tail
store:
  %squares.at = add i64 %k, %columns
  %variances.at = add i64 %squares.at, %columns
  %to.total = getelementptr double, ptr %out, i64 %k
  %to.square = getelementptr double, ptr %out, i64 %squares.at
  %to.variance = getelementptr double, ptr %out, i64 %variances.at
  {lines("%o.total.# = getelementptr double, ptr %to.total, i64 @step", f"store {kind} %total.next.#, ptr %o.total.#, align 8", "%o.square.# = getelementptr double, ptr %to.square, i64 @step", f"store {kind} %square.next.#, ptr %o.square.#, align 8", f"%variance.# = fdiv {kind} %sum.#, %span.all", "%o.variance.# = getelementptr double, ptr %to.variance, i64 @step", f"store {kind} %variance.#, ptr %o.variance.#, align 8")}
  %k.next = add nuw nsw i64 %k, {COLUMNS}
  %more = icmp slt i64 %k.next, %columns
  br i1 %more, label %block, label %done
done:
  ret void
}}
"""


_P, _N = ctypes.c_void_p, ctypes.c_int64
_SIGNATURE = ctypes.CFUNCTYPE(None, _P, _P, _P, _N, _N, _N, ctypes.c_double)


@lru_cache(maxsize=1)
def _code() -> Machine:
    return written_by_hand(_module(), _SIGNATURE)


def totals_squares_variances(sums: np.ndarray, counts: np.ndarray, lag: int) -> np.ndarray:
    """Of each column: the total, the sum of its squares, and the long-run variance of sums[d] - m counts[d], m the total over
    the sum of the counts (which is above 0). ``sums`` is overwritten.

    Shapes: ``sums`` (moments, columns), float64, C order, columns a multiple of `COLUMNS`, at least one of each; ``counts``
    (moments,), float64; (3, columns), float64.
    """
    out = np.empty((3, sums.shape[1]))
    code = _code()
    code.call(sums.ctypes.data, counts.ctypes.data, out.ctypes.data, *sums.shape, lag + 1, float(counts.sum()))
    return out
