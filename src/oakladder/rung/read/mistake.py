"""A common mistake: text that Rung does not read, its likely meaning, and the Rung for it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

#: Returns the corrected text, given a function from a group of the pattern to its text.
Rewrite = Callable[[Callable[[str], str]], str]


@dataclass(frozen=True, slots=True)
class Mistake:
    """A common mistake: its pattern in a line whose texts are blanked, the message, and the replacement.

    The group ``at`` of the pattern, or else the whole of it, is what is replaced. ``{new}`` in what to do stands for
    what takes its place.
    """

    pattern: str
    message: str
    fix: str
    edit: Rewrite
    code: str = "R102"


def mistake(pattern: str, message: str, fix: str, edit: str | Rewrite, code: str = "R102") -> Mistake:
    made = (lambda _: edit) if isinstance(edit, str) else edit
    return Mistake(pattern, message, fix, made, code)


#: A name, as a pattern.
NAME = r"[A-Za-z_]\w*"
