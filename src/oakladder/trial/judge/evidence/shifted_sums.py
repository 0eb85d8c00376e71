"""Sums of stretches of numbers, group by group: the changes at the flags of a moment, for many shifts at once.

The sums are those of the plain loop over flags, in their order: a block of the result stays in registers while the flags of a
group are gone through.
"""

from __future__ import annotations

import ctypes
from functools import lru_cache

import numpy as np

from oakladder.rung.native.compile import Machine, written_by_hand

#: Numbers in a register and registers in a block.
_WIDE, _MANY = 4, 8
#: So many places of the result are reckoned at once.
BLOCK = _WIDE * _MANY


def _module() -> str:
    """For each group, for each block of its result: add the numbers from each flag's place on, store the sums."""
    kind, each = f"<{_WIDE} x double>", range(_MANY)
    places = [f"%to.{i} = getelementptr double, ptr %to.block, i64 {i * _WIDE}" for i in each]
    sums = [f"%sum.{i} = phi {kind} [ zeroinitializer, %block ], [ %new.{i}, %flag ]" for i in each]
    adds = [
        line
        for i in each
        for line in (
            f"%at.{i} = getelementptr double, ptr %from, i64 {i * _WIDE}",
            f"%x.{i} = load {kind}, ptr %at.{i}, align 8",
            f"%new.{i} = fadd {kind} %sum.{i}, %x.{i}",
        )
    ]
    stores = [f"store {kind} %new.{i}, ptr %to.{i}, align 8" for i in each]

    def lines(made: list[str]) -> str:
        return "\n  ".join(made)

    return f"""
define void @run(ptr noalias %to, ptr noalias %numbers, ptr noalias %ends, ptr noalias %places, i64 %count, i64 %size) {{
entry:
  br label %group
group:
  %g = phi i64 [ 0, %entry ], [ %g.next, %group.done ]
  %first = phi i64 [ 0, %entry ], [ %end, %group.done ]
  %end.at = getelementptr i64, ptr %ends, i64 %g
  %end = load i64, ptr %end.at
  %begin = mul i64 %g, %size
  %here = getelementptr double, ptr %to, i64 %begin
  br label %block
block:
  %k = phi i64 [ 0, %group ], [ %k.next, %block.done ]
  %to.block = getelementptr double, ptr %here, i64 %k
  %from.block = getelementptr double, ptr %numbers, i64 %k
  {lines(places)}
  br label %flag
flag:
  %j = phi i64 [ %first, %block ], [ %j.next, %flag ]
  {lines(sums)}
  %place.at = getelementptr i64, ptr %places, i64 %j
  %place = load i64, ptr %place.at
  %from = getelementptr double, ptr %from.block, i64 %place
  {lines(adds)}
  %j.next = add nuw nsw i64 %j, 1
  %last.flag = icmp eq i64 %j.next, %end
  br i1 %last.flag, label %block.done, label %flag
block.done:
  {lines(stores)}
  %k.next = add nuw nsw i64 %k, {BLOCK}
  %more = icmp slt i64 %k.next, %size
  br i1 %more, label %block, label %group.done
group.done:
  %g.next = add nuw nsw i64 %g, 1
  %last.group = icmp eq i64 %g.next, %count
  br i1 %last.group, label %done, label %group
done:
  ret void
}}
"""


_P, _N = ctypes.c_void_p, ctypes.c_int64
_SIGNATURE = ctypes.CFUNCTYPE(None, _P, _P, _P, _P, _N, _N)


@lru_cache(maxsize=1)
def _code() -> Machine:
    return written_by_hand(_module(), _SIGNATURE)


def sums_of_stretches(numbers: np.ndarray, ends: np.ndarray, places: np.ndarray, size: int) -> np.ndarray:
    """For each group the sum of ``numbers[place : place + size]`` over its flags' places; ``size`` is a multiple of `BLOCK`.

    The flags of group g stand at the ``places`` from ``ends[g - 1]`` up to ``ends[g]``; each group has one.

    Shapes: ``numbers`` (numbers,), float64, C order; ``ends`` (groups,), int64; ``places`` (flags,), int64; (groups, size),
    float64.
    """
    to = np.empty((len(ends), size))
    if len(ends):
        code = _code()
        code.call(to.ctypes.data, numbers.ctypes.data, ends.ctypes.data, places.ctypes.data, len(ends), size)
    return to
