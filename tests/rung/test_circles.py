"""What a text became is freed as soon as the next one takes its place.

The window's thread frees circles between two events: with all that was made of a script in them, at each key, that
would hold it up.
"""

from __future__ import annotations

import gc
from collections.abc import Iterator
from importlib.resources import files

import pytest
from lark.exceptions import UnexpectedInput

from helpers import DEMO_SCRIPTS
from oakladder.rung import compile_script
from oakladder.rung.check.context import Context
from oakladder.rung.lower.emit import Emitter
from oakladder.rung.native.registers import Registers
from oakladder.rung.program import analyse

#: Each of them holds on to all that was made of one text.
HOLDERS = (Context, Emitter, UnexpectedInput, Registers)


@pytest.fixture
def uncollected() -> Iterator[None]:
    """No circle is freed meanwhile."""
    was = gc.isenabled()
    gc.collect()
    gc.disable()
    yield
    if was:
        gc.enable()


def held() -> int:
    return sum(isinstance(o, HOLDERS) for o in gc.get_objects())


@pytest.mark.parametrize("name", DEMO_SCRIPTS)
def test_a_compiled_script_leaves_no_circles(name: str, uncollected: None) -> None:
    before = held()
    text = files("oakladder.demo").joinpath("scripts", name).read_text("utf-8")
    program = compile_script(f"{text}-- {before} before\n")
    program.variant([op for o in program.outputs for op in o.roles.values()]).lanes(4)
    assert held() == before


@pytest.mark.parametrize("slip", ["plot a colour", "signal up = clse > a", "let b = (close", "let 3"])
def test_a_slip_leaves_no_circles(slip: str, uncollected: None) -> None:
    before = held()
    assert analyse(f"rung 1\nlet a = ema(close, 11)\n{slip}  \n").problems
    assert held() == before
