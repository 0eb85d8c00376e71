"""Every problem a script can have: one table of codes, and the record of one finding.

The table is the only place where a code is declared; the checker, the command line and the
documentation read it.
"""

from __future__ import annotations

import difflib
from collections.abc import Iterable
from dataclasses import dataclass
from enum import Enum


class Severity(Enum):
    """How much a problem matters: an error stops the script, the others do not."""

    ERROR = "error"
    WARNING = "warning"
    HINT = "hint"


@dataclass(frozen=True, slots=True)
class Span:
    """A place in a script: line and column count from 1, length in characters on that line."""

    line: int
    column: int
    length: int = 1


@dataclass(frozen=True, slots=True)
class ProblemCode:
    """What the table knows of a problem code: its severity and an example that is wrong and one that is right."""

    severity: Severity
    title: str
    wrong: str
    right: str


@dataclass(frozen=True, slots=True)
class Problem:
    """One finding in a script: where, what is wrong in plain words, and what to do about it.

    ``replacement`` is the text that fixes it; ``also`` are other places that must be changed with it.
    Neither is given unless the script is better with it.
    """

    code: str
    span: Span
    message: str
    fix: str = ""
    replacement: str | None = None
    also: tuple[tuple[Span, str], ...] = ()

    @property
    def edits(self) -> tuple[tuple[Span, str], ...]:
        """Every edit of the fix, with its new text; none if nothing can be changed safely."""
        own = () if self.replacement is None else ((self.span, self.replacement),)
        return (*own, *self.also)

    @property
    def severity(self) -> Severity:
        return CODES[self.code].severity

    @property
    def is_error(self) -> bool:
        return self.severity is Severity.ERROR

    def line_text(self, file: str) -> str:
        """The form that the command line prints: ``FILE:LINE:COL: CODE message fix``."""
        words = f"{self.message} {self.fix}".strip()
        return f"{file}:{self.span.line}:{self.span.column}: {self.code} {words}"

    def as_dict(self) -> dict[str, object]:
        """Plain data for ``--json``."""
        return {
            "code": self.code,
            "severity": self.severity.value,
            "line": self.span.line,
            "column": self.span.column,
            "length": self.span.length,
            "message": self.message,
            "fix": self.fix,
            "replacement": self.replacement,
            "edits": [
                {"line": at.line, "column": at.column, "length": at.length, "text": text} for at, text in self.edits
            ],
        }


class ScriptError(Exception):
    """A script that cannot be compiled; ``problems`` holds every finding, sorted by place."""

    def __init__(self, problems: tuple[Problem, ...]):
        super().__init__("; ".join(p.message for p in problems if p.is_error))
        self.problems = problems


class RunProblem(Exception):
    """A script that is sound but cannot run with these settings or these bars; the text says why, and where if that is
    known (``line``, else 0)."""

    def __init__(self, sentence: str, line: int = 0):
        super().__init__(f"Line {line}: {sentence}" if line else sentence)
        self.sentence, self.line = sentence, line


class UnknownName(RunProblem):
    """A script has no signal, column or value of a name."""


class Cancelled(Exception):
    """The caller has cancelled checking, compiling or running."""


def nearest(word: str, known: Iterable[str], count: int = 3) -> list[str]:
    """The known names closest to a mistyped one, best first."""
    spelled = {name.lower(): name for name in known}
    found = difflib.get_close_matches(word.lower(), spelled, count, 0.6)
    found = found or [name for name in spelled if name.startswith(word.lower()[:3]) and len(word) > 2][:count]
    return [spelled[name] for name in found]


def did_you_mean(word: str, known: Iterable[str]) -> str:
    """A question naming the closest known names, or nothing."""
    found = nearest(word, known)
    return f"Did you mean {' or '.join(f'`{name}`' for name in found)}?" if found else ""


_E, _W, _H = Severity.ERROR, Severity.WARNING, Severity.HINT

