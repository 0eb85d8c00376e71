"""Speed, as ratios side by side in one run: ``./oak bench [all|engine|compile|desk]``."""

from __future__ import annotations

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


def median_time(work: Callable[[], object], rounds: int = 5) -> float:
    """Seconds that some work takes: the median of some rounds, after one that does not count."""
    work()
    taken = []
    for _ in range(rounds):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return statistics.median(taken)


def _engine(symbols: int) -> list[Row]:
    from .engine import measure

    return measure(symbols)


def _compile(symbols: int) -> list[Row]:
    from .compiling import measure

    return measure()


def _desk(symbols: int) -> list[Row]:
    from .desk import measure

    return measure()


BENCHES: dict[str, Callable[[int], list[Row]]] = {"engine": _engine, "compile": _compile, "desk": _desk}


def main(what: str, symbols: int) -> None:
    """Runs one bench or all and prints a table."""
    table = Table(title=f"Oak Ladder bench, {symbols:,} symbols", title_justify="left")
    for name in ("work", "measured", "beside", "to reach"):
        table.add_column(name, justify="left" if name == "work" else "right")
    for name, measure in BENCHES.items():
        if what in ("all", name):
            for row in measure(symbols):
                table.add_row(*row)
    Console(width=150).print(table)
