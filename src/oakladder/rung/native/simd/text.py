"""What stands around code for lanes: moving bars of several symbols into tiles side by side, and results back.

A tile holds `TILE` bars: all lanes of a bar stand together. Bars come from and go to columns in which each symbol
is strided, so squares of as many bars as lanes are transposed.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

#: Bars of a tile: a column of them in eight lanes takes 2 KB, so that windows of some hundred bars still fit beside it into
#: the nearest cache (32 KB).
TILE = 32


def helpers(lanes: int) -> str:
    """The functions that fill tiles and that write them back."""
    real = f"<{lanes} x double>"
    named = "".join(f"declare {real} @llvm.{name}.v{lanes}f64({real})\n" for name in ("fabs", "sqrt", "floor", "ceil"))
    named += f"declare {real} @llvm.fma.v{lanes}f64({real}, {real}, {real})\n"
    return (
        named
        + "declare void @llvm.prefetch.p0(ptr, i32, i32, i32)\n"
        + "declare i64 @llvm.cttz.i64(i64, i1)\n"
        + _shortest(lanes)
        + _mover("fill", lanes, _square(lanes, write=False), _FILL_SLOW)
        + _mover("flush", lanes, _square(lanes, write=True), _FLUSH_SLOW)
        + _mover("flush_flags", lanes, _flags_fast(lanes), _FLAGS_SLOW, _flags_ahead(lanes))
    )


def attributes(lanes: int) -> str:
    """What the functions of a module for so many lanes are marked with: without it wide vectors are split."""
    bits = lanes * 64
    return f'attributes #0 = {{ "min-legal-vector-width"="{bits}" "prefer-vector-width"="{bits}" }}\n'


def turned(rows: list[str], lanes: int, name: str) -> Iterator[str]:
    """Instructions that turn a square on its diagonal; the rows that come out replace those in the list."""
    real, count = f"<{lanes} x double>", 0
    apart = 1
    while apart < lanes:
        for k in range(lanes):
            if k & apart:
                continue
            a, b = rows[k], rows[k + apart]
            low = [lanes + e - apart if e & apart else e for e in range(lanes)]
            high = [lanes + e if e & apart else e + apart for e in range(lanes)]
            for place, mask in ((k, low), (k + apart, high)):
                made = f"%{name}{count}"
                count += 1
                yield f"  {made} = shufflevector {real} {a}, {real} {b}, <{lanes} x i32> <{_listed(mask)}>"
                rows[place] = made
        apart *= 2


def _listed(values: list[int]) -> str:
    return ", ".join(f"i32 {v}" for v in values)


def _shortest(lanes: int) -> str:
    """Whether all lanes have a whole tile left: the counts of bars are at ``%counts``."""
    lines = [f"define internal i1 @whole(ptr %counts, i64 %t) {{\n  %end = add i64 %t, {TILE}"]
    before = "true"
    for k in range(lanes):
        lines += [
            f"  %p{k} = getelementptr i64, ptr %counts, i64 {k}",
            f"  %n{k} = load i64, ptr %p{k}",
            f"  %f{k} = icmp sge i64 %n{k}, %end",
            f"  %a{k} = and i1 {before}, %f{k}",
        ]
        before = f"%a{k}"
    return "\n".join([*lines, f"  ret i1 {before}", "}\n"])


def _mover(name: str, lanes: int, fast: list[str], slow: str, ahead: Sequence[str] = ()) -> str:
    """A function that moves a tile: in whole squares where all lanes have the bars, else value by value."""
    return f"""
define internal void @{name}(ptr %tile, ptr %column, ptr %starts, ptr %counts, i64 %t) #0 {{
entry:
  %is_whole = call i1 @whole(ptr %counts, i64 %t)
  br i1 %is_whole, label %first, label %lane
first:
{chr(10).join(ahead)}
  br label %squares
squares:
  %q = phi i64 [ 0, %first ], [ %q1, %squares ]
{chr(10).join(fast)}
  %q1 = add i64 %q, {lanes}
  %more = icmp slt i64 %q1, {TILE}
  br i1 %more, label %squares, label %done
lane:
  %l = phi i64 [ 0, %entry ], [ %l1, %lane_end ]
  %lanes_more = icmp slt i64 %l, {lanes}
  br i1 %lanes_more, label %lane_begin, label %done
lane_begin:
  %ps = getelementptr i64, ptr %starts, i64 %l
  %start = load i64, ptr %ps
  %pc = getelementptr i64, ptr %counts, i64 %l
  %count = load i64, ptr %pc
  %last = sub i64 %count, 1
  br label %one
one:
  %j = phi i64 [ 0, %lane_begin ], [ %j1, %one_end ]
  %j_more = icmp slt i64 %j, {TILE}
  br i1 %j_more, label %one_begin, label %lane_end
one_begin:
  %b = add i64 %t, %j
  %jw = mul i64 %j, {lanes}
  %cell = add i64 %jw, %l
{slow}
  br label %one_end
