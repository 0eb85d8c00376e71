"""The words of Rung, declared once: statements, what each output takes, clauses, words that cannot be names.

The grammar is composed of these tables; the reader, the checker, the editor, help, docs and the brief read them.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum, StrEnum

from oakladder.rung import values
from oakladder.rung.kinds import Kind
from oakladder.rung.trade_words import TRADE, TRADE_FORMS, TRADE_LINE_WORDS, TradeForm, trade_lines, trade_sides


class Shown(StrEnum):
    """What a script shows: the first words of the statements that do."""

    SIGNAL = "signal"
    LINE = "line"
    LEVEL = "level"
    HISTOGRAM = "histogram"
    BAND = "band"
    LANE = "lane"
    ZONE = "zone"
    LINK = "link"
    MARK = "mark"
    LABEL = "label"
    PAINT = "paint"
    NOTE = "note"
    COLUMN = "column"


class Tone(StrEnum):
    """Which way a signal points."""

    BULLISH = "bullish"
    BEARISH = "bearish"
    NEUTRAL = "neutral"


class Reads(Enum):
    """What stands behind the word of a clause, and how it is kept in the tree."""

    EXPRESSION = "expr"
    TEXT = "STRING"
    WORD = "NAME"
    PLACE = "PLACE"
    PANE = '"pane" STRING'
    BARS = 'expr "bars"'
    CORNER = "VERTICAL HORIZONTAL"
    NOTHING = ""


@dataclass(frozen=True, slots=True)
class ClauseForm:
    """A clause: the rule that reads it, its word, what stands behind that, and the name and kind that it has in the tree."""

    rule: str
    word: str
    reads: Reads
    about: str
    kind: Kind | None = None
    #: The name in the tree, where several clauses say the same thing in other ways.
    name: str = ""
    #: The words that may stand behind it, where they are words.
    choices: tuple[str, ...] = ()

    @property
    def form(self) -> str:
        """How it is written, for help."""
        behind = {
            Reads.EXPRESSION: (self.kind or Kind.NUMBER).value.upper(),
            Reads.TEXT: '"TEXT"',
            Reads.WORD: self.word.upper(),
            Reads.PLACE: "price | volume",
            Reads.PANE: 'pane "NAME"',
            Reads.BARS: "N bars",
            Reads.CORNER: "top | bottom left | right",
            Reads.NOTHING: "",
        }[self.reads]
        return f"{self.word} {behind}".strip()

    @property
    def called(self) -> str:
        """The name in the tree."""
        return self.name or self.rule


CLAUSES: dict[str, ClauseForm] = {
    c.rule: c
    for c in (
        ClauseForm("color", "color", Reads.EXPRESSION, "its colour", Kind.COLOUR),
        ClauseForm("when", "when", Reads.EXPRESSION, "shown only where this holds", Kind.FLAG),
        ClauseForm("named", "named", Reads.TEXT, "what it is called in legends and heads"),
        ClauseForm("width", "width", Reads.EXPRESSION, "how wide the line is, in pixels", Kind.NUMBER),
        ClauseForm("style", "style", Reads.WORD, "how the line is drawn", choices=values.STYLES),
        ClauseForm("in_place", "in", Reads.PLACE, "drawn with the price or the volume", name="in"),
        ClauseForm("in_pane", "in", Reads.PANE, "drawn in a pane of its own", name="in"),
        ClauseForm("base", "base", Reads.EXPRESSION, "where the columns begin", Kind.NUMBER),
        ClauseForm("above", "above", Reads.NOTHING, "above the bar", name="side"),
        ClauseForm("below", "below", Reads.NOTHING, "below the bar", name="side"),
        ClauseForm("at", "at", Reads.EXPRESSION, "at this price", Kind.NUMBER),
        ClauseForm("shape", "shape", Reads.WORD, "which shape", choices=values.SHAPES),
        ClauseForm("size", "size", Reads.EXPRESSION, "how large, 1 to 5", Kind.NUMBER),
        ClauseForm("text", "text", Reads.EXPRESSION, "what the hover says", Kind.TEXT),
        ClauseForm("ago", "ago", Reads.EXPRESSION, "so many bars before this one", Kind.NUMBER),
        ClauseForm("lasting", "lasting", Reads.BARS, "for so many bars", Kind.NUMBER),
        ClauseForm("until", "until", Reads.EXPRESSION, "until this holds", Kind.FLAG),
        ClauseForm("most", "most", Reads.EXPRESSION, "so many are open at most; the oldest gives way", Kind.NUMBER),
        ClauseForm("fill", "fill", Reads.EXPRESSION, "the colour behind the cell", Kind.COLOUR),
        ClauseForm("order", "order", Reads.EXPRESSION, "what the column is sorted by", Kind.NUMBER),
        ClauseForm("corner", "at", Reads.CORNER, "in which corner"),
    )
}
#: What a zone knows of itself, and the clauses in which that can be read.
ZONE_VALUES: dict[str, str] = {
    "top": "the zone's upper edge",
    "bottom": "the zone's lower edge",
    "age": "how many bars ago the zone opened",
}
ZONE_CLAUSES = frozenset({"until"})
#: Clauses that every output takes.
ALWAYS = frozenset({"color", "when", "named"})
#: The kinds of values in the tree that no separate clause reads: the first point of a `link` has an ``ago`` too.
CLAUSE_KINDS: dict[str, Kind] = {c.called: c.kind for c in CLAUSES.values() if c.kind} | {"ago_start": Kind.NUMBER}
CLAUSE_CHOICES: dict[str, tuple[str, ...]] = {c.called: c.choices for c in CLAUSES.values() if c.choices}


@dataclass(frozen=True, slots=True)
class Statement:
    """A statement: its first word, its form, and a sentence. An output also says what it takes."""

    word: str
    form: str
    about: str
    group: str
    #: Of an output: its operands for the grammar, their kinds, and the rules of its clauses beside `ALWAYS`.
    operands: str = ""
    kinds: tuple[tuple[Kind, ...], ...] = ()
    clauses: frozenset[str] = frozenset()


_NUMBER, _FLAG = (Kind.NUMBER,), (Kind.FLAG,)
_TEXT, _WORDS, _CELL = (Kind.TEXT, Kind.NUMBER), (Kind.TEXT,), (Kind.TEXT, Kind.NUMBER, Kind.FLAG)


def _output(
    word: Shown, form: str, about: str, operands: str, kinds: tuple[tuple[Kind, ...], ...], clauses: str
) -> Statement:
    return Statement(word, form, about, "What a script shows", operands, kinds, frozenset(clauses.split()))


STATEMENTS: tuple[Statement, ...] = (
    Statement("rung", "rung 1", "the version of the language, on the first line", "The head"),
    Statement("title", 'title "TEXT"', "what the script is called", "The head"),
    Statement("about", 'about "TEXT"', "what it looks for, in a sentence", "The head"),
    Statement(
        "setting",
        'setting NAME = DEFAULT [range A..B [step C]] [choose A, B, …] ["TEXT"]',
        "a value that can be changed without touching the text",
        "The head",
    ),
    Statement(
        "let",
        "let NAME[, NAME …] = E",
        "a new value on each bar; several names take several results",
        "Names and state",
    ),
    Statement(
        "keep",
        "keep NAME = START",
        "a value that lives from bar to bar; START counts on the first bar",
        "Names and state",
    ),
    Statement("fresh", "fresh NAME = START", "a value that starts again on every bar", "Names and state"),
    Statement("set", "set NAME = E", "changes a `keep` or a `fresh`", "Names and state"),
    Statement(
        "if",
        "if FLAG / else if FLAG / else",
        "runs the indented block whose condition is yes; none counts as no",
        "Names and state",
    ),
    Statement(
        "for",
        "for NAME in A..B",
        "runs the indented block for each whole number; the bounds are fixed",
        "Names and state",
    ),
    Statement("stop", "stop", "leaves the innermost `for`", "Names and state"),
    Statement(
        "define",
        "define NAME(P, Q = DEFAULT)",
        "a function; its indented body runs once a bar with separate state for each call",
        "Names and state",
    ),
    Statement(
        "use",
        'use NAME[, NAME …] from "SCRIPT TITLE"',
        "takes functions from another script in the folder; they see only their parameters and the language",
        "Names and state",
    ),
    Statement(
        "give",
        "give E[, E …]",
        "the results of a function, its last line; a result is named after the name given",
        "Names and state",
    ),
    Statement(
        Shown.SIGNAL,
        'signal NAME = FLAG [bullish | bearish | neutral] ["TEXT"]',
        "a named event; without a `mark` or `label` for it the chart shows an arrow",
        "What a script shows",
    ),
    Statement(
        TRADE,
        "trade NAME long | short",
        "a position that the script takes; its clauses stand indented below, `enter` among them, each once",
        "A trade",
    ),
    _output(
        Shown.LINE,
        'line E [width N] [style STYLE] [in price | volume | pane "NAME"]',
        "a line with gaps where E is none",
        "expr",
        (_NUMBER,),
        "width style in_place in_pane",
    ),
    _output(
        Shown.LEVEL,
        "level N [style STYLE]",
        "a fixed horizontal line",
        "expr",
        (_NUMBER,),
        "style width in_place in_pane",
    ),
    _output(
        Shown.HISTOGRAM,
        "histogram E [base E] [in …]",
        "columns from a base, 0 unless said",
        "expr",
        (_NUMBER,),
        "base in_place in_pane",
    ),
    _output(
        Shown.BAND,
        "band A, B [in …]",
        "the area between two lines",
        'expr "," expr',
        (_NUMBER, _NUMBER),
        "in_place in_pane",
    ),
    _output(
        Shown.LANE,
        'lane "NAME"',
        "a row of squares under the price, coloured by `color` and `when`",
        "STRING",
        (_WORDS,),
        "",
    ),
    _output(
        Shown.ZONE,
        "zone A to B [lasting N bars | until FLAG] [most N]",
        "a rectangle between two prices, opened on every bar on which `when` holds; in `until` its own `top`, `bottom` "
        "and `age` (in bars) can be read",
        'expr "to" expr',
        (_NUMBER, _NUMBER),
        "lasting until most",
    ),
    _output(
        Shown.LINK,
        "link P [ago M] to Q [ago N]",
        "a straight line between two earlier points",
        'expr [link_ago] "to" expr',
        (_NUMBER, _NUMBER),
        "width style ago in_place in_pane",
    ),
    _output(
        Shown.MARK,
        "mark FLAG [above | below | at PRICE] [shape SHAPE] [size 1..5] [ago N]",
        "a shape at a bar",
        "expr",
        (_FLAG,),
        "above below at shape size text ago in_place in_pane",
    ),
    _output(
        Shown.LABEL,
        "label TEXT [above | below | at PRICE] [ago N]",
        "a text in a box at a bar",
        "expr",
        (_TEXT,),
        "above below at size ago in_place in_pane",
    ),
    _output(
        Shown.PAINT,
        "paint bars | volume | background",
        "colours bars, volume columns or the space behind",
        "PAINTED",
        (),
        "",
    ),
    _output(
        Shown.NOTE,
        "note TEXT [at top | bottom left | right]",
        "a text in a corner, as of the bar that is read",
        "expr",
        (_TEXT,),
        "corner",
    ),
    _output(
        Shown.COLUMN,
        "column TEXT | NUMBER [fill COLOUR] [order NUMBER]",
        "a watchlist cell",
        "expr",
        (_CELL,),
        "fill order",
    ),
)
OUTPUTS: dict[str, Statement] = {str(s.word): s for s in STATEMENTS if s.operands}
#: Every word that can start a line; `else` goes on with an `if`.
STATEMENT_WORDS = frozenset(s.word for s in STATEMENTS) | {"else"}


def _with_clauses(statement: Statement) -> list[Statement | TradeForm]:
    """A statement, and the lines that stand under it."""
    return [statement, *TRADE_FORMS] if statement.word == TRADE else [statement]


#: Everything that has a form to show: statements, and the lines of a trade.
SHOWN_FORMS: tuple[Statement | TradeForm, ...] = tuple(form for s in STATEMENTS for form in _with_clauses(s))
#: Every word that can start a line anywhere, blocks of trades included.
LINE_WORDS = STATEMENT_WORDS | TRADE_LINE_WORDS
#: Words that can never be names.
RESERVED = frozenset(["and", "or", "not", "if", "then", "else", "mod", "yes", "no", "none", "between"])
#: Words that go on with a statement: those of clauses, of settings and signals, and what joins expressions.
JOINING_WORDS = frozenset(c.word for c in CLAUSES.values()) | {
    "range",
    "choose",
    "step",
    "to",
    "and",
    "or",
    "else",
    *Tone,
}


def allowed(output: str) -> set[str]:
    """What an output takes, by the names in the tree."""
    taken = {CLAUSES[rule].called for rule in OUTPUTS[output].clauses | ALWAYS}
    return taken | {"paint": {"painted"}, "link": {"ago_start"}}.get(output, set())


def grammar(frame: str) -> str:
    """The grammar: a frame with the outputs and their clauses put in."""
    note = OUTPUTS["note"].clauses | ALWAYS  # its `at` names a corner, not a price

    def rules(wanted: set[str]) -> str:
        made = []
        for clause in CLAUSES.values():
            if clause.rule in wanted:
                made.append(f'"{clause.word}" {clause.reads.value} -> {clause.rule}')
        return "\n      | ".join(made)

    lines = [
        f'     | "{o.word}" {o.operands} {"note_clause" if o.word == "note" else "clause"}* -> {o.word}'
        for o in OUTPUTS.values()
    ]
    return (
        frame.replace("//OUTPUTS", "\n".join([*lines, trade_lines()]))
        .replace("//CLAUSES", f"clause: {rules(set(CLAUSES) - {'corner'})}\nnote_clause: {rules(set(note))}")
        .replace("//TONES", "\n".join(["TONE: " + " | ".join(f'"{tone}"' for tone in Tone), trade_sides()]))
    )
