"""From text to tree: lines, blocks, precedence, and problems that stand where they should."""

from __future__ import annotations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from helpers import daily_bars, values
from oakladder.rung import ScriptError, analyse, compile_script


def found(text: str) -> list[tuple[str, int, int]]:
    return [(p.code, p.span.line, p.span.column) for p in analyse(text).problems if p.is_error]


@pytest.mark.parametrize(
    ("text", "code", "line", "column", "replacement"),
    [
        ("rung 1\nlet a = close = 3", "R107", 2, 15, "=="),
        ("rung 1\nx = 3", "R108", 2, 1, "let x"),
        ("rung 1\nlett x = 3", "R101", 2, 1, "let"),
        ("rung 1\nlet x = (close + 1\nlet y = 2", "R104", 2, 9, None),
        ("rung 1\nlet x = close)", "R104", 2, 14, ""),
        ('rung 1\ntitle "no end', "R103", 2, 7, None),
        ("rung 1\nlet Fast = 3\nline fast", "R203", 2, 5, "fast"),
        ("rung 1\ndefine f(x)\n\tgive x\nline f(close)", "R105", 3, 1, "    "),
        ("rung 1\nlet x = close +", "R102", 2, 15, None),
        ("rung 1\nlet x = close & open", "R102", 2, 15, "and"),
        ('rung 1\nnote "{close:wide}"', "R115", 2, 14, None),
        ('rung 1\nnote "{clsoe}"', "R201", 2, 8, "close"),
        ('rung 1\nnote "{if close > open then "up" else "down"}"', "R102", 2, 7, "{words_2}"),
        ('rung 1\nnote "{{x}} {if close > open then "up" else "down"}"', "R102", 2, 13, "{words_2}"),
        ("rung 9\nline close", "R111", 1, 6, "1"),
        ('rung 1\nif close > open\n    title "x"\n', "R113", 3, 5, None),
        ("rung 1\ntrade a long\n    rung 1\n", "R113", 3, 5, None),
        ('rung 1\ndefine f(x)\n    about "x"\n    give x\nline f(close)', "R113", 3, 5, None),
        ("rung 1\nelse\n    let a = 1", "R113", 2, 1, None),
        ("rung 1\nif close > 1\nline close", "R109", 2, 1, None),
    ],
)
def test_a_slip_is_found_where_it_stands(text: str, code: str, line: int, column: int, replacement: str | None) -> None:
    problems = [p for p in analyse(text).problems if p.code == code]
    assert [(p.span.line, p.span.column) for p in problems] == [(line, column)]
    assert problems[0].replacement == replacement
    assert problems[0].message.endswith(".")


def test_checking_goes_on_after_the_first_error() -> None:
    text = "rung 1\nlet a = clsoe\nlet b = (3\nlet c = sma(close, bar)\nsignal d = close\n"
    assert [(code, line) for code, line, _ in found(text)] == [("R201", 2), ("R104", 3), ("R302", 4), ("R301", 5)]


def test_lines_are_joined_by_brackets_and_by_clause_words() -> None:
    script = (
        'let a = (close\n  + 1)\nlet b = close > 3\n    and close < 9\nline a\n    color teal\n    named "x"\nmark b'
    )
    assert analyse("rung 1\n" + script).problems == ()
    assert values(script, daily_bars([2.0, 5.0]))["b"].tolist() == [0, 1]


@pytest.mark.parametrize(
    ("expression", "value"),
    [
        ("2 + 3 * 4", 14),
        ("-2 ^ 2", -4),
        ("2 ^ 3 ^ 2", 512),
        ("7 mod 4 + 1", 4),
        ("-7 mod 4", 1),
        ("10 - 4 - 3", 3),
        ("2 ^ -1", 0.5),
        ("if yes then 1 else 2 + 5", 1),
        ("none else 4", 4),
        ("(if no then 1 else none) else 7", 7),
        ("5%", 0.05),
        ("1_000", 1000),
        ("1e3", 1000),
        ("if 1 < 2 < 3 then 1 else 0", 1),
        ("if 1 < 2 > 3 then 1 else 0", 0),
        ("if 5 between 5 and 6 then 1 else 0", 1),
        ("if not no and yes then 1 else 0", 1),
        ("if no and no or yes then 1 else 0", 1),
        ("min(3, max(1, 2))", 2),
        ("sqrt(16)", 4),
        ("floor(-1.5)", -2),
        ("ceil(-1.5)", -1),
        ("abs(-3)", 3),
    ],
)
def test_precedence_and_arithmetic(expression: str, value: float) -> None:
    assert values(f"let x = {expression}", daily_bars([1.0]))["x"][0] == pytest.approx(value)


PIECES = [
    *"abz019 \n\t()[]{}\"'=<>+-*/^.,:#%&_|§é",
    "let ",
    "if ",
    "    ",
    "sma(",
    "close",
    " on ",
    "\nlet x = ",
    "\nkeep y = 0",
    "\nset y = ",
]


@settings(max_examples=300, deadline=None)
@given(st.lists(st.sampled_from(PIECES), max_size=60))
def test_no_text_brings_the_reader_down(pieces: list[str]) -> None:
    for problem in analyse("rung 1\n" + "".join(pieces)).problems:
        assert problem.message
        assert problem.span.line >= 1


@pytest.mark.parametrize(
    "text",
    [
        "let x = " + "(" * 5000 + "1" + ")" * 5000,
        "let x = " + "-" * 5000 + "1",
        "let x = " + " + ".join(["close"] * 3000),
        "let x = " + "not " * 3000 + "yes",
        "if yes\n" + "".join("    " * k + "if yes\n" for k in range(1, 300)),
        'title "' + "x" * 1_200_000 + '"',
    ],
)
def test_hostile_scripts_are_refused_in_words(text: str) -> None:
    with pytest.raises(ScriptError) as error:
        compile_script("rung 1\n" + text)
    assert any(p.is_error for p in error.value.problems)


def test_exponential_expansion_is_refused() -> None:
    layers = ["define f0(x)\n    give ema(x, 3) + ema(x, 4)"]
    layers += [f"define f{k}(x)\n    give f{k - 1}(x + 1) + f{k - 1}(x + {k + 1})" for k in range(1, 25)]
    with pytest.raises(ScriptError) as error:
        compile_script("rung 1\n" + "\n".join(layers) + "\nline f24(close)")
    assert "R601" in {p.code for p in error.value.problems}
