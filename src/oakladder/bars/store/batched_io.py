"""Thousands of small calls of the system in one: the states of many files, many ranges of one file.

A single call is quick; making it from Python costs several times as much, and other threads wait
meanwhile. The two loops are machine code of a few lines, made when they are first needed.
"""

from __future__ import annotations

import ctypes
import os
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import llvmlite.binding as llvm
import numpy as np

#: Numbers of `struct statx`, which is the same on every processor.
_STATX_BYTES, _SIZE, _CHANGED, _MODIFIED, _WANTED = 256, 40, 96, 112, 0x7FF
_TEXT = f"""
declare i64 @pread(i32, ptr, i64, i64)
declare i32 @statx(i32, ptr, i32, i32, ptr)

; Reads sizes[k] bytes from froms[k] on to into + places[k]; gives how many ranges came whole, up to the first that did not.
define i64 @gather(i32 %file, i64 %n, ptr %froms, ptr %sizes, ptr %places, ptr %into) {{
entry:
  br label %next
next:
  %k = phi i64 [ 0, %entry ], [ %after, %whole ]
  %more = icmp slt i64 %k, %n
  br i1 %more, label %one, label %done
one:
  %from.at = getelementptr i64, ptr %froms, i64 %k
  %size.at = getelementptr i64, ptr %sizes, i64 %k
  %place.at = getelementptr i64, ptr %places, i64 %k
  %from = load i64, ptr %from.at
  %size = load i64, ptr %size.at
  %place = load i64, ptr %place.at
  %to = getelementptr i8, ptr %into, i64 %place
  %got = call i64 @pread(i32 %file, ptr %to, i64 %size, i64 %from)
  %all = icmp eq i64 %got, %size
  br i1 %all, label %whole, label %done
whole:
  %after = add i64 %k, 1
  br label %next
done:
  ret i64 %k
}}

; For each name, from begins[k] on in names: when it was modified, when it was changed (nanoseconds), its size; -1 without.
define void @states(i32 %folder, i64 %n, ptr %names, ptr %begins, ptr %into) {{
entry:
  %facts = alloca [{_STATX_BYTES} x i8], align 8
  br label %next
next:
  %k = phi i64 [ 0, %entry ], [ %after, %kept ]
  %more = icmp slt i64 %k, %n
  br i1 %more, label %one, label %done
one:
  %begin.at = getelementptr i64, ptr %begins, i64 %k
  %begin = load i64, ptr %begin.at
  %name = getelementptr i8, ptr %names, i64 %begin
  %said = call i32 @statx(i32 %folder, ptr %name, i32 0, i32 {_WANTED}, ptr %facts)
  %there = icmp eq i32 %said, 0
  br i1 %there, label %known, label %unknown
known:
  %modified = call i64 @moment(ptr %facts, i64 {_MODIFIED})
  %changed = call i64 @moment(ptr %facts, i64 {_CHANGED})
  %size.at = getelementptr i8, ptr %facts, i64 {_SIZE}
  %size = load i64, ptr %size.at
  br label %kept
unknown:
  br label %kept
kept:
  %a = phi i64 [ %modified, %known ], [ -1, %unknown ]
  %b = phi i64 [ %changed, %known ], [ -1, %unknown ]
  %c = phi i64 [ %size, %known ], [ -1, %unknown ]
  %row = mul i64 %k, 3
  %first = getelementptr i64, ptr %into, i64 %row
  %second = getelementptr i64, ptr %first, i64 1
  %third = getelementptr i64, ptr %first, i64 2
  store i64 %a, ptr %first
  store i64 %b, ptr %second
  store i64 %c, ptr %third
  %after = add i64 %k, 1
  br label %next
done:
  ret void
}}

; A moment of statx: seconds and nanoseconds.
define private i64 @moment(ptr %facts, i64 %at) {{
  %seconds.at = getelementptr i8, ptr %facts, i64 %at
  %rest.at = getelementptr i8, ptr %seconds.at, i64 8
  %seconds = load i64, ptr %seconds.at
  %rest = load i32, ptr %rest.at
  %wide = zext i32 %rest to i64
  %whole = mul i64 %seconds, 1000000000
  %made = add i64 %whole, %wide
  ret i64 %made
}}
"""
_POINTER, _LONG, _INT = ctypes.c_void_p, ctypes.c_int64, ctypes.c_int
_GATHER = ctypes.CFUNCTYPE(_LONG, _INT, _LONG, *[_POINTER] * 4)
_STATES = ctypes.CFUNCTYPE(None, _INT, _LONG, *[_POINTER] * 3)


@dataclass(frozen=True, slots=True)
class _Loops:
    """The two loops as functions, and what keeps their code."""

    gather: ctypes._CFunctionType
    states: ctypes._CFunctionType
    library: object


_MAKING = threading.Lock()


@lru_cache(maxsize=1)
def _made() -> _Loops:
    llvm.initialize_native_target()
    llvm.initialize_native_asmprinter()
    builder = llvm.JITLibraryBuilder().add_ir(_TEXT).add_current_process()
    tracker = (
        builder.export_symbol("gather")
        .export_symbol("states")
        .link(llvm.create_lljit_compiler(use_jit_link=True), "at once")
    )
    return _Loops(_GATHER(tracker["gather"]), _STATES(tracker["states"]), tracker)


def _loops() -> _Loops:
    with _MAKING:
        return _made()


def gather(file: int, froms: np.ndarray, sizes: np.ndarray, places: np.ndarray, into: np.ndarray) -> bool:
    """Reads ``sizes[k]`` bytes of an open file from ``froms[k]`` on to byte ``places[k]`` of an array; three int64
    arrays. Tells whether all of them were there. Each has shape (ranges,); ``into`` may have any shape and dtype."""
    froms, sizes, places = (np.ascontiguousarray(a, dtype=np.int64) for a in (froms, sizes, places))
    if not len(froms):
        return True
    if sizes.min() < 0 or places.min() < 0 or (places + sizes).max() > into.nbytes or not into.flags.c_contiguous:
        raise ValueError("ranges outside the array")
    done = _loops().gather(file, len(froms), froms.ctypes.data, sizes.ctypes.data, places.ctypes.data, into.ctypes.data)
    return bool(done == len(froms))


def states(folder: str, names: Sequence[str]) -> np.ndarray:
    """When each file of a folder was modified and when it was changed (ns since 1970), and its size, shape (names, 3),
    int64; -1 for a file that cannot be asked. Raises `OSError` where the folder cannot be opened, `RuntimeError` on a
    system that has no such call."""
    made = np.empty((len(names), 3), dtype=np.int64)
    raw = os.fsencode("\0".join(names)) + b"\0"
    ends = np.flatnonzero(np.frombuffer(raw, dtype=np.uint8) == 0)
    begins = np.concatenate([[0], ends + 1]).astype(np.int64)
    if len(ends) != max(len(names), 1):
        raise ValueError("no name of a file holds a zero")
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        _loops().states(handle, len(names), raw, begins.ctypes.data, made.ctypes.data)
    finally:
        os.close(handle)
    return made
