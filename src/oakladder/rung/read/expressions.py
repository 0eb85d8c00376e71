"""Expressions and names: what the grammar found, as a tree."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NoReturn

from lark import Token, Tree
from lark.exceptions import UnexpectedInput

from oakladder.rung import tree as t
from oakladder.rung.read.grammar import Node, read
from oakladder.rung.read.lines import LogicalLine
from oakladder.rung.read.places import Places
from oakladder.rung.values import is_timeframe
from oakladder.rung.words import RESERVED

_FORM = re.compile(r"\+?(\.\d{1,2})?%?$")
#: A number of decimals as it is written elsewhere: `2`, `.2f`, `+2`, `1%`.
_DECIMALS = re.compile(r"(\+?)\.?(\d{1,2})f?(%?)")
_BRACE = re.compile(r"\{\{|\}\}|\{([^{}]*)\}|[{}]")
#: How deep the parts of one expression may lie in each other; a chain of `and`s or sums is as deep as it is long.
MAX_NESTING = 250
#: Larger numbers are no prices; their products would soon be beyond what can be counted with.
MAX_NUMBER = 1e100


_Builder = Callable[["ExpressionReader", Node], t.Expr]


class BadLine(Exception):
    """A line that cannot be used; the problem is already written down."""


class ExpressionReader:
    """Reads expressions of the line at hand."""

    def __init__(self, places: Places):
        self.places = places
        self._nesting = 0

    def names(self, node: Node) -> tuple[t.Name, ...]:
        return tuple(self.name(k) for k in node.children)

    def name(self, token: Node) -> t.Name:
        name, span = str(token), self.places.token(token)
        if name != name.lower():
            self.places.capitals.setdefault(name, []).append(span)
            name = small(name)
        if name in RESERVED:
            self.places.report(
                "R202",
                span,
                f"`{name}` is a word of the language and cannot be a name.",
                f"Call it `{name}_value`, say.",
            )
        return t.Name(name, span)

    def parameter(self, node: Node) -> t.Parameter:
        return t.Parameter(self.name(node.children[0]), self.expr(node.children[1]) if len(node.children) > 1 else None)

    def expr(self, node: Node) -> t.Expr:
        assert isinstance(node, Tree), node
        if self._nesting >= MAX_NESTING:
            self.too_deep(self.places.line, f"The parts of this line lie more than {MAX_NESTING} deep in each other")
        self._nesting += 1
        try:
            return _EXPRESSIONS[str(node.data)](self, node)
        finally:
            self._nesting -= 1

    def text(self, token: Token) -> t.Text:
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
                self.places.report(
                    "R102",
                    self.places.inside(token, found.start(), 1),
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
        return t.Text(tuple(joined), self.places.token(token))

    def _template(self, token: Token, inner: str, at: int) -> str | t.TextPart:
        source, colon, form = (
            inner.rpartition(":")
            if re.search(r":[^:\"]*$", inner) and not re.search(r"\d:\d\d$", inner)
            else (inner, "", "")
        )
        if colon and not _FORM.match(form):
            self.places.report(
                "R115",
                self.places.inside(token, at + len(source) + 1, len(form) or 1),
                f"`{form}` is no form for a number.",
                "Use .2 for two decimals, +.2 to show the sign, .1% for percent.",
                f"{found[1]}.{found[2]}{found[3]}" if (found := _DECIMALS.fullmatch(form)) else None,
            )
            form = ""
        try:
            node = read(source, "expr")
        except (UnexpectedInput, RecursionError):
            self.places.report(
                "R102",
                self.places.inside(token, at, len(inner) or 1),
                f"`{source}` cannot be read.",
                "Between braces stands one expression, as in {close:.2}.",
            )
            return ""
        keep = self.places.offset
        place = self.places.inside(token, at, 1)
        self.places.offset = (place.line - self.places.line.number, place.column - 1)
        try:
            return t.TextPart(self.expr(node), form)
        finally:
            self.places.offset = keep

    def too_deep(self, line: LogicalLine, what: str) -> NoReturn:
        self.places.report("R112", self.places.whole(line), f"{what}.", "Make parts of it into names with `let`.")
        raise BadLine


def small(name: str) -> str:
    """A name in small letters, the words of a camel's back parted."""
    parted = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name) if not name.isupper() else name
    return parted.lower()


def _unescape(raw: str) -> str:
    return re.sub(r"\\(.)", lambda m: "\n" if m.group(1) == "n" else m.group(1), raw)


def unquote(raw: str) -> str:
    return _unescape(raw[1:-1])


def _two(op: str) -> _Builder:
    return lambda p, n: t.Binary(op, p.expr(n.children[0]), p.expr(n.children[1]), p.places.span(n))


def _literal(kind: str, convert: Callable[[str], object]) -> _Builder:
    def build(p: ExpressionReader, n: Node) -> t.Expr:
        token = n.children[0]
        assert isinstance(token, Token)
        return t.Literal(kind, convert(str(token)), p.places.token(token))

    return build