CODES: dict[str, ProblemCode] = {
    # 1xx text
    "R100": ProblemCode(
        _E, "The file is not a script", "(a picture, or 10 MB of text)", "a UTF-8 text file of at most 200 kB"
    ),
    "R101": ProblemCode(_E, "A line starts with an unknown word", "draw close", "line close"),
    "R102": ProblemCode(_E, "A line cannot be read", "let x = close +", "let x = close + 1"),
    "R103": ProblemCode(_E, "A quote is not closed", 'title "Dips', 'title "Dips"'),
    "R104": ProblemCode(_E, "A bracket is not closed", "let x = sma(close, 9", "let x = sma(close, 9)"),
    "R105": ProblemCode(_E, "A tab in the indentation", "\tgive x", "    give x"),
    "R106": ProblemCode(_E, "Indentation that fits no block", "let a = 1\n    let b = 2", "let a = 1\nlet b = 2"),
    "R107": ProblemCode(_E, "One equals sign in a comparison", "signal go = close = open", "signal go = close == open"),
    "R108": ProblemCode(_E, "A value is assigned without a statement", "x = close", "let x = close"),
    "R109": ProblemCode(_E, "A block is empty", "define f(x)\nlet a = 1", "define f(x)\n    give x"),
    "R110": ProblemCode(_W, "The script does not say its version", "line close", "rung 1\nline close"),
    "R111": ProblemCode(_E, "An unknown version of Rung", "rung 7", "rung 1"),
    "R112": ProblemCode(
        _E, "A script is nested too deeply or too long", "((((((…))))))", "let part = …, then use the name"
    ),
    "R113": ProblemCode(_E, "A statement in the wrong place", "if yes\n    line close", "line close when yes"),
    "R114": ProblemCode(
        _E, "A clause that does not fit its statement", "line close fill good", "line close color good"
    ),
    "R115": ProblemCode(_E, "A format that cannot be read", 'note "{close:wide}"', 'note "{close:.2}"'),
    "R116": ProblemCode(_E, "A number that is too large", "let x = 1e999", "let x = 1e9"),
    "R117": ProblemCode(_E, "A time that no clock shows", "signal go = clock > 25:99", "signal go = clock > 15:30"),
    "R118": ProblemCode(_E, "A timeframe that there is not", "line close on 3mo", "line close on 1mo"),
    "R119": ProblemCode(_W, "Something is said twice", 'title "A"\ntitle "B"', 'title "A"'),
    "R120": ProblemCode(
        _E,
        "A trade that is never entered",
        "trade ride long\n    stop 5%",
        "trade ride long\n    enter when close > open\n    stop 5%",
    ),
    # 2xx names
    "R201": ProblemCode(_E, "An unknown name", "let x = clsoe", "let x = close"),
    "R202": ProblemCode(_E, "A name that is taken", "let close = 1", "let last = 1"),
    "R203": ProblemCode(_E, "A name with capitals", "let Fast = 1", "let fast = 1"),
    "R204": ProblemCode(_E, "An unknown function", "let x = smma(close, 9)", "let x = sma(close, 9)"),
    "R205": ProblemCode(_E, "The wrong number of values for a function", "let x = sma(close)", "let x = sma(close, 9)"),
    "R206": ProblemCode(
        _E, "A result that the function does not give", "let x = macd(close).fast", "let x = macd(close).line"
    ),
    "R207": ProblemCode(_E, "A name used before it is made", "let a = b\nlet b = 1", "let b = 1\nlet a = b"),
    "R208": ProblemCode(_E, "A name that cannot be changed", "let a = 1\nset a = 2", "keep a = 1\nset a = 2"),
    "R209": ProblemCode(_E, "A function that calls itself", "define f(x)\n    give f(x)", "define f(x)\n    give x"),
    "R210": ProblemCode(
        _E, "A function without a result", "define f(x)\n    let y = x", "define f(x)\n    let y = x\n    give y"
    ),
    "R211": ProblemCode(_E, "The name of no script in the library", 'use f from "Nothing"', 'use f from "My tools"'),
    "R212": ProblemCode(_E, "An unknown choice for a clause", "mark go shape arow_up", "mark go shape arrow_up"),
    "R213": ProblemCode(
        _E, "Several results where one is needed", "let x = macd(close) + 1", "let x = macd(close).line + 1"
    ),
    "R214": ProblemCode(
        _W, "A symbol that the library does not have", 'line close of "saltx"', 'line close of "SALTX"'
    ),
    "R215": ProblemCode(
        _W,
        "A function that hides one of the library",
        "define sma(x)\n    give x\nline sma(close)",
        "define my_sma(x)\n    give x\nline my_sma(close)",
    ),
    "R216": ProblemCode(
        _E,
        "The position of a script without a trade",
        "line position.entry",
        "trade ride long\n    enter when close > open\nline position.entry",
    ),
    "R217": ProblemCode(
        _E,
        "A function of another script that reads a value of it",
        'use f from "Tools"  -- whose f reads a setting there',
        'use f from "Tools"  -- whose f takes it as a parameter',
    ),
    # 3xx kinds and fixedness
    "R301": ProblemCode(_E, "A value of the wrong kind", "let x = close and 1", "let x = close > 1 and yes"),
    "R302": ProblemCode(
        _E, "A moving value where a fixed one is needed", "let x = sma(close, bar)", "let x = sma(close, 20)"
    ),
    "R303": ProblemCode(
        _E, "A setting whose default does not fit", "setting n = 9 range 20..50", "setting n = 20 range 9..50"
    ),
    "R304": ProblemCode(
        _E,
        "A function that holds state inside if or for",
        "if yes\n    set x = sma(close, 9)",
        "let s = sma(close, 9)\nif yes\n    set x = s",
    ),
    "R305": ProblemCode(_E, "A length that makes no sense", "let x = sma(close, 0)", "let x = sma(close, 1)"),
    "R306": ProblemCode(
        _E,
        "Risks without a stop",
        "trade ride long\n    enter when close > open\n    target 2 risks",
        "trade ride long\n    enter when close > open\n    stop 5%\n    target 2 risks",
    ),
    # 4xx units
    "R401": ProblemCode(
        _W,
        "Unlike units are compared or added",
        "signal go = rsi(close, 14) > close",
        "signal go = rsi(close, 14) > 70",
    ),
    "R402": ProblemCode(
        _W,
        "A share where percent points are meant",
        "signal go = rsi(close, 14) < 30%",
        "signal go = rsi(close, 14) < 30",
    ),
    "R403": ProblemCode(
        _W, "A number where a time of day is meant", "signal go = clock > 0930", "signal go = clock > 09:30"
    ),
    "R404": ProblemCode(_W, "A number where a series is meant", "line macd(12, 26, 9).line", "line macd(close).line"),
    "R405": ProblemCode(_W, "A division by zero", "line close / 0", "line close / 2"),
    "R406": ProblemCode(_W, "A size outside 1 to 5", "mark close > open size 9", "mark close > open size 5"),
    "R407": ProblemCode(
        _W,
        "A plain number as a distance of a trade",
        "trade ride long\n    enter when close > open\n    stop 2",
        "trade ride long\n    enter when close > open\n    stop 2%",
    ),
    "R408": ProblemCode(
        _W,
        "A price as the distance of a trade",
        "trade ride long\n    enter when close > open\n    stop low[1]",
        "trade ride long\n    enter when close > open\n    stop at low[1]",
    ),
    "R409": ProblemCode(
        _W,
        "A plain number where per cent is meant",
        "signal go = change(close) / close[1] > 2",
        "signal go = change(close) / close[1] > 2%",
    ),
    # 5xx time and causality
    "R501": ProblemCode(_E, "A look into the future", "let x = close[-1]", "let x = close[1]"),
    "R502": ProblemCode(_E, "A lag that moves", "let x = close[bar]", "keep x = none"),
    "R503": ProblemCode(
        _E,
        "A timeframe that the bars of another symbol cannot make",
        'line ((close on 5m) of "SALTX") on 1d',
        'line ((close on 1w) of "SALTX") on 1d',
    ),
    "R504": ProblemCode(
        _E,
        "A position read on other bars",
        "trade ride long\n    enter when close > open\n    leave when position.gain on 1w > 5%",
        "trade ride long\n    enter when close > open\n    leave when position.gain > 5%",
    ),
    "R505": ProblemCode(
        _W,
        "A value compared with its own past on another timeframe",
        "let m = sma(close, 9)\nsignal go = m > m[1] on 1w",
        "let m = sma(close, 9)\nsignal go = (m > m[1]) on 1w",
    ),
    "R506": ProblemCode(
        _W,
        "The last reading of a longer timeframe in place of its bar before",
        "let w = close on 1w\nsignal go = w > w[1]",
        "let w = close on 1w\nsignal go = w > close[1] on 1w",
    ),
    "R507": ProblemCode(
        _W,
        "A price of this bar drawn at an earlier one",
        "link low ago 3 to low when close > open",
        "link low[3] ago 3 to low when close > open",
    ),
    # 6xx cost
    "R601": ProblemCode(
        _E, "The script is too large", "a function of functions, ten deep", "fewer calls, or a `let` that shares them"
    ),
    "R602": ProblemCode(
        _E,
        "What cannot run as its settings stand",
        "setting n = 0\nlet x = sma(close, n)",
        "setting n = 20 range 2..200\nlet x = sma(close, n)",
    ),
    # 7xx style hints
    "R701": ProblemCode(_H, "A name that nobody reads", "let a = 1", "line a"),
    "R702": ProblemCode(_H, "A setting that nobody reads", "setting n = 9", "let x = sma(close, n)"),
    "R704": ProblemCode(
        _H,
        "A flag that stays as it starts where nothing is known",
        "fresh quiet = yes\nif rsi(close, 14) > 70\n    set quiet = no\nsignal go = quiet",
        "fresh quiet = none\nlet r = rsi(close, 14)\nif known(r)\n    set quiet = r <= 70\nsignal go = quiet",
    ),
    "R705": ProblemCode(
        _W, "The larger of two where the highest is meant", "line max(close, 20)", "line highest(close, 20)"
    ),
    "R707": ProblemCode(
        _W,
        "A total that is none for ever",
        "keep total = 0\nset total = total + (close - close[1])\nline total",
        "keep total = 0\nset total = total + ((close - close[1]) else 0)\nline total",
    ),
    "R708": ProblemCode(
        _H,
        "A name of the zone's own in `until`",
        "let top = highest(high, 5)\nline top\nzone low to high when close > open until close > top",
        "let ceiling = highest(high, 5)\nline ceiling\nzone low to high when close > open until close > top",
    ),
    "R709": ProblemCode(
        _H,
        "A condition that is none counts as no",
        "line (if close > sma(close, 9) then 1 else 0) + (if rsi(close, 14) > 50 then 1 else 0)",
        "line how_many(close > sma(close, 9), rsi(close, 14) > 50)",
    ),
    "R706": ProblemCode(
        _H,
        "A trade that another never lets in",
        "trade one long\n    enter when close > open\ntrade two long\n    enter when close > open and volume > 0",
        "trade two long\n    enter when close > open and volume > 0\ntrade one long\n    enter when close > open",
    ),
    "R703": ProblemCode(_H, "A signal that can never be true", "signal go = close > 2 and no", "signal go = close > 2"),
}
