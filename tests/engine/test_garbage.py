"""What a run leaves behind is freed as it ends: garbage in circles would be looked for on the window's thread."""

from __future__ import annotations

import gc

import numpy as np
import pytest

from helpers import daily_bars
from oakladder.bars.panels import panel_of
from oakladder.engine.picture.draw import draw
from oakladder.engine.run.execute import run
from oakladder.rung import compile_script

SCRIPT = """rung 1
let a = sma(close, 5)
signal up = crosses_up(close, a) bullish "up"
label "{close}" at high when close > open
paint bars color amber when close > a
zone low to high lasting 5 bars when up
zone low to high until close < bottom when up
trade ride long
    enter when up
    stop 5%
"""


@pytest.mark.parametrize("symbols", [1, 6])
def test_a_picture_and_its_run_leave_no_circles(symbols: int) -> None:
    rng = np.random.default_rng(1)
    program = compile_script(SCRIPT)
    panel = panel_of([daily_bars(50 + np.cumsum(rng.normal(0, 1, 3000)), f"S{k}") for k in range(symbols)])
    draw_or_run = [lambda: run(program, panel)] if symbols > 1 else [lambda: draw(run(program, panel), lambda word: 1)]
    for go in draw_or_run:
        go()
    gc.collect()
    gc.disable()
    try:
        made = [go() for go in draw_or_run * 3]
        del made
        assert gc.collect() < 300  # a circle for each label would be thousands
    finally:
        gc.enable()
