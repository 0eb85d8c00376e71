"""Common mistakes, in the order in which they are tried.

A pattern only counts as a mistake if the line can be read further once it is fixed; its fix is only offered if the whole
line can be read then. So a fix never leads from one mistake into another.
"""

from __future__ import annotations

from oakladder.rung.read.line_mistakes import LINES
from oakladder.rung.read.mistake import NAME, Mistake, mistake
from oakladder.rung.read.operator_mistakes import SIGNS
from oakladder.rung.read.trade_mistakes import TRADES
from oakladder.rung.values import PALETTE, SHAPES, STYLES
from oakladder.rung.words import CLAUSES, OUTPUTS

_CLAUSE_WORDS = "|".join(sorted({c.word for c in CLAUSES.values()}))
_OUTPUT_WORDS = "|".join(OUTPUTS)
#: Colours that have other names here.
_COLOURS = "red|green|blue|orange|yellow|purple|black|gr[ae]y|pink|cyan"
#: A value that is easily told from what stands around it: a name or number, a call of plain values, a lag.
_VALUE = rf"(?:{NAME}(?:\.{NAME})?(?:\([^()]*\))?(?:\[[^\[\]]*\])?|\d[\w.]*)"
#: Functions of two values whose names people put between them.
_BETWEEN_VALUES = "crosses_up|crosses_down|crosses|min|max"

