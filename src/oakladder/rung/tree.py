"""The tree of a script: what the parser builds and every later stage reads.

Nodes compare by identity, so that a node can be a key; each knows its place in the text.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from oakladder.rung.problems import Span
from oakladder.rung.trade_words import Side, TradeWord


@dataclass(frozen=True, eq=False, slots=True)
class Literal:
    """A number, flag, colour, timeframe, clock time or ``none``; ``kind`` is a `kinds.Kind` name."""

    kind: str
    value: object
    span: Span
    #: Whether a number is written with a per cent sign.
    percent: bool = False


@dataclass(frozen=True, eq=False, slots=True)
class TextPart:
    """A piece of a text template: an expression and how to write it (``.2`` is two decimals)."""

    value: Expr
    form: str


@dataclass(frozen=True, eq=False, slots=True)
class Text:
    """A text, with expressions in braces already parsed."""

    parts: tuple[str | TextPart, ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Name:
    name: str
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Unary:
    """``-x`` or ``not x``."""

    op: str
    value: Expr
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Binary:
    """Arithmetic, ``and``, ``or``, and ``else`` (the value on the left, if known)."""

    op: str
    left: Expr
    right: Expr
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Compare:
    """A chain of comparisons: ``a < b <= c`` holds where every neighbouring pair does."""

    values: tuple[Expr, ...]
    ops: tuple[str, ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Choice:
    """``if condition then yes_value else no_value``."""

    condition: Expr
    yes_value: Expr
    no_value: Expr
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Lag:
    value: Expr
    lag: Expr
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Pick:
    """One named result of a call: ``macd(close).line``."""

    value: Expr
    name: str
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Call:
    name: str
    arguments: tuple[Expr, ...]
    named: tuple[tuple[str, Expr], ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class OnTimeframe:
    value: Expr
    timeframe: Expr
    forming: bool
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class OfSymbol:
    value: Expr
    symbol: Expr
    span: Span


Expr = Literal | Text | Name | Unary | Binary | Compare | Choice | Lag | Pick | Call | OnTimeframe | OfSymbol


@dataclass(frozen=True, eq=False, slots=True)
class Let:
    names: tuple[Name, ...]
    value: Expr
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Keep:
    """``keep`` (lives from bar to bar) or ``fresh`` (starts again on every bar)."""

    name: Name
    start: Expr
    fresh: bool
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Set:
    name: Name
    value: Expr
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class If:
    """Branches are tried in order; the last condition is None for a plain ``else``."""

    branches: tuple[tuple[Expr | None, tuple[Statement, ...]], ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class For:
    counter: Name
    first: Expr
    last: Expr
    body: tuple[Statement, ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Lost:
    """A line that could not be read: the names that it makes, those of functions apart, and every word in it.

    What is wrong with it has been said; nothing that only follows from it need be.
    """

    names: tuple[str, ...]
    functions: tuple[str, ...]
    words: frozenset[str]
    body: tuple[Statement, ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Stop:
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Give:
    values: tuple[Expr, ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Parameter:
    name: Name
    default: Expr | None


@dataclass(frozen=True, eq=False, slots=True)
class Define:
    name: Name
    parameters: tuple[Parameter, ...]
    body: tuple[Statement, ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Use:
    names: tuple[Name, ...]
    title: str
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Setting:
    name: Name
    default: Expr
    low: Expr | None
    high: Expr | None
    step: Expr | None
    choices: tuple[Expr, ...]
    text: str
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Signal:
    name: Name
    value: Expr
    tone: str
    text: str
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Clause:
    """A clause of an output statement: a word, and an expression or a plain word behind it."""

    word: str
    value: Expr | str | None
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Show:
    """An output statement: ``line``, ``mark``, ``label`` … with its operands and clauses."""

    what: str
    operands: tuple[Expr, ...]
    clauses: tuple[Clause, ...]
    span: Span

    def clause(self, word: str) -> Clause | None:
        """The clause with that word, if the statement has one."""
        return next((c for c in self.clauses if c.word == word), None)


@dataclass(frozen=True, eq=False, slots=True)
class TradeClause:
    """A line of a trade: what it says, and the values in it in order."""

    what: TradeWord
    values: tuple[Expr, ...]
    span: Span


@dataclass(frozen=True, eq=False, slots=True)
class Trade:
    """A trade with the lines under it; the checker reports lines that are no clauses."""

    name: Name
    side: Side
    body: tuple[Statement, ...]
    span: Span

    @property
    def clauses(self) -> dict[TradeWord, TradeClause]:
        """Its clauses by kind; the first of duplicates."""
        made: dict[TradeWord, TradeClause] = {}
        for line in self.body:
            if isinstance(line, TradeClause):
                made.setdefault(line.what, line)
        return made


Statement = (
    Let | Keep | Set | If | For | Stop | Lost | Give | Define | Use | Setting | Signal | Show | Trade | TradeClause
)


@dataclass(frozen=True, eq=False, slots=True)
class Script:
    """A whole script: its header and its statements in order."""

    version: int | None
    title: str
    about: str
    statements: tuple[Statement, ...] = field(default=())