def _word(kind: str, value: object) -> _Builder:
    return lambda p, n: t.Literal(kind, value, p.places.span(n))


def _number(p: ExpressionReader, n: Node) -> t.Expr:
    token = _only_token(n)
    text = token.replace("_", "")
    value = float(text[:-1]) / 100.0 if text.endswith("%") else float(text)
    if not abs(value) <= MAX_NUMBER:
        p.places.report(
            "R116",
            p.places.token(token),
            f"{token} is larger than any number may be.",
            f"Write {MAX_NUMBER:g} at most.",
        )
        value = 1.0
    return t.Literal("number", value, p.places.token(token), percent=text.endswith("%"))


def _clock(p: ExpressionReader, n: Node) -> t.Expr:
    token = _only_token(n)
    hours, minutes = (int(part) for part in token.split(":"))
    if not (hours < 24 and minutes < 60):
        p.places.report("R117", p.places.token(token), f"{token} is no time of day.", "They go from 00:00 to 23:59.")
        hours = minutes = 0
    return t.Literal("clock", hours * 60 + minutes, p.places.token(token))


def _timeframe(p: ExpressionReader, n: Node) -> t.Expr:
    token = _only_token(n)
    text = str(token)
    if not is_timeframe(text):
        p.places.report(
            "R118",
            p.places.token(token),
            f"There is no timeframe {token}.",
            "Write 1d, 1w or 1mo, or a whole number of minutes or hours, from 1m to 24h.",
        )
        text = "1d"
    return t.Literal("timeframe", text, p.places.token(token))


def _only_token(n: Node) -> Token:
    token = n.children[0]
    assert isinstance(token, Token)
    return token


def _compare(p: ExpressionReader, n: Node) -> t.Expr:
    values = tuple(p.expr(k) for k in n.children[::2])
    ops = []
    for token in n.children[1::2]:
        assert isinstance(token, Token)
        if token == "=":
            p.places.report(
                "R107", p.places.token(token), "One `=` gives a name its value; two compare.", "Write `==`.", "=="
            )
        ops.append("==" if token == "=" else str(token))
    return t.Compare(values, tuple(ops), p.places.span(n))


def _between(p: ExpressionReader, n: Node) -> t.Expr:
    value, low, high = (p.expr(k) for k in n.children)
    return t.Compare((low, value, high), ("<=", "<="), p.places.span(n))


def _call(p: ExpressionReader, n: Node) -> t.Expr:
    token = n.children[0]
    plain: list[t.Expr] = []
    named: list[tuple[str, t.Expr]] = []
    for argument in n.children[1:]:
        assert isinstance(argument, Tree)
        if argument.data == "named_argument":
            named.append((str(argument.children[0]), p.expr(argument.children[1])))
        else:
            plain.append(p.expr(argument.children[0]))
    name = p.name(token)
    return t.Call(name.name, tuple(plain), tuple(named), p.places.span(n))


def _on(forming: bool) -> _Builder:
    return lambda p, n: t.OnTimeframe(p.expr(n.children[0]), p.expr(n.children[1]), forming, p.places.span(n))


def _pick(p: ExpressionReader, n: Node) -> t.Expr:
    return t.Pick(p.expr(n.children[0]), str(n.children[1]), p.places.token(n.children[1]))


def _choice(p: ExpressionReader, n: Node) -> t.Expr:
    condition, yes_value, no_value = (p.expr(k) for k in n.children)
    return t.Choice(condition, yes_value, no_value, p.places.span(n))


_EXPRESSIONS: dict[str, _Builder] = {
    "choice": _choice,
    "otherwise": _two("else"),
    "or_": _two("or"),
    "and_": _two("and"),
    "not_": lambda p, n: t.Unary("not", p.expr(n.children[0]), p.places.span(n)),
    "neg": lambda p, n: t.Unary("-", p.expr(n.children[0]), p.places.span(n)),
    "compare": _compare,
    "between": _between,
    "add": _two("+"),
    "sub": _two("-"),
    "mul": _two("*"),
    "div": _two("/"),
    "mod": _two("mod"),
    "pow": _two("^"),
    "lag": lambda p, n: t.Lag(p.expr(n.children[0]), p.expr(n.children[1]), p.places.span(n)),
    "pick": _pick,
    "call": _call,
    "on": _on(False),
    "on_forming": _on(True),
    "of": lambda p, n: t.OfSymbol(p.expr(n.children[0]), p.expr(n.children[1]), p.places.span(n)),
    "number": _number,
    "timeframe": _timeframe,
    "clock": _clock,
    "colour": _literal("colour", str.lower),
    "string": lambda p, n: p.text(n.children[0]),
    "yes": _word("flag", True),
    "no": _word("flag", False),
    "none": _word("none", None),
    "name": lambda p, n: p.name(n.children[0]),
}
