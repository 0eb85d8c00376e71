"""Text to tree. Every logical line is read on its own, so one bad line never hides the next.

Reading a line is remembered by its text: while a script is typed, only the changed line is read again.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from functools import lru_cache
from importlib.resources import files
from pathlib import Path
from typing import Any, NoReturn

import platformdirs
from lark import Lark, Token, Tree
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from oakladder.rung import tree as t
from oakladder.rung.problems import Cancelled, Problem, Span, did_you_mean
from oakladder.rung.read.lines import Line, logical_lines
from oakladder.rung.values import is_timeframe
from oakladder.rung.words import CLAUSES, OUTPUTS, RESERVED, STATEMENT_WORDS, Reads, grammar

#: The longest script: more than its statements need, few enough letters to be coloured and checked at each key.
MAX_BYTES = 200_000
MAX_BRACKETS = 60
MAX_LINE = 20_000
MAX_DEPTH = 12
#: How deep the parts of one expression may lie in each other; a chain of `and`s or sums is as deep as it is long.
MAX_NESTING = 250
#: The most lines that say something, and the most `else if`s after one `if`.
MAX_STATEMENTS, MAX_BRANCHES = 5_000, 200
#: Larger numbers are no prices; their products would soon be beyond what can be counted with.
MAX_NUMBER = 1e100

_BLOCK_RULES = frozenset(["if_line", "else_if_line", "else_line", "for_line", "define_line"])
_FORM = re.compile(r"\+?(\.\d{1,2})?%?$")
_BRACE = re.compile(r"\{\{|\}\}|\{([^{}]*)\}|[{}]")


#: A node of lark's own tree, or a token; its stubs tell the two apart nowhere.
Node = Any


@lru_cache(maxsize=1)
def _grammar() -> Lark:
    source = grammar(files(__package__).joinpath("grammar.lark").read_text(encoding="utf-8"))
    folder = Path(platformdirs.user_cache_dir("oakladder"))
    try:
        folder.mkdir(parents=True, exist_ok=True)
        cache: str | bool = str(folder / "grammar.tables")  # lark checks that it fits the grammar
    except OSError:
        cache = False
    return Lark(
        source,
        parser="lalr",
        lexer="contextual",
        start=["start", "expr"],
        propagate_positions=True,
        maybe_placeholders=False,
        cache=cache,
    )


@lru_cache(maxsize=4096)
def _read(text: str, start: str) -> Node:
    return _grammar().parse(text, start=start)


class _Bad(Exception):
    """A line that cannot be used; the problem is already written down."""


class Parser:
    """Reads one script; problems gather in `problems`."""

    def __init__(self, text: str, cancelled: Callable[[], bool] | None = None):
        self.problems: list[Problem] = []
        self._cancelled = cancelled
        self._line = Line("", 1, 0)
        self._offset = (0, 0)
        self._nesting = self._statements = 0
        if len(text) > MAX_BYTES:
            self.problems.append(
                Problem(
                    "R100",
                    Span(1, 1),
                    f"This script has {len(text):,} characters.",
                    f"A script may have at most {MAX_BYTES:,}; split it with `use`.",
                )
            )
            text = ""
        self._lines, found = logical_lines(text)
        self.problems.extend(found)

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
                    title = value
                else:
                    about = value
            else:
                body.append(item)
        return t.Script(version, title, about, tuple(body))

    def _block(self, depth: int, cursor: _Cursor) -> Iterator[t.Statement | tuple[str, str]]:
        while (line := cursor.peek()) is not None and line.depth >= depth:
            cursor.step()
            if line.depth > depth:
                self._report(
                    "R106",
                    Span(line.number, 1, line.depth * 4),
                    "This line is indented, but no block is open above it.",
                    "Start it further left.",
                )
            try:
                item = self._statement(line, depth, cursor)
            except _Bad:
                self._skip_block(line, cursor)
                continue
            if item is not None:
                yield item

    def _skip_block(self, line: Line, cursor: _Cursor) -> None:
        """Reads what is indented under a bad line for its own problems; a stray block is no news."""
        if (below := cursor.peek()) is not None and below.depth > line.depth:
            list(self._block(below.depth, cursor))

    def _body(self, line: Line, depth: int, cursor: _Cursor) -> tuple[t.Statement, ...]:
        below = cursor.peek()
        if below is None or below.depth <= depth:
            self._report(
                "R109",
                self._whole(line),
                "Nothing is indented under this line.",
                "Indent the lines that belong to it by four spaces.",
            )
            return ()
        if below.depth > MAX_DEPTH:
            self._report(
                "R112",
                self._whole(below),
                f"Blocks are nested more than {MAX_DEPTH} deep.",
                "Use `define` for the inner part.",
            )
        body = list(self._block(depth + 1, cursor))
        return tuple(s for s in body if not isinstance(s, tuple))

    def _statement(self, line: Line, depth: int, cursor: _Cursor) -> t.Statement | tuple[str, str] | None:
        if self._cancelled is not None and self._cancelled():
            raise Cancelled
        self._statements += 1
        if self._statements > MAX_STATEMENTS:
            self._report(
                "R112",
                self._whole(line),
                f"A script has at most {MAX_STATEMENTS:,} lines that say something, and this is one more.",
                "Put some of it into another script, and take it from there with `use`.",
            )
            cursor.leave()
            raise _Bad
        node = self._parse_line(line)
        if node.data not in _BLOCK_RULES:
            return self._simple(node, line)
        if node.data in {"else_line", "else_if_line"}:
            self._report(
                "R113",
                self._whole(line),
                "This `else` has no `if` above it.",
                "Put it right below the block of an `if`.",
            )
            raise _Bad
        if node.data == "define_line":
            name, *parameters = node.children
            return t.Define(
                self._name(name),
                tuple(self._parameter(p) for p in parameters if p is not None),
                self._body(line, depth, cursor),
                self._whole(line),
            )
        if node.data == "for_line":
            counter, first, last = node.children
            made = (self._name(counter), self._expr(first), self._expr(last))
            return t.For(*made, self._body(line, depth, cursor), self._whole(line))
        condition = self._expr(node.children[0])
        branches: list[tuple[t.Expr | None, tuple[t.Statement, ...]]] = [(condition, self._body(line, depth, cursor))]
        while (below := cursor.peek()) is not None and below.depth == depth and below.text.split()[0] == "else":
            cursor.step()
            try:
                other = self._parse_line(below)
            except _Bad:
                self._skip_block(below, cursor)
                continue
            if len(branches) == MAX_BRANCHES:
                self._report(
                    "R112",
                    self._whole(below),
                    f"After one `if` there may be {MAX_BRANCHES - 1} `else if`s, and this is one more.",
                    "Part the cases into several `if`s.",
                )
            test = self._expr(other.children[0]) if other.data == "else_if_line" else None
            branches.append((test, self._body(below, depth, cursor)))
            if test is None:
                break
        return t.If(tuple(branches), self._whole(line))

    # --- one line ---------------------------------------------------------------------------------

    def _parse_line(self, line: Line) -> Node:
        self._line, self._offset = line, (0, 0)
        if len(line.text) > MAX_LINE:
            self._too_deep(line, f"This line has {len(line.text):,} letters; {MAX_LINE:,} are allowed")
        brackets = _bracket_depth(line.text)
        if brackets > MAX_BRACKETS:
            self._too_deep(line, f"Brackets are nested {brackets} deep here; {MAX_BRACKETS} are allowed")
        stripped = line.text.lstrip()
        word = re.match(r"[A-Za-z_][A-Za-z0-9_]*", stripped)
        if word is None or word.group() not in STATEMENT_WORDS:
            self._unknown_start(line, stripped, word.group() if word else "")
            raise _Bad
        try:
            return _read(line.text, "start")
        except UnexpectedInput as error:
            self._unreadable(error, line.text)
            raise _Bad from None
        except RecursionError:
            self._too_deep(line, "This line is nested too deeply")

    def _too_deep(self, line: Line, what: str) -> NoReturn:
        self._report("R112", self._whole(line), f"{what}.", "Make parts of it into names with `let`.")
        raise _Bad

    def _unknown_start(self, line: Line, text: str, word: str) -> None:
        span = Span(line.number, len(line.text) - len(text) + 1, max(len(word), 1))
        if word and re.match(r"[A-Za-z_]\w*\s*=(?!=)", text):
            self._report(
                "R108",
                span,
                f"`{word}` is given a value, but the line does not say how.",
                f"Write `let {word} = …`, or `set {word} = …` to change a `keep`.",
                f"let {word}",
            )
            return
        hint = did_you_mean(word, STATEMENT_WORDS) if word else ""
        what = f"`{word}` starts no statement." if word else f"A line cannot start with `{text[:1]}`."
        self._report(
            "R101", span, what, hint or "A line starts with a word such as `let`, `signal`, `line` or `mark`.", None
        )

    def _unreadable(self, error: UnexpectedInput, text: str) -> None:
        line, column = max(getattr(error, "line", 1), 1), max(getattr(error, "column", 1), 1)
        if isinstance(error, UnexpectedToken) and error.token.type == "$END":
            rows = text.split("\n")
            span = self._place(len(rows), max(len(rows[-1]), 1), 1)
            self._report("R102", span, "The line stops too early.", f"After `{_tail(text)}` something is missing.")
            return
        token = str(error.token) if isinstance(error, UnexpectedToken) else ""
        char = token or text.split("\n")[line - 1][column - 1 : column]
        if isinstance(error, UnexpectedCharacters):
            word = re.match(r"[A-Za-z_]\w*|[^\sA-Za-z]", text.split("\n")[line - 1][column - 1 :])
            char = word.group() if word else char
        span = self._place(line, column, len(char) or 1)
        if char == "&" or char == "|":
            name = {"&": "and", "|": "or"}[char]
            self._report("R102", span, f"`{char}` means nothing in Rung.", f"Write `{name}`.", name)
            return
        if char in {"'"}:
            self._report("R102", span, "Texts stand in double quotes.", 'Use " on both sides.', '"')
            return
        expected = _words_allowed(error)
        hint = did_you_mean(char, expected) if char.isalpha() else ""
        self._report(
            "R102",
            span,
            f"`{char}` does not fit here.",
            hint or "Look for a missing comma, operator or bracket before it.",
        )

    # --- nodes ------------------------------------------------------------------------------------

    def _simple(self, node: Node, line: Line) -> t.Statement | tuple[str, str] | None:
        kids = node.children
        span = self._whole(line)
        rule = str(node.data)
        if rule == "version":
            number = str(kids[0])
            if number != "1":
                self._report("R111", self._token(kids[0]), f"There is no Rung {number} yet.", "Write `rung 1`.", "1")
            return ("version", "1")
        if rule in {"title", "about"}:
            return (rule, _unquote(str(kids[0])))
        if rule in OUTPUTS:
            return self._show(rule, kids, span)
        match rule:
            case "let":
                return t.Let(self._names(kids[0]), self._expr(kids[1]), span)
            case "keep" | "fresh":
                return t.Keep(self._name(kids[0]), self._expr(kids[1]), rule == "fresh", span)
            case "set":
                return t.Set(self._name(kids[0]), self._expr(kids[1]), span)
            case "stop":
                return t.Stop(span)
            case "give":
                return t.Give(tuple(self._expr(k) for k in kids), span)
            case "use":
                return t.Use(self._names(kids[0]), _unquote(str(kids[1])), span)
            case "signal":
                clauses = {str(c.data): c.children[0] for c in kids[2:]}
                tone = str(clauses["tone_clause"]) if "tone_clause" in clauses else "neutral"
                text = _unquote(str(clauses["text_clause"])) if "text_clause" in clauses else ""
                return t.Signal(self._name(kids[0]), self._expr(kids[1]), tone, text, span)
            case "setting":
                return self._setting(kids, span)
        raise AssertionError(rule)

    def _setting(self, kids: Sequence[Node], span: Span) -> t.Setting:
        limits: list[t.Expr] = []
        choices: tuple[t.Expr, ...] = ()
        text = ""
        for clause in kids[2:]:
            if clause.data == "range_clause":
                limits = [self._expr(k) for k in clause.children]
            elif clause.data == "choose_clause":
                choices = tuple(self._expr(k) for k in clause.children)
            else:
                text = _unquote(str(clause.children[0]))
        low, high, step = (limits + [None] * 3)[:3]
        return t.Setting(self._name(kids[0]), self._expr(kids[1]), low, high, step, choices, text, span)

    def _show(self, rule: str, kids: Sequence[Node], span: Span) -> t.Show:
        operands: list[t.Expr] = []
        clauses: list[t.Clause] = []
        for kid in kids:
            if isinstance(kid, Token):
                if kid.type == "STRING":
                    operands.append(t.Text((_unquote(str(kid)),), self._token(kid)))
                else:
                    clauses.append(t.Clause("painted", str(kid), self._token(kid)))
            elif kid.data == "link_ago":
                clauses.append(t.Clause("ago_start", self._expr(kid.children[0]), self._span(kid)))
            elif str(kid.data) in CLAUSES:
                clauses.append(self._clause(kid))
            else:
                operands.append(self._expr(kid))
        seen: set[str] = set()
        for clause in clauses:
            if clause.word in seen:
                self._report("R114", clause.span, f"`{clause.word}` is said twice.", "Keep one of them.")
            seen.add(clause.word)
        return t.Show(rule, tuple(operands), tuple(clauses), span)

    def _clause(self, node: Node) -> t.Clause:
        kids, span, clause = node.children, self._span(node), CLAUSES[str(node.data)]
        match clause.reads:
            case Reads.NOTHING:
                return t.Clause(clause.called, clause.word, span)
            case Reads.PLACE:
                return t.Clause(clause.called, str(kids[0]), span)
            case Reads.PANE:
                return t.Clause(clause.called, "pane " + _unquote(str(kids[0])), span)
            case Reads.CORNER:
                return t.Clause(clause.called, f"{kids[0]} {kids[1]}", span)
            case Reads.TEXT:
                return t.Clause(clause.called, _unquote(str(kids[0])), self._token(kids[0]))
            case Reads.WORD:
                return t.Clause(clause.called, str(kids[0]), self._token(kids[0]))
            case _:
                return t.Clause(clause.called, self._expr(kids[0]), span)

    def _names(self, node: Node) -> tuple[t.Name, ...]:
        return tuple(self._name(k) for k in node.children)

    def _name(self, token: Node) -> t.Name:
        name, span = str(token), self._token(token)
        if name != name.lower():
            self._report(
                "R203",
                span,
                f"Names are written small: `{name}` has capitals.",
                f"Write `{name.lower()}`.",
                name.lower(),
            )
            name = name.lower()
        if name in RESERVED:
            self._report(
                "R202",
                span,
                f"`{name}` is a word of the language and cannot be a name.",
                f"Call it `{name}_value`, say.",
            )
        return t.Name(name, span)

    def _parameter(self, node: Node) -> t.Parameter:
        return t.Parameter(
            self._name(node.children[0]), self._expr(node.children[1]) if len(node.children) > 1 else None
        )

    def _expr(self, node: Node) -> t.Expr:
        assert isinstance(node, Tree), node
        if self._nesting >= MAX_NESTING:
            self._too_deep(self._line, f"The parts of this line lie more than {MAX_NESTING} deep in each other")
        self._nesting += 1
        try:
            return _EXPRESSIONS[str(node.data)](self, node)
        finally:
            self._nesting -= 1

    # --- places -----------------------------------------------------------------------------------

    def _place(self, line: int, column: int, length: int) -> Span:
        down, right = self._offset
        return Span(self._line.number + down + line - 1, column + (right if line == 1 else 0), length)

    def _token(self, token: Token) -> Span:
        return self._place(token.line or 1, token.column or 1, len(token))

    def _span(self, node: Node) -> Span:
        meta = node.meta
        if meta.empty:
            return self._place(1, 1, 1)
        length = meta.end_column - meta.column if meta.end_line == meta.line else 1
        return self._place(meta.line, meta.column, max(length, 1))

    def _whole(self, line: Line) -> Span:
        first = line.text.split("\n")[0]
        body = first.lstrip()
        return Span(line.number, len(first) - len(body) + 1, max(len(body), 1))

    def _report(self, code: str, span: Span, message: str, fix: str, replacement: str | None = None) -> None:
        self.problems.append(Problem(code, span, message, fix, replacement))

    # --- expressions ------------------------------------------------------------------------------

    def _text(self, token: Token) -> t.Text:
        """A text with its ``{expression:form}`` parts read in place."""
        raw = str(token)[1:-1]
        parts: list[str | t.TextPart] = []
        at = 0
        for found in _BRACE.finditer(raw):
            parts.append(_unescape(raw[at : found.start()]))
            at = found.end()
            piece = found.group()
            if piece in {"{{", "}}"}:
                parts.append(piece[0])
            elif found.group(1) is None:
                self._report(
                    "R102",
                    self._inside(token, found.start(), 1),
                    f"This `{piece}` has no partner.",
                    f"Write `{piece}{piece}` for the sign itself.",
                    piece * 2,
                )
            else:
                parts.append(self._template(token, found.group(1), found.start() + 1))
        parts.append(_unescape(raw[at:]))
        joined: list[str | t.TextPart] = []
        for part in parts:
            if isinstance(part, str) and joined and isinstance(joined[-1], str):
                joined[-1] += part
            elif part != "":
                joined.append(part)
        return t.Text(tuple(joined), self._token(token))

    def _template(self, token: Token, inner: str, at: int) -> str | t.TextPart:
        source, colon, form = (
            inner.rpartition(":")
            if re.search(r":[^:\"]*$", inner) and not re.search(r"\d:\d\d$", inner)
            else (inner, "", "")
        )
        if colon and not _FORM.match(form):
            self._report(
                "R115",
                self._inside(token, at + len(source) + 1, len(form) or 1),
                f"`{form}` is no form for a number.",
                "Use .2 for two decimals, +.2 to show the sign, .1% for percent.",
            )
            form = ""
        try:
            node = _read(source, "expr")
        except (UnexpectedInput, RecursionError):
            self._report(
                "R102",
                self._inside(token, at, len(inner) or 1),
                f"`{source}` cannot be read.",
                "Between braces stands one expression, as in {close:.2}.",
            )
            return ""
        keep = self._offset
        place = self._inside(token, at, 1)
        self._offset = (place.line - self._line.number, place.column - 1)
        try:
            return t.TextPart(self._expr(node), form)
        finally:
            self._offset = keep

    def _inside(self, token: Token, index: int, length: int) -> Span:
        span = self._token(token)
        return Span(span.line, span.column + 1 + index, length)


class _Cursor:
    """A place in the list of lines."""

    def __init__(self, lines: list[Line]):
        self._lines, self._at = lines, 0

    def peek(self) -> Line | None:
        return self._lines[self._at] if self._at < len(self._lines) else None

    def step(self) -> None:
        self._at += 1

    def leave(self) -> None:
        """Goes to the end: nothing below is read."""
        self._at = len(self._lines)


def _bracket_depth(text: str) -> int:
    deepest = depth = 0
    for c in text:
        if c in "([":
            depth += 1
            deepest = max(deepest, depth)
        elif c in ")]":
            depth -= 1
    return deepest + text.count(" not not") + text.count("- -") + text.count("--")


def _tail(text: str) -> str:
    words = text.split()
    return words[-1] if words else ""


def _words_allowed(error: UnexpectedInput) -> list[str]:
    """The plain words that could stand where the reader stopped."""
    names = getattr(error, "accepts", None) or getattr(error, "expected", None) or getattr(error, "allowed", None) or ()
    return [str(name).lower() for name in names if str(name).isalpha()]


def _unquote(raw: str) -> str:
    return _unescape(raw[1:-1])


def _unescape(raw: str) -> str:
    return re.sub(r"\\(.)", lambda m: "\n" if m.group(1) == "n" else m.group(1), raw)


_Builder = Callable[["Parser", Node], t.Expr]


def _two(op: str) -> _Builder:
    return lambda p, n: t.Binary(op, p._expr(n.children[0]), p._expr(n.children[1]), p._span(n))


def _literal(kind: str, convert: Callable[[str], object]) -> _Builder:
    def build(p: Parser, n: Node) -> t.Expr:
        token = n.children[0]
        assert isinstance(token, Token)
        return t.Literal(kind, convert(str(token)), p._token(token))

    return build


def _word(kind: str, value: object) -> _Builder:
    return lambda p, n: t.Literal(kind, value, p._span(n))


def _number(p: Parser, n: Node) -> t.Expr:
    token = _only_token(n)
    text = token.replace("_", "")
    value = float(text[:-1]) / 100.0 if text.endswith("%") else float(text)
    if not abs(value) <= MAX_NUMBER:
        p._report(
            "R116", p._token(token), f"{token} is larger than any number may be.", f"Write {MAX_NUMBER:g} at most."
        )
        value = 1.0
    return t.Literal("number", value, p._token(token))


def _clock(p: Parser, n: Node) -> t.Expr:
    token = _only_token(n)
    hours, minutes = (int(part) for part in token.split(":"))
    if not (hours < 24 and minutes < 60):
        p._report("R117", p._token(token), f"{token} is no time of day.", "They go from 00:00 to 23:59.")
        hours = minutes = 0
    return t.Literal("clock", hours * 60 + minutes, p._token(token))


def _timeframe(p: Parser, n: Node) -> t.Expr:
    token = _only_token(n)
    text = str(token)
    if not is_timeframe(text):
        p._report(
            "R118",
            p._token(token),
            f"There is no timeframe {token}.",
            "Write 1d, 1w or 1mo, or a whole number of minutes or hours, from 1m to 24h.",
        )
        text = "1d"
    return t.Literal("timeframe", text, p._token(token))


def _only_token(n: Node) -> Token:
    token = n.children[0]
    assert isinstance(token, Token)
    return token


def _compare(p: Parser, n: Node) -> t.Expr:
    values = tuple(p._expr(k) for k in n.children[::2])
    ops = []
    for token in n.children[1::2]:
        assert isinstance(token, Token)
        if token == "=":
            p._report("R107", p._token(token), "One `=` gives a name its value; two compare.", "Write `==`.", "==")
        ops.append("==" if token == "=" else str(token))
    return t.Compare(values, tuple(ops), p._span(n))


def _between(p: Parser, n: Node) -> t.Expr:
    value, low, high = (p._expr(k) for k in n.children)
    return t.Compare((low, value, high), ("<=", "<="), p._span(n))


def _call(p: Parser, n: Node) -> t.Expr:
    token = n.children[0]
    plain: list[t.Expr] = []
    named: list[tuple[str, t.Expr]] = []
    for argument in n.children[1:]:
        assert isinstance(argument, Tree)
        if argument.data == "named_argument":
            named.append((str(argument.children[0]), p._expr(argument.children[1])))
        else:
            plain.append(p._expr(argument.children[0]))
    name = p._name(token)
    return t.Call(name.name, tuple(plain), tuple(named), p._span(n))


def _on(forming: bool) -> _Builder:
    return lambda p, n: t.OnTimeframe(p._expr(n.children[0]), p._expr(n.children[1]), forming, p._span(n))


def _pick(p: Parser, n: Node) -> t.Expr:
    return t.Pick(p._expr(n.children[0]), str(n.children[1]), p._token(n.children[1]))


def _choice(p: Parser, n: Node) -> t.Expr:
    condition, yes_value, no_value = (p._expr(k) for k in n.children)
    return t.Choice(condition, yes_value, no_value, p._span(n))


_EXPRESSIONS: dict[str, _Builder] = {
    "choice": _choice,
    "otherwise": _two("else"),
    "or_": _two("or"),
    "and_": _two("and"),
    "not_": lambda p, n: t.Unary("not", p._expr(n.children[0]), p._span(n)),
    "neg": lambda p, n: t.Unary("-", p._expr(n.children[0]), p._span(n)),
    "compare": _compare,
    "between": _between,
    "add": _two("+"),
    "sub": _two("-"),
    "mul": _two("*"),
    "div": _two("/"),
    "mod": _two("mod"),
    "pow": _two("^"),
    "lag": lambda p, n: t.Lag(p._expr(n.children[0]), p._expr(n.children[1]), p._span(n)),
    "pick": _pick,
    "call": _call,
    "on": _on(False),
    "on_forming": _on(True),
    "of": lambda p, n: t.OfSymbol(p._expr(n.children[0]), p._expr(n.children[1]), p._span(n)),
    "number": _number,
    "timeframe": _timeframe,
    "clock": _clock,
    "colour": _literal("colour", str.lower),
    "string": lambda p, n: p._text(n.children[0]),
    "yes": _word("flag", True),
    "no": _word("flag", False),
    "none": _word("none", None),
    "name": lambda p, n: p._name(n.children[0]),
}


def parse(text: str, cancelled: Callable[[], bool] | None = None) -> tuple[t.Script, list[Problem]]:
    """The tree of a script and the problems of its text (codes R1xx and R203). Raises `Cancelled`."""
    parser = Parser(text, cancelled)
    script = parser.script()
    return script, parser.problems
