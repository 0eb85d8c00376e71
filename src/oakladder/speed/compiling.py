"""How long it takes from text to code that runs."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.speed import Row
from oakladder.speed.engine import make_panel

_LENGTHS = (5, 8, 13, 21, 34)


def script_of(lines: int, salt: int = 0) -> str:
    """A script of about so many lines with a library call on every fourth; ``salt`` makes it a new one."""
    calls = (
        "sma(close, {n})",
        "ema(close, {n})",
        "rsi(close, {n})",
        "atr({n})",
        "stdev(close, {n})",
        "highest(high, {n})",
        "lowest(low, {n})",
        "wilder(close, {n})",
        "change(close, {n})",
        "streak(close > close[{n}])",
    )
    made = ["rung 1", f'title "Bench {salt}"', f"let s = {salt + 1}"]
    k = 0
    while len(made) < lines - 2:
        n = _LENGTHS[k // len(calls) % len(_LENGTHS)] + k // 50
        made += [
            f"let a{k} = {calls[k % len(calls)].format(n=n)}",
            f"let b{k} = a{k} - a{k}[1]",
            f"let c{k} = if b{k} > 0 then b{k} else 0",
            f'line c{k} + s color teal named "c{k}"',
        ]
        k += 1
    return "\n".join([*made, f"signal go = c0 > 0 and c{k - 1} > 0", ""])


def _median(make: Callable[[int], str], rounds: int, work: Callable[[str], object]) -> float:
    taken = []
    for salt in range(rounds):
        text = make(salt)
        start = time.perf_counter()
        work(text)
        taken.append(time.perf_counter() - start)
    return float(np.median(taken[1:]))


def measure() -> list[Row]:
    """Cold compiling of scripts of three sizes, and a compile that is remembered."""
    panel = make_panel(1, 500)
    rows: list[Row] = []
    for lines, reach in ((12, ""), (40, "≤ 30 ms"), (160, "")):
        taken = _median(lambda salt, n=lines: script_of(n, salt), 7, lambda text: run(compile_script(text), panel))  # type: ignore[misc]
        rows.append((f"text to first result, {lines} lines", f"{taken * 1e3:.1f} ms", "", reach))
    text = script_of(40)
    run(compile_script(text), panel)
    warm = _median(lambda _: text, 9, lambda t: run(compile_script(t), panel))
    rows.append(("the same 40 lines again (remembered)", f"{warm * 1e3:.2f} ms", "", "≤ 1 ms"))
    return rows
