"""What a text became is freed as soon as the next one takes its place.

The window's thread frees circles between two events: with all that was made of a script in them, at each key, that
would hold it up.
"""

from __future__ import annotations

import gc
from importlib.resources import files

import pytest

from helpers import DEMO_SCRIPTS, random_bars
from oakladder.bars.panels import panel_of
from oakladder.engine.run import run
from oakladder.rung import compile_script
from oakladder.rung.program import analyse

#: A few small ones do no harm; the tree of a script alone is several times as many.
FEW = 100


@pytest.mark.parametrize("name", DEMO_SCRIPTS)
def test_a_script_that_has_run_leaves_no_circles(name: str) -> None:
    text = files("oakladder.demo").joinpath("scripts", name).read_text("utf-8")
    panel = panel_of([random_bars(1, 40)])

    def work(text: str) -> None:
        program = compile_script(text)
        if not program.foreign:  # there is one symbol only
            run(program, panel)

    work(text)  # loads and remembers what serves every script
    gc.collect()
    gc.disable()
    try:
        work(f"{text}-- once more\n")
        assert gc.collect() < FEW
    finally:
        gc.enable()


@pytest.mark.parametrize("slip", ["plot a colour", "signal up = clse > a", "let b = (close", "let 3"])
def test_a_slip_leaves_no_circles(slip: str) -> None:
    analyse(f"rung 1\nlet a = ema(close, 10)\n{slip}\n")
    gc.collect()
    gc.disable()
    try:
        assert analyse(f"rung 1\nlet a = ema(close, 11)\n{slip}  \n").problems
        assert gc.collect() < FEW
    finally:
        gc.enable()
