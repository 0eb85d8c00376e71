"""What is different between two texts."""

from __future__ import annotations

import pytest

from oakladder.user.text_diff import LineKind, difference


def told(before: str, after: str, around: int = 2) -> list[str]:
    return [f"{row.kind.value}{row.text}" for row in difference(before, after, around)]


LINES = [str(k) for k in range(12)]
TEXT = "\n".join(LINES)


@pytest.mark.parametrize(
    ("after", "rows"),
    [
        ([*LINES[:5], "new", *LINES[5:]], ["…3 lines", " 3", " 4", "+new", " 5", " 6", "…5 lines"]),
        (LINES[1:], ["-0", " 1", " 2", "…9 lines"]),
        (LINES[:-1], ["…9 lines", " 9", " 10", "-11"]),
        (["x", *LINES[1:4], "y", *LINES[5:]], ["-0", "+x", " 1", " 2", " 3", "-4", "+y", " 5", " 6", "…5 lines"]),
        (
            [*LINES[:3], "x", *LINES[4:9], "y", *LINES[10:]],
            ["…1 line", " 1", " 2", "-3", "+x", " 4", " 5", "…1 line", " 7", " 8", "-9", "+y", " 10", " 11"],
        ),
    ],
)
def test_lines_that_are_gone_and_new_stand_between_their_neighbours(after: list[str], rows: list[str]) -> None:
    assert told(TEXT, "\n".join(after)) == rows


def test_equal_texts_differ_in_nothing_and_others_in_all() -> None:
    assert difference(TEXT, TEXT) == [] and told("a", "b") == ["-a", "+b"] and told("", "a") == ["-", "+a"]
    assert told("a\nb\nc", "a\nx\nc", 0) == ["…1 line", "-b", "+x", "…1 line"]


def test_repeated_lines_at_both_ends_are_counted_once() -> None:
    assert told("a\na", "a\na\na") == [" a", " a", "+a"]
    assert told("a\na\na", "a") == [" a", "-a", "-a"]


def test_very_long_texts_are_compared_as_a_whole() -> None:
    before, after = "\n".join(f"a{k}" for k in range(2_500)), "\n".join(f"b{k}" for k in range(2_400))
    rows = difference(before, after)
    assert [r.kind for r in rows] == [LineKind.GONE] * 2_500 + [LineKind.NEW] * 2_400
