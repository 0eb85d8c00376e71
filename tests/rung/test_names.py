"""The names of a script: found where they are meant, renamed everywhere, said what they are."""

from __future__ import annotations

import pytest
from hypothesis import given, settings

from helpers import DEMO_SCRIPTS, demo_text
from oakladder.rung import Program, analyse, compile_script
from oakladder.rung.service.fixes import apply_edits
from oakladder.rung.service.names import NameKind, RenameProblem, hover, names_of, renamable, rename, word_at
from rung_programs import EXPRESSIONS, PROLOGUE

SCRIPT = """rung 1
setting length = 9 range 2..50
define drift(x, n = 3)
    let moved = x - x[n]
    let mean = moved / n
    give mean, moved
let s = drift(close, n = (3 + 1))
let other = drift(close).moved
let first, second = drift(high)
keep top = length
for k in 1..3
    let leap = close[k]
    set top = max(top, leap)
if close > open
    let leap = open
    set top = leap
signal go = s.mean > 0 and top > other and first > second
label "{s.mean:.2} {top}" when go -- top is only a remark
note "top of go"
"""


def place_of(text: str, word: str, nth: int = 0) -> tuple[int, int]:
    """Line and column of the n-th occurrence of some letters."""
    at = -1
    for _ in range(nth + 1):
        at = text.index(word, at + 1)
    return text.count("\n", 0, at) + 1, at - text.rfind("\n", 0, at)


def renamed_at(text: str, line: int, column: int, new: str) -> str:
    names = names_of(text)
    return apply_edits(text, rename(names, renamable(text, names, line, column), new))


def renamed(text: str, word: str, new: str, nth: int = 0) -> str:
    return renamed_at(text, *place_of(text, word, nth), new)


def code_of(program: Program) -> str:
    """The machine-independent code of all values and outputs: what the script does, without its names."""
    roots = [op for op in program.plan.values.values() if not op.is_shell]
    return program.variant(roots).code.text if roots else ""


def test_the_outline_has_what_is_defined_at_the_top_in_order() -> None:
    found = [(d.kind, d.name, d.line) for d in names_of(SCRIPT).outline]
    assert found == [
        (NameKind.SETTING, "length", 2),
        (NameKind.FUNCTION, "drift", 3),
        (NameKind.LET, "s", 7),
        (NameKind.LET, "other", 8),
        (NameKind.LET, "first", 9),
        (NameKind.LET, "second", 9),
        (NameKind.KEEP, "top", 10),
        (NameKind.SIGNAL, "go", 17),
    ]
    function = names_of(SCRIPT).outline[1]
    assert [d.name for d in function.inside] == ["x", "n", "moved", "mean"]


@pytest.mark.parametrize(
    ("word", "nth", "lines"),
    [
        ("length", 0, [2, 10]),
        ("mean", 0, [5, 6, 17, 18]),  # a result is read by its name outside
        ("moved", 0, [4, 5, 6, 8]),
        ("n = ", 0, [3, 4, 5, 7]),  # with the named argument of the call
        ("top", 0, [10, 13, 13, 16, 17, 18]),  # also inside a text, and not in the remark or the note
        ("leap", 0, [12, 13]),  # the other block has a `leap` of its own
        ("leap", 2, [15, 16]),
        ("drift", 0, [3, 7, 8, 9]),
    ],
)
def test_a_name_is_found_where_it_is_meant(word: str, nth: int, lines: list[int]) -> None:
    found = names_of(SCRIPT).at(*place_of(SCRIPT, word, nth))
    assert found is not None and [p.line for p in found.places] == lines
    rows = SCRIPT.split("\n")
    assert {rows[p.line - 1][p.column - 1 :][: p.length] for p in found.places} == {found.name}


@pytest.mark.parametrize("word", ["length", "drift", "mean", "moved", "n = ", "top", "k in", "go", "second"])
def test_a_renamed_name_leaves_the_rule_as_it_is(word: str) -> None:
    text = renamed(SCRIPT, word, "fresh_name")
    program = compile_script(text)
    assert code_of(program) == code_of(compile_script(SCRIPT)) and text != SCRIPT
    assert renamed(text, "fresh_name", word.partition(" ")[0]) == SCRIPT


@pytest.mark.parametrize("name", DEMO_SCRIPTS)
def test_every_name_of_the_demo_scripts_can_be_renamed(name: str) -> None:
    before = text = demo_text(name)
    for k in range(len(names_of(text).all)):
        own = names_of(text).all[k]
        text = renamed_at(text, own.span.line, own.span.column, f"name_{k}")
    assert code_of(compile_script(text)) == code_of(compile_script(before))
    assert [p.code for p in analyse(text).problems] == [p.code for p in analyse(before).problems]
    assert all(d.name.startswith("name_") for d in names_of(text).all)


