"""Text to logical lines: comments blanked, joined lines joined, indentation measured.

A logical line keeps the line breaks inside it, so that a place in it is a place in the file.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

from oakladder.rung.problems import Problem, Span
from oakladder.rung.trade_words import TRADE
from oakladder.rung.words import CLAUSES, JOINING_WORDS, STATEMENT_WORDS

INDENT = 4
#: Joining words that may also start a line inside a block.
_BLOCK_WORDS = frozenset(["else", "at"])
_WORD = re.compile(r"[A-Za-z_]+")
#: How a line begins that goes on with the one above: no statement begins so.
_OPERATOR = re.compile(r"(?:[+*/^<>]|-(?!-)|[=!]=|mod\b|between\b)")
#: What stands before the expression of a line.
_BEFORE_VALUE = re.compile(
    r"\s*(?:(?:let|keep|fresh|set|signal|setting)\s+[\w, ]+?=(?!=)|enter\s+when|leave\s+when|[A-Za-z_]+)\s*"
)


@dataclass(frozen=True, slots=True)
class Flaw:
    """What prevents reading a line separately: an open quote or bracket.

    ``closings`` are ways to fix it: what to insert, and where in the line.
    """

    problem: Problem
    closings: tuple[tuple[int, str], ...] = ()


@dataclass(frozen=True, slots=True)
class LogicalLine:
    """A logical line: its text (with inner line breaks), its first line number and its depth in blocks."""

    text: str
    number: int
    depth: int
    flaw: Flaw | None = None


@dataclass(frozen=True, slots=True)
class _LineScan:
    """What a scan of one physical line found."""

    code: str
    open_quote: int | None
    brackets: list[tuple[str, int]]
    #: A sign that is meant to begin a comment, or to end a statement, and where it stands.
    slip: tuple[str, int] | None = None


_PAIRS = {")": "(", "]": "["}
_CLOSING = {"(": ")", "[": "]"}
#: What a scan of a line stops at, and how a text goes on behind its quote.
_SIGNS = re.compile(r'"|--|//|/\*|[#;()\[\]]')
_REST_OF_TEXT = re.compile(r'(?:\\.|[^"\\])*"')
_COLOUR = re.compile(r"#[0-9A-Fa-f]{3,8}\b")
#: So many statements in a line are parted at their `;`.
_MOST_PARTS = 20
#: White space other than space and tab, and invisible characters in texts.
_UNSEEN = re.compile("[\u00a0\u2000-\u200b\u202f\u205f\u3000\ufeff]")
#: A word with which a clause goes on, where a text was not closed before it.
_NEXT_CLAUSE = re.compile(rf"(?<!\s)\s+(?:{'|'.join(sorted({c.word for c in CLAUSES.values()}))})\b")


def _scan(text: str) -> _LineScan:
    """The line with its comment blanked, the column of a quote left open, and its brackets in order."""
    brackets: list[tuple[str, int]] = []
    at = 0
    while (found := _SIGNS.search(text, at)) is not None:
        sign, k = found.group(), found.start()
        at = found.end()
        if sign == '"':
            closing = _REST_OF_TEXT.match(text, at)
            if closing is None:
                return _LineScan(text.rstrip(), k, brackets)
            at = closing.end()
        elif sign in "([)]":
            brackets.append((sign, k))
        elif sign == "--":
            if not _counts_down(text, k):
                return _LineScan(text[:k].rstrip(), None, brackets)
        elif sign != "#" or not _COLOUR.match(text, k):
            return _LineScan(text[:k].rstrip(), None, brackets, (sign, k))
    return _LineScan(text.rstrip(), None, brackets)


def _counts_down(text: str, k: int) -> bool:
    """Whether two dashes are meant to take one off a name: they stand right behind it at the line's end."""
    return (
        k > 0
        and (text[k - 1].isalnum() or text[k - 1] == "_")
        and not text[k + 2 :].strip()
        and " " not in text[:k].strip()
    )


