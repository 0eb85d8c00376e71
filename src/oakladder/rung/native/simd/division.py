"""Dividing all lanes by the same number without a division on every bar, and with its bits.

A division of wide vectors takes as long as some sixteen multiplications. Where the divisor is known before the bars
(the length of an average), its reciprocal is worked out once. A product with it is off by two units in the last place
at most; each correction by what is left over brings it closer, and the second one gives the quotient as it would be
rounded (P. Markstein, "Computation of elementary functions on the IBM RISC System/6000 processor", IBM Journal of
Research and Development 34, 1990, theorem on the last step: the reciprocal must be the nearest one, which a division
gives, and what is left over exact, which a fused operation gives where nothing over- or underflows).
"""

from __future__ import annotations

import struct
from typing import Protocol

from oakladder.rung.native.text import OFTEN, hex_of

#: Between these sizes, of what is divided and of the divisor, nothing on the way over- or underflows.
SMALLEST, LARGEST = 2.0**-400, 2.0**400


class Vectors(Protocol):
    """What is needed to write a division."""

    real: str
    bit: str
    lanes: int

    def new(self, text: str) -> str: ...
    def put(self, text: str) -> None: ...
    def label(self, stem: str) -> str: ...
    def begin(self, label: str) -> None: ...
    def call(self, name: str, *args: str) -> str: ...
    def constant(self, value: float) -> str: ...
    def spread(self, x: str) -> str: ...
    def at_entry(self, text: str) -> str: ...


def reciprocal(w: Vectors, divisor: str) -> tuple[str, str]:
    """Before the bars: the reciprocal of a number, and whether it is of a size that may be used (a bit)."""
    size = w.at_entry(f"call double @llvm.fabs.f64(double {divisor})")
    low = w.at_entry(f"fcmp ogt double {size}, {hex_of(SMALLEST)}")
    high = w.at_entry(f"fcmp olt double {size}, {hex_of(LARGEST)}")
    return w.at_entry(f"fdiv double 1.0, {divisor}"), w.at_entry(f"and i1 {low}, {high}")


def _all(value: int, lanes: int) -> str:
    return f"<{', '.join([f'i64 {value}'] * lanes)}>"


def _doubled(value: float) -> int:
    """The bits of a number without its sign, twice: they are in the order of sizes."""
    return int.from_bytes(struct.pack("<d", value), "little") << 1


def divided(w: Vectors, a: str, divisor: str, inverse: str, is_usable: str) -> str:
    """The quotient of vectors; ``divisor`` and ``inverse`` are the same in all lanes.

    Where a lane holds none, zero or something out of the way, all are divided.
    """
    whole = f"<{w.lanes} x i64>"
    doubled = w.new(f"shl {whole} {w.new(f'bitcast {w.real} {a} to {whole}')}, {_all(1, w.lanes)}")
    over = w.new(f"sub {whole} {doubled}, {_all(_doubled(SMALLEST), w.lanes)}")
    inside = w.new(f"icmp ult {whole} {over}, {_all(_doubled(LARGEST) - _doubled(SMALLEST), w.lanes)}")
    bits = w.new(f"bitcast {w.bit} {inside} to i{w.lanes}")
    fits = w.new(f"and i1 {w.new(f'icmp eq i{w.lanes} {bits}, -1')}, {is_usable}")
    quick, slow, after = w.label("quick"), w.label("slow"), w.label("divided")
    w.put(f"br i1 {fits}, label %{quick}, label %{slow}, {OFTEN}")
    w.begin(quick)
    found = w.new(f"fmul {w.real} {a}, {inverse}")
    for _ in range(2):
        left = w.call("llvm.fma", w.new(f"fneg {w.real} {found}"), divisor, a)
        found = w.call("llvm.fma", left, inverse, found)
    w.put(f"br label %{after}")
    w.begin(slow)
    plain = w.new(f"fdiv {w.real} {a}, {divisor}")
    w.put(f"br label %{after}")
    w.begin(after)
    return w.new(f"phi {w.real} [ {found}, %{quick} ], [ {plain}, %{slow} ]")
