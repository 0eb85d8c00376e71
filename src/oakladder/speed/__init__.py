"""Speed, as ratios side by side in one run: ``./oak speed [all|engine|compiling|growth|live|scan|trial|judging|desk]``."""

from __future__ import annotations

import importlib
import statistics
import time
from collections.abc import Callable

from rich.console import Console
from rich.table import Table

Row = tuple[str, str, str, str]

#: The example that the engine is measured with: three averages, two timeframes, two signals.
TREND = """rung 1
title "Trend"
setting fast = 9 range 1..200
setting slow = 20 range 2..400
let f = sma(close, fast)
let s = sma(close, slow)
let strong = close > sma(close, 200) and close on 1w > sma(close, 30) on 1w
signal go = crosses_up(f, s) and strong bullish "Fast over slow in an uptrend"
signal fade = crosses_down(f, s) bearish "Fast under slow"
"""


def side_by_side(works: dict[str, Callable[[], object]], rounds: int = 9) -> dict[str, list[float]]:
    """Seconds that several works take, each once in every round, so that what disturbs one disturbs all."""
    taken: dict[str, list[float]] = {name: [] for name in works}
    for work in works.values():
        work()
    for _ in range(rounds):
        for name, work in works.items():
            start = time.perf_counter()
            work()
            taken[name].append(time.perf_counter() - start)
    return taken


def ratio(taken: dict[str, list[float]], name: str, ours: str) -> float:
    """How many times longer one work took than ours: the median over the rounds."""
    return statistics.median(a / b for a, b in zip(taken[name], taken[ours], strict=True))


def _part(name: str) -> Callable[[int], list[Row]]:
    """A part by the name of its module, loaded when it is wanted."""

    def measure(symbols: int) -> list[Row]:
        module = importlib.import_module(f"{__name__}.{name}")
        return list(module.measure(symbols) if name == "engine" else module.measure())

    return measure


PARTS: dict[str, Callable[[int], list[Row]]] = {
    name: _part(name) for name in ("engine", "compiling", "growth", "live", "scan", "trial", "judging", "desk")
}


def main(what: str, symbols: int) -> None:
    """Runs one part or all and prints a table."""
    table = Table(title=f"Oak Ladder speed, {symbols:,} symbols", title_justify="left")
    for name in ("work", "measured", "beside", "to reach"):
        table.add_column(name, justify="left" if name == "work" else "right")
    for name, measure in PARTS.items():
        if what in ("all", name):
            for row in measure(symbols):
                table.add_row(*row)
    Console(width=150).print(table)