class _Splitter:
    """Splits a script into logical lines."""

    def __init__(self) -> None:
        #: The logical lines and how far each is indented.
        self.lines: list[tuple[LogicalLine, int]] = []
        self.problems: list[Problem] = []
        self._open: list[tuple[str, int, int]] = []
        self._pending: list[str] = []
        self._start = self._indent = 0
        self._flaw: Flaw | None = None
        #: The problem of the line at hand that goes on below without brackets, by its place among the problems.
        self._joined: int | None = None

    def take(self, number: int, raw: str) -> None:
        """Takes one physical line in; a `;` parts it."""
        if not raw.isascii():
            raw = _UNSEEN.sub(" ", raw)
        at = parts = 0
        while True:
            scan = _scan(raw if not at else " " * at + raw[at:])
            if scan.slip is not None and scan.slip[0] == ";" and self._is_within(scan):
                column = scan.slip[1]
                self._report(
                    "R102", number, column, 1, "The arguments of a function are separated by commas.", "Write `,`.", ","
                )
                raw = f"{raw[:column]},{raw[column + 1 :]}"
                continue
            self._code(number, scan, begins=not at)
            if scan.slip is None:
                return
            sign, column = scan.slip
            if sign != ";":
                self._report(
                    "R102", number, column, len(sign), f"`{sign}` begins no comment.", "Comments begin with `--`.", "--"
                )
                return
            parts += 1
            if parts > _MOST_PARTS:
                self._report(
                    "R112",
                    number,
                    column,
                    1,
                    f"This line has more than {_MOST_PARTS} statements.",
                    "Begin new lines.",
                )
                return
            rest = raw[column + 1 :].strip()
            if not rest or rest.startswith("--"):
                self._report("R102", number, column, 1, "A line ends without `;`.", "Take it out.", "")
                return
            white = raw[: len(raw) - len(raw.lstrip())]
            gap = len(raw[column + 1 :]) - len(raw[column + 1 :].lstrip())
            self._report(
                "R102",
                number,
                column,
                1 + gap,
                "Each statement needs a separate line.",
                "Begin a new line.",
                f"\n{white}",
            )
            self.finish()
            at = column + 1
            self._start, self._indent = number, len(white)

    def _is_within(self, scan: _LineScan) -> bool:
        """Whether a bracket is open where the scan of a line has stopped."""
        return len(self._open) + sum(1 if b in _CLOSING else -1 for b, _ in scan.brackets) > 0

    def _report(
        self, code: str, number: int, column: int, length: int, message: str, fix: str, new: str | None = None
    ) -> None:
        self.problems.append(Problem(code, Span(number, column + 1, length), message, fix, new))

    def _code(self, number: int, scan: _LineScan, *, begins: bool) -> None:
        code = scan.code
        if not code.strip():
            if self._pending and begins:
                self._pending.append("")  # the rows of a line are the lines of the script
            return
        code = self._without_tabs(number, code)
        here = len(code) - len(code.lstrip()) if begins else self._indent
        word = _WORD.match(code.lstrip())
        first = word.group() if word else ""
        joins = (
            bool(self._pending)
            and here > self._indent
            and first in JOINING_WORDS
            and (first not in _BLOCK_WORDS or not _opens_block(self._pending[0]))
        )
        if not joins and not self._open and self._pending and begins and _OPERATOR.match(code.lstrip()):
            joins = True
            self._goes_on_below(number, code)
        if not self._open and not joins:
            self.finish()
            self._start, self._indent = number, here
        if self._open and _starts_statement(first) and self._pending:
            self._close_brackets()
            self.finish()
            self._start, self._indent = number, here
        if scan.open_quote is not None:
            self._open_text(number, code, scan.open_quote)
        self._count_brackets(number, scan)
        self._pending.append(code)

    def _goes_on_below(self, number: int, code: str) -> None:
        """A line that begins with an operator: it goes on with the one above, which is read so."""
        sign = _OPERATOR.match(code.lstrip())
        assert sign is not None
        above = _BEFORE_VALUE.match(self._pending[0])
        column = len(code) - len(code.lstrip())
        also: tuple[tuple[Span, str], ...] = ()
        if above is not None:
            also = ((Span(self._start, above.end() + 1, 0), "("), (Span(number, len(code.rstrip()) + 1, 0), ")"))
        before = self._joined
        if before is not None and before == len(self.problems) - 1:  # one more row: the bracket closes behind it
            first = self.problems[before]
            self.problems[before] = replace(first, also=(first.also[0], also[1]) if also and first.also else ())
            return
        self._joined = len(self.problems)
        self.problems.append(
            Problem(
                "R102",
                Span(number, column + 1, len(sign.group())),
                f"A line cannot begin with `{sign.group()}`: a line goes on below only within brackets.",
                "Put brackets around the whole, or join the two lines.",
                None,
                also,
            )
        )

    def _without_tabs(self, number: int, code: str) -> str:
        white = code[: len(code) - len(code.lstrip())]
        if "\t" in white:
            self._report(
                "R105",
                number,
                0,
                len(white),
                "Indentation is made of spaces, not tabs.",
                "Put four spaces in place of each tab.",
                white.replace("\t", " " * INDENT),
            )
            return white.expandtabs(INDENT) + code.lstrip()
        return code.replace("\t", " ")

    def _open_text(self, number: int, code: str, quote: int) -> None:
        before = sum(len(row) + 1 for row in self._pending)
        clause = _NEXT_CLAUSE.search(code, quote + 1)
        places = [clause.start(), len(code)] if clause is not None else [len(code)]
        problem = Problem(
            "R103",
            Span(number, quote + 1, len(code) - quote),
            "This text has no closing quote.",
            'Put a " where the text ends.',
        )
        self._flaw = self._flaw or Flaw(problem, tuple((before + at, '"') for at in places))

    def _count_brackets(self, number: int, scan: _LineScan) -> None:
        for bracket, column in scan.brackets:
            if bracket in _CLOSING:
                self._open.append((bracket, number, column))
            elif self._open and self._open[-1][0] == _PAIRS[bracket]:
                self._open.pop()
            else:
                problem = Problem(
                    "R104",
                    Span(number, column + 1),
                    f"This `{bracket}` closes nothing.",
                    "Take it out, or put the opening bracket before it.",
                    "",
                )
                self._flaw = self._flaw or Flaw(problem)

    def _statement_below(self) -> int:
        """The row on which a statement begins below a bracket that is left open; 0 for none."""
        for k, row in enumerate(self._pending[1:], 1):
            word = _WORD.match(row.lstrip())
            if word is not None and word.group() in STATEMENT_WORDS and len(row) - len(row.lstrip()) <= self._indent:
                return k
        return 0

    def _close_brackets(self) -> None:
        bracket, number, column = self._open[-1]
        problem = Problem(
            "R104",
            Span(number, column + 1),
            f"This `{bracket}` is never closed.",
            f"Put a `{_CLOSING[bracket]}` where it ends.",
        )
        while not self._pending[-1]:
            self._pending.pop()
        missing = "".join(_CLOSING[b] for b, _, _ in reversed(self._open))
        self._flaw = self._flaw or Flaw(problem, ((len("\n".join(self._pending)), missing),))
        self._open.clear()

    def finish(self) -> None:
        """Ends the logical line at hand."""
        self._joined = None
        while self._pending and not self._pending[-1]:
            self._pending.pop()
        if self._open and (below := self._statement_below()):
            rows, self._pending = self._pending[below:], self._pending[:below]
            number = self._start + below
            self._open = [o for o in self._open if o[1] < number]
            self._flaw = None
            self.finish()
            for k, row in enumerate(rows):
                self.take(number + k, row)
            self.finish()
            return
        if self._open:
            self._close_brackets()
        if self._pending:
            self.lines.append((LogicalLine("\n".join(self._pending), self._start, 0, self._flaw), self._indent))
        self._pending.clear()
        self._flaw = None


