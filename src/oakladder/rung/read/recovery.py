"""Recovery from mistakes: a line that cannot be read is read as what it most likely means."""

from __future__ import annotations

import difflib
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from functools import cache, lru_cache

from lark.exceptions import UnexpectedCharacters, UnexpectedInput, UnexpectedToken

from oakladder.rung.read.common_mistakes import MISTAKES
from oakladder.rung.read.grammar import read
from oakladder.rung.read.mistake import Mistake
from oakladder.rung.words import JOINING_WORDS, LINE_WORDS, RESERVED

#: A line with more mistakes than this, with more letters, or with so wide a gap in it, is not corrected: patterns take
#: longer than in proportion to it.
_MOST_SLIPS, _MOST_LETTERS = 6, 300
_GAP = re.compile(r"\S {25}")
#: Least similarity of a word to its suggestion.
_LIKE = 0.7
_STRING = re.compile(r'"(?:\\.|[^"\\\n])*"')
_LOUD = re.compile(r"\b(?:AND|OR|NOT|IF|THEN|ELSE|MOD|YES|NO|NONE|BETWEEN|And|Or|Not|Then|Else|Between)\b")
_WORD = re.compile(r"\s*([A-Za-z_]\w*)")
_LONG_WORD = re.compile(r"[A-Za-z_]{3,}")
#: The words that may stand behind the first of a line.
_MEANT = sorted(JOINING_WORDS | RESERVED | {"bars", "price", "pane", "left", "right", "top", "bottom", "forming"})
#: What a text is blanked with, so that nothing in it passes for code.
_BLANK = "\0"


@dataclass(frozen=True, slots=True)
class LineFix:
    """A change of a line's text that fixes a mistake: ``new`` replaces ``start`` to ``end``."""

    start: int
    end: int
    new: str
    message: str
    fix: str
    code: str


@dataclass(frozen=True, slots=True)
class Recovered:
    """A corrected line, the edits that lead there, and for each of its letters the place it came from."""

    text: str
    edits: tuple[LineFix, ...]
    origin: tuple[int, ...]


def stopped_at(text: str) -> int | None:
    """How many letters from its end the reading of a line stops; None where it can be read."""
    word = _WORD.match(text)
    if word is None or word[1] not in LINE_WORDS:
        return len(text) + 1
    if (loud := is_loud(text)) is not None:
        return len(text) - loud
    try:
        read(text, "start")
    except UnexpectedToken as error:
        if error.token.type == "$END" or error.pos_in_stream is None:
            return 0
        return len(text) - error.pos_in_stream
    except UnexpectedCharacters as error:
        return len(text) - (error.pos_in_stream or 0)
    except (UnexpectedInput, RecursionError):
        return len(text)
    return None


def is_loud(text: str) -> int | None:
    """The place of a language word in capitals, which would be read as a name; None without one."""
    if text == text.lower():
        return None
    found = _LOUD.search(_without_texts(text))
    return found.start() if found is not None else None


def can_be_guessed(text: str) -> bool:
    """Whether a line is short enough to search it for mistakes."""
    return len(text) <= _MOST_LETTERS and _GAP.search(text) is None


@lru_cache(maxsize=1024)
def recover(text: str, first: LineFix | None = None) -> Recovered | None:
    """The corrected line; None if it cannot be read even so. ``first`` is a known edit.

    Cached: a script is checked again with each of its fixes.
    """
    if not can_be_guessed(text):
        return None
    made = Recovered(text, (), tuple(range(len(text) + 1)))
    if first is not None:
        made = _changed(made, first.start, first.end, first.new, first)
    left = stopped_at(made.text)
    while left is not None:
        if len(made.edits) > _MOST_SLIPS:
            return None
        for trial in _trials(made, left):
            further = stopped_at(trial.text)
            if further is None or further < left:
                made, left = trial, further
                break
        else:
            return None
    return made if made.edits else None


@cache
def _patterns() -> list[tuple[Mistake, re.Pattern[str]]]:
    """The mistakes with their compiled patterns, on first use."""
    return [(slip, re.compile(slip.pattern)) for slip in MISTAKES]


def _trials(line: Recovered, left: int) -> Iterator[Recovered]:
    """The line, read up to ``left`` letters from its end, with one more mistake fixed in every known way."""
    code = _without_texts(line.text)
    for slip, pattern in _patterns():
        found = pattern.search(code)
        if found is None:
            continue
        start, end = found.span("at") if "at" in pattern.groupindex else found.span()
        new = slip.edit(_groups(found, line.text))
        before, after = line.text[start - 1 : start], line.text[end : end + 1]
        if new[:1].isalpha() and (before.isalnum() or before == "_"):
            new = f" {new}"
        if new[-1:].isalpha() and (after.isalnum() or after in ("_", '"')):
            new = f"{new} "
        yield _changed(
            line,
            start,
            end,
            new,
            LineFix(start, end, new, slip.message, slip.fix.replace("{new}", new.strip()), slip.code),
        )
    yield from _misspelled(line, code, left)
    word = _WORD.match(line.text)
    if word is not None and word[1] not in LINE_WORDS:
        for guess in difflib.get_close_matches(word[1].lower(), LINE_WORDS, 1, _LIKE):
            message, fix = f"`{word[1]}` starts no statement.", f"Did you mean `{guess}`?"
            yield _changed(line, *word.span(1), guess, LineFix(*word.span(1), guess, message, fix, "R101"))


def _without_texts(text: str) -> str:
    """A line with its texts blanked, at the same length."""
    return _STRING.sub(lambda m: '"' + _BLANK * (len(m[0]) - 2) + '"', text)


def _misspelled(line: Recovered, code: str, left: int) -> Iterator[Recovered]:
    """The line with the word at which its reading stops as one of the language that is very much like it."""
    found = _LONG_WORD.match(code, len(code) - left) if left <= len(code) else None
    if found is None or not found.start() or found[0] in _MEANT or found[0] in LINE_WORDS:
        return
    for guess in difflib.get_close_matches(found[0].lower(), _MEANT, 1, _LIKE):
        message, fix = f"`{found[0]}` does not fit here.", f"Did you mean `{guess}`?"
        yield _changed(line, *found.span(), guess, LineFix(*found.span(), guess, message, fix, "R102"))


def _groups(found: re.Match[str], text: str) -> Callable[[str], str]:
    """The groups of a match in the original text, with the texts that were blanked."""

    def of(name: str) -> str:
        start, end = found.span(name)
        return text[start:end] if start >= 0 else ""

    return of


def _changed(line: Recovered, start: int, end: int, new: str, edit: LineFix) -> Recovered:
    origin = line.origin
    placed = LineFix(
        origin[start], origin[end] if end > start else origin[start], new, edit.message, edit.fix, edit.code
    )
    return Recovered(
        line.text[:start] + new + line.text[end:],
        (*line.edits, placed),
        (*origin[:start], *[origin[start]] * len(new), *origin[end:]),
    )
