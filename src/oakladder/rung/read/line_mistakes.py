"""Mistakes in how a line begins, and in loops and blocks."""

from __future__ import annotations

import re
from collections.abc import Callable

from oakladder.rung.read.mistake import NAME, Mistake, mistake
from oakladder.rung.words import STATEMENT_WORDS

_MADE = r"let|keep|fresh|set|setting|signal"


def _snake(of: Callable[[str], str]) -> str:
    return re.sub(r"[\s-]+", "_", of("name").strip()).lower()


LINES: tuple[Mistake, ...] = (
    # --- how a line begins
    mistake(
        r"^\s*signal(?P<at>\s*)(?==(?!=))",
        "A signal has a name.",
        "Give it one, as in `signal go = …`.",
        " go ",
    ),
    mistake(
        rf"^\s*(?P<at>(?=[A-Za-z]*[A-Z])(?i:{'|'.join(sorted(STATEMENT_WORDS))}))\b",
        "Statements are written small.",
        "Write it in small letters.",
        lambda of: of("at").lower(),
        "R101",
    ),
    mistake(
        r"^\s*(?P<at>rung\s*[vV]?\s*1(?:\.\d+)?)\s*$", "The version stands behind `rung`.", "Write `{new}`.", "rung 1"
    ),
    mistake(
        rf"^\s*setting\s+{NAME}(?P<at>)(?=\s+range\s+(?P<low>-?\d+(?:\.\d+)?)\s*\.\.)",
        "A setting has a default.",
        "Write it behind the name, as in `setting n = 9 range 1..50`.",
        lambda of: f" = {of('low')}",
    ),
    mistake(
        r"^\s*paint\s+(?P<at>candles?|candlesticks?|bar)\b",
        "What is painted is called `bars`.",
        "Write `bars`.",
        "bars",
    ),
    mistake(
        rf"^\s*(?:keep|fresh)\s+{NAME}(?P<at>)\s*$",
        "What is kept has a start.",
        "Say with what it begins, as in `keep n = 0`.",
        " = 0",
    ),
    mistake(
        r"^\s*signal\b.*?\b(?P<at>when|if)\b(?!.*\bthen\b)",
        "A signal is one condition.",
        "Join its parts with `and`.",
        "and",
    ),
    mistake(
        r"^\s*(?P<at>(?:def|function|func|fn|fun|sub)\s+(?P<rest>[^:{]*?)\s*(?:->[^:{]*)?[:{]?)\s*$",
        "A function is made with `define`.",
        "Write `define`.",
        lambda of: f"define {of('rest')}",
        "R101",
    ),
    mistake(
        r"^\s*(?P<at>(?:elif|elseif|elsif|elsf|elf)\b\s*(?P<rest>.*?)\s*(?:\bthen\b)?\s*[:{]?)\s*$",
        "A further condition is written `else if`.",
        "Write `else if`.",
        lambda of: f"else if {of('rest')}",
        "R101",
    ),
    mistake(r"^\s*(?P<at>return)\b", "A function ends with `give`.", "Write `give`.", "give", "R101"),
    mistake(r"^\s*(?P<at>break)\s*$", "A `for` is left with `stop`.", "Write `stop`.", "stop", "R101"),
    mistake(r"^\s*(?P<at>import)\b", "Functions of other scripts are taken with `use`.", "Write `use`.", "use", "R101"),
    mistake(
        r"^\s*(?P<at>draw|show|plot)\b(?!\s*\()",
        "A line is drawn with `line`.",
        "Write `line`.",
        "line",
        "R101",
    ),
    mistake(
        r"^\s*(?P<at>(?:draw|show|plot)\s*\((?P<value>.*)\)\s*)$",
        "A line is drawn with `line`, without brackets.",
        "Write `line` and the value.",
        lambda of: f"line {of('value').strip()}",
        "R101",
    ),
    mistake(
        rf"^\s*(?P<at>(?:var|const|int|float|double|bool|number|auto|new|dim)(?=\s+{NAME}\s*:?=))",
        "A name is made with `let`, or with `keep` where it lives from bar to bar.",
        "Write `let`, or `keep`.",
        "let",
        "R101",
    ),
    mistake(
        rf"^\s*(?P<at>(?P<name>{NAME})\s*(?:\+\+|--))\s*$",
        "A value is changed with `set`.",
        "Write `set … = … + 1`.",
        lambda of: f"set {of('name')} = {of('name')} + 1",
    ),
    mistake(
        rf"^\s*set\s+(?P<name>{NAME})\s*(?P<at>(?P<op>[-+*/])=)",
        "There is no short form for changing a value.",
        "Write the name again: `set n = n + 1`.",
        lambda of: f"= {of('name')} {of('op')}",
    ),
    mistake(
        rf"^\s*(?P<at>(?:(?:let|keep)\s+)?(?P<name>{NAME})\s*(?P<op>[-+*/])=)",
        "There is no short form for changing a value.",
        "Write `set` and the name again: `set n = n + 1`.",
        lambda of: f"set {of('name')} = {of('name')} {of('op')}",
    ),
    mistake(
        rf"^\s*(?:{_MADE})\s+{NAME}\s*(?P<at>:=|<-|=:)",
        "A value is given with `=`.",
        "Write `=`.",
        "=",
    ),
    mistake(
        rf"^\s*(?P<at>(?P<name>{NAME})\s*(?::=|<-|=:))",
        "A value is given here, and the line does not say how.",
        "Write `let` before the name, or `set` to change a `keep`.",
        lambda of: f"let {of('name')} =",
        "R108",
    ),
    mistake(
        rf"^\s*(?:{_MADE})\s+{NAME}(?P<at>\s*(?:==|:|\bis\b|\bas\b|\bto\b)\s*)(?!=)",
        "A value is given with `=`.",
        "Write `=`.",
        " = ",
    ),
    mistake(
        rf"^\s*(?:let|keep|fresh|set|signal|setting)\s+(?P<at>(?P<name>{NAME}(?:[ -]+{NAME})+))\s*=(?!=)",
        "A name is one word.",
        "Join its words with `_`.",
        _snake,
    ),
    mistake(
        rf"^\s*(?:let|keep|fresh|set)\s+{NAME}(?P<at>\s+)(?=[\w(#\"-])",
        "Between the name and its value stands `=`.",
        "Write `=` between them.",
        " = ",
    ),
    mistake(
        rf"^\s*signal\s+{NAME}(?P<at>\s+)(?=[\w(])",
        "Between the name and its value stands `=`.",
        "Write `=` between them.",
        " = ",
    ),
    mistake(
        rf"^\s*signal(?P<at>\s+)(?!{NAME}\s*=(?!=))",
        "A signal has a name.",
        "Give it one, as in `signal go = …`.",
        " go = ",
    ),
    mistake(
        rf"^\s*(?P<at>(?!signal\b){NAME}(?=\s*=(?!=)))",
        "A value is given here, and the line does not say how.",
        "Write `let` before the name, or `set` to change a `keep`.",
        lambda of: f"let {of('at')}",
        "R108",
    ),
    mistake(
        r"^\s*(?:title|about)\s+(?P<at>(?![\"“”„«»‘’'])\S.*?)\s*$",
        "A text is in quotes.",
        'Put " on both sides.',
        lambda of: f'"{of("at")}"',
    ),
    mistake(
        r"\bfrom\s+(?P<at>[A-Za-z][\w .-]*?)\s*$",
        "The title of a script is in quotes.",
        'Put " on both sides.',
        lambda of: f'"{of("at")}"',
    ),
    mistake(
        r"\b(?P<at>AND|OR|NOT|IF|THEN|ELSE|MOD|YES|NO|NONE|BETWEEN|And|Or|Not|Then|Else|Between|None)\b",
        "The words of the language are written small.",
        "Write it in small letters.",
        lambda of: of("at").lower(),
    ),
    mistake(r"\b(?:and|or)(?P<at>\s+(?:and|or))\b", "Two conditions are joined by one word.", "Take one out.", ""),
    mistake(
        r"\b(?:width|size)\s+[\d.]+\s*(?P<at>px|pt|pixels?|points?)\b",
        "A width is counted in pixels and has no unit.",
        "Take it out.",
        "",
    ),
    mistake(
        r"^\s*(?:setting|signal)\b.*?(?P<at>\s*,\s*)(?=range\b|choose\b|step\b|bullish\b|bearish\b|neutral\b|\")",
        "Clauses follow one another without commas.",
        "Take it out.",
        " ",
    ),
    mistake(
        r"^\s*setting\b.*?\brange\s+[\d.]+(?P<at>\s*(?:\bto\b|-|,|\.\.\.)\s*)[\d.]+",
        "A range is written with two points.",
        "Write `range 1..200`.",
        "..",
    ),
    # --- loops and blocks
    mistake(
        rf"^\s*for\s+(?P<name>{NAME})\s*(?P<at>(?:=|in|from)\s*(?P<first>[^,]+?)\s*(?:\bto\b|\.\.\.|,|\bthrough\b)\s*(?P<last>[^:{{]+?)\s*(?:\bdo\b)?\s*[:{{]?)\s*$",
        "The numbers of a `for` are written with two points.",
        "Write `for k in 1..5`.",
        lambda of: f"in {of('first')}..{of('last')}",
    ),
    mistake(
        rf"^\s*for\s+(?P<name>{NAME})\s*(?P<at>in\s+range\s*\(\s*(?:(?P<first>[^,()]+),)?\s*(?P<last>[^,()]+)\)\s*:?)\s*$",
        "The numbers of a `for` are written with two points, both included.",
        "Write `for k in 0..4`.",
        lambda of: f"in {of('first').strip() or '0'}..{of('last').strip()} - 1",
    ),
    mistake(
        r"^\s*(?:if|else|for|define)\b.*?(?P<at>\s*(?::|\{|\bthen\b\s*:?|\bdo\b\s*:?)\s*)$",
        "A line that opens a block has no end sign.",
        "Take it out; what belongs to it is indented below.",
        "",
    ),
)
