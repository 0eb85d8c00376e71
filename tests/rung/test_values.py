"""What scripts give, row by row: none, flags, state, lags, functions, loops, texts."""

from __future__ import annotations

import numpy as np
import pytest

from helpers import daily_bars, values
from oakladder.bars.panels import panel_of
from oakladder.engine.columns.cells import column_cell
from oakladder.engine.picture.as_data import day_paint
from oakladder.engine.run.execute import run
from oakladder.rung import OtherScripts, RunProblem, analyse, compile_script

NONE = float("nan")


def of(script: str, closes: list[float], name: str = "x") -> list[float]:
    return values(script, daily_bars(closes))[name].tolist()


def same(a: list[float], b: list[float]) -> bool:
    return bool(np.array_equal(a, b, equal_nan=True))


@pytest.mark.parametrize(
    ("script", "expected"),
    [
        ("let x = close[1]", [NONE, 1, 2, 4]),
        ("let x = close[2]", [NONE, NONE, 1, 2]),
        ("let x = close[0]", [1, 2, 4, 3]),
        ("let x = 5[1]", [NONE, 5, 5, 5]),
        ("let x = close / 0", [NONE] * 4),
        ("let x = sqrt(close - 3)", [NONE, NONE, 1, 0]),
        ("let x = log(close - 2)", [NONE, NONE, np.log(2), 0]),
        ("let x = close[1] > 1", [NONE, 0, 1, 1]),
        ("let x = no and close[1] > 1", [0, 0, 0, 0]),
        ("let x = yes or close[1] > 1", [1, 1, 1, 1]),
        ("let x = yes and close[1] > 1", [NONE, 0, 1, 1]),
        ("let x = not (close[1] > 1)", [NONE, 1, 0, 0]),
        ("let x = known(close[1])", [0, 1, 1, 1]),
        ("let x = if close[1] > 1 then 7 else 8", [8, 8, 7, 7]),
        ("let x = close[1] else 9", [9, 1, 2, 4]),
        ("let x = exp(1000)", [NONE] * 4),
        ("let x = 10 ^ 200 * 10 ^ 200", [NONE] * 4),
        ("keep x = 0\nset x = x + close", [1, 3, 7, 10]),
        ("keep y = 10\nlet x = y\nset y = y + 1", [10, 11, 12, 13]),
        ("keep y = 0\nset y = y + 1\nlet x = y[1]", [NONE, 1, 2, 3]),
        ("keep y = close\nset y = max(y, close)\nlet x = y", [1, 2, 4, 4]),
        ("fresh y = 1\nset y = y + close\nlet x = y", [2, 3, 5, 4]),
        ("fresh y = 0\nset y = y + close\nlet x = y[1]", [NONE, 1, 2, 4]),
        ("keep x = 0\nif close > 1\n    set x = 1\nelse if close == 1\n    set x = 5", [5, 1, 1, 1]),
        ("keep x = 0\nif close[1] > 1\n    set x = 1\nelse\n    set x = 2", [2, 2, 1, 1]),
        ("fresh x = 0\nfor k in 0..2\n    set x = x + (close[k] else 0)", [1, 3, 7, 9]),
        ("fresh x = 0\nfor k in 0..9\n    if k == 3\n        stop\n    set x = x + k", [3, 3, 3, 3]),
        ("fresh x = 0\nfor k in 1..2\n    for j in 1..k\n        set x = x + j", [4, 4, 4, 4]),
        ("define f(a, n = 2)\n    give a * n\nlet x = f(close) + f(close, 3)", [5, 10, 20, 15]),
        ("define f(a)\n    keep n = 0\n    set n = n + a\n    give n\nlet x = f(close) - f(1)", [0, 1, 4, 6]),
        (
            "define f(a)\n    let low_one = a\n    let high_one = a + 1\n    give low_one, high_one\nlet p, q = f(close)\nlet x = p + q",
            [3, 5, 9, 7],
        ),
        ("define f(a)\n    let p = a\n    let q = a + 1\n    give p, q\nlet x = f(close).q", [2, 3, 5, 4]),
        ("let n = 2\ndefine f(a)\n    give a * n\nlet x = f(close)", [2, 4, 8, 6]),
        ("let x = bar", [0, 1, 2, 3]),
        ("let x = (close > 2) == (close > 1)", [1, 0, 1, 1]),
        ("let x = hl2 + body + range", [1, 2, 4, 3]),
        ("let x = close on 1d", [1, 2, 4, 3]),
    ],
)
def test_a_row_of_the_contract(script: str, expected: list[float]) -> None:
    assert same(of(script, [1, 2, 4, 3]), expected)