@settings(max_examples=40, deadline=None)
@given(EXPRESSIONS)
def test_names_of_generated_scripts_can_be_renamed(expression: str) -> None:
    before = text = f"rung 1\n{PROLOGUE}let x = {expression}\n"
    if any(p.is_error for p in analyse(before).problems):
        return
    for k in range(len(names_of(text).all)):
        own = names_of(text).all[k]
        text = renamed_at(text, own.span.line, own.span.column, f"name_{k}")
    assert code_of(compile_script(text)) == code_of(compile_script(before))


@pytest.mark.parametrize(
    ("word", "new", "why"),
    [
        ("top", "close", "a word of the language"),
        ("top", "ema", "a word of the language"),
        ("top", "signal", "a word of the language"),
        ("top", "after", "a word of the language"),
        ("top", "other", "called `other` already, on line 8"),
        ("top", "mean", "called `mean` already"),
        ("top", "9a", "small letters"),
        ("top", "Top", "small letters"),
        ("top", "", "small letters"),
        ("close", "price", "`close` is not a name of this script"),
        ("only a remark", "price", "no name of this script at the cursor"),
    ],
)
def test_a_name_that_cannot_be_given_is_refused_with_a_sentence(word: str, new: str, why: str) -> None:
    with pytest.raises(RenameProblem, match=why):
        renamed(SCRIPT, word, new)


def test_a_name_in_a_line_with_an_error_is_not_renamed_in_part() -> None:
    text = "rung 1\nlet x = close\nlet y = x + 1\nsignal go = x > (\n"
    with pytest.raises(RenameProblem, match="Line 4 has `x` and an error"):
        renamed(text, "x", "price")
    assert renamed(text, "y", "more") == text.replace("let y", "let more")


def test_functions_of_other_scripts_are_renamed_there() -> None:
    text = 'rung 1\nuse drift from "Two pilots"\nlet x = drift(close)\n'
    assert [d.kind for d in names_of(text).outline] == [NameKind.USED, NameKind.LET]
    with pytest.raises(RenameProblem, match="rename it there"):
        renamed(text, "drift", "slope_of", 1)


@pytest.mark.parametrize("ending", ["\r\n", "\r"])
def test_places_count_lines_as_the_editor_does(ending: str) -> None:
    text = "\ufeff" + 'rung 1\nnote "a\u2028b"\nlet x = close\nsignal up = x > 1\n'.replace("\n", ending)
    assert renamed_at(text, 3, 5, "price") == text.replace("let x", "let price").replace("up = x", "up = price")


def test_a_script_with_errors_still_has_names() -> None:
    text = "rung 1\nlet x = close +\nlet y = close\nsignal go = y > nothing_known and (\n"
    assert [d.name for d in names_of(text).all] == ["y"]
    assert len(names_of(text).all[0].uses) <= 1


@pytest.mark.parametrize(
    ("word", "nth", "told"),
    [
        ("s.mean", 0, "let s = drift(close, n = (3 + 1))\nA named value of this script, line 7, used 2 times."),
        (
            "go",
            0,
            "signal go = s.mean > 0 and top > other and first > second\nA signal of this script, line 17, used 1 time.",
        ),
        ("x[n]", 0, "x\nA parameter of this script, line 3, used 2 times."),
        ("max(", 0, "max(a, b): "),
        ("close", 0, "close: "),
        ("only a remark", 0, ""),
        ("top of go", 0, ""),
    ],
)
def test_what_the_mouse_is_over_is_said(word: str, nth: int, told: str) -> None:
    said = hover(SCRIPT, names_of(SCRIPT), *place_of(SCRIPT, word, nth))
    assert said.startswith(told) and bool(said) == bool(told)


def test_words_of_the_language_are_explained_while_the_names_are_not_known() -> None:
    assert hover(SCRIPT, None, *place_of(SCRIPT, "close")).startswith("close: ")
    assert hover(SCRIPT, None, *place_of(SCRIPT, "go")) == ""


@pytest.mark.parametrize(
    ("row", "column", "word"),
    [
        ("line position.gain", 7, "position.gain"),
        ("line position.gain", 17, "position.gain"),
        ("line bands.upper", 7, "bands"),
        ("line bands.upper", 13, "bands.upper"),
        ("line close -- open", 8, "close"),
        ("line close -- open", 15, ""),
        ('label "close" at high', 8, ""),
        ("line close", 99, ""),
    ],
)
def test_the_word_under_the_mouse(row: str, column: int, word: str) -> None:
    """A word with a part is one where the language explains both together; else the part before the dot is a name."""
    assert word_at(f"rung 1\n{row}\n", 2, column) == word
