"""Trades as a chart tells them: what happened on a bar, what is held and what an open one has brought."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script
from oakladder.trial.on_chart import ChartTrades, asked_of, chart_trades

CLOSES = np.array([10.0, 10, 11, 12, 13, 12, 11, 10, 9, 8, 8, 10, 12])
OPENS = np.append(10.0, CLOSES[:-1])


def shown(text: str) -> ChartTrades:
    program = compile_script("rung 1\n" + text)
    panel = panel_of([daily_bars(CLOSES, open=OPENS, high=np.maximum(OPENS, CLOSES), low=np.minimum(OPENS, CLOSES))])
    made = chart_trades(run(program, panel, extra=asked_of(program)))
    assert made is not None
    return made


def test_long_and_short_trades_closed_and_open() -> None:
    made = shown(
        "trade up long\n    enter when bar == 2\n    at most 3 bars\n"
        "trade down short\n    enter when bar == 7\n    leave when bar == 30\n"
    )
    assert made.names == ("up", "down") and made.side.tolist() == [1, -1]
    first, last = made.entered.tolist()
    assert made.entry.tolist() == [OPENS[first], OPENS[last]]
    # The long one left at an open; the short one is open, and worth what the last close makes of it.
    assert made.gain[0] == pytest.approx(OPENS[first + 3] / OPENS[first] - 1)
    assert made.gain[1] == pytest.approx(-(12.0 / OPENS[last] - 1))
    assert made.is_open.tolist() == [False, True] and made.ends.tolist() == [first + 3, 12]
    assert (
        made.words(0) == f"up long in at {OPENS[first]:.6g}, out at {OPENS[first + 3]:.6g} by time: {made.gain[0]:+.2%}"
    )
    assert made.words(1) == f"down short at {OPENS[last]:.6g}, open, {made.gain[1]:+.2%} so far"
    assert made.held_at(first + 1) == 0 and made.held_at(last - 1) is None and made.held_at(12) == 1
    assert made.next_entry(first) == last and made.next_entry(last) is None
    assert made.last_entry(last) == first and made.last_entry(first) is None
    assert made.story(first).startswith(f"Entered here at {OPENS[first]:.6g} (up, decided at the close before).")
    assert made.story(first - 1) == "up is decided at this close, and filled at the next open."
    assert made.story(first + 2) == "up is held, 2 bars after its fill."
    assert made.story(first + 3) == f"Left here at {OPENS[first + 3]:.6g} by time: {made.gain[0]:+.2%}."
    assert made.story(0) == "There is no position here."


def test_what_was_not_entered_is_told() -> None:
    made = shown(
        "trade up long\n    enter when close == 12\n    stop at 20\n"
        "trade down short\n    enter when close == 11\n    at most 1 bars\n"
        "trade again long\n    enter when close == 11\n    at most 1 bars\n"
    )
    assert made.touched and made.contradicted
    assert "its stop or target was reached already" in made.story(min(made.touched))
    assert "decided together, so neither is made" in made.story(min(made.contradicted))


def test_a_script_without_a_trade_has_none_to_show() -> None:
    program = compile_script("rung 1\nline close\n")
    assert asked_of(program) == []
    assert chart_trades(run(program, panel_of([daily_bars(CLOSES)]), outputs=[])) is None
