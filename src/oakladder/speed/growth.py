"""How time grows with bars, symbols and the length of the script, and how much memory a run takes."""

from __future__ import annotations

import gc
import tracemalloc
from collections.abc import Callable

import numpy as np

from oakladder.bars.panel import Panel
from oakladder.engine.run.execute import run
from oakladder.rung import analyse, compile_script
from oakladder.speed import TREND, Row, ratio, side_by_side
from oakladder.speed.engine import make_panel

_BASE = (1000, 2520)


def measure() -> list[Row]:
    """Each row: how much longer something twice or four times as large takes; 2 and 4 are straight lines."""
    trend = compile_script(TREND)
    symbols, bars = _BASE
    sizes = {
        "base": make_panel(symbols, bars),
        "bars": make_panel(symbols, bars * 2),
        "symbols": make_panel(symbols * 2, bars),
    }
    taken = side_by_side({name: lambda p=p: run(trend, p) for name, p in sizes.items()}, 5)  # type: ignore[misc]
    rows: list[Row] = [
        (f"twice the {what}, against {symbols:,} × {bars:,}", f"{ratio(taken, what, 'base'):.2f} ×", "", "2 ×")
        for what in ("bars", "symbols")
    ]
    scripts = {str(n): compile_script(_script(n)) for n in (3, 12, 48)}
    panel = sizes["base"]
    by_length = side_by_side({n: lambda p=p: run(p, panel) for n, p in scripts.items()}, 3)  # type: ignore[misc]
    rows += [
        (
            f"a script of {4 * int(n)} lines against one of 12",
            f"{ratio(by_length, n, '3'):.2f} ×",
            "",
            f"{int(n) // 3} ×",
        )
        for n in ("12", "48")
    ]
    return [*rows, *_checks(), _memory(panel)]


#: Scripts of so many lines whose check might grow faster than they do: how a line follows from its number.
_LINES: dict[str, Callable[[int], str]] = {
    "names made of one another": lambda k: f"let a{k} = a{k - 1} * a{k - 1} - a{k - 1}" if k else "let a0 = close",
    "conditions made of one another": lambda k: (
        f"let a{k} = a{k - 1} and close > {k} or a{k - 1} and open > {k}" if k else "let a0 = close > open"
    ),
    "names that nothing reads": lambda k: f"let a{k} = close + {k}",
    "unknown names": lambda k: f"let a{k} = clsoe{k} + 1",
    "lines that cannot be read": lambda k: f"let a{k} := close {k} ;",
    "totals that are warned of": lambda k: f"set t{k // 2} = t{k // 2} + close[1]" if k % 2 else f"keep t{k // 2} = 0",
}


def _checks() -> list[Row]:
    """How much longer the check of a script of four times as many lines takes."""
    rows: list[Row] = []
    gc.collect()
    gc.disable()  # its full rounds go through all that this process holds, whatever is checked
    for what, line in _LINES.items():
        texts = {n: "rung 1\n" + "\n".join(map(line, range(n))) + "\n" for n in (400, 1600)}
        taken = side_by_side({str(n): lambda t=t: analyse(t) for n, t in texts.items()}, 3)  # type: ignore[misc]
        rows.append((f"check of 1,600 lines against 400: {what}", f"{ratio(taken, '1600', '400'):.2f} ×", "", "4 ×"))
    gc.enable()
    return rows


def _script(parts: int) -> str:
    """A script of so many parts that all cost the same."""
    lines = ["rung 1"]
    for k in range(parts):
        lines += [
            f"let a{k} = rsi(close + {k}, 14)",
            f"let b{k} = ema(a{k}, 9)",
            f"let c{k} = highest(high, 20 + {k}) - b{k}",
            f"signal s{k} = crosses_up(b{k}, c{k})",
        ]
    return "\n".join(lines)


def _memory(panel: Panel) -> Row:
    """The most that a run holds besides its input, over the size of the input; results are part of it."""
    program = compile_script(TREND)
    run(program, panel)
    needed = sum(panel.columns[name].nbytes for name in ("close",)) + panel.times.nbytes
    tracemalloc.start()
    result = run(program, panel)
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    kept = sum(a.nbytes for a in result.arrays.values() if isinstance(a, np.ndarray))
    return (
        "memory of a run over the columns that it reads",
        f"{peak / needed:.2f} ×",
        f"results {kept / needed:.2f} ×",
        "< 2 ×",
    )
