"""Mistakes in operators and numbers."""

from __future__ import annotations

from collections.abc import Callable

from oakladder.rung.read.mistake import Mistake, mistake

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


SIGNS: tuple[Mistake, ...] = (
    mistake(
        r"(?<![\w.])(?P<at>\d{1,3}(?:[ ']\d{3})+)(?![\w.])",
        "Thousands are parted with `_`.",
        "Write `{new}`.",
        lambda of: of("at").replace(" ", "_").replace("'", "_"),
    ),
    # --- signs
    mistake(
        r"(?P<at>[“”„«»‘’'](?P<text>[^“”„«»‘’'\"]*)[“”„«»‘’'])",
        "Texts are in straight double quotes.",
        'Use " on both sides.',
        lambda of: f'"{of("text")}"',
    ),
    mistake(r"\b(?:and|or)(?P<at>\s*[&|]+)", "Two conditions are joined by one word.", "Take the sign out.", ""),
    mistake(r"(?P<at>&&|&)", "`&` means nothing in Rung.", "Write `and`.", "and"),
    mistake(r"(?P<at>\|\||\|)", "`|` means nothing in Rung.", "Write `or`.", "or"),
    mistake(r"(?P<at><>|≠|=/=|~=|!==|! =)", "What is not equal is written `!=`.", "Write `!=`.", "!="),
    mistake(r"(?P<at>===|= =|＝＝)", "What is equal is written `==`.", "Write `==`.", "=="),
    mistake(r"(?P<at>=>|≥|> =|⩾)", "At least is written `>=`.", "Write `>=`.", ">="),
    mistake(r"(?P<at>=<|≤|< =|⩽)", "At most is written `<=`.", "Write `<=`.", "<="),
    mistake(r"(?P<at>!)(?!=)", "The opposite is written `not`.", "Write `not`.", "not "),
    mistake(r"(?P<at>\*\*)", "A power is written `^`.", "Write `^`.", "^"),
    mistake(r"(?P<at>[×·∗])", "A product is written `*`.", "Write `*`.", "*"),
    mistake(r"(?P<at>[÷])", "A quotient is written `/`.", "Write `/`.", "/"),
    mistake(r"(?P<at>[−–—])", "Minus is written `-`.", "Write `-`.", "-"),
    mistake(
        r"(?<=\d)(?P<at>\s+)(?=%(?!\s*[\w(]))",
        "The sign of percent stands right behind its number.",
        "Take the space out.",
        "",
    ),
    mistake(r"(?<=[\w)\]])(?P<at>\s*%\s*)(?=[\w(])", "A remainder is written `mod`.", "Write `mod`.", " mod "),
    mistake(
        r"(?P<at>#(?P<hex>[0-9A-Fa-f]{3}))(?![0-9A-Za-z_])",
        "A colour has six digits.",
        "Write each digit twice.",
        lambda of: "#" + "".join(c * 2 for c in of("hex")),
    ),
    # --- numbers
    mistake(
        r"(?<![\w.])(?P<at>\d{1,3}(?:,\d{3})+)(?![\d.]*\w)",
        "Thousands are parted with `_`, not with a comma.",
        "Write `{new}`.",
        lambda of: of("at").replace(",", "_"),
    ),
    mistake(
        r"(?<![\w.,])(?P<at>\d+,\d+)(?![\w,])",
        "The decimals of a number stand after a point.",
        "Write `{new}`.",
        lambda of: of("at").replace(",", "."),
    ),
    mistake(r"(?<![\w.])(?P<at>\.\d+)\b", "A number begins with a digit.", "Write `{new}`.", lambda of: f"0{of('at')}"),
    mistake(
        r"(?<![\w.])(?P<at>(?P<number>\d+)\s*(?P<unit>D|H|W|MO|Mo|[Dd]ays?|[Ww]eeks?|[Hh]ours?|hrs?|[Mm]in(?:ute)?s?|[Mm]onths?))\b(?<=\w)",
        "A timeframe is written with one small letter: 15m, 1h, 1d, 1w, 1mo.",
        "Write `{new}`.",
        _timeframe,
    ),
    mistake(
        r"\b(?:on\s+|new\(\s*)(?P<at>(?P<number>\d+)\s*(?P<unit>M))\b",
        "A month is written 1mo, a minute 1m.",
        "Write `{new}`.",
        _timeframe,
    ),
    mistake(
        r"(?<![\w.])(?P<at>(?P<number>\d+(?:\.\d+)?)\s*(?P<unit>[kKMbB]))\b",
        "Large numbers are written out.",
        "Write `{new}`.",
        _plain_number,
    ),
    mistake(
        r"\bon\s+(?P<at>(?P<number>\d{1,3}))(?![\w.])",
        "A timeframe is written with its unit: 15m, 1h, 1d.",
        "Write `{new}`.",
        lambda of: f"{of('number')}m",
    ),
)