def _with_depths(lines: list[tuple[LogicalLine, int]], problems: list[Problem]) -> list[LogicalLine]:
    """The lines with their depth in blocks, by how far each is indented."""
    step = next((indent for _, indent in lines if indent), INDENT)
    odd = [(line, indent) for line, indent in lines if indent % INDENT]
    if odd and step < INDENT and all(indent % step == 0 for _, indent in lines):
        # The whole script is indented by another step: that is one mistake.
        wanted = [(Span(line.number, 1, indent), " " * (indent // step * INDENT)) for line, indent in lines if indent]
        (first, new), *others = wanted
        problems.append(
            Problem(
                "R106",
                first,
                f"A block is indented by four spaces a step, and here it is {step}.",
                f"Use {len(new)} spaces here.",
                new,
                tuple(others),
            )
        )
        return [_at_depth(line, indent // step) for line, indent in lines]
    made: list[LogicalLine] = []
    for line, indent in lines:
        depth, rest = divmod(indent, INDENT)
        if rest:
            depth = _near_depth(made[-1] if made else None, depth)
            spaces = " " * (depth * INDENT)
            problems.append(
                Problem(
                    "R106",
                    Span(line.number, 1, indent),
                    "A block is indented by four spaces a step.",
                    f"Use {len(spaces)} spaces here." if spaces else "Start it at the left margin.",
                    spaces,
                )
            )
        made.append(_at_depth(line, depth))
    return made


def _at_depth(line: LogicalLine, depth: int) -> LogicalLine:
    return LogicalLine(line.text, line.number, depth, line.flaw) if depth else line


def _near_depth(above: LogicalLine | None, below: int) -> int:
    """The depth that is meant by an indentation between two: one deeper where a block was opened above."""
    if above is None:
        return 0
    if _opens_block(above.text):
        return above.depth + 1
    return min(below + 1, above.depth)


def lines_of(text: str) -> list[str]:
    """The lines of a script, however they end."""
    return text.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n").split("\n")


def logical_lines(text: str) -> tuple[list[LogicalLine], list[Problem]]:
    """Splits a script into logical lines, with what is wrong about their signs, quotes and indentation."""
    splitter = _Splitter()
    for number, raw in enumerate(lines_of(text), 1):
        splitter.take(number, raw)
    splitter.finish()
    return _with_depths(splitter.lines, splitter.problems), splitter.problems


def _starts_statement(word: str) -> bool:
    return word in STATEMENT_WORDS and word not in JOINING_WORDS and word not in {"if", "line"}


def _opens_block(text: str) -> bool:
    words = text.split(maxsplit=1)
    return bool(words) and words[0] in {"if", "else", "for", "define", TRADE}