def test_a_setting_changes_the_values_but_not_the_code() -> None:
    program = compile_script("rung 1\nsetting n = 2 range 1..50\nlet x = sma(close, n)\nline x")
    panel = panel_of([daily_bars(list(range(1, 9)))])
    op = program.plan.values["x"]
    two = run(program, panel, {"n": 2})
    three = run(program, panel, {"n": "3"})
    assert two.number(op)[-1] == 7.5
    assert three.number(op)[-1] == 7
    assert len(program._variants) == 1


@pytest.mark.parametrize(
    ("settings", "words"),
    [
        ({"n": 0}, "from 1 to 50"),
        ({"n": 2.5}, "whole number"),
        ({"m": 3}, "no setting `m`"),
        ({"n": "many"}, "is a number"),
    ],
)
def test_a_setting_that_does_not_fit_is_refused_in_words(settings: dict[str, object], words: str) -> None:
    program = compile_script("rung 1\nsetting n = 2 range 1..50\nline sma(close, n)")
    with pytest.raises(RunProblem, match=words):
        run(program, panel_of([daily_bars([1, 2, 3])]), settings)


def test_a_lag_made_negative_by_a_setting_is_refused() -> None:
    program = compile_script("rung 1\nsetting n = 1 range -5..5\nline close[n]")
    with pytest.raises(RunProblem, match="a lag"):
        run(program, panel_of([daily_bars([1, 2, 3])]), {"n": -1})


def test_loops_that_would_take_too_long_are_refused() -> None:
    program = compile_script(
        "rung 1\nsetting n = 5 range 1..100000\nfresh x = 0\nfor k in 0..n\n    for j in 0..n\n        set x = x + 1\nline x"
    )
    with pytest.raises(RunProblem, match="steps on every bar"):
        run(program, panel_of([daily_bars([1, 2, 3])]), {"n": 5000})


def test_texts_and_colours_are_read_out_per_bar() -> None:
    program = compile_script(
        'rung 1\nlet up = close > close[1]\nnote "{close:.2} {if up then "rise" else "fall"} {close / 2:+.1%} {close[1]}"'
        "\nline close color if up then good else bad".replace('"rise"', "1").replace('"fall"', "0")
    )
    result = run(program, panel_of([daily_bars([1234.5, 1300.0])]))
    note, line = result.outputs
    assert result.at(note.roles["value"], 1) == "1,300.00 1 +65,000.0% 1,234.5"
    assert result.at(note.roles["value"], 0).endswith("–")
    colours = result.colours(line.roles["color"], {"good": 1, "bad": 2}.__getitem__)
    assert colours.tolist() == [2, 1]


TOOLS = (
    "My tools",
    'rung 1\ntitle "My tools"\ndefine twice(x)\n    give x * 2\ndefine tally(x)\n    keep n = 0\n    set n = n + x\n    give n\n',
)


def test_functions_are_taken_from_another_script() -> None:
    text = 'rung 1\nuse twice, tally from "My tools"\nlet x = twice(close) + tally(1)\nline x'
    program = compile_script(text, OtherScripts((TOOLS,)))
    assert program.problems == ()
    panel = panel_of([daily_bars([1, 2, 4])])
    assert run(program, panel).number(program.plan.values["x"]).tolist() == [3, 6, 11]


@pytest.mark.parametrize(
    ("line", "code"),
    [
        ('use twice from "My tool"', "R211"),
        ('use thrice from "My tools"', "R204"),
        ('use sum from "My tools"', "R204"),
    ],
)
def test_what_cannot_be_taken_is_said(line: str, code: str) -> None:
    problems = analyse(f"rung 1\n{line}\nline close", OtherScripts((TOOLS,))).problems
    assert [p.code for p in problems if p.is_error] == [code]
    assert "Did you mean" in problems[0].fix or "It has" in problems[0].fix


DEEP = (
    "Deep tools",
    'rung 1\ntitle "Deep tools"\nuse tally from "My tools"\ndefine half(x)\n    give x / 2\n'
    "define middle(n)\n    let whole = highest(high, n) + lowest(low, n)\n    give half(whole)\n"
    "define counted(x)\n    give tally(half(x)) + 0 * middle(2)\n",
)


