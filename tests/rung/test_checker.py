"""Names, kinds, fixedness, units: what the checker says before anything runs."""

from __future__ import annotations

import pytest

from oakladder.rung import CODES, ScriptError, analyse, compile_script
from oakladder.rung.program import unknown_symbols


def codes(text: str) -> list[str]:
    return [p.code for p in analyse("rung 1\n" + text).problems]


@pytest.mark.parametrize(
    ("text", "code"),
    [
        ("line clsoe", "R201"),
        ("let close = 1\nline close", "R202"),
        ("let a = 1\nlet a = 2\nline a", "R202"),
        ("line smaa(close, 3)", "R204"),
        ("line sma(close)", "R205"),
        ("line sma(close, 3, 4)", "R205"),
        ("line sma(close, m = 3)", "R205"),
        ("line sma", "R205"),
        ("line sum", "R205"),
        ("let a = b\nlet b = 1\nline a", "R207"),
        ("line obv\ndefine obv()\n    give close", "R207"),
        ("line twice(close)\ndefine twice(x)\n    give 2 * x", "R207"),
        ("let a = 1\nset a = 2\nline a", "R208"),
        ("define f(x)\n    give f(x)\nline f(close)", "R209"),
        ("define f(x)\n    let y = x\nline f(close)", "R210"),
        ("mark close > 1 shape arow_up", "R212"),
        ("define f(x)\n    let a = x\n    let b = x\n    give a, b\nline f(close)", "R213"),
        ("define f(x)\n    let a = x\n    let b = x\n    give a, b\nline f(close).c", "R206"),
        ("signal go = close", "R301"),
        ("let x = close and 1\nline close when x", "R301"),
        ("line (if yes then 1 else no)", "R301"),
        ("line sma(close, bar)", "R302"),
        ("level close", "R302"),
        ("setting n = 9 range 20..50\nline sma(close, n)", "R303"),
        ('setting s = "a" choose "b", "c"\nline close when s == "b"', "R303"),
        ("keep x = 0\nif close > 1\n    set x = sma(close, 3)\nline x", "R304"),
        ("keep x = 0\nif close > 1\n    set x = (close + 1)[1]\nline x", "R304"),
        ("line sma(close, 0)", "R305"),
        ("line sma(close, 2.5)", "R305"),
        ("signal go = volume > close", "R401"),
        ("signal go = rsi(close, 14) > close", "R401"),
        ("line close + volume", "R401"),
        ("line close[-1]", "R501"),
        ("line close[bar]", "R502"),
        ("let unused = 3", "R701"),
        ("setting n = 3\nline close", "R702"),
        ("signal go = close > 3 and no", "R703"),
        ("line close fill good", "R114"),
        ("stop", "R113"),
        ("give 3", "R113"),
        ("if yes\n    line close", "R113"),
        ('keep x = "a"\nline close when x == "a"', "R301"),
    ],
)
def test_every_slip_has_its_code(text: str, code: str) -> None:
    assert code in codes(text)


@pytest.mark.parametrize(
    "text",
    [
        "setting n = 9 range 1..20\nline sma(close, n * 2)",
        "signal go = rsi(close, 14) > 70\nsignal dip = close < lowest(low, 20)[1] * 0.99",
        "define twice(x, n = 2)\n    give x * n\nline twice(close)\nline twice(close, n = 3)",
        "keep n = 0\nif close > open\n    set n = n + 1\nelse if close < open\n    set n = 0\nline n",
        "fresh best = 0\nfor k in 0..4\n    if close[k] > best\n        set best = close[k]\n    if k > 2\n        stop\nline best",
        "let daily = close on 1d\nline daily",
        "line true_range",
        "line bar / volume",
        "signal fade = close > 3\nlet sum = sum(close, 3)\nline sum color fade(teal, 40) when fade",
    ],
)
def test_sound_scripts_have_no_problems(text: str) -> None:
    assert codes(text) == []


def test_a_problem_inside_the_library_is_shown_at_the_argument() -> None:
    (problem,) = [p for p in analyse("rung 1\nline rsi(close, bar)").problems if p.is_error]
    assert (problem.code, problem.span.line, problem.span.column) == ("R302", 2, 17)


def test_close_names_are_offered() -> None:
    (problem,) = [p for p in analyse("rung 1\nline smaa(close, 3)").problems if p.is_error]
    assert "`sma`" in problem.fix


#: Problems of whole files and other scripts, whose examples are told instead of written.
TOLD = {"R100", "R112", "R211", "R217", "R601"}


@pytest.mark.parametrize("code", sorted(set(CODES) - TOLD))
def test_the_wrong_example_of_a_code_has_it_and_the_right_one_has_not(code: str) -> None:
    entry = CODES[code]
    wrong, right = (
        everything_wrong(text if text.startswith("rung") or code == "R110" else "rung 1\n" + text)
        for text in (entry.wrong, entry.right)
    )
    assert code in wrong and code not in right


def everything_wrong(text: str) -> set[str]:
    """The codes of a text: of its check, of its symbols, and of what cannot run as its settings stand."""
    analysis = analyse(text)
    found = [*analysis.problems, *unknown_symbols(analysis.foreign, ["SALTX"])]
    try:
        compile_script(text)
    except ScriptError as error:
        found += error.problems
    return {p.code for p in found}
