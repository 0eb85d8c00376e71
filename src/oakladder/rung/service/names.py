"""The names of a script: where each is defined and used, what it is, and renaming it everywhere.

Works on the syntax tree alone, so also for a script that has errors elsewhere.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, fields, is_dataclass
from enum import StrEnum

from oakladder.rung import tree as t
from oakladder.rung.problems import Span
from oakladder.rung.read.blocks import parse
from oakladder.rung.service.editable_words import plain
from oakladder.rung.service.reference_docs import word_help
from oakladder.rung.texts import count_words
from oakladder.rung.trade_words import TRADE_INNER_WORDS
from oakladder.rung.values import PALETTE
from oakladder.rung.words import JOINING_WORDS, LINE_WORDS, RESERVED

_NAME = re.compile(r"[a-z_][a-z0-9_]*")
#: Words that no name can be; functions and bar values come on top.
_TAKEN = RESERVED | LINE_WORDS | JOINING_WORDS | TRADE_INNER_WORDS | frozenset(PALETTE)


class NameKind(StrEnum):
    """What a name is; the value is the word for users."""

    SETTING = "setting"
    LET = "named value"
    KEEP = "kept value"
    FRESH = "value of one bar"
    SIGNAL = "signal"
    TRADE = "trade"
    FUNCTION = "function"
    PARAMETER = "parameter"
    COUNTER = "counter"
    USED = "function of another script"


@dataclass(eq=False, slots=True)
class Definition:
    """A name where it is defined. Definitions compare by identity: two blocks may use one word for two things."""

    name: str
    kind: NameKind
    span: Span
    #: The first line of the statement that defines it.
    line: int
    #: Everywhere it is used, in the order of the text; its definition is not among them.
    uses: list[Span] = field(default_factory=list)
    #: What is defined inside: the parameters and names of a function.
    inside: list[Definition] = field(default_factory=list)

    @property
    def places(self) -> list[Span]:
        """Its definition and all uses."""
        return sorted([self.span, *self.uses], key=lambda s: (s.line, s.column))


class RenameProblem(Exception):
    """A name that cannot be given; the text says why."""


@dataclass(slots=True)
class _Scope:
    parent: _Scope | None = None
    names: dict[str, Definition] = field(default_factory=dict)
    #: The function whose body this is, if any: what it gives is read by its name outside.
    function: Definition | None = None

    def find(self, name: str) -> Definition | None:
        scope: _Scope | None = self
        while scope is not None:
            if name in scope.names:
                return scope.names[name]
            scope = scope.parent
        return None


@dataclass(slots=True)
class Names:
    """All names of a script."""

    #: What is defined at the top level, in the order of the text.
    outline: list[Definition]
    #: Every definition, those inside functions and blocks too.
    all: list[Definition]
    #: The words of lines that could not be read, with the first such line: what they mean is not known.
    unread: dict[str, int]

    def at(self, line: int, column: int) -> Definition | None:
        """What the name at a place (counted from 1) stands for; None without one of the script's own."""
        for definition in self.all:
            for span in definition.places:
                if span.line == line and span.column <= column <= span.column + span.length:
                    return definition
        return None


def names_of(text: str) -> Names:
    """The names of a script's text. A script of a thousand lines takes some tenths of a second: for the background."""
    resolver = _Resolver(text)
    resolver.walk(parse(text)[0].statements, _Scope())
    resolver.link_results()
    top = [d for d in resolver.all if not resolver.is_inner(d)]
    return Names(top, resolver.all, resolver.unread)


