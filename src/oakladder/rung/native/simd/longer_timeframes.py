"""Longer timeframes on lanes: one step for all where their bars end together, a step for each lane where not."""

from __future__ import annotations

from oakladder.rung.native.longer_timeframes import Step
from oakladder.rung.native.registers import SharedCode
from oakladder.rung.native.simd.blocks import SimdBlocks
from oakladder.rung.native.text import IN, STATE
from oakladder.rung.plan.ops import Domain


class SimdStep(SimdBlocks, Step):
    """A function that runs one bar of a longer timeframe for all lanes."""

    marked = " #0"


class OwnStep(Step):
    """The same for a single lane, whose cells stand among those of the others."""

    def __init__(self, code: SharedCode, domain: Domain, lanes: int):
        super().__init__(code, domain)
        self.cell_type = f"[{lanes} x double]"


_GIVEN = "ptr %fixed, ptr %table"


def steps_text(code: SharedCode, k: int, domain: Domain, lanes: int) -> str:
    """All that runs bars of a longer domain: for all lanes, for one, for some, and those from before the first bar."""
    return (
        SimdStep(code, domain, lanes).text(f"step{k}")
        + OwnStep(code, domain, lanes).text(f"own{k}")
        + _some(k)
        + _earlier(code, k, domain, lanes)
    )


def _some(k: int) -> str:
    """Runs a step for each lane whose bit is set."""
    return f"""define internal void @some{k}(ptr %own, ptr %state, {_GIVEN}, i64 %bits, i1 %going_on) {{
entry:
  br label %head
head:
  %rest = phi i64 [ %bits, %entry ], [ %fewer, %body ]
  %more = icmp ne i64 %rest, 0
  br i1 %more, label %body, label %done
body:
  %lane = call i64 @llvm.cttz.i64(i64 %rest, i1 true)
  %o = getelementptr double, ptr %own, i64 %lane
  %s = getelementptr double, ptr %state, i64 %lane
  call void @own{k}(ptr %o, ptr %s, {_GIVEN}, i1 %going_on)
  %less = sub i64 %rest, 1
  %fewer = and i64 %rest, %less
  br label %head
done:
  ret void
}}
"""


def _earlier(code: SharedCode, k: int, domain: Domain, lanes: int) -> str:
    """Runs a domain over its own bars from before the first bar of the chart, lane by lane."""
    width, cells = 2 + len(code.inputs), f"[{lanes} x double]"
    first, _ = code.state.regions[domain]
    copies = []
    for n, what in enumerate(code.state.inputs[domain]):
        column = k * width + 2 + code.inputs.index(what)
        copies.append(f"""  %pc{n} = getelementptr ptr, ptr %before, i64 {column}
  %c{n} = load ptr, ptr %pc{n}, {IN}
  %pv{n} = getelementptr double, ptr %c{n}, i64 %j
  %v{n} = load double, ptr %pv{n}, {IN}
  %to{n} = getelementptr {cells}, ptr %s, i64 {code.state.place((what, domain))}
  store double %v{n}, ptr %to{n}, {STATE}""")
    return f"""define internal void @earlier{k}(ptr %state, {_GIVEN}, ptr %before, ptr %which) {{
entry:
  %pf = getelementptr ptr, ptr %before, i64 {k * width}
  %firsts = load ptr, ptr %pf, {IN}
  %pl = getelementptr ptr, ptr %before, i64 {k * width + 1}
  %lasts = load ptr, ptr %pl, {IN}
  br label %lane
lane:
  %l = phi i64 [ 0, %entry ], [ %l1, %lane_end ]
  %lanes_more = icmp slt i64 %l, {lanes}
  br i1 %lanes_more, label %begin, label %done
begin:
  %pw = getelementptr i64, ptr %which, i64 %l
  %w = load i64, ptr %pw, {IN}
  %p0 = getelementptr i64, ptr %firsts, i64 %w
  %first = load i64, ptr %p0, {IN}
  %p1 = getelementptr i64, ptr %lasts, i64 %w
  %last = load i64, ptr %p1, {IN}
  %s = getelementptr double, ptr %state, i64 %l
  %o = getelementptr {cells}, ptr %s, i64 {first}
  br label %head
head:
  %j = phi i64 [ %first, %begin ], [ %j1, %body ]
  %more = icmp slt i64 %j, %last
  br i1 %more, label %body, label %lane_end
body:
{chr(10).join(copies)}
  call void @own{k}(ptr %o, ptr %s, {_GIVEN}, i1 true)
  %j1 = add i64 %j, 1
  br label %head
lane_end:
  %l1 = add i64 %l, 1
  br label %lane
done:
  ret void
}}
"""
