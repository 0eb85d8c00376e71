"""Speed, as ratios side by side in one run: ``./oak speed [all|engine|compiling|growth|live|scan|trial|judging|desk|start]``."""

from __future__ import annotations

import contextlib
import importlib
import json
import os
import platform
import re
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from rich.console import Console
from rich.table import Table

from oakladder.disk import write_atomic

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
    name: _part(name) for name in ("engine", "compiling", "growth", "live", "scan", "trial", "judging", "desk", "start")
}


def main(what: str, symbols: int, kept: Path | None = None, against: Path | None = None) -> None:
    """Measures one part or all and prints a table; ``kept`` is where the rows are written as JSON, ``against`` such a
    file of another run, which is shown beside. Raises `ValueError` for a file that is none of ours."""
    before = read_rows(against) if against is not None else {}
    rows = _each_alone(symbols) if what == "all" else PARTS[what](symbols)
    where = f"{machine()}, {pace()}"
    if kept is not None:
        plain = [dict(zip(_FIELDS, row, strict=True)) for row in rows]
        write_atomic(kept, json.dumps({"machine": where, "rows": plain}, indent=1, ensure_ascii=False) + "\n")
    table = Table(title=f"Oak Ladder speed, {symbols:,} symbols; {where}", title_justify="left")
    for name in ("work", "measured", "beside", "to reach", *(("before", "now / before") if before else ())):
        table.add_column(name, justify="left" if name == "work" else "right")
    for work, row in zip(_works(rows), rows, strict=True):
        old = before.get(work, "")
        table.add_row(*row, *((old, _change(row[1], old)) if before else ()))
    Console(width=150).print(table)


_FIELDS = ("work", "measured", "beside", "reach")


def _each_alone(symbols: int) -> list[Row]:
    """Every part in a separate process: none runs in the memory and the caches that another has left."""
    rows: list[Row] = []
    with tempfile.TemporaryDirectory() as folder:
        for name in PARTS:
            kept = Path(folder) / f"{name}.json"
            command = [sys.executable, "-m", "oakladder", "speed", name, "--symbols", str(symbols), "--json", str(kept)]
            subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
            rows += _rows_of(kept)
    return rows


def _rows_of(path: Path) -> list[Row]:
    try:
        rows = json.loads(path.read_text(encoding="utf-8"))["rows"]
        return [(str(r["work"]), str(r["measured"]), str(r["beside"]), str(r["reach"])) for r in rows]
    except (KeyError, TypeError, UnicodeDecodeError, ValueError):
        raise ValueError(f"{path} holds no measurements: give a file that --json has written.") from None


def read_rows(path: Path) -> dict[tuple[str, str], str]:
    """What another run has measured, by work (see `_works`). Raises `ValueError` or `OSError`."""
    rows = _rows_of(path)
    return {work: row[1] for work, row in zip(_works(rows), rows, strict=True)}


def _works(rows: Sequence[Row]) -> list[tuple[str, str]]:
    """What each row is about: indented words belong to the row above that is not, and may be those of other rows."""
    made, above = [], ""
    for words, *_ in rows:
        above = words if not words.startswith(" ") else above
        made.append((above, words))
    return made


def _change(now: str, before: str) -> str:
    """How many times what was measured before it is now, where both are in the same unit."""
    (a, unit), (b, other) = _figure(now), _figure(before)
    return f"{a / b:.2f} ×" if unit == other and b else ""


def _figure(measured: str) -> tuple[float, str]:
    """A measurement as a number and its unit; times in seconds."""
    found = re.match(r"([\d.,]+)\s*(\S*)", measured)
    if found is None:
        return 0.0, ""
    number, unit = float(found[1].replace(",", "")), found[2]
    return (number / 1000, "s") if unit == "ms" else (number, unit)


def machine() -> str:
    """The processor, how many cores there are, and how many symbols it runs side by side."""
    from oakladder.rung.native.compile import simd_width_here

    with contextlib.suppress(OSError):
        for line in Path("/proc/cpuinfo").read_text(encoding="utf-8").splitlines():
            if line.startswith("model name"):
                name = line.partition(":")[2].strip()
                return f"{name}, {os.cpu_count()} cores, {simd_width_here()} lanes"
    return f"{platform.machine()}, {os.cpu_count()} cores, {simd_width_here()} lanes"


def pace() -> str:
    """How fast the machine is just then, in words: rented ones are slower by half at some hours than at others, and times
    (not ratios) can only be compared beside this."""
    taken = []
    for _ in range(5):
        start, total = time.perf_counter(), 0
        for number in range(1_000_000):
            total += number
        taken.append(time.perf_counter() - start)
    return f"a plain loop over a million numbers in {statistics.median(taken) * 1e3:.0f} ms"
