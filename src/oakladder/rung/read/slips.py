"""Common slips: ways of writing that Rung does not read, what each most likely means, and how it is written here.

A slip is only taken for one if the line can be read further with it mended; its mend is only offered if the whole
line can be read then. So a mend never leads from one mistake into another.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass

from oakladder.rung.values import PALETTE, SHAPES, STYLES
from oakladder.rung.words import CLAUSES, OUTPUTS, STATEMENT_WORDS

#: What stands where a slip was: the text of each group of its pattern → the new text.
_Mend = Callable[[Callable[[str], str]], str]


@dataclass(frozen=True, slots=True)
class Slip:
    """A slip: how it looks in a line whose texts are blanked, what is said, and what takes its place.

    The group ``at`` of the pattern, or else the whole of it, is what is replaced.
    """

    pattern: re.Pattern[str]
    message: str
    fix: str
    mend: _Mend
    code: str = "R102"


def _slip(pattern: str, message: str, fix: str, mend: str | _Mend, code: str = "R102") -> Slip:
    made = (lambda _: mend) if isinstance(mend, str) else mend
    return Slip(re.compile(pattern), message, fix, made, code)


_NAME = r"[A-Za-z_]\w*"
_MADE = r"let|keep|fresh|set|setting|signal"
_CLAUSE_WORDS = "|".join(sorted({c.word for c in CLAUSES.values()}))
_OUTPUT_WORDS = "|".join(OUTPUTS)
#: Colours that have other names here.
_COLOURS = "red|green|blue|orange|yellow|purple|black|gr[ae]y|pink|cyan"
#: A value that is easily told from what stands around it: a name or number, a call of plain values, a lag.
_VALUE = rf"(?:{_NAME}(?:\.{_NAME})?(?:\([^()]*\))?(?:\[[^\[\]]*\])?|\d[\w.]*)"
_UNITS = {"d": "d", "h": "h", "w": "w", "m": "m"}


def _timeframe(of: Callable[[str], str]) -> str:
    """A length of time as a timeframe: 1D, 15 min, 1month."""
    unit = of("unit").lower()
    letter = "mo" if unit.startswith("mo") or of("unit") in ("M", "MO") else _UNITS[unit[0]]
    return f"{int(of('number'))}{letter}"


def _plain_number(of: Callable[[str], str]) -> str:
    """5k, 1.5M as a number."""
    size = {"k": 1e3, "m": 1e6, "b": 1e9}[of("unit").lower()]
    return f"{float(of('number')) * size:_.0f}"


def _snake(of: Callable[[str], str]) -> str:
    return re.sub(r"[\s-]+", "_", of("name").strip()).lower()


SLIPS: tuple[Slip, ...] = (
    # --- how a line begins
    _slip(
        rf"^\s*(?P<at>(?=[A-Za-z]*[A-Z])(?i:{'|'.join(sorted(STATEMENT_WORDS))}))\b",
        "Statements are written small.",
        "Write it in small letters.",
        lambda of: of("at").lower(),
        "R101",
    ),
    _slip(
        r"^\s*(?P<at>(?:def|function|func|fn|fun|sub)\s+(?P<rest>[^:{]*?)\s*(?:->[^:{]*)?[:{]?)\s*$",
        "A function is made with `define`.",
        "Write `define`.",
        lambda of: f"define {of('rest')}",
        "R101",
    ),
    _slip(
        r"^\s*(?P<at>(?:elif|elseif|elsif|elsf|elf)\b\s*(?P<rest>.*?)\s*(?:\bthen\b)?\s*[:{]?)\s*$",
        "A further condition is written `else if`.",
        "Write `else if`.",
        lambda of: f"else if {of('rest')}",
        "R101",
    ),
    _slip(r"^\s*(?P<at>return)\b", "A function ends with `give`.", "Write `give`.", "give", "R101"),
    _slip(r"^\s*(?P<at>break)\s*$", "A `for` is left with `stop`.", "Write `stop`.", "stop", "R101"),
    _slip(r"^\s*(?P<at>import)\b", "Functions of other scripts are taken with `use`.", "Write `use`.", "use", "R101"),
    _slip(
        r"^\s*(?P<at>draw|show|plot)\b(?!\s*\()",
        "A line is drawn with `line`.",
        "Write `line`.",
        "line",
        "R101",
    ),
    _slip(
        r"^\s*(?P<at>(?:draw|show|plot)\s*\((?P<value>.*)\)\s*)$",
        "A line is drawn with `line`, without brackets.",
        "Write `line` and the value.",
        lambda of: f"line {of('value').strip()}",
        "R101",
    ),
    _slip(
        rf"^\s*(?P<at>(?:var|const|int|float|double|bool|number|auto|new|dim)(?=\s+{_NAME}\s*:?=))",
        "A name is made with `let`, or with `keep` where it lives from bar to bar.",
        "Write `let`, or `keep`.",
        "let",
        "R101",
    ),
    _slip(
        rf"^\s*(?P<at>(?P<name>{_NAME})\s*(?:\+\+|--))\s*$",
        "A value is changed with `set`.",
        "Write `set … = … + 1`.",
        lambda of: f"set {of('name')} = {of('name')} + 1",
    ),
    _slip(
        rf"^\s*set\s+(?P<name>{_NAME})\s*(?P<at>(?P<op>[-+*/])=)",
        "There is no short form for changing a value.",
        "Write the name again: `set n = n + 1`.",
        lambda of: f"= {of('name')} {of('op')}",
    ),
    _slip(
        rf"^\s*(?P<at>(?:(?:let|keep)\s+)?(?P<name>{_NAME})\s*(?P<op>[-+*/])=)",
        "There is no short form for changing a value.",
        "Write `set` and the name again: `set n = n + 1`.",
        lambda of: f"set {of('name')} = {of('name')} {of('op')}",
    ),
    _slip(
        rf"^\s*(?:{_MADE})\s+{_NAME}\s*(?P<at>:=|<-|=:)",
        "A value is given with `=`.",
        "Write `=`.",
        "=",
    ),
    _slip(
        rf"^\s*(?P<at>(?P<name>{_NAME})\s*(?::=|<-|=:))",
        "A value is given here, and the line does not say how.",
        "Write `let` before the name, or `set` to change a `keep`.",
        lambda of: f"let {of('name')} =",
        "R108",
    ),
    _slip(
        rf"^\s*(?:{_MADE})\s+{_NAME}(?P<at>\s*(?:==|:|\bis\b|\bas\b|\bto\b)\s*)(?!=)",
        "A value is given with `=`.",
        "Write `=`.",
        " = ",
    ),
    _slip(
        rf"^\s*(?:let|keep|fresh|set|signal|setting)\s+(?P<at>(?P<name>{_NAME}(?:[ -]+{_NAME})+))\s*=(?!=)",
        "A name is one word.",
        "Join its words with `_`.",
        _snake,
    ),
    _slip(
        rf"^\s*(?:let|keep|fresh|set)\s+{_NAME}(?P<at>\s+)(?=[\w(#\"-])",
        "Between the name and its value stands `=`.",
        "Write `=` between them.",
        " = ",
    ),
    _slip(
        rf"^\s*signal(?P<at>\s+)(?!{_NAME}\s*=(?!=))",
        "A signal has a name.",
        "Give it one, as in `signal go = …`.",
        " go = ",
    ),
    _slip(
        rf"^\s*(?P<at>{_NAME}(?=\s*=(?!=)))",
        "A value is given here, and the line does not say how.",
        "Write `let` before the name, or `set` to change a `keep`.",
        lambda of: f"let {of('at')}",
        "R108",
    ),
    _slip(
        r"^\s*(?:title|about)\s+(?P<at>(?![\"“”„«»‘’'])\S.*?)\s*$",
        "A text stands in quotes.",
        'Put " on both sides.',
        lambda of: f'"{of("at")}"',
    ),
    _slip(
        r"\bfrom\s+(?P<at>[A-Za-z][\w .-]*?)\s*$",
        "The title of a script stands in quotes.",
        'Put " on both sides.',
        lambda of: f'"{of("at")}"',
    ),
    _slip(
        r"\b(?P<at>AND|OR|NOT|IF|THEN|ELSE|MOD|YES|NO|NONE|BETWEEN|And|Or|Not|Then|Else|Between|None)\b",
        "The words of the language are written small.",
        "Write it in small letters.",
        lambda of: of("at").lower(),
    ),
    _slip(r"\b(?:and|or)(?P<at>\s+(?:and|or))\b", "Two conditions are joined by one word.", "Take one out.", ""),
    _slip(
        r"\b(?:width|size)\s+[\d.]+\s*(?P<at>px|pt|pixels?|points?)\b",
        "A width is counted in pixels and has no unit.",
        "Take it out.",
        "",
    ),
    _slip(
        r"^\s*(?:setting|signal)\b.*?(?P<at>\s*,\s*)(?=range\b|choose\b|step\b|bullish\b|bearish\b|neutral\b|\")",
        "Clauses follow one another without commas.",
        "Take it out.",
        " ",
    ),
    _slip(
        r"^\s*setting\b.*?\brange\s+[\d.]+(?P<at>\s*(?:\bto\b|-|,|\.\.\.)\s*)[\d.]+",
        "A range is written with two points.",
        "Write `range 1..200`.",
        "..",
    ),
    # --- loops and blocks
    _slip(
        rf"^\s*for\s+(?P<name>{_NAME})\s*(?P<at>(?:=|in|from)\s*(?P<first>[^,]+?)\s*(?:\bto\b|\.\.\.|,|\bthrough\b)\s*(?P<last>[^:{{]+?)\s*(?:\bdo\b)?\s*[:{{]?)\s*$",
        "The numbers of a `for` are written with two points.",
        "Write `for k in 1..5`.",
        lambda of: f"in {of('first')}..{of('last')}",
    ),
    _slip(
        rf"^\s*for\s+(?P<name>{_NAME})\s*(?P<at>in\s+range\s*\(\s*(?:(?P<first>[^,()]+),)?\s*(?P<last>[^,()]+)\)\s*:?)\s*$",
        "The numbers of a `for` are written with two points, both included.",
        "Write `for k in 0..4`.",
        lambda of: f"in {of('first').strip() or '0'}..{of('last').strip()} - 1",
    ),
    _slip(
        r"^\s*(?:if|else|for|define)\b.*?(?P<at>\s*(?::|\{|\bthen\b\s*:?|\bdo\b\s*:?)\s*)$",
        "Nothing stands at the end of a line that opens a block.",
        "Take it out; what belongs to it is indented below.",
        "",
    ),
    # --- signs
    _slip(
        r"(?P<at>[“”„«»‘’'](?P<text>[^“”„«»‘’'\"]*)[“”„«»‘’'])",
        "Texts stand in straight double quotes.",
        'Use " on both sides.',
        lambda of: f'"{of("text")}"',
    ),
    _slip(r"(?P<at>&&|&)", "`&` means nothing in Rung.", "Write `and`.", "and"),
    _slip(r"(?P<at>\|\||\|)", "`|` means nothing in Rung.", "Write `or`.", "or"),
    _slip(r"(?P<at><>|≠|=/=|~=|!==|! =)", "What is not equal is written `!=`.", "Write `!=`.", "!="),
    _slip(r"(?P<at>===|= =|＝＝)", "What is equal is written `==`.", "Write `==`.", "=="),
    _slip(r"(?P<at>=>|≥|> =|⩾)", "At least is written `>=`.", "Write `>=`.", ">="),
    _slip(r"(?P<at>=<|≤|< =|⩽)", "At most is written `<=`.", "Write `<=`.", "<="),
    _slip(r"(?P<at>!)(?!=)", "The opposite is written `not`.", "Write `not`.", "not "),
    _slip(r"(?P<at>\*\*)", "A power is written `^`.", "Write `^`.", "^"),
    _slip(r"(?P<at>[×·∗])", "A product is written `*`.", "Write `*`.", "*"),
    _slip(r"(?P<at>[÷])", "A quotient is written `/`.", "Write `/`.", "/"),
    _slip(r"(?P<at>[−–—])", "Minus is written `-`.", "Write `-`.", "-"),
    _slip(r"(?<=[\w)\]])(?P<at>\s*%\s*)(?=[\w(])", "A remainder is written `mod`.", "Write `mod`.", " mod "),
    _slip(
        r"(?P<at>#(?P<hex>[0-9A-Fa-f]{3}))(?![0-9A-Za-z_])",
        "A colour has six digits.",
        "Write each digit twice.",
        lambda of: "#" + "".join(c * 2 for c in of("hex")),
    ),
    # --- numbers
    _slip(
        r"(?<![\w.])(?P<at>\d{1,3}(?:,\d{3})+)(?![\d.]*\w)",
        "Thousands are parted with `_`, not with a comma.",
        "Write `1_000_000`.",
        lambda of: of("at").replace(",", "_"),
    ),
    _slip(
        r"(?<![\w.,])(?P<at>\d+,\d+)(?![\w,])",
        "The decimals of a number stand after a point.",
        "Write `10.5`.",
        lambda of: of("at").replace(",", "."),
    ),
    _slip(r"(?<![\w.])(?P<at>\.\d+)\b", "A number begins with a digit.", "Write `0.5`.", lambda of: f"0{of('at')}"),
    _slip(
        r"(?<![\w.])(?P<at>(?P<number>\d+)\s*(?P<unit>D|H|W|MO|Mo|[Dd]ays?|[Ww]eeks?|[Hh]ours?|hrs?|[Mm]in(?:ute)?s?|[Mm]onths?))\b(?<=\w)",
        "A timeframe is written with one small letter: 15m, 1h, 1d, 1w, 1mo.",
        "Write it so.",
        _timeframe,
    ),
    _slip(
        r"\b(?:on\s+|new\(\s*)(?P<at>(?P<number>\d+)\s*(?P<unit>M))\b",
        "A month is written 1mo, a minute 1m.",
        "Write it so.",
        _timeframe,
    ),
    _slip(
        r"(?<![\w.])(?P<at>(?P<number>\d+(?:\.\d+)?)\s*(?P<unit>[kKMbB]))\b",
        "Large numbers are written out.",
        "Write `1_000_000` or `1e6`.",
        _plain_number,
    ),
    # --- expressions
    _slip(
        r"^(?P<head>.*(?:(?<![=<>!])=(?!=)|\b(?:color|fill|order|line|column|label|give|then|else|when)\b|,)\s*)"
        r"(?P<at>(?P<test>[^?]+?)\s*\?\s*(?P<yes>[^?:]+?)\s*:\s*(?P<no>.+?))\s*$",
        "A choice is written in words.",
        "Write `if … then … else …`.",
        lambda of: f"if {of('test')} then {of('yes')} else {of('no')}",
    ),
    _slip(
        r"\bif\b.*\bthen\b(?!.*\belse\b).*?(?P<at>)\s*$",
        "A choice says what it is otherwise.",
        "Write `else` and a value, or `else none`.",
        " else none",
    ),
    _slip(
        rf"(?P<at>(?P<a>{_VALUE})\s+cross(?:es|ed|ing)?\s+(?:above|over|up(?:wards)?)(?:\s+through)?\s+(?P<b>{_VALUE}))",
        "Crossing is a function.",
        "Write `crosses_up(a, b)`.",
        lambda of: f"crosses_up({of('a')}, {of('b')})",
    ),
    _slip(
        rf"(?P<at>(?P<a>{_VALUE})\s+cross(?:es|ed|ing)?\s+(?:below|under|down(?:wards)?)(?:\s+through)?\s+(?P<b>{_VALUE}))",
        "Crossing is a function.",
        "Write `crosses_down(a, b)`.",
        lambda of: f"crosses_down({of('a')}, {of('b')})",
    ),
    _slip(
        r"(?P<at>\bis\s+(?:above|greater\s+than|over|more\s+than))(?=\s)",
        "Comparing is done with signs.",
        "Write `>`.",
        ">",
    ),
    _slip(r"(?P<at>\bis\s+(?:below|less\s+than|under))(?=\s)", "Comparing is done with signs.", "Write `<`.", "<"),
    _slip(r"(?P<at>\bis\s+not\b)", "What is not equal is written `!=`.", "Write `!=`.", "!="),
    _slip(r"(?P<at>\b(?:is|equals?)\b)", "What is equal is written `==`.", "Write `==`.", "=="),
    _slip(
        rf"\bbetween\s*(?P<at>\(?\s*(?P<a>-?{_VALUE})\s*(?:,|\bto\b|\.\.)\s*(?P<b>-?{_VALUE})\s*\)?)",
        "`between` takes its bounds with `and`.",
        "Write `between 30 and 70`.",
        lambda of: f"{of('a')} and {of('b')}",
    ),
    _slip(
        rf"[(,]\s*(?P<at>(?P<name>{_NAME})\s*:)(?!=)",
        "A value is given to a parameter with `=`.",
        "Write `n = 9`.",
        lambda of: f"{of('name')} =",
    ),
    _slip(r"(?P<at>,)\s*[)\]]", "A comma stands between two values.", "Take it out.", ""),
    # --- clauses
    _slip(
        rf"^\s*(?:{_OUTPUT_WORDS})\b.*?(?P<at>\s*,\s*)(?=(?:{_CLAUSE_WORDS})\b)",
        "Clauses follow one another without commas.",
        "Take it out.",
        " ",
    ),
    _slip(
        rf"\b(?:{_CLAUSE_WORDS})(?P<at>\s*[=:]\s*)(?![=])",
        "A clause is followed by its value at once.",
        "Take the sign out.",
        " ",
    ),
    _slip(
        r"\b(?:style|shape)\s+(?P<at>\"(?P<word>[^\"]*)\")",
        "The names of shapes and styles stand without quotes.",
        "Take the quotes out.",
        lambda of: of("word"),
    ),
    _slip(
        rf"\b(?:named|lane|pane)\s+(?P<at>(?![\"“‘'])[A-Za-z][\w -]*?)(?=\s+(?:{_CLAUSE_WORDS})\b|\s*$)",
        "A name that is shown stands in quotes.",
        'Put " on both sides.',
        lambda of: f'"{of("at")}"',
    ),
    _slip(
        rf"^\s*(?:label|note)\s+(?P<at>(?![\"“‘'])[A-Za-z][\w !?.'-]*?)(?=\s+(?:{_CLAUSE_WORDS})\b|\s*$)",
        "A text stands in quotes.",
        'Put " on both sides.',
        lambda of: f'"{of("at")}"',
    ),
    _slip(
        rf"^\s*mark\s+(?P<at>(?P<shape>{'|'.join(SHAPES)})\b(?P<rest>.*?)\s+(?:when|if)\s+(?P<test>.+?))\s*$",
        "A `mark` takes its condition first, and its shape with `shape`.",
        "Write `mark FLAG shape arrow_up`.",
        lambda of: f"{of('test')}{of('rest')} shape {of('shape')}",
    ),
    _slip(
        r"\b(?P<at>colour|colored|coloured|col|clr)\b(?=\s+[\w#\"(])",
        "The colour of something is set with `color`.",
        "Write `color`.",
        "color",
    ),
    _slip(
        rf"(?P<at>\b(?:in|with)\s+)(?=(?:{'|'.join(STYLES)})\b)",
        "How a line is drawn is said with `style`.",
        "Write `style`.",
        "style ",
    ),
    _slip(
        rf"^\s*(?:{_OUTPUT_WORDS})\b.*?\s(?P<at>if)\s+(?!.*\bthen\b)",
        "When something is shown is said with `when`.",
        "Write `when`.",
        "when",
    ),
    _slip(
        rf"^\s*mark\b.*?\s(?P<at>)(?<!shape )(?=(?:{'|'.join(SHAPES)})\b)",
        "The shape of a mark is said with `shape`.",
        "Write `shape` before it.",
        "shape ",
    ),
    _slip(
        rf"^\s*(?:{_OUTPUT_WORDS})\b.*?\s(?P<at>)(?<!color )(?=(?:{'|'.join(PALETTE)}|{_COLOURS})\b|#[0-9A-Fa-f]{{6}})",
        "The colour of something is set with `color`.",
        "Write `color` before it.",
        "color ",
    ),
    _slip(
        rf"^\s*(?:line|level|link)\b.*?\s(?P<at>)(?<!style )(?=(?:{'|'.join(STYLES)})\b)",
        "How a line is drawn is said with `style`.",
        "Write `style` before it.",
        "style ",
    ),
    # --- names of several words, and words that mean nothing
    _slip(r"(?P<at>\s*\{)\s*$", "Blocks are made by indentation.", "Take it out.", ""),
    _slip(
        r"(?<![\w.])(?<!width )(?<!size )(?<!ago )(?P<number>\d+(?:\.\d+)?)(?P<at>\s*)(?=[A-Za-z(])",
        "Between a number and what it multiplies stands `*`.",
        "Write `2 * close`.",
        " * ",
    ),
)
