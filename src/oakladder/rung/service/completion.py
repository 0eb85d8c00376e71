"""Completion at the cursor: which words fit, and the call around the cursor. Plain text in, no widgets."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from oakladder.rung.service.editable_words import plain
from oakladder.rung.service.reference_docs import functions, word_help
from oakladder.rung.trade_words import POSITION, POSITION_VALUES, TRADE_INNER_WORDS
from oakladder.rung.values import BAR_VALUES, PALETTE, SHAPES, STYLES
from oakladder.rung.words import JOINING_WORDS, LINE_WORDS, RESERVED

#: Letters after which words are offered, and how many at most.
_LEAST, _MOST = 2, 60
_WORD_BEFORE = re.compile(r"[A-Za-z_][A-Za-z0-9_]*$")
_NAME_BEFORE = re.compile(r"([A-Za-z_][A-Za-z0-9_]*)\s*$")


@dataclass(frozen=True, slots=True)
class Completion:
    """A word to complete, its hint, and its description."""

    word: str
    beside: str = ""
    about: str = ""


def everything(own: Iterable[str] = ()) -> list[Completion]:
    """A script's own names, bar values, statements, functions with their parameters, colours and shapes; in the order in
    which they are offered."""
    made = {name: Completion(name, "yours") for name in own}
    for word in (*BAR_VALUES, *sorted(LINE_WORDS | RESERVED | JOINING_WORDS | TRADE_INNER_WORDS)):
        made.setdefault(word, Completion(word, "", word_help(word)))
    for name, (_, about) in POSITION_VALUES.items():
        made[f"{POSITION}.{name}"] = Completion(f"{POSITION}.{name}", "", about)
    for name, (call, about) in functions().items():
        made.setdefault(name, Completion(name, call.removeprefix(name), about))
    for word in (*PALETTE, *SHAPES, *STYLES):
        made.setdefault(word, Completion(word))
    return list(made.values())


def word_before(line: str) -> str:
    """The word that ends where a line (up to the cursor) ends; empty in comments and quoted texts."""
    if plain(line + "x")[-1:] != "x":
        return ""
    found = _WORD_BEFORE.search(line)
    return found.group() if found else ""


def fitting(offers: Sequence[Completion], typed: str) -> list[Completion]:
    """Completions of a word: by prefix first, then by substring; none while it is too short."""
    if len(typed) < _LEAST:
        return []
    low = typed.lower()
    first = [o for o in offers if o.word.lower().startswith(low)]
    inside = [o for o in offers if low in o.word.lower()[1:] and o not in first]
    found = (first + inside)[:_MOST]
    return [] if len(found) == 1 and found[0].word == typed else found


@dataclass(frozen=True, slots=True)
class CallHere:
    """The call around the cursor: its function, its parameters as text, which of them the cursor is in, what it does."""

    name: str
    parameters: tuple[str, ...]
    at: int
    about: str


def call_here(before: str) -> CallHere | None:
    """The innermost call of a known function that is open at the end of a text."""
    text, depth, commas = plain(before), 0, 0
    for k in range(len(text) - 1, -1, -1):
        sign = text[k]
        if sign in ")]":
            depth += 1
        elif sign in "([":
            if depth == 0:
                name = _NAME_BEFORE.search(text[:k])
                if sign == "(" and name is not None and name[1] in functions():
                    call, about = functions()[name[1]]
                    inner = call.partition("(")[2].rpartition(")")[0]
                    parts = tuple(p.strip() for p in inner.split(",")) if inner.strip() else ()
                    return CallHere(name[1], parts, commas, about)
                commas = 0
                continue
            depth -= 1
        elif sign == "," and depth == 0:
            commas += 1
    return None
