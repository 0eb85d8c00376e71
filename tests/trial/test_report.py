"""A trial as plain data, as tables and in words: every field is what the trial says."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.bars import Bars
from oakladder.bars.panels import panel_of
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import Timeframe
from oakladder.rung import compile_script
from oakladder.trial.broker.money import Account, Costs, Size, Slippage
from oakladder.trial.report import (
    TRADE_COLUMNS,
    as_plain,
    day_words,
    equity_table,
    price_words,
    trade_words,
    trades_table,
)
from oakladder.trial.trial import Trial, run_trial, trial_data_of

FREE = Costs(0, 0, 0, Slippage())


def tried() -> Trial:
    """Two symbols and room for one position: a trade that is closed, one that is open, and one that finds no room."""
    closes = np.array([100.0, 100, 102, 104, 101, 103, 106, 106])
    opens = np.append(100.0, closes[:-1])
    columns = {"open": opens, "high": np.maximum(opens, closes) + 0.5, "low": np.minimum(opens, closes) - 0.5}
    bars = [daily_bars(closes, s, **columns) for s in ("ONE", "TWO")]
    text = "rung 1\ntrade ride long\n    enter when bar == 1 or bar == 5\n    at most 2 bars\n    stop 4.5\n"
    account = Account(size=Size.parse("10u"), most=1, costs=FREE)
    return run_trial(compile_script(text), trial_data_of(panel_of(bars)), account)


def test_closed_open_and_skipped_trades_are_told_apart() -> None:
    trial = tried()
    plain = as_plain(trial)
    (closed,), (open_,) = plain["trades"], plain["open"]  # type: ignore[misc]
    times = [str(np.datetime64(int(t), "s")) + "+00:00" for t in trial.ground.panel.times[:8]]
    assert list(closed) == list(TRADE_COLUMNS) == list(open_)
    assert closed == {
        "symbol": "ONE",
        "trade": "ride",
        "side": "long",
        "decided": times[1],
        "entered": times[2],
        "entry": 100.0,
        "exit": 104.0,
        "left": times[4],
        "reason": "time",
        "units": 10.0,
        "risk": 4.5,
        "net": pytest.approx(40.0),
        "ratio": pytest.approx(0.04),
        "bars": 2,
        "worst": pytest.approx(-0.005),
        "best": pytest.approx(0.045),
    }
    assert (open_["symbol"], open_["entered"], open_["exit"], open_["left"], open_["reason"]) == (
        "ONE",
        times[6],
        None,
        None,
        None,
    )
    assert open_["net"] == pytest.approx(30.0) and open_["decided"] == times[5]
    skipped = plain["skipped"]
    assert [(s["symbol"], s["entered"], s["reason"]) for s in skipped] == [  # type: ignore[index,union-attr]
        ("TWO", times[2], "max open positions reached"),
        ("TWO", times[6], "max open positions reached"),
    ]
    assert plain["sealed_from"] is None and plain["counts"] == {"undecided": 0, "contradictions": 0, "touched": 0}
    equity = plain["equity"]
    assert [t for t, _ in equity] == times and equity[-1][1] == pytest.approx(10_070.0)  # type: ignore[index,union-attr]


def test_the_tables_have_the_closed_trades_first_and_empty_fields_for_what_is_not_known() -> None:
    trial = tried()
    head, closed, open_ = trades_table(trial)
    assert head == list(TRADE_COLUMNS) and (closed[0], open_[0]) == ("ONE", "ONE")
    assert closed[head.index("exit")] and open_[head.index("exit")] == "" == open_[head.index("reason")]
    rows = list(equity_table(trial))
    assert rows[0] == ["time", "value", "held"] and len(rows) == 9 and float(str(rows[-1][1])) == pytest.approx(10_070)


def test_a_trade_in_words() -> None:
    trial = tried()
    words = [trade_words(trial, k) for k in range(4)]
    assert words[0].splitlines() == [
        "ONE, ride long",
        f"in {day_words(trial, 2)} at 100.00",
        f"out {day_words(trial, 4)} at 104.00 by time",
        "10 units brought 40.00 (+4.00%, +0.89 risks)",
    ]
    assert words[1].splitlines()[2] == "still open"
    assert words[2].splitlines()[-1] == "skipped: max open positions reached"


def test_days_and_prices_are_written_as_their_symbol_has_them() -> None:
    trial = tried()
    assert day_words(trial, 0) == day_words(trial, 8) != day_words(trial, 1) and ":" not in day_words(trial, 0)
    trial.ground.panel.ticks = (0.5, 0.0001)
    assert price_words(trial, 0, 1234.5) == "1,234.5" and price_words(trial, 2, 1.5) == "1.5000"
    assert price_words(trial, 0, float("nan")) == "–"
    calendar = Calendar("UTC", 540, 960, 540, 960)
    times = np.array([17_897 * 86_400 + minute * 60 for minute in (540, 570, 600)], dtype=np.int64)
    columns = {name: np.full(3, 10.0) for name in ("open", "high", "low", "close", "volume")}
    half = panel_of([Bars("HALF", Timeframe.parse("30m"), calendar, times, columns)])
    made = run_trial(compile_script("rung 1\ntrade a long\n    enter when yes\n"), trial_data_of(half))
    assert day_words(made, 1) == "01 Jan 2019 09:30"
