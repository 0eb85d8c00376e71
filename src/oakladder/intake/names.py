"""Symbols as files name them: which texts can be a symbol, and which symbol a file's own name stands for."""

from __future__ import annotations

import unicodedata
from pathlib import Path

from oakladder.file_names import safe_name

#: The longest symbol in letters, and in bytes of the name of its file.
MOST_LETTERS, _MOST_BYTES = 64, 180
#: Categories of signs that are not seen: they would make two symbols look like one.
_UNSEEN = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp"}
#: Signs that mean something to a script, a page, a path or a terminal.
_SPECIAL = frozenset('<>"`{}\\|%*?;')
#: A spreadsheet takes a text that begins with one of these for a formula.
_FORMULA = frozenset("=+-@")
#: Stands for a sign that a symbol cannot have.
_CLEANED = "_"


def as_symbol(text: str) -> str:
    """A name as a symbol: large letters, no space around it."""
    return unicodedata.normalize("NFC", text.strip()).upper()


def trouble_of(symbol: str) -> str:
    """Why a text can be no symbol, in a few words; empty where it can."""
    if not symbol:
        return "is empty"
    if not any(c.isalnum() for c in symbol):
        return "has no letter and no digit"
    if any(_is_unseen(c) for c in symbol):
        return "holds signs that are not seen"
    if special := next((c for c in symbol if c in _SPECIAL), ""):
        return f"holds `{special}`, which a symbol cannot have"
    if symbol[0] in _FORMULA:
        return f"begins with `{symbol[0]}`, as a formula does"
    if len(symbol) > MOST_LETTERS or len(safe_name(symbol)) > _MOST_BYTES:
        return f"is longer than {MOST_LETTERS} letters"
    return ""


def symbol_of(path: Path) -> str:
    """The symbol that a file's name stands for: all of the name but its ending, `cleaned`."""
    return cleaned(path.stem)


def cleaned(text: str) -> str:
    """A text as a symbol: large letters, single spaces, and ``_`` for each sign that a symbol cannot have."""
    parts = ("_" if _is_unseen(c) or c in _SPECIAL else c for c in " ".join(text.split()))
    made = "".join(parts)
    return as_symbol(_CLEANED + made[1:] if made[:1] in _FORMULA else made)


def cleaned_words(path: Path) -> str:
    """What was cleaned of a file's name, as a sentence; empty where nothing was."""
    symbol = symbol_of(path)
    if symbol == as_symbol(path.stem):
        return ""
    return f"the file's name has signs or spaces that a symbol cannot have, so it is called {symbol}"


def _is_unseen(sign: str) -> bool:
    return unicodedata.category(sign) in _UNSEEN
