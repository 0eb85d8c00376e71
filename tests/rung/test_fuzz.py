"""Scripts that went wrong: pieces of real ones cut, doubled and swapped never bring more than problems in words."""

from __future__ import annotations

import re
from importlib.resources import files

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from helpers import random_bars
from oakladder.bars.panels import panel_of
from oakladder.engine.picture.as_data import as_plain, day_paint
from oakladder.engine.picture.draw import draw
from oakladder.engine.run.execute import run
from oakladder.rung import RunProblem, ScriptError, analyse, compile_script, library

DEMOS = [p.read_text(encoding="utf-8") for p in files("oakladder").joinpath("demo", "scripts").iterdir()]
EXAMPLES = [
    f"rung 1\n{found.example}\n{found.source}" for found in map(library.function, library.names()) if found is not None
]
PIECE = re.compile(r"\s+|\w+|[^\w\s]")
ODD = st.sampled_from(
    [
        "on 1w",
        'of "X"',
        "[1]",
        "[-1]",
        "none",
        "(",
        ")",
        "if",
        "then",
        "else",
        "not",
        "5%",
        "\n",
        "\n    ",
        "\t",
        '"',
        "{",
        "}",
        ".upper",
        "keep",
        "set",
        "for k in 0..3",
        "when",
        "color",
        "forming",
        "é",
        "1e400",
        "0..",
        "sma(close, 0)",
        "ago 3",
        "stop",
    ]
)


@st.composite
def broken(draw_: st.DrawFn) -> str:
    """A script with a few pieces changed."""
    pieces = PIECE.findall(draw_(st.sampled_from(DEMOS + EXAMPLES)))
    for _ in range(draw_(st.integers(1, 4))):
        at, other = (draw_(st.integers(0, len(pieces) - 1)) for _ in range(2))
        how = draw_(st.sampled_from(["drop", "double", "swap", "odd"]))
        if how == "drop" and len(pieces) > 1:
            del pieces[at]
        elif how == "double":
            pieces.insert(at, pieces[at])
        elif how == "swap":
            pieces[at], pieces[other] = pieces[other], pieces[at]
        else:
            pieces.insert(at, f" {draw_(ODD)} ")
    return "".join(pieces)


@settings(max_examples=250, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(broken())
def test_a_broken_script_is_told_or_runs(text: str) -> None:
    problems = analyse(text).problems
    lines = text.split("\n")
    for problem in problems:
        assert problem.message and 1 <= problem.span.line <= len(lines) + 1
    try:
        program = compile_script(text)
    except ScriptError as error:
        assert any(p.is_error for p in error.problems)
        return
    panel = panel_of([random_bars(1, 40)])
    try:
        result = run(program, panel)
    except RunProblem as error:
        assert str(error)
        return
    assert as_plain(draw(result, day_paint), 39)


@settings(max_examples=200, deadline=None)
@given(st.text(max_size=200))
def test_any_text_is_answered(text: str) -> None:
    for problem in analyse(text).problems:
        assert problem.message
