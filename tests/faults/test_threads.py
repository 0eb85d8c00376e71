"""What jobs of several threads share, used by all of them at once: no error, and the same results as one after another."""

from __future__ import annotations

import random
import sys
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from oakladder.bars.panels import panel_of
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, ONE_WEEK, Timeframe
from oakladder.engine.bar_selection import BarSelection
from oakladder.engine.columns.fill import ColumnRequest, fill
from oakladder.engine.columns.quotes import quotes
from oakladder.engine.explain.why import Why
from oakladder.engine.picture.as_data import as_plain, day_paint
from oakladder.engine.picture.draw import draw
from oakladder.engine.run.execute import run
from oakladder.engine.scan.conditions import Rule, TriggerMode
from oakladder.engine.scan.run import run_scan
from oakladder.engine.signal_ages import recent_signals
from oakladder.rung import analyse, compile_script
from oakladder.rung.program import forget_programs
from oakladder.trial.judge.evidence.study import evidence_of
from oakladder.trial.trial import run_trial
from oakladder.trial.universe import TrialDataSource

SCRIPT = """rung 1
title "Shared {n}"
setting n = {n} range 2..60
let mean = sma(close, n)
let weekly = ema(close, 5) on 1w
signal go = crosses_up(close, mean) and close > weekly  bullish
signal out = crosses_down(close, mean) bearish
line mean
column "{{age(go)}}" when month > 0 and clock >= 00:00 and last_of_session
zone low to high when go lasting 5 bars
trade ride long
    enter when go
    leave when out
    stop 2 * atr(14)
"""


@pytest.fixture
def quick_switches() -> Iterator[None]:
    """Threads give way to one another after every few steps."""
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    yield
    sys.setswitchinterval(before)


@pytest.fixture
def library(tmp_path: Path, market: BarLibrary) -> BarLibrary:
    """A small library of its own, with days and minutes."""
    made = BarLibrary(tmp_path / "bars")
    names = list(market.infos)[:12]
    for name in names:
        info = replace(market.infos[name], origin="")
        made.write(market.base(name, ONE_DAY), info)
    for name in names[:2]:
        made.write(market.base(name, Timeframe.parse("1m")), replace(market.infos[name], origin=""))
    return made


def plain_of(result: object) -> object:
    return {k: v.tobytes() if isinstance(v, np.ndarray) else v for k, v in vars(result).items()}


def parts(library: BarLibrary) -> dict[str, Callable[[int], object]]:
    """What jobs do, by name; each with a number from which all else follows, so that it can be done again."""
    names = list(library.infos)
    shared = panel_of([library.bars(s, ONE_DAY) for s in names])
    grounds = TrialDataSource(library)
    base = BarSelection(ONE_DAY)

    def program(k: int):  # type: ignore[no-untyped-def]
        return compile_script(SCRIPT.format(n=5 + k % 4))

    def on_shared(k: int) -> object:
        mine = program(k)
        made = run(mine, shared, {"n": 5 + k % 7})
        part = shared.among(k % 5, k % 5 + 3)
        bars = shared.bars(k % len(shared))
        return [made.number(mine.plan.values["mean"]).tobytes(), part.column("clock").sum(), bars["close"].sum()]

    def columns(k: int) -> object:
        panel = library.panel(names, (ONE_DAY, ONE_WEEK)[k % 2])
        wanted = ["clock", "month", "last_of_session", "tick_size", "tick_count", "close_clock", "high", "volume"]
        random.Random(k).shuffle(wanted)
        sums = [float(np.nansum(panel.column(n))) for n in wanted]
        return sorted(zip(wanted, sums, strict=True))

    def scan(k: int) -> object:
        rule = Rule(program(k), "go", ONE_DAY, {"n": 6 + k % 5}, fresh=TriggerMode.WITHIN, bars=20)
        return [(f.symbol, f.ages) for f in run_scan(rule, library, names, ONE_DAY).found]

    def cells(k: int) -> object:
        made = fill(
            [ColumnRequest(program(k), None, ONE_DAY), ColumnRequest(program(k), "go", ONE_WEEK)], library, names
        )
        return [{s: c.words for s, c in m.cells.items()} for m in made]

    def ages(k: int) -> object:
        frames = [Timeframe.parse(f) for f in ("15m", "1h", "1d", "1w")]
        return [[(p.tone, p.age) for p in recent_signals(program(k), library, names[k % 2], f, {})] for f in frames]

    def why(k: int) -> object:
        panel = library.panel([names[k % len(names)]], ONE_DAY)
        return str(Why(program(k), panel, "go", {}).at(panel.size - 1 - k % 50))

    def picture(k: int) -> object:
        panel = library.panel([names[k % len(names)]], ONE_DAY)
        return str(as_plain(draw(run(program(k), panel), day_paint), panel.size - 1))

    def trial(k: int) -> object:
        ground, _ = grounds.of(names[: 3 + k % 4], base, False)
        return str(run_trial(program(k), ground).metrics)

    def evidence(k: int) -> object:
        ground, _ = grounds.of(names[: 3 + k % 4], base, False)
        made = evidence_of(program(k), ground, "go")
        return [(h.count, h.mean) for h in made.horizons]

    def check(k: int) -> object:
        if k % 9 == 0:
            forget_programs()
        return [p.code for p in analyse(SCRIPT.format(n=2 + k % 6) + "let unread = clsoe\n").problems]

    return {
        "run": on_shared,
        "columns": columns,
        "scan": scan,
        "cells": cells,
        "ages": ages,
        "why": why,
        "picture": picture,
        "trial": trial,
        "evidence": evidence,
        "check": check,
        "quotes": lambda k: quotes(library, names),
        "stored": lambda k: [library.stored(s, f) for s in names[:2] for f in (ONE_DAY, Timeframe.parse("5m"))],
    }


