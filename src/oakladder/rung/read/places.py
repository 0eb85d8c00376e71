"""Places in a script while it is read, and the problems that are found there."""

from __future__ import annotations

from lark import Token

from oakladder.rung.problems import Problem, Span
from oakladder.rung.read.grammar import Node
from oakladder.rung.read.lines import LogicalLine


class Places:
    """Turns places in the line at hand into places in the script; problems gather in ``problems``."""

    def __init__(self) -> None:
        self.problems: list[Problem] = []
        self.line = LogicalLine("", 1, 0)
        #: Where the text that is read begins within its line: rows down, columns to the right.
        self.offset = (0, 0)

    def place(self, line: int, column: int, length: int) -> Span:
        down, right = self.offset
        return Span(self.line.number + down + line - 1, column + (right if line == 1 else 0), length)

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

    def report(self, code: str, span: Span, message: str, fix: str, replacement: str | None = None) -> None:
        self.problems.append(Problem(code, span, message, fix, replacement))

    def inside(self, token: Token, index: int, length: int) -> Span:
        span = self.token(token)
        return Span(span.line, span.column + 1 + index, length)
