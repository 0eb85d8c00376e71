"""Suggestions for unknown names, and for texts in places where something else belongs."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable

from oakladder.rung import tree as t
from oakladder.rung.kinds import Kind
from oakladder.rung.values import PALETTE, is_timeframe

#: Least similarity of a name to a suggestion that replaces it automatically.
_LIKE = 0.79
_MONTHS = [
    "january",
    "february",
    "march",
    "april",
    "may",
    "june",
    "july",
    "august",
    "september",
    "october",
    "november",
    "december",
]
_DAYS = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"]
#: Words that mean the same thing in many languages, and what that is called here.
_WORDS: dict[str, str] = {
    "true": "yes",
    "false": "no",
    "null": "none",
    "nil": "none",
    "nan": "none",
    "undefined": "none",
    "price": "close",
    "last": "close",
    "vol": "volume",
    "time": "clock",
    "daily": "1d",
    "weekly": "1w",
    "monthly": "1mo",
    "hourly": "1h",
    "red": "rust",
    "green": "spruce",
    "blue": "sky",
    "orange": "amber",
    "yellow": "sand",
    "gold": "amber",
    "purple": "plum",
    "violet": "plum",
    "pink": "rose",
    "cyan": "teal",
    "navy": "slate",
    "gray": "slate",
    "grey": "slate",
    "black": "ink",
    **{name: str(k) for k, name in enumerate(_MONTHS, 1)},
    **{name: str(k) for k, name in enumerate(_DAYS, 1)},
}
#: Names of what the language has in another form, and that form.
_OTHERWISE: dict[str, str] = {
    "date": "The date of a bar is in `year`, `month` and `day`, as in `year >= 2026 and month == 3`.",
    "today": "A script knows the time of its bars only: `year`, `month`, `day`, `weekday` and `clock`.",
    "now": "A script knows the time of its bars only: `year`, `month`, `day`, `weekday` and `clock`.",
    "risk": "The risk of the position is `position.risk`; a distance in risks is written as in `target 2 risks`.",
}
_FUNCTIONS: dict[str, str] = {
    "average": "avg",
    "mean": "avg",
    "std": "stdev",
    "stddev": "stdev",
    "maximum": "max",
    "minimum": "min",
    "isnone": "known",
}
_UNITS: dict[str, str] = {
    "minute": "1m",
    "h": "1h",
    "hour": "1h",
    "d": "1d",
    "day": "1d",
    "w": "1w",
    "week": "1w",
    "month": "1mo",
}
_RESULTS: dict[str, str] = {"signal": "trigger", "histogram": "gap", "middle": "mid", "top": "upper", "bottom": "lower"}


def word_for(name: str) -> str | None:
    """What a name is called here; None for a name that says nothing."""
    if re.fullmatch(r"[0-9a-f]{6}", name):
        return f"#{name}"
    return _WORDS.get(name)


def explanation_of(name: str) -> str | None:
    """What there is in place of a name that people look for; None for any other name."""
    return _OTHERWISE.get(name)


def timeframe_for(name: str) -> str | None:
    """The timeframe that is meant by its unit alone; None for any other name."""
    return _UNITS.get(name)


def function_for(name: str) -> str | None:
    """The function that is meant by another name for it."""
    return _FUNCTIONS.get(name)


def result_for(name: str, known: Iterable[str]) -> str | None:
    """The result of a function that is meant by another name for it."""
    names, found = list(known), _RESULTS.get(name, "")
    return found if found in names else surest(name, names)


def surest(name: str, known: Iterable[str]) -> str | None:
    """The one known name that is very similar to a mistyped one; None without one, or with several."""
    found = difflib.get_close_matches(name, list(known), 2, _LIKE)
    if len(found) == 2:
        first, second = (difflib.SequenceMatcher(None, name, word).ratio() for word in found)
        if first - second < 0.03:
            return None
    return found[0] if found else None


def unquoted(expr: t.Expr, kind: Kind) -> str | None:
    """What a text says where a value of another kind belongs: `"1d"`, `"teal"`, `"10"`; None if it says none."""
    if not isinstance(expr, t.Text) or len(expr.parts) != 1 or not isinstance(expr.parts[0], str):
        return None
    text = expr.parts[0].strip()
    low = text.lower()
    if kind is Kind.TIMEFRAME:
        return low if is_timeframe(low) else _WORDS.get(low) if is_timeframe(_WORDS.get(low, "")) else None
    if kind is Kind.COLOUR:
        if low in PALETTE or re.fullmatch(r"#[0-9a-f]{6}", low):
            return low
        return _WORDS.get(low) if _WORDS.get(low) in PALETTE else None
    if kind is Kind.CLOCK:
        return text if re.fullmatch(r"([01]?\d|2[0-3]):[0-5]\d", text) else None
    if kind is Kind.NUMBER:
        if re.fullmatch(r"-?\d+(\.\d+)?%?", text):
            return text
        return next(
            (
                str(k)
                for names in (_MONTHS, _DAYS)
                for k, n in enumerate(names, 1)
                if n == low or (len(low) == 3 and n.startswith(low))
            ),
            None,
        )
    if kind is Kind.FLAG:
        return {"yes": "yes", "true": "yes", "no": "no", "false": "no"}.get(low)
    return None