one_end:
  %j1 = add i64 %j, 1
  br label %one
lane_end:
  %l1 = add i64 %l, 1
  br label %lane
done:
  ret void
}}
"""


def _rows_in_column(lanes: int, of: str) -> list[str]:
    """The place of each lane's bars of a square in the column."""
    lines = []
    for k in range(lanes):
        lines += [
            f"  %sp{k} = getelementptr i64, ptr %starts, i64 {k}",
            f"  %s{k} = load i64, ptr %sp{k}",
            f"  %st{k} = add i64 %s{k}, %t",
            f"  %sq{k} = add i64 %st{k}, %q",
            f"  %c{k} = getelementptr {of}, ptr %column, i64 %sq{k}",
        ]
    return lines


def _rows_in_tile(lanes: int, real: str) -> list[str]:
    lines = []
    for k in range(lanes):
        lines += [f"  %qt{k} = add i64 %q, {k}", f"  %tp{k} = getelementptr {real}, ptr %tile, i64 %qt{k}"]
    return lines


def _ahead(lanes: int, *, write: bool) -> list[str]:
    """Asks for the next tile's bars while this one is worked on; behind the last ones nothing comes of it."""
    lines = []
    for k in range(lanes):
        lines += [
            f"  %ahead{k} = getelementptr double, ptr %c{k}, i64 {TILE}",
            f"  call void @llvm.prefetch.p0(ptr %ahead{k}, i32 {int(write)}, i32 3, i32 1)",
        ]
    return lines


def _square(lanes: int, *, write: bool) -> list[str]:
    """Moves a square of numbers from the column into the tile, or back."""
    real = f"<{lanes} x double>"
    column, tile = (("%c", ", align 8"), ("%tp", ""))
    (source, near), (goal, there) = (tile, column) if write else (column, tile)
    lines = [*_rows_in_column(lanes, "double"), *_rows_in_tile(lanes, real)]
    lines += [f"  %r{k} = load {real}, ptr {source}{k}{near}" for k in range(lanes)]
    lines += _ahead(lanes, write=write)
    rows = [f"%r{k}" for k in range(lanes)]
    lines += list(turned(rows, lanes, "x"))
    return lines + [f"  store {real} {rows[k]}, ptr {goal}{k}{there}" for k in range(lanes)]


def _flags_ahead(lanes: int) -> list[str]:
    """Asks for where the next tile's flags go."""
    lines = []
    for k in range(lanes):
        lines += [
            f"  %ap{k} = getelementptr i64, ptr %starts, i64 {k}",
            f"  %as{k} = load i64, ptr %ap{k}",
            f"  %at{k} = add i64 %as{k}, %t",
            f"  %an{k} = add i64 %at{k}, {2 * TILE - 1}",
            f"  %aw{k} = getelementptr i8, ptr %column, i64 %an{k}",
            f"  call void @llvm.prefetch.p0(ptr %aw{k}, i32 1, i32 3, i32 1)",
        ]
    return lines


def _flags_fast(lanes: int) -> list[str]:
    square, run = lanes * lanes, f"i{lanes * 8}"
    lines = [
        *_rows_in_column(lanes, "i8"),
        f"  %qw = mul i64 %q, {lanes}",
        "  %from = getelementptr i8, ptr %tile, i64 %qw",
        f"  %square = load <{square} x i8>, ptr %from, align {lanes}",
        f"  %over = shufflevector <{square} x i8> %square, <{square} x i8> poison, "
        f"<{square} x i32> <{_listed([e * lanes + k for k in range(lanes) for e in range(lanes)])}>",
        f"  %runs = bitcast <{square} x i8> %over to <{lanes} x {run}>",
    ]
    for k in range(lanes):
        lines += [
            f"  %u{k} = extractelement <{lanes} x {run}> %runs, i64 {k}",
            f"  store {run} %u{k}, ptr %c{k}, align 1",
        ]
    return lines


#: Past its last bar a lane goes on with that bar: nothing of it is written back.
_FILL_SLOW = """  %is_over = icmp sgt i64 %b, %last
  %at = select i1 %is_over, i64 %last, i64 %b
  %src = add i64 %start, %at
  %from_one = getelementptr double, ptr %column, i64 %src
  %v = load double, ptr %from_one
  %to_one = getelementptr double, ptr %tile, i64 %cell
  store double %v, ptr %to_one"""


def _back(of: str) -> str:
    return f"""  %is_there = icmp sle i64 %b, %last
  br i1 %is_there, label %put, label %one_end
put:
  %from_one = getelementptr {of}, ptr %tile, i64 %cell
  %v = load {of}, ptr %from_one
  %dst = add i64 %start, %b
  %to_one = getelementptr {of}, ptr %column, i64 %dst
  store {of} %v, ptr %to_one"""


_FLUSH_SLOW, _FLAGS_SLOW = _back("double"), _back("i8")
