"""Bars to test with, and a short way to run a script over them."""

from __future__ import annotations

from collections.abc import Callable
from importlib.resources import files
from pathlib import Path

import numpy as np

from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import ONE_DAY
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script

#: Other values of `oakladder.tuning` until a test ends.
Tune = Callable[..., None]
#: The names of the scripts that the demo market brings.
DEMO_SCRIPTS = tuple(sorted(f.name for f in files("oakladder.demo").joinpath("scripts").iterdir()))


def demo_text(name: str) -> str:
    """The text of one of them."""
    return files("oakladder.demo").joinpath("scripts", name).read_text(encoding="utf-8")


def daily_bars(
    closes: list[float] | np.ndarray, symbol: str = "TEST", first_day: int = 15_000, **columns: np.ndarray
) -> Bars:
    """Daily bars on weekdays with the given closes; the other columns follow from them unless given."""
    close = np.asarray(closes, dtype=float)
    calendar = Calendar()
    days = np.arange(first_day, first_day + 2 * len(close) + 10, dtype=np.int64)
    times = calendar.day_open(days[calendar.trades_on(days)][: len(close)])
    made = {"open": close, "high": close, "low": close, "close": close, "volume": np.full(len(close), 100.0)} | columns
    return Bars(symbol, ONE_DAY, calendar, times, made)


def random_bars(seed: int, count: int, *, holes: bool = True) -> Bars:
    """A random walk with ties, flat stretches, gaps and, with ``holes``, nones."""
    rng = np.random.default_rng(seed)
    steps = np.round(rng.normal(0, 1, count), 1) * (rng.random(count) < 0.8)
    close = 100 + np.cumsum(steps)
    close = np.round(np.abs(close) + 5, 1)
    open_ = np.concatenate([[close[0]], close[:-1]]) + np.round(rng.normal(0, 0.5, count), 1) * (
        rng.random(count) < 0.3
    )
    high = np.maximum(open_, close) + np.round(np.abs(rng.normal(0, 0.5, count)), 1)
    low = np.minimum(open_, close) - np.round(np.abs(rng.normal(0, 0.5, count)), 1)
    volume = np.floor(rng.exponential(1000, count))
    open_, high, low = (np.round(x, 1) for x in (open_, high, low))
    columns = {"open": open_, "high": high, "low": low, "close": close, "volume": volume}
    if holes:
        for name in columns:
            columns[name] = np.where(rng.random(count) < 0.01, np.nan, columns[name])
    return daily_bars(close, **columns)


def values(
    script: str, bars: Bars | Panel, settings: dict[str, object] | None = None, *, reference: bool = False
) -> dict[str, np.ndarray]:
    """Every top-level number and flag of a script on some bars: floats with NaN for none, flags as 1, 0 and NaN."""
    program = compile_script("rung 1\n" + script)
    panel = bars if isinstance(bars, Panel) else panel_of([bars])
    plain = {name: op for name, op in program.plan.values.items() if not op.is_shell}
    result = run(program, panel, settings, outputs=[], extra=list(plain.values()), reference=reference)
    return {name: result.number(op) for name, op in plain.items()}


def taken(folder: Path) -> Path:
    """A place where nothing can be written: a file stands where a folder would have to be."""
    path = folder / "nowhere"
    path.write_text("")
    return path
