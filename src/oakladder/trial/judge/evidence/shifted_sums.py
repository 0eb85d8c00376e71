"""Adds rows of numbers, each turned round by some places, to one: what a few flags need, where a transform costs more.

The sums are those of the plain loop over flags, in their order: a block of the result stays in registers while the flags
of a row are gone through.
"""

from __future__ import annotations

import ctypes
from functools import lru_cache

import numpy as np

from oakladder.rung.native.compile import Machine, written_by_hand

#: Numbers in a register and registers in a block.
_WIDE, _MANY = 4, 8
#: So many places of the result are reckoned at once: rows and result are longer by as much.
BLOCK = _WIDE * _MANY


def _module() -> str:
    """For each row, for each block of the result: load it, add the row's numbers from each flag's bar on, store it."""
    kind, each = f"<{_WIDE} x double>", range(_MANY)
    places = [f"%to.{i} = getelementptr double, ptr %to.block, i64 {i * _WIDE}" for i in each]
    loads = [f"%old.{i} = load {kind}, ptr %to.{i}, align 8" for i in each]
    sums = [f"%sum.{i} = phi {kind} [ %old.{i}, %block ], [ %new.{i}, %flag ]" for i in each]
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
define void @run(ptr noalias %to, ptr noalias %rows, ptr noalias %ends, ptr noalias %bars, i64 %count, i64 %stride, i64 %size) {{
entry:
  br label %row
row:
  %r = phi i64 [ 0, %entry ], [ %r.next, %row.done ]
  %first = phi i64 [ 0, %entry ], [ %end, %row.done ]
  %end.at = getelementptr i64, ptr %ends, i64 %r
  %end = load i64, ptr %end.at
  %begin = mul i64 %r, %stride
  %here = getelementptr double, ptr %rows, i64 %begin
  %nothing = icmp eq i64 %first, %end
  br i1 %nothing, label %row.done, label %block
block:
  %k = phi i64 [ 0, %row ], [ %k.next, %block.done ]
  %to.block = getelementptr double, ptr %to, i64 %k
  %here.block = getelementptr double, ptr %here, i64 %k
  {lines(places)}
  {lines(loads)}
  br label %flag
flag:
  %j = phi i64 [ %first, %block ], [ %j.next, %flag ]
  {lines(sums)}
  %bar.at = getelementptr i64, ptr %bars, i64 %j
  %bar = load i64, ptr %bar.at
  %from = getelementptr double, ptr %here.block, i64 %bar
  {lines(adds)}
  %j.next = add nuw nsw i64 %j, 1
  %last.flag = icmp eq i64 %j.next, %end
  br i1 %last.flag, label %block.done, label %flag
block.done:
  {lines(stores)}
  %k.next = add nuw nsw i64 %k, {BLOCK}
  %more = icmp slt i64 %k.next, %size
  br i1 %more, label %block, label %row.done
row.done:
  %r.next = add nuw nsw i64 %r, 1
  %last.row = icmp eq i64 %r.next, %count
  br i1 %last.row, label %done, label %row
done:
  ret void
}}
"""


_P, _N = ctypes.c_void_p, ctypes.c_int64
_SIGNATURE = ctypes.CFUNCTYPE(None, _P, _P, _P, _P, _N, _N, _N)


@lru_cache(maxsize=1)
def _code() -> Machine:
    return written_by_hand(_module(), _SIGNATURE)


def add_turned(to: np.ndarray, rows: np.ndarray, ends: np.ndarray, bars: np.ndarray, size: int) -> None:
    """Adds to ``to[k]``, for each flag, ``rows[r, bar + k]``, k from 0 up to ``size``.

    ``rows`` (float64, C order) has twice the numbers of each row, one after the other, and `BLOCK` more; ``to`` has `BLOCK`
    more than ``size``. The flags of row r stand at the ``bars`` (int64) from ``ends[r - 1]`` up to ``ends[r]``.

    Shapes: ``to`` (numbers,), float64; ``rows`` (rows, numbers); ``ends`` (rows,), int64; ``bars`` (flags,).
    """
    if len(ends):
        code = _code()
        code.call(to.ctypes.data, rows.ctypes.data, ends.ctypes.data, bars.ctypes.data, len(ends), rows.shape[1], size)