class _Resolver:
    def __init__(self, text: str) -> None:
        self._rows = _rows_of(plain(text))
        self.all: list[Definition] = []
        self.unread: dict[str, int] = {}
        self._inner: set[int] = set()
        self._functions: dict[str, Definition] = {}
        #: What a function gives, by the name under which it is read; and where results are read.
        self._given: dict[tuple[int, str], Definition] = {}
        self._picked: list[tuple[Definition, str, Span]] = []
        #: The function whose results a named value holds.
        self._holds: dict[int, Definition] = {}

    def is_inner(self, definition: Definition) -> bool:
        """Whether it is defined inside a function, a block or a trade."""
        return id(definition) in self._inner

    def _define(self, name: t.Name, kind: NameKind, line: int, scope: _Scope) -> Definition:
        known = scope.names.get(name.name)
        if known is not None:  # a second definition is an error; what is meant is the first
            known.uses.append(name.span)
            return known
        made = Definition(name.name, kind, name.span, line)
        self.all.append(made)
        scope.names[name.name] = made
        if scope.parent is not None or scope.function is not None:
            self._inner.add(id(made))
        if scope.function is not None:
            scope.function.inside.append(made)
        return made

    def _function(self, name: t.Name, kind: NameKind, line: int) -> Definition:
        made = Definition(name.name, kind, name.span, line)
        self.all.append(made)
        self._functions[name.name] = made
        return made

    # --- statements -----------------------------------------------------------------------------------

    def walk(self, statements: Sequence[object], scope: _Scope) -> None:
        for statement in statements:
            self._statement(statement, scope)

    def _statement(self, s: object, scope: _Scope) -> None:
        match s:
            case t.Let():
                self._read(s.value, scope)
                for name in s.names:
                    made = self._define(name, NameKind.LET, s.span.line, scope)
                    called = self._called(s.value, scope)
                    if called is not None and len(s.names) == 1:
                        self._holds[id(made)] = called
            case t.Keep():
                self._read(s.start, scope)
                self._define(s.name, NameKind.FRESH if s.fresh else NameKind.KEEP, s.span.line, scope)
            case t.Set():
                self._use(s.name, scope)
                self._read(s.value, scope)
            case t.If():
                for condition, body in s.branches:
                    if condition is not None:
                        self._read(condition, scope)
                    self.walk(body, _Scope(scope, function=scope.function))
            case t.For():
                self._read((s.first, s.last), scope)
                inner = _Scope(scope, function=scope.function)
                self._define(s.counter, NameKind.COUNTER, s.span.line, inner)
                self.walk(s.body, inner)
            case t.Define():
                self._defined(s, scope)
            case t.Use():
                for name in s.names:
                    self._function(name, NameKind.USED, s.span.line)
            case t.Setting():
                self._read((s.default, s.low, s.high, s.step, s.choices), scope)
                self._define(s.name, NameKind.SETTING, s.span.line, scope)
            case t.Signal():
                self._read(s.value, scope)
                self._define(s.name, NameKind.SIGNAL, s.span.line, scope)
            case t.Trade():
                self._define(s.name, NameKind.TRADE, s.span.line, scope)
                self.walk(s.body, _Scope(scope, function=scope.function))
            case t.Lost():
                for word in s.words:
                    self.unread.setdefault(word, s.span.line)
                self.walk(s.body, _Scope(scope, function=scope.function))
            case t.Give():
                self._give(s, scope)
            case _:
                self._read(s, scope)

    def _defined(self, s: t.Define, scope: _Scope) -> None:
        for parameter in s.parameters:
            self._read(parameter.default, scope)
        made = self._function(s.name, NameKind.FUNCTION, s.span.line)
        inner = _Scope(scope, function=made)
        for parameter in s.parameters:
            self._define(parameter.name, NameKind.PARAMETER, s.span.line, inner)
        self.walk(s.body, inner)

    def _give(self, s: t.Give, scope: _Scope) -> None:
        self._read(s.values, scope)
        for value in s.values:
            if isinstance(value, t.Name) and scope.function is not None:
                found = scope.find(value.name)
                if found is not None:
                    self._given[id(scope.function), value.name] = found

    # --- expressions ----------------------------------------------------------------------------------

    def _use(self, name: t.Name, scope: _Scope) -> None:
        found = scope.find(name.name)
        if found is not None:
            found.uses.append(name.span)

    def _called(self, value: object, scope: _Scope) -> Definition | None:
        """The script's own function whose results an expression has."""
        if isinstance(value, t.Call):
            return self._functions.get(value.name)
        if isinstance(value, t.Name):
            found = scope.find(value.name)
            return self._holds.get(id(found)) if found is not None else None
        if isinstance(value, t.Lag | t.OnTimeframe | t.OfSymbol):
            return self._called(value.value, scope)
        return None

    def _read(self, node: object, scope: _Scope) -> None:
        if isinstance(node, tuple):
            for part in node:
                self._read(part, scope)
            return
        match node:
            case t.Name():
                self._use(node, scope)
                return
            case t.Call():
                self._call(node, scope)
            case t.Pick():
                called = self._called(node.value, scope)
                if called is not None:
                    self._picked.append((called, node.name, node.span))
        if is_dataclass(node) and not isinstance(node, Span):
            for part in fields(node):
                self._read(getattr(node, part.name), scope)

    def _call(self, node: t.Call, scope: _Scope) -> None:
        own = self._functions.get(node.name)
        if own is None:
            return
        own.uses.append(Span(node.span.line, node.span.column, len(node.name)))
        for name, value in node.named:
            found = next((d for d in own.inside if d.name == name and d.kind is NameKind.PARAMETER), None)
            place = self._name_before(_start(value), name)
            if found is not None and place is not None:
                found.uses.append(place)

    def _name_before(self, start: Span, name: str) -> Span | None:
        """Where ``name =`` stands before an argument."""
        before = self._rows[start.line - 1][: start.column - 1] if start.line <= len(self._rows) else ""
        found = re.search(rf"\b{name}\s*=[\s(]*$", before)
        return Span(start.line, found.start() + 1, len(name)) if found is not None else None

    def link_results(self) -> None:
        """Makes ``f(x).slope`` a use of the ``slope`` that ``f`` gives."""
        for function, name, span in self._picked:
            given = self._given.get((id(function), name))
            if given is not None:
                given.uses.append(span)


