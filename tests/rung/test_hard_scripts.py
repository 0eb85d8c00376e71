"""Whatever is typed is answered: by problems in words or by a run, never by a traceback and never by a wait without end."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import Tune, daily_bars, random_bars, values
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.engine.explain.why import Why
from oakladder.engine.picture.as_data import day_paint
from oakladder.engine.picture.draw import draw
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import run
from oakladder.rung import RunProblem, ScriptError, analyse, compile_script
from oakladder.rung.plan.sizes import MAX_STEPS
from oakladder.rung.problems import Cancelled, Problem
from oakladder.rung.program import unknown_symbols
from oakladder.rung.read.blocks import MAX_STATEMENTS
from oakladder.rung.read.expressions import MAX_NESTING

BARS = panel_of([random_bars(3, 60)])


def answer(text: str, panel: Panel = BARS) -> tuple[Problem, ...]:
    """The errors of a script; one without any is run, drawn and explained, which must raise nothing."""
    script = "rung 1\n" + text
    found = tuple(p for p in analyse(script).problems if p.is_error)
    try:
        program = compile_script(script)
    except ScriptError as error:
        return tuple(p for p in error.problems if p.is_error)
    assert not found
    picture = draw(run(program, panel), day_paint)
    for note in picture.notes:
        note.text_at(panel.size - 1), note.colour_at(panel.size - 1)
    for signal in program.signals:
        Why(program, panel, signal.name)
    return ()


# --- sizes --------------------------------------------------------------------------------------------


def cascade(first: str, step: str, count: int, last: str) -> str:
    lines = [f"let a0 = {first}", *(f"let a{k + 1} = {step.replace('#', f'a{k}')}" for k in range(count))]
    return "\n".join([*lines, last.replace("#", f"a{count}")])


@pytest.mark.parametrize(
    "text",
    [
        cascade("close", "# + #", 200, "signal go = # > 0"),
        cascade("close > 1", "# and (# or open > 3)", 200, "signal go = #\nmark #"),
        cascade("close > 1", "(# or open > 2) and (# or close > 3)", 100, "signal go = #"),
        cascade("close > 1", "not # or #", 200, "signal go = not #"),
        cascade("if close > 1 then good else bad", "blend(#, #, 0.5)", 150, "line close color #"),
        cascade("if close > 1 then good else bad", "if open > 2 then # else fade(#, 50)", 150, "paint bars color #"),
        cascade('"{close}"', '"{#} {#}"', 150, "note # at top left\nlabel # when close > 5"),
        cascade('"ab"', '"{#}{#}"', 150, "note # at top left"),
        cascade("1", "# + 1", 1500, "line close + #"),
        "setting n = 1\n" + cascade("n", "# + 1", 1500, "line close + #"),
        cascade("close", "# + 1", 3000, "line #"),
        cascade("close", "#[1] + #", 300, "line #"),
        "\n".join(f"let a{k} = clse{k}" for k in range(400)),
        "fresh x = 0\n" + "\n".join(f"for k in 0..{k}\n    set x = x + k" for k in range(100)) + "\nline x",
    ],
    ids=lambda text: text[:40].replace("\n", " | "),
)
def test_long_and_branching_scripts_take_no_longer_than_they_are_long(text: str) -> None:
    answer(text)


@pytest.mark.parametrize(
    ("text", "code", "words"),
    [
        ("line " + " + ".join(["close"] * 3000), "R112", "20,000"),
        ("line " + " + ".join(["close"] * (MAX_NESTING + 2)), "R112", f"{MAX_NESTING} deep"),
        ("line " + "close else " * 400 + "1", "R112", f"{MAX_NESTING} deep"),
        ("line " + "if close > 1 then 1 else " * 400 + "1", "R112", f"{MAX_NESTING} deep"),
        ("line close" + "[1]" * 800, "R112", f"{MAX_NESTING} deep"),
        ("line " + "(" * 600 + "close" + ")" * 600, "R112", "600 deep"),
        (
            "fresh x = 1\nif close > 0\n    set x = 1\n" + "else if close > 1\n    set x = 2\n" * 500 + "line x",
            "R112",
            "199",
        ),
        ("\n".join(f"let a{k} = {k}" for k in range(MAX_STATEMENTS + 5)), "R112", "5,000"),
        (cascade("good", "blend(if close > 1 then # else bad, #, 0.5)", 150, "line close color #"), "R601", "200"),
        ("".join(f"line ema(close, {k + 2}) + hull(close, {k + 2})\n" for k in range(900)), "R601", "20,000"),
        (f"fresh x = 0\nfor k in 0..{MAX_STEPS}\n    set x = x + k\nline x", "R602", "steps on every bar"),
        (
            "line close[100000] + close[99999] + open[100000] " + "".join(f"+ (close + {k})[65000]" for k in range(40)),
            "R602",
            "memory",
        ),
    ],
    ids=lambda value: value[:30].replace("\n", " | "),
)
def test_what_is_too_large_is_refused_with_the_number_and_the_line(text: str, code: str, words: str) -> None:
    problems = answer(text)
    problem = next(p for p in problems if p.code == code)
    assert words in problem.message + problem.fix
    assert problem.span.line >= 2


@pytest.mark.parametrize("join", [" + ", " and ", " else ", " or ", " < ", " ^ "])
def test_an_expression_as_deep_as_is_allowed_runs(join: str) -> None:
    atom = "close > 1" if join in (" and ", " or ") else "close"
    what = "signal go =" if join in (" and ", " or ", " < ") else "line"
    count = MAX_NESTING - 3 if join != " < " else 200
    assert answer(f"{what} " + join.join([atom] * count)) == ()


def test_deep_expressions_within_deep_calls_are_answered() -> None:
    text = "define f0(x)\n    give " + " + ".join(["x"] * 200) + "\n"
    for k in range(60):
        text += f"define f{k + 1}(x)\n    give " + "if x > 1 then " * 20 + f"f{k}(x)" + " else 1" * 20 + "\n"
    answer(text + "line f60(close)")


# --- values that make no sense ------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ("line sma(close, 1e999)", "R116"),
        ("line close[1e999]", "R116"),
        ("level 1e999", "R116"),
        ("setting n = 1e999\nline close + n", "R116"),
        ("signal go = clock > 25:99", "R117"),
        ("signal go = clock > 12:60", "R117"),
        ("line close on 3mo", "R118"),
        ("line close on 25h", "R118"),
        ("line close on 0m", "R118"),
        ("line close on 1441m", "R118"),
        ("setting t = 2d\nline close on t", "R118"),
        ("fresh s = 0\nfor a in 0..2.5\n    set s = s + a\nline s", "R305"),
        ("fresh s = 0\nfor a in 0..200000\n    set s = s + a\nline s", "R305"),
        ("let c = if close > open then good else bad\nline close color latch(close > open, c)", "R301"),
        ('line latch(close > open, "a")', "R301"),
        ("keep c = none\nset c = good\nline close color c", "R301"),
        ("setting n = 0\nline sma(close, n)", "R602"),
        ("setting n = 2.5\nline sma(close, n)", "R602"),
        ("setting n = 5\nline close[n - 10]", "R602"),
        ("setting n = 5\nfresh s = 0\nfor k in 0..n / 2\n    set s = s + k\nline s", "R602"),
    ],
)
def test_the_check_refuses_what_could_not_run(text: str, code: str) -> None:
    assert code in [p.code for p in answer(text)]


@pytest.mark.parametrize(
    "text",
    [
        "line close color if close > open then good else none",
        "line close color none",
        "paint bars color if close > open then fade(none, 40) else good",
        "mark close > open color none",
        'label "x" when close > open color none',
        'note "x" at top left color none',
        "signal go = known(symbol)",
        "signal go = known(good)",
        "signal go = known(timeframe)",
        'signal go = known(if close > open then "a" else none)',
        "signal go = known(if close > open then good else none)",
        'note if close > open then "a" else none at top left',
        'note (if close > open then "a" else none) else "b" at top left',
        'label if close > open then "a" else none',
        "line close color (if close > open then good else none) else bad",
        "column none",
        'column if close > open then "a" else none',
        "line median(close, 440)",
        "line ranked(close, 5, 9)",
        "fresh w = none\nline w",
    ],
)
def test_what_the_check_passes_runs(text: str) -> None:
    assert answer(text) == ()


def test_a_colour_of_none_draws_nothing_and_else_takes_its_place() -> None:
    program = compile_script(
        "rung 1\nlet c = if close > open then good else none\nline close color c\nline open color c else bad\n"
        "line high color blend(c, bad, 0.5)\npaint bars color c\n"
    )
    panel = panel_of([daily_bars([1, 2, 3], open=np.array([2.0, 1.0, 3.0]))])
    picture = draw(run(program, panel), day_paint)
    plain, other, mixed = (line.colours.tolist() for line in picture.lines)
    assert plain == [0, day_paint("good"), 0] and other == [day_paint("bad"), day_paint("good"), day_paint("bad")]
    assert mixed[0] == mixed[2] == 0 != mixed[1]
    assert picture.bar_colours is not None and picture.bar_colours.tolist() == plain


def test_a_text_of_none_is_no_label_and_known_tells_it_apart() -> None:
    text = 'let t = if close > open then "up" else none\nlabel t\nnote t at top left\nlet k = known(t)\nlet e = known(t else "x")\n'
    panel = panel_of([daily_bars([1, 2, 3], open=np.array([2.0, 1.0, 3.0]))])
    picture = draw(run(compile_script("rung 1\n" + text), panel), day_paint)
    assert picture.labels[0].texts == ["up"] and picture.labels[0].bars.tolist() == [1]
    assert [picture.notes[0].text_at(bar) for bar in range(3)] == ["", "up", ""]
    made = values(text, panel)
    assert made["k"].tolist() == [0, 1, 0] and made["e"].tolist() == [1, 1, 1]


def test_symbols_that_the_library_lacks_are_named_with_their_place() -> None:
    program = compile_script('rung 1\nline close of "saltx"\nline close of "SALTX"\nline sma(close of "NOPE", 3)')
    first, second = unknown_symbols(program.foreign, ["SALTX", "BRINE"])
    assert (first.span.line, first.replacement) == (2, '"SALTX"') and not first.is_error
    assert second.span.line == 4 and "NOPE" in second.message


# --- stopping -----------------------------------------------------------------------------------------


def test_checking_and_compiling_can_be_stopped() -> None:
    text = "rung 1\n" + "\n".join(f"let stop_{k} = close + {k}" for k in range(3000))
    asked = [0]

    def after(count: int):  # type: ignore[no-untyped-def]
        def cancelled() -> bool:
            asked[0] += 1
            return asked[0] > count

        return cancelled

    for count in (10, 3100, 6050):  # while it is read, checked, lowered
        asked[0] = 0
        with pytest.raises(Cancelled):
            compile_script(text, (), after(count))
        assert asked[0] == count + 1
    assert compile_script(text).plan.values


def test_a_single_symbols_run_can_be_stopped_and_runs_in_pieces_with_the_same_bits(
    tune: Tune,
) -> None:

    program = compile_script(
        "rung 1\nlet m = median(close, 30)\nlet r = rsi(close, 9) + stdev(close, 20)\nkeep n = 0\nset n = n + close\n"
        "let w = sma(close, 3) on 1w\nlet f = high on 1mo forming\nlet l = close[17]\nlet v = ranked(close, 9, 3)\n"
    )
    extra = list(program.plan.values.values())
    panel = panel_of([random_bars(7, 900), random_bars(8, 500)])
    whole = run(program, panel, outputs=[], extra=extra)
    tune(chunk_operations=1)  # sixteen bars at a time
    shares: list[float] = []
    pieces = run(program, panel, outputs=[], extra=extra, context=RunContext(progress=shares.append))
    for op in extra:
        np.testing.assert_array_equal(whole.number(op), pieces.number(op))
    assert len(shares) > 80 and shares == sorted(shares) and shares[-1] == 1.0
    asked = [0]

    def cancelled() -> bool:
        asked[0] += 1
        return asked[0] > 5

    with pytest.raises(Cancelled):
        run(program, panel, outputs=[], extra=extra, context=RunContext(cancelled=cancelled))
    assert asked[0] == 6


def test_settings_that_ask_too_much_are_refused_with_the_line() -> None:
    program = compile_script("rung 1\nsetting n = 5\nfresh s = 0\nfor k in 0..n\n    set s = s + k\nline s")
    with pytest.raises(RunProblem, match=r"Line 4.*steps on every bar"):
        run(program, BARS, {"n": 90_000})
