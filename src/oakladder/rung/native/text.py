"""The text of LLVM code: what stands around it, and a function as it is written line by line."""

from __future__ import annotations

import struct
from typing import Protocol

from oakladder.rung.plan.ops import Op

NONE = "0x7FF8000000000000"
IN, OUT, STATE = "!alias.scope !4, !noalias !5", "!alias.scope !6, !noalias !7", "!alias.scope !8, !noalias !9"
#: A branch whose first side is taken nearly always: what the other needs is kept out of its way.
OFTEN = "!prof !10"
PRELUDE = """
declare double @llvm.fabs.f64(double)
declare double @llvm.sqrt.f64(double)
declare double @llvm.floor.f64(double)
declare double @llvm.ceil.f64(double)
declare i32 @llvm.cttz.i32(i32, i1)
declare void @llvm.memcpy.p0.p0.i64(ptr, ptr, i64, i1)
declare double @oak_pow(double, double)
declare double @oak_fmod(double, double)
declare double @oak_exp(double)
declare double @oak_log(double)
"""
#: Finding a value among some in order, and putting one in where another leaves a hole.
SORTING = """
declare void @llvm.memmove.p0.p0.i64(ptr, ptr, i64, i1)
define internal i64 @oak_find(ptr %cells, i64 %count, double %x) {
entry:
  br label %head
head:
  %low = phi i64 [ 0, %entry ], [ %low2, %body ]
  %high = phi i64 [ %count, %entry ], [ %high2, %body ]
  %more = icmp slt i64 %low, %high
  br i1 %more, label %body, label %done
body:
  %sum = add i64 %low, %high
  %middle = lshr i64 %sum, 1
  %place = getelementptr double, ptr %cells, i64 %middle
  %value = load double, ptr %place
  %less = fcmp olt double %value, %x
  %after = add i64 %middle, 1
  %low2 = select i1 %less, i64 %after, i64 %low
  %high2 = select i1 %less, i64 %high, i64 %middle
  br label %head
done:
  ret i64 %low
}
define internal void @oak_put(ptr %cells, i64 %hole, i64 %place, double %x) {
entry:
  %up = icmp slt i64 %hole, %place
  br i1 %up, label %left, label %right
left:
  %next = add i64 %hole, 1
  %many = sub i64 %place, %next
  %bytes = mul i64 %many, 8
  %to = getelementptr double, ptr %cells, i64 %hole
  %from = getelementptr double, ptr %cells, i64 %next
  call void @llvm.memmove.p0.p0.i64(ptr %to, ptr %from, i64 %bytes, i1 false)
  %before = sub i64 %place, 1
  %own = getelementptr double, ptr %cells, i64 %before
  store double %x, ptr %own
  ret void
right:
  %count = sub i64 %hole, %place
  %size = mul i64 %count, 8
  %here = getelementptr double, ptr %cells, i64 %place
  %behind = getelementptr double, ptr %here, i64 1
  call void @llvm.memmove.p0.p0.i64(ptr %behind, ptr %here, i64 %size, i1 false)
  store double %x, ptr %here
  ret void
}
"""
META = """
!0 = distinct !{!0}
!1 = distinct !{!1, !0}
!2 = distinct !{!2, !0}
!3 = distinct !{!3, !0}
!4 = !{!1}
!5 = !{!2, !3}
!6 = !{!2}
!7 = !{!1, !3}
!8 = !{!3}
!9 = !{!1, !2}
!10 = !{!"branch_weights", i32 100, i32 1}
"""


def hex_of(value: float) -> str:
    """A float as LLVM writes it; any none is the one none."""
    return NONE if value != value else "0x" + struct.pack(">d", value).hex().upper()


#: Yes and no, a bit each; neither is none.
Bits = tuple[str, str]


class Writer(Protocol):
    """What operations are written with: the types of a number and of a bit, the values there are, and instructions."""

    real: str
    bit: str
    numbers: dict[Op, str]
    flags: dict[Op, Bits]

    def new(self, text: str) -> str:
        """Writes an instruction that gives a value, and names it."""

    def call(self, name: str, *args: str) -> str:
        """Calls a function of numbers."""

    def constant(self, value: float) -> str:
        """A number that is known."""

    def sure(self, value: bool) -> str:
        """A bit that is known."""

    def number(self, op: Op) -> str:
        """A value as a number."""

    def flag(self, op: Op) -> Bits:
        """A value as a flag."""


def scalar_call(name: str, args: tuple[str, ...]) -> str:
    """The instruction that calls a function of single numbers."""
    return f"call double @{name}{'.f64' if name.startswith('llvm.') else ''}({', '.join(f'double {a}' for a in args)})"


class FunctionText:
    """A function while it is written: what stands before the bars, and what is done on each."""

    def __init__(self) -> None:
        super().__init__()
        self.entry: list[str] = []
        self.lines: list[str] = []
        self._count = 0

    def new(self, text: str) -> str:
        """Writes an instruction that gives a value, and names it."""
        self._count += 1
        name = f"%v{self._count}"
        self.lines.append(f"  {name} = {text}")
        return name

    def at_entry(self, text: str) -> str:
        """The same, once, before the bars."""
        self._count += 1
        name = f"%e{self._count}"
        self.entry.append(f"  {name} = {text}")
        return name

    def put(self, text: str) -> None:
        self.lines.append("  " + text)

    def label(self, stem: str) -> str:
        self._count += 1
        return f"{stem}{self._count}"

    def begin(self, label: str) -> None:
        self.lines.append(f"{label}:")
