"""Trials: trades and metrics beside the signals alone, a sweep beside a hand-written broker and pandas, a repaint."""

from __future__ import annotations

import math
import os
import statistics
import tempfile
import time
from pathlib import Path

import numpy as np

from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.speed import Row, ratio, side_by_side
from oakladder.speed.engine import make_panel
from oakladder.speed.hand_written import EXITS, account_by_hand, broker_by_hand
from oakladder.trial.batch.processes import Workers
from oakladder.trial.batch.task import Task
from oakladder.trial.broker.money import Account
from oakladder.trial.broker.trade_finder import find_trades
from oakladder.trial.sweep.ranges import Range, grid_of_settings
from oakladder.trial.sweep.run import swept
from oakladder.trial.trial import run_trial, trial_data_of

#: The example of trades: two averages, a stop and a trail in average ranges, a target in risks, a time limit.
SIGNALS = """rung 1
setting fast = 9 range 1..200
setting slow = 30 range 2..400
let f = sma(close, fast)
let s = sma(close, slow)
let usual = atr(14)
signal flow = crosses_up(f, s)
signal ebb = crosses_down(f, s)
"""
RULE = (
    SIGNALS
    + """trade ride long
    enter when flow
    leave when ebb
    stop 2 * usual
    trail 3 * usual
    target 4 risks
    at most 60 bars
"""
)


def _pandas(panel, fast: int, slow: int) -> int:  # type: ignore[no-untyped-def]
    """The same, with signals from pandas and the broker as a plain loop over rows."""
    import pandas as pd

    made = 0
    for k in range(len(panel)):
        part = slice(int(panel.offsets[k]), int(panel.offsets[k + 1]))
        frame = pd.DataFrame({n: panel.columns[n][part] for n in ("open", "high", "low", "close")})
        f, s = frame["close"].rolling(fast).mean(), frame["close"].rolling(slow).mean()
        before = frame["close"].shift()
        ranges = pd.concat([frame["high"], before], axis=1).max(axis=1) - pd.concat([frame["low"], before], axis=1).min(
            axis=1
        )
        atr = ranges.ewm(alpha=1 / 14, adjust=False).mean()
        flow, ebb = (f > s) & (f.shift() <= s.shift()), (f < s) & (f.shift() >= s.shift())
        side, held, stop, target, best = 0, 0, 0.0, 0.0, 0.0
        order, leaving, usual = False, False, 0.0
        for at, row in enumerate(frame.itertuples(index=False)):
            if side:
                held += 1
                if leaving or held >= 60 or row.low <= stop or row.high >= target:
                    side, leaving, made = 0, False, made + 1
            if order and not side:
                order, side, held, best = False, 1, 0, row.open
                stop, target = row.open - 2 * usual, row.open + 8 * usual
            if side:
                best = max(best, row.high)
                stop = max(stop, best - 3 * atr.iloc[at])
                leaving = leaving or bool(ebb.iloc[at])
            elif flow.iloc[at]:
                order, usual = True, float(atr.iloc[at])
    return made


def measure() -> list[Row]:
    """Rows of the table; trades of ours and of the hand-written broker are compared first."""
    return [*_market(), *_sweeps(), *_repaint()]


def _market() -> list[Row]:
    panel = make_panel(5_000)
    signals, rule = compile_script(SIGNALS), compile_script(RULE)
    ground = trial_data_of(panel)
    together, apart = Account(), Account(apart=True)
    broker, out = broker_by_hand(), np.empty((panel.size, len(EXITS)))
    prices = [panel.columns[n] for n in ("open", "high", "low", "close")]
    assert rule.split is not None
    read = list(rule.split.values)
    taken = side_by_side(
        {
            "signals": lambda: run(signals, panel),
            "read": lambda: run(rule, panel, outputs=[], extra=read),
            "by hand": lambda: broker(*prices, panel.starts, panel.ends, 9, 30, out),
            "trades": lambda: find_trades(rule, panel),
            "together": lambda: run_trial(rule, ground, together),
            "apart": lambda: run_trial(rule, ground, apart),
        },
        5,
    )
    count = len(find_trades(rule, panel))

    def row(words: str, name: str, reach: str) -> Row:
        return (
            words,
            f"{statistics.median(taken[name]) * 1e3:.0f} ms",
            f"{ratio(taken, name, 'signals'):.2f} × the signals",
            reach,
        )

    return [
        row("signals of the trade example, 5,000 × 2,520", "signals", ""),
        row("  all that its trades read: the signals and an average range", "read", ""),
        row("  a hand-written loop with these trades, no log, no account", "by hand", ""),
        row(f"  with their {count:,} trades", "trades", ""),
        row("  trades and metrics, one account", "together", "≤ 1.5 ×"),
        row("  trades and metrics, each symbol apart", "apart", "≤ 1.5 ×"),
    ]


