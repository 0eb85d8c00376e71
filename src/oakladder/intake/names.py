"""Symbols as files name them: what can be one, and what a file's own name stands for."""

from __future__ import annotations

import unicodedata
from pathlib import Path

from oakladder.disk import safe_name

#: The longest symbol in letters, and in bytes of the name of its file.
MOST_LETTERS, _MOST_BYTES = 64, 180
#: Signs that are not seen: they would make two symbols look like one.
_UNSEEN = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}


def as_symbol(text: str) -> str:
    """A name as a symbol: large letters, no space around it."""
    return unicodedata.normalize("NFC", text.strip()).upper()


def trouble_of(symbol: str) -> str:
    """Why a text can be no symbol, in a few words; empty where it can."""
    if not symbol:
        return "is empty"
    if not any(c.isalnum() for c in symbol):
        return "has no letter and no digit"
    if any(unicodedata.category(c) in _UNSEEN for c in symbol):
        return "holds signs that are not seen"
    if len(symbol) > MOST_LETTERS or len(safe_name(symbol)) > _MOST_BYTES:
        return f"is longer than {MOST_LETTERS} letters"
    return ""


def symbol_of(path: Path) -> str:
    """The symbol that a file's name stands for: what comes before the first sign that is no letter or digit."""
    word = "".join(c if c.isalnum() or c in ".-" else " " for c in path.stem).split()
    return as_symbol(word[0] if word else path.stem)
