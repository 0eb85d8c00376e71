"""The words of Rung: every statement with its form and what it does, every output with its operands and clauses.

The parser, the checker, the editor, the docs and the brief read these tables."""

from __future__ import annotations

from dataclasses import dataclass

from oakladder.rung import values
from oakladder.rung.kinds import Kind


@dataclass(frozen=True, slots=True)
class StatementInfo:
    """A statement: its first word, its form, and a sentence."""

    word: str
    form: str
    about: str
    group: str


STATEMENTS: tuple[StatementInfo, ...] = (
    StatementInfo("rung", "rung 1", "the version of the language, on the first line", "The head"),
    StatementInfo("title", 'title "TEXT"', "what the script is called", "The head"),
    StatementInfo("about", 'about "TEXT"', "what it looks for, in a sentence", "The head"),
    StatementInfo(
        "setting",
        'setting NAME = DEFAULT [range A..B [step C]] [choose A, B, …] ["TEXT"]',
        "a value that can be changed without touching the text",
        "The head",
    ),
    StatementInfo(
        "let",
        "let NAME[, NAME …] = E",
        "a new value on each bar; several names take several results",
        "Names and state",
    ),
    StatementInfo(
        "keep",
        "keep NAME = START",
        "a value that lives from bar to bar; START counts on the first bar",
        "Names and state",
    ),
    StatementInfo("fresh", "fresh NAME = START", "a value that starts again on every bar", "Names and state"),
    StatementInfo("set", "set NAME = E", "changes a `keep` or a `fresh`", "Names and state"),
    StatementInfo(
        "if",
        "if FLAG / else if FLAG / else",
        "runs the indented block whose condition is yes; none counts as no",
        "Names and state",
    ),
    StatementInfo(
        "for",
        "for NAME in A..B",
        "runs the indented block for each whole number; the bounds are fixed",
        "Names and state",
    ),
    StatementInfo("stop", "stop", "leaves the innermost `for`", "Names and state"),
    StatementInfo(
        "define",
        "define NAME(P, Q = DEFAULT)",
        "a function; its indented body runs once a bar with state of its own for each call",
        "Names and state",
    ),
    StatementInfo(
        "use",
        'use NAME[, NAME …] from "SCRIPT TITLE"',
        "takes functions from another script in the folder; they see only their parameters and the language",
        "Names and state",
    ),
    StatementInfo(
        "give",
        "give E[, E …]",
        "the results of a function, its last line; a result is named after the name given",
        "Names and state",
    ),
    StatementInfo(
        "signal",
        'signal NAME = FLAG [bullish | bearish | neutral] ["TEXT"]',
        "a named event; without a `mark` or `label` of its own the chart shows an arrow",
        "What a script shows",
    ),
    StatementInfo(
        "line",
        'line E [width N] [style STYLE] [in price | volume | pane "NAME"]',
        "a line with gaps where E is none",
        "What a script shows",
    ),
    StatementInfo("level", "level N [style STYLE]", "a fixed horizontal line", "What a script shows"),
    StatementInfo(
        "histogram", "histogram E [base E] [in …]", "columns from a base, 0 unless said", "What a script shows"
    ),
    StatementInfo("band", "band A, B [in …]", "the area between two lines", "What a script shows"),
    StatementInfo(
        "lane", 'lane "NAME"', "a row of squares under the price, coloured by `color` and `when`", "What a script shows"
    ),
    StatementInfo(
        "zone",
        "zone A to B [lasting N bars | until FLAG]",
        "a rectangle between two prices, opened where `when` begins to hold",
        "What a script shows",
    ),
    StatementInfo(
        "link", "link P [ago M] to Q [ago N]", "a straight line between two earlier points", "What a script shows"
    ),
    StatementInfo(
        "mark",
        "mark FLAG [above | below | at PRICE] [shape SHAPE] [size 1..5] [ago N]",
        "a shape at a bar",
        "What a script shows",
    ),
    StatementInfo(
        "label", "label TEXT [above | below | at PRICE] [ago N]", "a text in a box at a bar", "What a script shows"
    ),
    StatementInfo(
        "paint",
        "paint bars | volume | background",
        "colours bars, volume columns or the space behind",
        "What a script shows",
    ),
    StatementInfo(
        "note",
        "note TEXT [at top | bottom left | right]",
        "a text in a corner, as of the bar that is read",
        "What a script shows",
    ),
    StatementInfo(
        "column", "column TEXT | NUMBER [fill COLOUR] [order NUMBER]", "a watchlist cell", "What a script shows"
    ),
)

#: Output statement → the kinds its operands may have.
OPERANDS: dict[str, tuple[tuple[Kind, ...], ...]] = {
    "line": ((Kind.NUMBER,),),
    "histogram": ((Kind.NUMBER,),),
    "band": ((Kind.NUMBER,), (Kind.NUMBER,)),
    "level": ((Kind.NUMBER,),),
    "mark": ((Kind.FLAG,),),
    "label": ((Kind.TEXT, Kind.NUMBER),),
    "paint": (),
    "lane": ((Kind.TEXT,),),
    "zone": ((Kind.NUMBER,), (Kind.NUMBER,)),
    "link": ((Kind.NUMBER,), (Kind.NUMBER,)),
    "note": ((Kind.TEXT, Kind.NUMBER),),
    "column": ((Kind.TEXT, Kind.NUMBER, Kind.FLAG),),
}
ALWAYS = {"color", "when", "named"}
#: Output statement → the clauses it takes besides ``color``, ``when`` and ``named``.
CLAUSES: dict[str, frozenset[str]] = {
    "line": frozenset({"width", "style", "in"}),
    "histogram": frozenset({"base", "in"}),
    "band": frozenset({"in"}),
    "level": frozenset({"style", "width", "in"}),
    "mark": frozenset({"side", "at", "shape", "size", "text", "ago", "in"}),
    "label": frozenset({"side", "at", "size", "ago", "in"}),
    "paint": frozenset({"painted"}),
    "lane": frozenset(),
    "zone": frozenset({"lasting", "until"}),
    "link": frozenset({"width", "style", "ago", "ago_start", "in"}),
    "note": frozenset({"corner"}),
    "column": frozenset({"fill", "order"}),
}
CLAUSE_KINDS: dict[str, Kind] = {
    "color": Kind.COLOUR,
    "fill": Kind.COLOUR,
    "when": Kind.FLAG,
    "until": Kind.FLAG,
    "width": Kind.NUMBER,
    "at": Kind.NUMBER,
    "size": Kind.NUMBER,
    "ago": Kind.NUMBER,
    "ago_start": Kind.NUMBER,
    "lasting": Kind.NUMBER,
    "order": Kind.NUMBER,
    "base": Kind.NUMBER,
    "text": Kind.TEXT,
}
CLAUSE_WORDS: dict[str, tuple[str, ...]] = {"shape": values.SHAPES, "style": values.STYLES}