def _sweeps() -> list[Row]:
    panel = make_panel(77, 1_544)
    whole = {name: np.round(panel.columns[name], 2) for name in ("open", "high", "low", "close")}
    whole["high"] = np.maximum(whole["high"], np.maximum(whole["open"], whole["close"]))
    whole["low"] = np.minimum(whole["low"], np.minimum(whole["open"], whole["close"]))
    panel.columns = {**panel.columns, **whole}
    rule, ground = compile_script(RULE), trial_data_of(panel)
    fasts, slows = tuple(range(3, 23)), tuple(range(24, 84, 3))
    variants = grid_of_settings([Range("fast", tuple(map(float, fasts))), Range("slow", tuple(map(float, slows)))])
    task = Task(rule, ground)
    broker, account = broker_by_hand(), account_by_hand()
    out, metrics = np.empty((panel.size, len(EXITS))), np.empty(11)
    prices = [panel.columns[n] for n in ("open", "high", "low", "close")]
    closes, bars = prices[3].reshape(len(panel), -1), panel.size // len(panel)

    def by_hand() -> int:
        return sum(broker(*prices, panel.starts, panel.ends, f, s, out) for f in fasts for s in slows)

    def booked(fast: int, slow: int) -> float:
        count = broker(*prices, panel.starts, panel.ends, fast, slow, out)
        return float(account(out, count, closes, bars, 10_000.0, float(panel.steps[0]), 0.0005, metrics))

    def booked_by_hand() -> list[float]:
        return [booked(f, s) for f in fasts for s in slows]

    _compare(rule, panel, broker, prices)
    ours_has = run_trial(rule, ground).metrics
    for name, by_hand_has in (("end", booked(9, 30)), ("trades", metrics[0]), ("net", metrics[3])):
        if not math.isclose(ours_has[name] or 0.0, by_hand_has, rel_tol=1e-9):
            raise AssertionError(f"the account written by hand has another figure: {name}")
    alone = Task(rule, trial_data_of(panel.among(0, 1)))

    def on_two() -> None:
        with Workers(1) as other:
            list(swept(task, variants, context=RunContext(other)))

    taken = side_by_side(
        {
            "ours": lambda: list(swept(task, variants)),
            "two": on_two,
            "alone": lambda: list(swept(alone, variants)),
            "trades": lambda: [
                find_trades(rule, panel, {"fast": f, "slow": s}, context=RunContext(thorough=True))
                for f in fasts
                for s in slows
            ],
            "loop": by_hand,
            "booked": booked_by_hand,
        },
        3,
    )
    start = time.perf_counter()
    _pandas(panel, 9, 30)
    pandas = (time.perf_counter() - start) * len(fasts) * len(slows)
    ours = statistics.median(taken["ours"])

    def beside(words: str, name: str, reach: str) -> Row:
        on_two, on_one = ratio(taken, name, "two"), ratio(taken, name, "ours")
        return (
            words,
            f"{statistics.median(taken[name]):.2f} s",
            f"{on_two:.2f} × its speed, {on_one:.2f} × on one core",
            reach,
        )

    return [
        ("sweep of 400 settings, 77 × 1,544, two cores", f"{statistics.median(taken['two']):.2f} s", "", "≤ 3 s"),
        ("  one core", f"{ours:.2f} s", "", ""),
        ("  of one symbol, one core", f"{statistics.median(taken['alone']):.2f} s", "", ""),
        ("  each variant's trades by themselves, one core", f"{statistics.median(taken['trades']):.2f} s", "", ""),
        beside("  a broker written by hand, trades alone", "loop", "≥ 3 ×"),
        beside("  one with account and metrics, as the sweep has them", "booked", ""),
        ("  pandas and a plain loop (one of 400)", f"{pandas / ours:.0f} ×", f"{pandas:.0f} s", "≥ 50 ×"),
    ]


def _compare(rule, panel, broker, prices) -> None:  # type: ignore[no-untyped-def]
    """Raises `AssertionError` unless our trades are those of the hand-written broker."""
    out = np.empty((panel.size, len(EXITS)))
    found = find_trades(rule, panel)
    closed = found.closed
    count = broker(*prices, panel.starts, panel.ends, 9, 30, out)
    ours = np.column_stack([found.entered, found.left, found.entry, found.exit])[closed]
    made = out[:count, :4][out[:count, 1] >= 0]
    if len(made) != len(ours) or not np.allclose(ours, made, atol=1e-9):
        raise AssertionError(f"{len(ours)} trades of ours differ from {len(made)} of the hand-written broker")


def _repaint() -> list[Row]:
    """From a changed setting to the repainted Trial place, offscreen, on the demo market's days."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from PyQt6.QtCore import QEventLoop

    from oakladder.desk.app import make_app, make_window
    from oakladder.desk.gc_scheduler import keep_for_good
    from oakladder.desk.screenshot import settle
    from oakladder.disk import write_atomic
    from oakladder.user.workspace import Workspace

    with tempfile.TemporaryDirectory() as folder:
        workspace = Workspace(Path(folder) / "data", Path(folder) / "config")
        app = make_app()
        window = make_window(workspace)
        window.show()
        desk = window.session
        settle(app, desk)
        path = workspace.scripts / "speed.rung"
        write_atomic(path, RULE)
        desk.rule.open(path)
        window.show_trial()
        settle(app, desk)
        keep_for_good()  # as the application does once its window stands
        times = []
        for k in range(12):
            loop = QEventLoop()
            desk.trials.changed.connect(loop.quit)
            begin = time.perf_counter()
            desk.rule.set_setting("slow", float(31 + k))
            loop.exec()
            window.trial.repaint()
            times.append(time.perf_counter() - begin)
            desk.trials.changed.disconnect(loop.quit)
            settle(app, desk)
        window.session.close()
    return [
        (
            "a changed setting to the repainted trial, 77 symbols",
            f"{statistics.median(times) * 1e3:.0f} ms",
            "",
            "≤ 150 ms",
        )
    ]
