"""A slip: a way of writing that Rung does not read, what it most likely means, and how that is written here."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

#: The corrected text of a mistake: the text of each group of its pattern → the new text.
Mend = Callable[[Callable[[str], str]], str]


@dataclass(frozen=True, slots=True)
class Mistake:
    """A slip: how it looks in a line whose texts are blanked, what is said, and what takes its place.

    The group ``at`` of the pattern, or else the whole of it, is what is replaced. ``{new}`` in what to do stands for
    what takes its place.
    """

    pattern: str
    message: str
    fix: str
    edit: Mend
    code: str = "R102"


def mistake(pattern: str, message: str, fix: str, edit: str | Mend, code: str = "R102") -> Mistake:
    made = (lambda _: edit) if isinstance(edit, str) else edit
    return Mistake(pattern, message, fix, made, code)


#: A name, as a pattern.
NAME = r"[A-Za-z_]\w*"
