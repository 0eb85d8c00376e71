"""Text to tree. Every logical line is read on its own, so one bad line never hides the next.

Reading a line is remembered by its text: while a script is typed, only the changed line is read again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from oakladder.rung import tree as t
from oakladder.rung.problems import Cancelled, Problem, Span
from oakladder.rung.read.expressions import BadLine, ExpressionReader, small
from oakladder.rung.read.line import LineReader
from oakladder.rung.read.lines import LogicalLine, logical_lines
from oakladder.rung.read.places import Places
from oakladder.rung.trade_words import Side

#: The longest script: more than its statements need, few enough letters to be coloured and checked at each key.
MAX_BYTES = 200_000
MAX_DEPTH = 12
#: The most lines that say something, and the most `else if`s after one `if`.
MAX_STATEMENTS, MAX_BRANCHES = 5_000, 200

_BLOCK_RULES = frozenset(["if_line", "else_if_line", "else_line", "for_line", "define_line", "trade_line"])


class Parser:
    """Reads one script; problems gather in `problems`."""

    def __init__(self, text: str, cancelled: Callable[[], bool] | None = None):
        self.places = Places()
        self.expressions = ExpressionReader(self.places)
        self.lines = LineReader(self.places, self.expressions)
        self._cancelled = cancelled
        self._statements = 0
        if len(text) > MAX_BYTES:
            self.places.problems.append(
                Problem(
                    "R100",
                    Span(1, 1),
                    f"This script has {len(text):,} characters.",
                    f"A script may have at most {MAX_BYTES:,}; split it with `use`.",
                )
            )
            text = ""
        self._lines, found = logical_lines(text)
        self.places.problems.extend(found)

    # --- lines and blocks -------------------------------------------------------------------------

    def script(self) -> t.Script:
        """The tree of everything that could be read."""
        version: int | None = None
        title = about = ""
        body: list[t.Statement] = []
        for item in self._block(0, _Cursor(self._lines)):
            if isinstance(item, tuple):
                word, value = item
                if word == "version":
                    version = int(value)
                elif word == "title":
                    self._once("title", title)
                    title = title or value
                else:
                    self._once("about", about)
                    about = about or value
            else:
                body.append(item)
        return t.Script(version, title, about, tuple(body))

    def _once(self, word: str, before: str) -> None:
        if before:
            self.places.report(
                "R119",
                self.places.whole(self.places.line),
                f"The script has a `{word}` already; the first one counts.",
                "Keep one of them.",
                "",
            )

    def _block(self, depth: int, cursor: _Cursor) -> Iterator[t.Statement | tuple[str, str]]:
        while (line := cursor.peek()) is not None and line.depth >= depth:
            cursor.step()
            if line.depth > depth:
                self.places.report(
                    "R106",
                    Span(line.number, 1, line.depth * 4),
                    "This line is indented, but no block is open above it.",
                    "Start it further left.",
                )
            try:
                item = self._statement(line, depth, cursor)
            except BadLine:
                yield self.lines.lost(line, self._lost_block(line, cursor))
                continue
            if isinstance(item, tuple) and depth > 0:
                word = "rung" if item[0] == "version" else item[0]
                self.places.report(
                    "R113",
                    self.places.whole(line),
                    f"`{word}` is said of the whole script, and this line is in a block.",
                    "Move it to the top of the script.",
                )
            if item is not None:
                yield item

    def _lost_block(self, line: LogicalLine, cursor: _Cursor) -> tuple[t.Statement, ...]:
        """What is indented under a bad line, read for its own problems; a stray block is no news."""
        if (below := cursor.peek()) is not None and below.depth > line.depth:
            return tuple(s for s in self._block(below.depth, cursor) if not isinstance(s, tuple))
        return ()

    def _body(self, line: LogicalLine, depth: int, cursor: _Cursor) -> tuple[t.Statement, ...]:
        below = cursor.peek()
        if below is None or below.depth <= depth:
            self.places.report(
                "R109",
                self.places.whole(line),
                "Nothing is indented under this line.",
                "Indent the lines that belong to it by four spaces.",
                also=() if below is None else ((Span(below.number, 1, 0), "    "),),
            )
            return ()
        if below.depth > MAX_DEPTH:
            self.places.report(
                "R112",
                self.places.whole(below),
                f"Blocks are nested more than {MAX_DEPTH} deep.",
                "Use `define` for the inner part.",
            )
        body = list(self._block(depth + 1, cursor))
        return tuple(s for s in body if not isinstance(s, tuple))

    def _statement(self, line: LogicalLine, depth: int, cursor: _Cursor) -> t.Statement | tuple[str, str] | None:
        if self._cancelled is not None and self._cancelled():
            raise Cancelled
        self._statements += 1
        if self._statements > MAX_STATEMENTS:
            self.places.report(
                "R112",
                self.places.whole(line),
                f"A script has at most {MAX_STATEMENTS:,} lines that say something, and this is one more.",
                "Put some of it into another script, and take it from there with `use`.",
            )
            cursor.leave()
            raise BadLine
        node = self.lines.parse_line(line)
        if node.data not in _BLOCK_RULES:
            return self.lines.simple(node, line)
        if node.data in {"else_line", "else_if_line"}:
            self.places.report(
                "R113",
                self.places.whole(line),
                "This `else` has no `if` above it.",
                "Put it right below the block of an `if`.",
            )
            raise BadLine
        if node.data == "define_line":
            name, *parameters = node.children
            return t.Define(
                self.expressions.name(name),
                tuple(self.expressions.parameter(p) for p in parameters if p is not None),
                self._body(line, depth, cursor),
                self.places.whole(line),
            )
        if node.data == "trade_line":
            name, side = node.children
            called = self.expressions.name(name)  # before the body is read, which moves the place
            return t.Trade(called, Side[str(side).upper()], self._body(line, depth, cursor), self.places.whole(line))
        if node.data == "for_line":
            counter, first, last = node.children
            made = (self.expressions.name(counter), self.expressions.expr(first), self.expressions.expr(last))
            return t.For(*made, self._body(line, depth, cursor), self.places.whole(line))
        condition = self.expressions.expr(node.children[0])
        branches: list[tuple[t.Expr | None, tuple[t.Statement, ...]]] = [(condition, self._body(line, depth, cursor))]
        while (below := cursor.peek()) is not None and below.depth == depth and _goes_on(below.text):
            cursor.step()
            try:
                other = self.lines.parse_line(below)
            except BadLine:
                branches.append((None, (self.lines.lost(below, self._lost_block(below, cursor)),)))
                continue
            if len(branches) == MAX_BRANCHES:
                self.places.report(
                    "R112",
                    self.places.whole(below),
                    f"After one `if` there may be {MAX_BRANCHES - 1} `else if`s, and this is one more.",
                    "Part the cases into several `if`s.",
                )
            test = self.expressions.expr(other.children[0]) if other.data == "else_if_line" else None
            branches.append((test, self._body(below, depth, cursor)))
            if test is None:
                break
        return t.If(tuple(branches), self.places.whole(line))


def _goes_on(text: str) -> bool:
    """Whether a line goes on with an `if`, by any of the words with which that is meant."""
    return text.split(maxsplit=1)[0].rstrip(":{") in ("else", "elif", "elseif", "elsif", "elsf", "elf")


class _Cursor:
    """A place in the list of lines."""

    def __init__(self, lines: list[LogicalLine]):
        self._lines, self._at = lines, 0

    def peek(self) -> LogicalLine | None:
        return self._lines[self._at] if self._at < len(self._lines) else None

    def step(self) -> None:
        self._at += 1

    def leave(self) -> None:
        """Goes to the end: nothing below is read."""
        self._at = len(self._lines)


def parse(text: str, cancelled: Callable[[], bool] | None = None) -> tuple[t.Script, list[Problem]]:
    """The tree of a script and the problems of its text (codes R1xx and R203). Raises `Cancelled`."""
    parser = Parser(text, cancelled)
    script = parser.script()
    for name, (first, *others) in parser.places.capitals.items():
        new = small(name)
        parser.places.report(
            "R203",
            first,
            f"Names are written small: `{name}` has capitals.",
            f"Write `{new}`.",
            new,
            tuple((span, new) for span in others),
        )
    return script, parser.places.problems