_EXPRESSIONS_AND_CLAUSES: tuple[Mistake, ...] = (
    # --- expressions
    mistake(
        r"^(?P<head>.*(?:(?<![=<>!])=(?!=)|\b(?:color|fill|order|line|column|label|give|then|else|when)\b|,)\s*)"
        r"(?P<at>(?P<test>[^?]+?)\s*\?\s*(?P<yes>[^?:]+?)\s*:\s*(?P<no>.+?))\s*$",
        "A choice is written in words.",
        "Write `{new}`.",
        lambda of: f"if {of('test')} then {of('yes')} else {of('no')}",
    ),
    mistake(
        r"(?<![=<>!])=(?!=)\s*(?P<at>)(?!\s|if\b)(?=[^=]*\bthen\b.*\belse\b)",
        "A choice begins with `if`.",
        "Write `if` before it.",
        "if ",
    ),
    mistake(
        r"(?<![=<>!])=(?!=)\s*(?P<at>(?P<yes>[^=]+?)\s+if\s+(?P<test>.+?)\s+else\s+(?P<no>.+?))\s*$",
        "A choice begins with its condition.",
        "Write `{new}`.",
        lambda of: f"if {of('test')} then {of('yes')} else {of('no')}",
    ),
    mistake(
        r"\bif\b.*\bthen\b(?!.*\belse\b).*?(?P<at>)\s*$",
        "A choice says what it is otherwise.",
        "Write `else` and a value, or `else none`.",
        " else none",
    ),
    mistake(
        rf"(?P<at>(?P<a>{_VALUE})\s+cross(?:es|ed|ing)?\s+(?:above|over|up(?:wards)?)(?:\s+through)?\s+(?P<b>{_VALUE}))",
        "Crossing is a function.",
        "Write `{new}`.",
        lambda of: f"crosses_up({of('a')}, {of('b')})",
    ),
    mistake(
        rf"(?P<at>(?P<a>{_VALUE})\s+cross(?:es|ed|ing)?\s+(?:below|under|down(?:wards)?)(?:\s+through)?\s+(?P<b>{_VALUE}))",
        "Crossing is a function.",
        "Write `{new}`.",
        lambda of: f"crosses_down({of('a')}, {of('b')})",
    ),
    mistake(
        rf"(?P<at>(?P<a>{_VALUE})\s+(?P<name>{_BETWEEN_VALUES})\s+(?P<b>{_VALUE}))",
        "A function stands before its values, which are in brackets.",
        "Write `{new}`.",
        lambda of: f"{of('name')}({of('a')}, {of('b')})",
    ),
    mistake(
        rf"(?P<at>(?P<a>{_VALUE})\s+(?:is|==?)\s+(?P<no>not\s+)?none\b)",
        "Use `known` to test for a value: a comparison with none is never true.",
        "Write `{new}`.",
        lambda of: f"known({of('a')})" if of("no") else f"not known({of('a')})",
    ),
    mistake(
        r"(?P<at>\bis\s+(?:above|greater\s+than|over|more\s+than))(?=\s)",
        "Comparisons use signs.",
        "Write `>`.",
        ">",
    ),
    mistake(r"(?P<at>\bis\s+(?:below|less\s+than|under))(?=\s)", "Comparisons use signs.", "Write `<`.", "<"),
    mistake(r"(?P<at>\bis\s+not\b)", "What is not equal is written `!=`.", "Write `!=`.", "!="),
    mistake(r"(?P<at>\b(?:is|equals?)\b)", "What is equal is written `==`.", "Write `==`.", "=="),
    mistake(
        rf"\bbetween\s*(?P<at>\(?\s*(?P<a>-?{_VALUE})\s*(?:,|\bto\b|\.\.)\s*(?P<b>-?{_VALUE})\s*\)?)",
        "`between` takes its bounds with `and`.",
        "Write `between {new}`.",
        lambda of: f"{of('a')} and {of('b')}",
    ),
    mistake(
        rf"[(,]\s*(?P<at>(?P<name>{NAME})\s*:)(?!=)",
        "A value is given to a parameter with `=`.",
        "Write `{new} …`.",
        lambda of: f"{of('name')} =",
    ),
    mistake(r"(?P<at>,)\s*[)\]]", "A comma stands between two values.", "Take it out.", ""),
    mistake(
        rf"^\s*(?:zone|link)\s+{_VALUE}(?P<at>\s*(?:,|\band\b)?\s*)(?={_VALUE})",
        "Between the two prices stands `to`.",
        "Write `low to high`.",
        " to ",
    ),
    mistake(
        rf"^\s*band\s+{_VALUE}(?P<at>\s*(?:\bto\b|\band\b)?\s*)(?={_VALUE})",
        "Between the two lines stands a comma.",
        "Write `low, high`.",
        ", ",
    ),
    # --- clauses
    mistake(
        rf"^\s*(?:{_OUTPUT_WORDS})\b.*?(?P<at>\s*,\s*)(?=(?:{_CLAUSE_WORDS})\b)",
        "Clauses follow one another without commas.",
        "Take it out.",
        " ",
    ),
    mistake(
        rf"\b(?:{_CLAUSE_WORDS})(?P<at>\s*[=:]\s*)(?![=])",
        "A clause is followed by its value at once.",
        "Take the sign out.",
        " ",
    ),
    mistake(
        r"\b(?:style|shape)\s+(?P<at>\"(?P<word>[^\"]*)\")",
        "The names of shapes and styles stand without quotes.",
        "Take the quotes out.",
        lambda of: of("word"),
    ),
    mistake(
        rf"\b(?:named|lane|pane)\s+(?P<at>(?![\"“‘'])[A-Za-z][\w -]*?)(?=\s+(?:{_CLAUSE_WORDS})\b|\s*$)",
        "A displayed name is in quotes.",
        'Put " on both sides.',
        lambda of: f'"{of("at")}"',
    ),
    mistake(
        rf"^\s*(?:label|note)\s+(?P<at>(?![\"“‘'])[A-Za-z][\w !?.'-]*?)(?=\s+(?:{_CLAUSE_WORDS})\b|\s*$)",
        "A text is in quotes.",
        'Put " on both sides.',
        lambda of: f'"{of("at")}"',
    ),
    mistake(
        rf"^\s*mark\s+(?P<at>(?P<shape>{'|'.join(SHAPES)})\b(?P<rest>.*?)\s+(?:when|if)\s+(?P<test>.+?))\s*$",
        "A `mark` takes its condition first, and its shape with `shape`.",
        "Write `mark FLAG shape arrow_up`.",
        lambda of: f"{of('test')}{of('rest')} shape {of('shape')}",
    ),
    mistake(
        r"\b(?P<at>colour|colored|coloured|col|clr)\b(?=\s+[\w#\"(])",
        "The colour of something is set with `color`.",
        "Write `color`.",
        "color",
    ),
    mistake(
        rf"(?P<at>\b(?:in|with)\s+)(?=(?:{'|'.join(STYLES)})\b)",
        "How a line is drawn is said with `style`.",
        "Write `style`.",
        "style ",
    ),
    mistake(
        rf"^\s*(?:{_OUTPUT_WORDS})\b.*?\s(?P<at>if)\s+(?!.*\bthen\b)",
        "When something is shown is said with `when`.",
        "Write `when`.",
        "when",
    ),
    mistake(
        rf"^\s*mark\b.*?\s(?P<at>)(?<!shape )(?=(?:{'|'.join(SHAPES)})\b)",
        "The shape of a mark is said with `shape`.",
        "Write `shape` before it.",
        "shape ",
    ),
    mistake(
        rf"^\s*(?:{_OUTPUT_WORDS})\b.*?\s(?P<at>)(?<!color )(?=(?:{'|'.join(PALETTE)}|{_COLOURS})\b|#[0-9A-Fa-f]{{6}})",
        "The colour of something is set with `color`.",
        "Write `color` before it.",
        "color ",
    ),
    mistake(
        rf"^\s*(?:line|level|link)\b.*?\s(?P<at>)(?<!style )(?=(?:{'|'.join(STYLES)})\b)",
        "How a line is drawn is said with `style`.",
        "Write `style` before it.",
        "style ",
    ),
    # --- names of several words, and words that mean nothing
    mistake(r"(?P<at>\s*\{)\s*$", "Blocks are made by indentation.", "Take it out.", ""),
    mistake(
        r"(?<![\w.])(?<!width )(?<!size )(?<!ago )(?P<number>\d+(?:\.\d+)?)(?P<at>\s*)(?=[A-Za-z(])",
        "Between a number and what it multiplies stands `*`.",
        "Write `2 * close`.",
        " * ",
    ),
    mistake(
        rf"(?P<at>(?P<name>{NAME})\s+(?P<a>{_VALUE})\s*,\s*(?P<b>{_VALUE}))",
        "The arguments of a function are in brackets.",
        "Write `{new}`.",
        lambda of: f"{of('name')}({of('a')}, {of('b')})",
    ),
    mistake(
        r"\([^()]*?[\w)\]](?P<at>\s+)(?=[A-Za-z0-9_(])",
        "The arguments of a function are separated by commas.",
        "Write it.",
        ", ",
    ),
)
MISTAKES: tuple[Mistake, ...] = (*TRADES, *LINES, *SIGNS, *_EXPRESSIONS_AND_CLAUSES)
