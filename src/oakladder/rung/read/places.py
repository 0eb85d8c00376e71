"""Places in a script while it is read, and the problems that are found there."""

from __future__ import annotations

from lark import Token

from oakladder.rung.problems import Problem, Span
from oakladder.rung.read.grammar import Node
from oakladder.rung.read.lines import LogicalLine
from oakladder.rung.read.recovery import Recovered


class Places:
    """Turns places in the line at hand into places in the script; problems gather in ``problems``."""

    def __init__(self) -> None:
        self.problems: list[Problem] = []
        #: Names that are written with capitals, and where.
        self.capitals: dict[str, list[Span]] = {}
        self.line = LogicalLine("", 1, 0)
        #: Where the text that is read begins within its line: rows down, columns to the right.
        self.offset = (0, 0)
        #: The line as it is read, where that is not as it was written, and the place that each letter came from.
        self._read: Recovered | None = None

    def take(self, line: LogicalLine, as_read: Recovered | None = None) -> None:
        """Goes to a line; ``as_read`` is the text that is read instead."""
        self.line, self.offset, self._read = line, (0, 0), as_read

    def place(self, line: int, column: int, length: int) -> Span:
        """A place in the text that is read, as one of the script."""
        if self._read is not None and self.offset == (0, 0):
            at = _index(self._read.text, line, column)
            first = self._read.origin[min(at, len(self._read.origin) - 1)]
            last = self._read.origin[min(at + length, len(self._read.origin) - 1)]
            return self.written(first, max(last, first + 1))
        down, right = self.offset
        return Span(self.line.number + down + line - 1, column + (right if line == 1 else 0), length)

    def written(self, first: int, last: int) -> Span:
        """The letters ``first`` up to ``last`` of the line as it was written."""
        before = self.line.text[:first]
        row = before.count("\n")
        return Span(self.line.number + row, first - (before.rfind("\n") + 1) + 1, max(last - first, 0))

    def token(self, token: Token) -> Span:
        return self.place(token.line or 1, token.column or 1, len(token))

    def span(self, node: Node) -> Span:
        meta = node.meta
        if meta.empty:
            return self.place(1, 1, 1)
        length = meta.end_column - meta.column if meta.end_line == meta.line else 1
        return self.place(meta.line, meta.column, max(length, 1))

    def whole(self, line: LogicalLine) -> Span:
        first = line.text.split("\n")[0]
        body = first.lstrip()
        return Span(line.number, len(first) - len(body) + 1, max(len(body), 1))

    def report(
        self,
        code: str,
        span: Span,
        message: str,
        fix: str,
        replacement: str | None = None,
        also: tuple[tuple[Span, str], ...] = (),
    ) -> None:
        self.problems.append(Problem(code, span, message, fix, replacement, also))

    def inside(self, token: Token, index: int, length: int) -> Span:
        span = self.token(token)
        return Span(span.line, span.column + 1 + index, length)


def _index(text: str, line: int, column: int) -> int:
    """The letter of a text at a row and column, both counted from 1."""
    at = 0
    for _ in range(line - 1):
        at = text.find("\n", at) + 1
    return at + column - 1