def together(library: BarLibrary, seconds: float, record_property) -> None:  # type: ignore[no-untyped-def]
    """Does everything from eight threads at once, while another one changes the library."""
    done = parts(library)
    numbers = range(24)
    alone = {(name, k): str(go(k)) for name, go in done.items() for k in numbers}
    forget_programs()
    again = parts(BarLibrary(library.folder))
    end = time.monotonic() + seconds
    stop = threading.Event()

    def change() -> int:
        """Sectors and notes change, symbols come: nothing that the results rest on."""
        rounds = 0
        while not stop.is_set():
            edit_symbols(library, list(library.infos)[:3], Change(sector=f"Part {rounds % 5}"))
            library.add_symbols(
                [SymbolInfo(f"NEW{rounds % 7}", "New", "", "share", 0.01, next(iter(library.infos.values())).calendar)]
            )
            library.settle()
            library.fresh()
            rounds += 1
        return rounds

    def work(seed: int) -> int:
        chance, count = random.Random(seed), 0
        while time.monotonic() < end:
            name, k = chance.choice(list(again)), chance.choice(numbers)
            assert str(again[name](k)) == alone[name, k], (name, k)
            count += 1
        return count

    with ThreadPoolExecutor(9) as pool:
        changing = pool.submit(change)
        try:
            counts = [f.result() for f in [pool.submit(work, seed) for seed in range(8)]]
        finally:
            stop.set()
        rounds = changing.result()
    record_property(
        "faults", f"jobs of eight threads over what they share: {sum(counts):,}, {rounds:,} changes, no error"
    )


def test_jobs_share_without_harm(library: BarLibrary, quick_switches: None, record_property) -> None:  # type: ignore[no-untyped-def]
    together(library, 6, record_property)


@pytest.mark.nightly
def test_jobs_share_without_harm_for_minutes(library: BarLibrary, quick_switches: None, record_property) -> None:  # type: ignore[no-untyped-def]
    together(library, 240, record_property)


def test_a_panel_is_read_while_another_thread_adds_columns(library: BarLibrary, quick_switches: None) -> None:
    names = list(library.infos)
    errors: list[Exception] = []

    def read(panel, begin: threading.Barrier) -> None:  # type: ignore[no-untyped-def]
        begin.wait()
        try:
            for _ in range(40):
                panel.among(0, 5)
                dict(panel.columns)
        except Exception as error:
            errors.append(error)

    def add(panel, begin: threading.Barrier) -> None:  # type: ignore[no-untyped-def]
        begin.wait()
        for name in ("clock", "last_of_session", "tick_size", "tick_count", "close_clock"):
            panel.column(name)

    for _ in range(60):
        panel, begin = library.panel(names, ONE_DAY), threading.Barrier(4)
        panel.fetch(("close",))
        threads = [threading.Thread(target=t, args=(panel, begin)) for t in (read, read, add, add)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert {"clock", "last_of_session", "tick_size"} <= set(panel.columns)
    assert not errors
