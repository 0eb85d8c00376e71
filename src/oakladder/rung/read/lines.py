"""Text to logical lines: comments blanked, joined lines joined, indentation measured.

A logical line keeps the line breaks inside it, so that a place in it is a place in the file.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

from oakladder.rung.problems import Problem, Span
from oakladder.rung.words import JOINING_WORDS, STATEMENT_WORDS

INDENT = 4
#: Joining words that may also start a line of their own inside a block.
_BLOCK_WORDS = frozenset(["else"])
_WORD = re.compile(r"[A-Za-z_]+")


@dataclass(frozen=True, slots=True)
class LogicalLine:
    """A logical line: its text (with inner line breaks), its first line number and its depth in blocks."""

    text: str
    number: int
    depth: int


@dataclass(frozen=True, slots=True)
class _LineScan:
    """What a scan of one physical line found."""

    code: str
    open_quote: int | None
    brackets: list[tuple[str, int]]


_PAIRS = {")": "(", "]": "["}


def _scan(text: str) -> _LineScan:
    """The line with its comment blanked, the column of a quote left open, and its brackets in order."""
    quote: int | None = None
    brackets: list[tuple[str, int]] = []
    k = 0
    while k < len(text):
        c = text[k]
        if quote is not None:
            if c == "\\":
                k += 1
            elif c == '"':
                quote = None
        elif c == '"':
            quote = k
        elif c == "-" and text.startswith("--", k):
            return _LineScan(text[:k].rstrip(), None, brackets)
        elif c in "([)]":
            brackets.append((c, k))
        k += 1
    return _LineScan(text.rstrip(), quote, brackets)


def logical_lines(text: str) -> tuple[list[LogicalLine], list[Problem]]:
    """Splits a script; a line that cannot be used is reported and left out."""
    problems: list[Problem] = []
    lines: list[LogicalLine] = []
    open_brackets: list[tuple[str, int, int]] = []
    pending: list[str] = []
    start = indent = 0
    usable = True

    def finish() -> None:
        nonlocal usable
        if pending and usable:
            depth, rest = divmod(indent, INDENT)
            if rest:
                problems.append(
                    Problem(
                        "R106",
                        Span(start, 1, indent),
                        "A block is indented by four spaces a step.",
                        f"Use {round(indent / INDENT) * INDENT} spaces here.",
                        None,
                    )
                )
            lines.append(LogicalLine("\n".join(pending), start, depth + (1 if rest > 1 else 0)))
        pending.clear()
        usable = True

    for number, raw in enumerate(text.replace("\r\n", "\n").replace("\r", "\n").split("\n"), 1):
        scan = _scan(raw)
        code = scan.code
        if not code.strip():
            continue
        white = code[: len(code) - len(code.lstrip())]
        if "\t" in white:
            problems.append(
                Problem(
                    "R105",
                    Span(number, 1, len(white)),
                    "Indentation is made of spaces, not tabs.",
                    "Put four spaces in place of each tab.",
                    white.replace("\t", " " * INDENT),
                )
            )
            code = white.expandtabs(INDENT) + code.lstrip()
        elif "\t" in code:
            code = code.replace("\t", " ")
        here = len(code) - len(code.lstrip())
        word = _WORD.match(code.lstrip())
        first = word.group() if word else ""
        joins = (
            bool(pending)
            and here > indent
            and first in JOINING_WORDS
            and (first not in _BLOCK_WORDS or not _opens_block(pending[0]))
        )
        if not open_brackets and not joins:
            finish()
            start, indent = number, here
        if scan.open_quote is not None:
            problems.append(
                Problem(
                    "R103",
                    Span(number, scan.open_quote + 1, len(code) - scan.open_quote),
                    "This text has no closing quote.",
                    'Put a " where the text ends.',
                )
            )
            usable = False
        for bracket, column in scan.brackets:
            if bracket in "([":
                open_brackets.append((bracket, number, column))
            elif open_brackets and open_brackets[-1][0] == _PAIRS[bracket]:
                open_brackets.pop()
            else:
                problems.append(
                    Problem(
                        "R104",
                        Span(number, column + 1),
                        f"This `{bracket}` closes nothing.",
                        "Take it out, or put the opening bracket before it.",
                        "",
                    )
                )
                usable = False
        if open_brackets and _starts_statement(first) and pending:
            _report_open(open_brackets, problems)
            usable = False
            finish()
            start, indent = number, here
        pending.append(code)
    if open_brackets:
        _report_open(open_brackets, problems)
        usable = False
    finish()
    return lines, problems


def _report_open(open_brackets: list[tuple[str, int, int]], problems: list[Problem]) -> None:
    bracket, number, column = open_brackets[-1]
    closing = {"(": ")", "[": "]"}[bracket]
    problems.append(
        Problem(
            "R104", Span(number, column + 1), f"This `{bracket}` is never closed.", f"Put a `{closing}` where it ends."
        )
    )
    open_brackets.clear()


def _starts_statement(word: str) -> bool:
    return word in STATEMENT_WORDS and word not in JOINING_WORDS and word not in {"if", "line"}


def _opens_block(text: str) -> bool:
    return text.split(maxsplit=1)[0] in {"if", "else", "for", "define"}
