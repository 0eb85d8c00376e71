"""Typical mistakes: what is said of each, that one cause gives one problem, and that a mend makes the script better."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from oakladder.rung import Problem, analyse
from oakladder.rung.problems import CODES
from oakladder.rung.service.fixes import apply_fix

MISTAKES = json.loads((Path(__file__).parent / "common_mistakes.json").read_text(encoding="utf-8"))
#: Words of the grammar and of the library's insides, which say nothing to a user.
INSIDES = ("string", "token", "anonymous", "number_", "what follows `if`", "`travelled`", "`best`")


def weight(problems: tuple[Problem, ...]) -> tuple[int, int]:
    """How bad a script is: its errors, then all that is said."""
    return sum(p.is_error for p in problems), len(problems)


@pytest.mark.parametrize("slip", MISTAKES, ids=lambda s: s["slip"])
def test_a_slip_is_told_where_it_stands_and_mended(slip: dict) -> None:
    problems = analyse(slip["script"]).problems
    assert [(p.code, p.span.line, p.span.column) for p in problems] == [
        (p["code"], p["line"], p["column"]) for p in slip["problems"]
    ]
    for problem, expected in zip(problems, slip["problems"], strict=True):
        assert problem.message == expected["says"]
        assert (apply_fix(slip["script"], problem) if problem.edits else None) == expected["mended"]


@pytest.mark.parametrize("slip", MISTAKES, ids=lambda s: s["slip"])
def test_a_mend_makes_the_script_better(slip: dict) -> None:
    before = analyse(slip["script"]).problems
    for problem in before:
        if problem.edits:
            after = analyse(apply_fix(slip["script"], problem)).problems
            assert weight(after) < weight(before), (problem, after)


def test_most_slips_can_be_mended_and_one_cause_gives_one_problem() -> None:
    told = [s for s in MISTAKES if s["problems"]]
    assert sum(any(p["mended"] for p in s["problems"]) for s in told) >= 0.6 * len(MISTAKES)
    several = [s["slip"] for s in told if len(s["problems"]) > 1]
    assert several == ["set of nothing declared"]  # a short form, and a name that was never made


@pytest.mark.parametrize("slip", MISTAKES, ids=lambda s: s["slip"])
def test_what_is_said_is_about_the_script(slip: dict) -> None:
    for problem in slip["problems"]:
        words = problem["says"].lower()
        assert not any(inside in words for inside in INSIDES)


def test_the_examples_of_problems_are_mended_for_the_better() -> None:
    for code, entry in CODES.items():
        text = entry.wrong if entry.wrong.startswith("rung") else "rung 1\n" + entry.wrong
        before = analyse(text).problems
        for problem in before:
            if problem.edits:
                assert weight(analyse(apply_fix(text, problem)).problems) < weight(before), (code, problem)


@pytest.mark.parametrize(
    ("text", "lost"),
    [
        ("let a = close ? 3\nline a\nlet b = a + 1\nline b", "a"),
        ("setting n ! 3\nline sma(close, n)", "n"),
        ("define f(x) gives\n    give x + 1\nline f(close)", "f"),
        ("keep n = = 0\nset n = n + 1\nline n", "n"),
        ("let used = close\nlet x = used ~ 3\nline x", "used"),
    ],
)
def test_what_a_line_that_cannot_be_read_makes_is_not_missed_elsewhere(text: str, lost: str) -> None:
    problems = analyse("rung 1\n" + text).problems
    assert len(problems) == 1, problems


def test_a_line_keeps_its_place_below_blank_lines_within_brackets() -> None:
    (problem,) = analyse("rung 1\nlet a = (close\n\n  -- a word\n  + clsoe)\nline a").problems
    assert (problem.span.line, problem.span.column) == (5, 5)


@pytest.mark.parametrize("end", ["\n", "\r\n", "\r"])
@pytest.mark.parametrize("mark", ["", "\ufeff"])
def test_a_mend_keeps_how_lines_end(end: str, mark: str) -> None:
    text = mark + end.join(["rung 1", "", "let Fast := close", "line Fast", ""])
    for _ in range(2):
        text = apply_fix(text, analyse(text).problems[0])
    assert text == mark + end.join(["rung 1", "", "let fast = close", "line fast", ""])


@pytest.mark.parametrize(
    "line",
    [
        "let a = " + "close + " * 60 + "?",
        "let a =" + " " * 60 + "close ? 1 : 2",
        "signal x = " + " && ".join(["close > open"] * 30),
        'title "' + " " * 15_000 + "x",
        "let a = 1" + ";" * 15_000,
        "line " + "sma(" * 50 + "close" + " 20" * 5,
    ],
)
def test_lines_that_are_too_long_or_too_wide_are_told_without_guessing(line: str) -> None:
    text = "rung 1\n" + "\n".join([line] * 40)
    problems = analyse(text).problems
    assert problems and any(p.is_error for p in problems)


def test_several_slips_in_a_line_are_told_each_in_its_place() -> None:
    problems = analyse("rung 1\nsignal x := close => open && vol > 1,000").problems
    assert [(p.code, p.span.column, p.replacement) for p in problems] == [
        ("R102", 10, "="),
        ("R102", 19, ">="),
        ("R102", 27, "and"),
        ("R201", 30, "volume"),
        ("R102", 36, "1_000"),
    ]


def test_a_name_of_the_language_is_renamed_wherever_it_stands() -> None:
    text = "rung 1\nkeep high = 0\nif close > high\n    set high = close\nline high + high[1]\n"
    (problem,) = analyse(text).problems
    new = apply_fix(text, problem)
    assert "high" not in new.replace("my_high", "") and analyse(new).problems == ()


@pytest.mark.parametrize(
    "text",
    [
        "keep s = none\nif close > open\n    set s = none\nelse\n    set s = close\nline s",
        "signal x = close > opening_range(30).high",
        "signal x = opening_range(30).low > close",
        "let late = clock + 5\nsignal x = clock > 60 + 30 and late < 15:30",
        'let a = "x"\nnote a',
        "line max(volume, 1)\nline max(rsi(close, 14), 20)",
        "fresh up = yes\nif close < open\n    set up = no\nsignal x = up",
        "keep t = 0\nset t = clock\nlet u = if close > open then clock else 5\nlet v = clock else 0\nline t + u + v",
        "let five = 5\nline sma(close, five)\nlabel five when close > open",
    ],
)
def test_what_is_right_is_left_alone(text: str) -> None:
    assert analyse("rung 1\n" + text).problems == ()
