"""One logical line: the grammar's tree of it, its clauses, or what is wrong with it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

from lark import Token
from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from oakladder.rung import tree as t
from oakladder.rung.problems import Span, did_you_mean
from oakladder.rung.read.expressions import BadLine, ExpressionReader, unquote
from oakladder.rung.read.grammar import Node, read
from oakladder.rung.read.lines import Flaw, LogicalLine
from oakladder.rung.read.places import Places
from oakladder.rung.read.recovery import LineFix, Recovered, is_loud, recover
from oakladder.rung.trade_words import FORMS, TRADE_INNER_WORDS, TradeWord
from oakladder.rung.words import CLAUSES, JOINING_WORDS, LINE_WORDS, OUTPUTS, RESERVED, STATEMENT_WORDS, Reads

MAX_LINE = 20_000
MAX_BRACKETS = 60
#: Limit of the summed squared lengths of lines with mistakes that are corrected: a hundred common lines, three long ones.
#: More messages would not be read.
_MOST_EFFORT = 300_000
_WORDS = LINE_WORDS | JOINING_WORDS | RESERVED | TRADE_INNER_WORDS
#: What a line makes, though it cannot be read.
_MADE = re.compile(
    r"\s*(?:(?P<word>let|keep|fresh|setting|signal|trade|for|define|def|function|func|use|var|const)\s+"
    r"(?P<names>[A-Za-z_]\w*(?:\s*,\s*[A-Za-z_]\w*)*)|(?P<plain>[A-Za-z_]\w*)\s*:?=)"
)
#: A text as it is written.
_TEXT = re.compile(r'"(?:\\.|[^"\\\n])*"')
#: A function in one line: its value stands behind a sign.
_ONE_LINE = re.compile(
    r"\s*define\s+\w+\s*\([^()]*\)(?P<rest>\s*(?:=>|->|=|:)\s*(?:give\s+|return\s+)?(?P<value>[^=\s].*))$"
)
#: Words of other languages for what there is not, and what there is instead.
_NO_SUCH = {
    "while": "A `for` has fixed bounds, so that every script ends; `keep` carries a value from bar to bar.",
    "repeat": "A `for` has fixed bounds, so that every script ends; `keep` carries a value from bar to bar.",
    "do": "What belongs to a line is indented under it.",
    "end": "A block ends where the indentation does.",
    "endif": "A block ends where the indentation does.",
    "print": "Use `note` to show a text, or `label` at a bar.",
    "buy": "Name it with `signal`, or open a `trade NAME long`.",
    "sell": "Name it with `signal`, or open a `trade NAME short`.",
    "alert": "Name it with `signal`; signals are what alerts are made of.",
    "try": "What cannot be known is none; `known(x)` tests for it.",
}


class LineReader:
    """Reads lines that open no block."""

    def __init__(self, places: Places, expressions: ExpressionReader):
        self.places, self.expressions = places, expressions
        self._effort = 0
        #: The last row of the last line that stopped too early.
        self._stopped = -1

    def parse_line(self, line: LogicalLine) -> Node:
        """The grammar's tree of a line; for a line with mistakes, of the corrected line. Raises `BadLine`."""
        self.places.take(line)
        if len(line.text) > MAX_LINE:
            self.expressions.too_deep(line, f"This line has {len(line.text):,} letters; {MAX_LINE:,} are allowed")
        brackets = _bracket_depth(line.text)
        if brackets > MAX_BRACKETS:
            self.expressions.too_deep(line, f"Brackets are nested {brackets} deep here; {MAX_BRACKETS} are allowed")
        if self._quotes_in_braces(line) or self._one_line_function(line):
            raise BadLine
        if line.flaw is not None:
            return self._flawed(line, line.flaw)
        try:
            if _first_word(line.text) in LINE_WORDS and is_loud(line.text) is None:
                return read(line.text, "start")
            error = None
        except UnexpectedInput as found:
            error = found.with_traceback(None)  # whose frames would hold it in a circle
        except RecursionError:
            self.expressions.too_deep(line, "This line is nested too deeply")
        self._effort += len(line.text) ** 2
        recovered = recover(line.text) if self._effort <= _MOST_EFFORT else None
        if recovered is not None:
            return self._recovered(line, recovered)
        if error is None:
            self._unknown_start(line)
        else:
            self._unreadable(error, line.text)
        raise BadLine

    def _quotes_in_braces(self, line: LogicalLine) -> bool:
        """Reports a text within the braces of a text, `"{if up then "rising" else "falling"}"`; whether there is one."""
        text = line.text
        if text.count('"') < 4 or "{" not in text or "\n" in text:
            return False
        for found in _TEXT.finditer(text):
            begin = _open_brace(found.group())
            if begin is None:
                continue
            start = found.start() + begin
            end = _closing_brace(text, start)
            if end is None:
                return False
            name = f"words_{line.number}"
            self.places.report(
                "R102",
                self.places.written(start, end),
                "A text within braces cannot hold quotes: they end the text around it.",
                f"Make it above, as in `let {name} = …`, and write `{{{name}}}`.",
                f"{{{name}}}",
                (
                    (
                        Span(line.number, 1, 0),
                        f"{' ' * (4 * line.depth)}let {name} = {text[start + 1 : end - 1].strip()}\n",
                    ),
                ),
            )
            return True
        return False

    def _one_line_function(self, line: LogicalLine) -> bool:
        """Reports `define f(x) = x * 2`; whether a line is one."""
        found = _ONE_LINE.match(line.text)
        if found is None or "\n" in line.text:
            return False
        indent = " " * (4 * (line.depth + 1))
        self.places.report(
            "R102",
            self.places.written(*found.span("rest")),
            "The value of a function is on a separate line below it.",
            "Write `give` and the value in the next line, indented.",
            f"\n{indent}give {found['value'].strip()}",
        )
        return True

    def _flawed(self, line: LogicalLine, flaw: Flaw) -> Node:
        """A line with a quote or bracket left open: read as it would be closed, if it can be."""
        problem = flaw.problem
        tries = list(flaw.closings)
        if problem.replacement is not None:  # a bracket to be taken out
            row = line.text.split("\n")[: problem.span.line - line.number]
            tries = [(sum(len(r) + 1 for r in row) + problem.span.column - 1, "")]
        for at, new in tries:
            end = at + (not new)
            edit = LineFix(at, end, new, problem.message, problem.fix, problem.code)
            self._effort += len(line.text) ** 2
            recovered = recover(line.text, edit) if self._effort <= _MOST_EFFORT else None
            if recovered is not None and len(recovered.edits) == 1:
                self.places.take(line, recovered)
                if new:
                    problem = replace(problem, also=((self.places.written(at, end), new),))
                self.places.problems.append(problem)
                return read(recovered.text, "start")
        self.places.problems.append(replace(problem, replacement=None))
        raise BadLine

    def _recovered(self, line: LogicalLine, recovered: Recovered) -> Node:
        """Reports the mistakes of a line, and reads the corrected line."""
        self.places.take(line, recovered)
        said: dict[str, list[LineFix]] = {}
        for edit in recovered.edits:
            said.setdefault(edit.message, []).append(edit)
        for first, *more in said.values():  # the same mistake in several places of a line is one
            also = tuple((self.places.written(m.start, m.end), m.new) for m in more)
            span = self.places.written(first.start, first.end)
            self.places.report(first.code, span, first.message, first.fix, first.new, also)
        return read(recovered.text, "start")

    def lost(self, line: LogicalLine, body: tuple[t.Statement, ...] = ()) -> t.Lost:
        """The remains of a line that could not be read: the names in it, so that they count as defined."""
        words = frozenset(w.lower() for w in re.findall(r"[A-Za-z_]\w*", line.text))
        made = _MADE.match(line.text)
        named = (made["names"] or made["plain"]) if made else ""
        names = tuple(w.lower() for w in re.findall(r"[A-Za-z_]\w*", named))
        is_function = made is not None and made["word"] in ("define", "def", "function", "func", "use")
        return t.Lost(() if is_function else names, names if is_function else (), words, body, self.places.whole(line))

    def _unknown_start(self, line: LogicalLine) -> None:
        if line.number == self._stopped + 1:
            return  # this line holds what is missing above
        text = line.text.lstrip()
        word = _first_word(text)
        span = Span(line.number, len(line.text.split("\n")[0]) - len(text.split("\n")[0]) + 1, max(len(word), 1))
        what = f"`{word}` starts no statement." if word else f"A line cannot start with `{text[:1]}`."
        hint = _NO_SUCH.get(word, "") or (did_you_mean(word, STATEMENT_WORDS) if len(word) > 2 else "")
        self.places.report(
            "R101", span, what, hint or "A line starts with a word such as `let`, `signal`, `line` or `mark`."
        )

    def _unreadable(self, error: UnexpectedInput, text: str) -> None:
        line, column = max(getattr(error, "line", 1), 1), max(getattr(error, "column", 1), 1)
        if isinstance(error, UnexpectedToken) and error.token.type == "$END":
            rows = text.split("\n")
            span = self.places.place(len(rows), max(len(rows[-1]), 1), 1)
            self._stopped = self.places.line.number + len(rows) - 1
            self.places.report(
                "R102",
                span,
                "The line stops too early.",
                f"After `{_tail(text)}` something is missing; a line goes on below only within brackets.",
            )
            return
        token = str(error.token) if isinstance(error, UnexpectedToken) else ""
        char = token or text.split("\n")[line - 1][column - 1 : column]
        if isinstance(error, UnexpectedCharacters):
            word = re.match(r"[A-Za-z_]\w*|[^\sA-Za-z]", text.split("\n")[line - 1][column - 1 :])
            char = word.group() if word else char
        span = self.places.place(line, column, len(char) or 1)
        setting = re.match(r"\s*setting\s+(\w+)\s+(?:range|choose|\")", text)
        if setting is not None:
            self.places.report(
                "R102", span, f"The setting `{setting[1]}` has no default.", f"Write `setting {setting[1]} = …` first."
            )
            return
        hint = did_you_mean(char, _words_allowed(error)) if char.isalpha() else ""
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
        if rule in FORMS:
            return t.TradeClause(TradeWord(rule), tuple(self.expressions.expr(k) for k in kids), span)
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
        for before, clause in pairwise([None, *clauses]):
            if clause is not None and clause.word in seen:
                joined = clause.word == "when" and before is not None and before.word == "when"
                word = Span(clause.span.line, clause.span.column, len("when"))
                self.places.report(
                    "R114",
                    clause.span,
                    f"`{clause.word}` is said twice.",
                    "Join both with `and`." if joined else "Keep one of them.",
                    None if joined or isinstance(clause.value, str) else "",
                    ((word, "and"),) if joined else (),
                )
            seen.add(clause.word if clause is not None else "")
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
    """The words of the language that fit where the reader stopped."""
    names = getattr(error, "accepts", None) or getattr(error, "expected", None) or getattr(error, "allowed", None) or ()
    return [str(name).lower() for name in names if str(name).lower() in _WORDS]


def _first_word(text: str) -> str:
    found = re.match(r"\s*([A-Za-z_][A-Za-z0-9_]*)", text)
    return found[1] if found else ""


def _open_brace(text: str) -> int | None:
    """Where a brace opens in a text that does not close in it; None where all do."""
    k, opened = 1, None
    while k < len(text) - 1:
        if text[k] == "{" and text[k + 1] == "{" and opened is None:
            k += 1
        elif text[k] == "{":
            opened = k
        elif text[k] == "}":
            opened = None
        k += 1
    return opened


def _closing_brace(text: str, start: int) -> int | None:
    """Behind the brace that closes the one at ``start``, over texts in between; None where none does."""
    inside = False
    for k in range(start + 1, len(text)):
        if text[k] == '"':
            inside = not inside
        elif text[k] == "}" and not inside:
            return k + 1
    return None