def test_a_function_is_taken_with_what_it_calls_there() -> None:
    text = (
        'rung 1\nuse middle, counted from "Deep tools"\ndefine half(x)\n    give x * 100\n'
        "let m = middle(2)\nlet c = counted(close)\nlet h = half(close)"
    )
    program = compile_script(text, OtherScripts((TOOLS, DEEP)))
    assert [p.code for p in program.problems if p.is_error] == []
    extra = list(program.plan.values.values())
    result = run(program, panel_of([daily_bars([2, 4, 8])]), outputs=[], extra=extra)
    made = {name: result.number(op).tolist() for name, op in program.plan.values.items()}
    assert same(made["m"], [NONE, 3, 6]) and same(made["c"], [NONE, 3, 7]) and same(made["h"], [200, 400, 800])


def test_scripts_that_take_from_each_other_end() -> None:
    scripts = tuple(
        (
            f"S{k}",
            f'rung 1\ntitle "S{k}"\n'
            + "".join(f'use f{j} from "S{j}"\n' for j in range(12) if j != k)
            + f"define f{k}(x)\n    give x + f{(k + 1) % 12}(x)\n",
        )
        for k in range(12)
    )
    problems = analyse('rung 1\nuse f0 from "S0"\nline f0(close)', OtherScripts(scripts)).problems
    assert any(p.is_error for p in problems)  # each calls the next, and the last the first: that has no end


def test_what_is_wrong_with_a_script_that_is_not_found_names_the_folder() -> None:
    problems = analyse('rung 1\nuse f from "Nowhere"\nline f(close)', OtherScripts((TOOLS,), "/home/x/rules")).problems
    assert [p.code for p in problems] == ["R211"]
    assert "/home/x/rules" in problems[0].message and '"My tools"' in problems[0].fix


def test_a_time_of_day_is_written_as_one_and_counts_its_minutes() -> None:
    text = """rung 1
let opened = clock
keep first = none
if not known(first)
    set first = clock
let late = max(clock, 10)
note "{clock} {opened} {first} {clock[1]} {late}"
column clock fill good when clock > 09:00
column "{opened}" order clock named "at"
line sma(clock, 1)
"""
    program = compile_script(text)
    result = run(program, panel_of([daily_bars([1, 2])]))
    note = next(o for o in program.outputs if o.what == "note")
    assert result.at(note.roles["value"], 1) == "00:00 00:00 00:00 00:00 10"
    cells = [column_cell(result, o, 1) for o in program.outputs if o.what == "column"]
    assert [(c.text, c.fill, c.order) for c in cells] == [("00:00", None, 0.0), ("00:00", None, 0.0)]


def test_infinity_and_absurd_data_become_none() -> None:
    close = np.array([1.0, np.inf, 3.0, 1e300, -np.inf, 6.0])
    made = values("let x = close + 1\nlet up = close > 2", daily_bars(close))
    assert same(made["x"].tolist(), [2, NONE, 4, NONE, NONE, 7])
    assert same(made["up"].tolist(), [0, NONE, 1, NONE, NONE, 1])


def test_colours_are_faded_and_blended_bar_by_bar() -> None:
    program = compile_script(
        "rung 1\nsetting c = #ff0000\nsetting share = 40 range 0..100\nlet up = close > 1\n"
        "line close color if up then fade(c, share) else blend(#000000, #ffffff, close / 2)\n"
        "column close fill fade(blend(#000000, #ffffff, 0.5), 50)"
    )
    result = run(program, panel_of([daily_bars([1, 2])]), {"share": 60})
    line, column = result.outputs
    assert [hex(c) for c in result.colours(line.roles["color"], day_paint).tolist()] == ["0xff808080", "0x99ff0000"]
    assert hex(day_paint(str(result.at(column.roles["fill"], 1)))) == "0x80808080"


def test_a_function_of_the_script_does_not_change_the_library() -> None:
    bars = daily_bars(np.arange(1.0, 40) ** 1.5 % 17)
    plain = values("let x = rsi(close, 5)", bars)["x"]
    made = values("define wilder(x, n)\n    give x * 0 + n\nlet x = rsi(close, 5)\nlet y = wilder(close, 5)", bars)
    np.testing.assert_array_equal(made["x"], plain)
    assert set(made["y"]) == {5}
