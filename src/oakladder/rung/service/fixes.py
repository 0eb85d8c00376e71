"""Fixes: applies the edits that a problem offers to a script."""

from __future__ import annotations

import re
from collections.abc import Iterable

from oakladder.rung.problems import Problem, Span

#: A line with what ends it.
_LINE = re.compile(r"[^\r\n]*(?:\r\n|\r|\n|$)")


def apply_fix(text: str, problem: Problem) -> str:
    """The text with every edit of a problem made; as it was where the problem offers none."""
    return apply_edits(text, problem.edits)


def apply_edits(text: str, edits: Iterable[tuple[Span, str]]) -> str:
    """The text with other words in some places, which do not overlap."""
    mark, text = ("\ufeff", text[1:]) if text.startswith("\ufeff") else ("", text)
    lines = _LINE.findall(text)
    for place, new in sorted(edits, key=lambda e: (e[0].line, e[0].column), reverse=True):
        row, at = place.line - 1, place.column - 1
        lines[row] = lines[row][:at] + new + lines[row][at + place.length :]
    return mark + "".join(lines)


def said(problem: Problem) -> str:
    """The fix in a few words; empty without one."""
    if not problem.edits:
        return ""
    if problem.replacement is None or len(problem.edits) > 1:
        return (
            "mends it"
            if problem.replacement is None
            else f"writes `{problem.replacement}` in {len(problem.edits)} places"
        )
    return f"writes `{problem.replacement.strip()}`" if problem.replacement.strip() else "takes it out"
