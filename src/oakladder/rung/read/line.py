"""One logical line: the grammar's tree of it, its clauses, or what is wrong with it."""

from __future__ import annotations

import re
from collections.abc import Sequence

from lark import Token
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from oakladder.rung import tree as t
from oakladder.rung.problems import Span, did_you_mean
from oakladder.rung.read.expressions import BadLine, ExpressionReader, unquote
from oakladder.rung.read.grammar import Node, read
from oakladder.rung.read.lines import LogicalLine
from oakladder.rung.read.places import Places
from oakladder.rung.words import CLAUSES, OUTPUTS, STATEMENT_WORDS, Reads

MAX_LINE = 20_000
MAX_BRACKETS = 60


class LineReader:
    """Reads lines that open no block."""

    def __init__(self, places: Places, expressions: ExpressionReader):
        self.places, self.expressions = places, expressions

    def parse_line(self, line: LogicalLine) -> Node:
        self.places.line, self.places.offset = line, (0, 0)
        if len(line.text) > MAX_LINE:
            self.expressions.too_deep(line, f"This line has {len(line.text):,} letters; {MAX_LINE:,} are allowed")
        brackets = _bracket_depth(line.text)
        if brackets > MAX_BRACKETS:
            self.expressions.too_deep(line, f"Brackets are nested {brackets} deep here; {MAX_BRACKETS} are allowed")
        stripped = line.text.lstrip()
        word = re.match(r"[A-Za-z_][A-Za-z0-9_]*", stripped)
        if word is None or word.group() not in STATEMENT_WORDS:
            self._unknown_start(line, stripped, word.group() if word else "")
            raise BadLine
        try:
            return read(line.text, "start")
        except UnexpectedInput as error:
            self._unreadable(error, line.text)
            raise BadLine from None
        except RecursionError:
            self.expressions.too_deep(line, "This line is nested too deeply")

    def _unknown_start(self, line: LogicalLine, text: str, word: str) -> None:
        span = Span(line.number, len(line.text) - len(text) + 1, max(len(word), 1))
        if word and re.match(r"[A-Za-z_]\w*\s*=(?!=)", text):
            self.places.report(
                "R108",
                span,
                f"`{word}` is given a value, but the line does not say how.",
                f"Write `let {word} = …`, or `set {word} = …` to change a `keep`.",
                f"let {word}",
            )
            return
        hint = did_you_mean(word, STATEMENT_WORDS) if word else ""
        what = f"`{word}` starts no statement." if word else f"A line cannot start with `{text[:1]}`."
        self.places.report(
            "R101", span, what, hint or "A line starts with a word such as `let`, `signal`, `line` or `mark`.", None
        )

    def _unreadable(self, error: UnexpectedInput, text: str) -> None:
        line, column = max(getattr(error, "line", 1), 1), max(getattr(error, "column", 1), 1)
        if isinstance(error, UnexpectedToken) and error.token.type == "$END":
            rows = text.split("\n")
            span = self.places.place(len(rows), max(len(rows[-1]), 1), 1)
            self.places.report(
                "R102", span, "The line stops too early.", f"After `{_tail(text)}` something is missing."
            )
            return
        token = str(error.token) if isinstance(error, UnexpectedToken) else ""
        char = token or text.split("\n")[line - 1][column - 1 : column]
        if isinstance(error, UnexpectedCharacters):
            word = re.match(r"[A-Za-z_]\w*|[^\sA-Za-z]", text.split("\n")[line - 1][column - 1 :])
            char = word.group() if word else char
        span = self.places.place(line, column, len(char) or 1)
        if char == "&" or char == "|":
            name = {"&": "and", "|": "or"}[char]
            self.places.report("R102", span, f"`{char}` means nothing in Rung.", f"Write `{name}`.", name)
            return
        if char in {"'"}:
            self.places.report("R102", span, "Texts stand in double quotes.", 'Use " on both sides.', '"')
            return
        expected = _words_allowed(error)
        hint = did_you_mean(char, expected) if char.isalpha() else ""
        self.places.report(
            "R102",
            span,
            f"`{char}` does not fit here.",
            hint or "Look for a missing comma, operator or bracket before it.",
        )

    def simple(self, node: Node, line: LogicalLine) -> t.Statement | tuple[str, str] | None:
        kids = node.children
        span = self.places.whole(line)
        rule = str(node.data)
        if rule == "version":
            number = str(kids[0])
            if number != "1":
                self.places.report(
                    "R111", self.places.token(kids[0]), f"There is no Rung {number} yet.", "Write `rung 1`.", "1"
                )
            return ("version", "1")
        if rule in {"title", "about"}:
            return (rule, unquote(str(kids[0])))
        if rule in OUTPUTS:
            return self._show(rule, kids, span)
        match rule:
            case "let":
                return t.Let(self.expressions.names(kids[0]), self.expressions.expr(kids[1]), span)
            case "keep" | "fresh":
                return t.Keep(self.expressions.name(kids[0]), self.expressions.expr(kids[1]), rule == "fresh", span)
            case "set":
                return t.Set(self.expressions.name(kids[0]), self.expressions.expr(kids[1]), span)
            case "stop":
                return t.Stop(span)
            case "give":
                return t.Give(tuple(self.expressions.expr(k) for k in kids), span)
            case "use":
                return t.Use(self.expressions.names(kids[0]), unquote(str(kids[1])), span)
            case "signal":
                clauses = {str(c.data): c.children[0] for c in kids[2:]}
                tone = str(clauses["tone_clause"]) if "tone_clause" in clauses else "neutral"
                text = unquote(str(clauses["text_clause"])) if "text_clause" in clauses else ""
                return t.Signal(self.expressions.name(kids[0]), self.expressions.expr(kids[1]), tone, text, span)
            case "setting":
                return self._setting(kids, span)
        raise AssertionError(rule)

    def _setting(self, kids: Sequence[Node], span: Span) -> t.Setting:
        limits: list[t.Expr] = []
        choices: tuple[t.Expr, ...] = ()
        text = ""
        for clause in kids[2:]:
            if clause.data == "range_clause":
                limits = [self.expressions.expr(k) for k in clause.children]
            elif clause.data == "choose_clause":
                choices = tuple(self.expressions.expr(k) for k in clause.children)
            else:
                text = unquote(str(clause.children[0]))
        low, high, step = (limits + [None] * 3)[:3]
        return t.Setting(
            self.expressions.name(kids[0]), self.expressions.expr(kids[1]), low, high, step, choices, text, span
        )

    def _show(self, rule: str, kids: Sequence[Node], span: Span) -> t.Show:
        operands: list[t.Expr] = []
        clauses: list[t.Clause] = []
        for kid in kids:
            if isinstance(kid, Token):
                if kid.type == "STRING":
                    operands.append(t.Text((unquote(str(kid)),), self.places.token(kid)))
                else:
                    clauses.append(t.Clause("painted", str(kid), self.places.token(kid)))
            elif kid.data == "link_ago":
                clauses.append(t.Clause("ago_start", self.expressions.expr(kid.children[0]), self.places.span(kid)))
            elif str(kid.data) in CLAUSES:
                clauses.append(self._clause(kid))
            else:
                operands.append(self.expressions.expr(kid))
        seen: set[str] = set()
        for clause in clauses:
            if clause.word in seen:
                self.places.report("R114", clause.span, f"`{clause.word}` is said twice.", "Keep one of them.")
            seen.add(clause.word)
        return t.Show(rule, tuple(operands), tuple(clauses), span)

    def _clause(self, node: Node) -> t.Clause:
        kids, span, clause = node.children, self.places.span(node), CLAUSES[str(node.data)]
        match clause.reads:
            case Reads.NOTHING:
                return t.Clause(clause.called, clause.word, span)
            case Reads.PLACE:
                return t.Clause(clause.called, str(kids[0]), span)
            case Reads.PANE:
                return t.Clause(clause.called, "pane " + unquote(str(kids[0])), span)
            case Reads.CORNER:
                return t.Clause(clause.called, f"{kids[0]} {kids[1]}", span)
            case Reads.TEXT:
                return t.Clause(clause.called, unquote(str(kids[0])), self.places.token(kids[0]))
            case Reads.WORD:
                return t.Clause(clause.called, str(kids[0]), self.places.token(kids[0]))
            case _:
                return t.Clause(clause.called, self.expressions.expr(kids[0]), span)


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