def _start(node: object) -> Span:
    """Where an expression begins."""
    return min(_spans(node), key=lambda s: (s.line, s.column))


def _spans(node: object) -> Iterator[Span]:
    if isinstance(node, Span):
        yield node
    elif isinstance(node, tuple):
        for part in node:
            yield from _spans(part)
    elif is_dataclass(node):
        for part in fields(node):
            yield from _spans(getattr(node, part.name))


def _rows_of(text: str) -> list[str]:
    """The lines as the parser counts them."""
    return re.split(r"\r\n|\r|\n", text.removeprefix("\ufeff"))


# --- what editors ask -------------------------------------------------------------------------------


def word_at(text: str, line: int, column: int) -> str:
    """The word at a place (counted from 1); empty in comments and quoted texts, and without one."""
    rows = _rows_of(plain(text))
    row = rows[line - 1] if 0 < line <= len(rows) else ""
    for found in re.finditer(r"[A-Za-z_][A-Za-z0-9_]*(?:\.[A-Za-z_]+)?", row):
        if found.start() < column <= found.end() + 1:
            inner = column - 1 - found.start()
            word, dot, _ = found.group().partition(".")
            return word if dot and inner <= len(word) and not word_help(found.group()) else found.group()
    return ""


def hover(text: str, names: Names | None, line: int, column: int) -> str:
    """What the name or word at a place (counted from 1) means; empty where there is nothing to say. ``names`` are those
    of the text, None where they are not known yet."""
    own = names.at(line, column) if names is not None else None
    if own is None:
        return word_help(word_at(text, line, column))
    row = _rows_of(text)[own.line - 1].strip() if own.kind is not NameKind.PARAMETER else own.name
    return f"{row}\nA {own.kind.value} of this script, line {own.line}, used {count_words(len(own.uses), 'time')}."


def renamable(text: str, names: Names, line: int, column: int) -> Definition:
    """The name at a place (counted from 1). Raises `RenameProblem` where none can be renamed."""
    own = names.at(line, column)
    if own is None:
        word = word_at(text, line, column)
        told = f"`{word}` is not a name of this script" if word else "There is no name of this script at the cursor"
        raise RenameProblem(f"{told}, so it cannot be renamed.")
    if own.kind is NameKind.USED:
        raise RenameProblem(f"`{own.name}` is defined in another script: rename it there.")
    if own.name in names.unread:
        raise RenameProblem(
            f"Line {names.unread[own.name]} has `{own.name}` and an error, so it cannot be renamed there. Fix the line first."
        )
    return own


def rename(names: Names, own: Definition, new: str) -> tuple[tuple[Span, str], ...]:
    """The edits that give a name, as `renamable` gives it, another one everywhere that it is meant.

    Raises `RenameProblem` with a sentence if ``new`` cannot be a name.
    """
    if new == own.name:
        return ()
    if not _NAME.fullmatch(new):
        raise RenameProblem("A name is made of small letters, digits and `_`, and does not begin with a digit.")
    if new in _TAKEN or word_help(new):
        raise RenameProblem(f"`{new}` is a word of the language.")
    taken = next((d for d in names.all if d.name == new), None)
    if taken is not None:
        raise RenameProblem(f"There is a {taken.kind.value} called `{new}` already, on line {taken.line}.")
    return tuple((span, new) for span in dict.fromkeys(own.places))
