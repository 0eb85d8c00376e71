"""Events of the autosave worker: saved, not saved, changed by another program."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class Saved:
    """A text is in its file. ``again`` says that saving it had failed before."""

    path: Path
    again: bool = False


@dataclass(frozen=True, slots=True)
class NotSaved:
    """A text cannot be saved for now; it is held and tried again. ``reason`` follows a colon."""

    path: Path
    reason: str
    #: Whether the journal holds it, so that it survives the program.
    noted: bool


@dataclass(frozen=True, slots=True)
class Changed:
    """Another program has written a file that was untouched here: this is its text now."""

    path: Path
    text: str


@dataclass(frozen=True, slots=True)
class Both:
    """A file was changed by another program and here. Nothing is written until `Keeper.decide` says which counts."""

    path: Path
    theirs: str


@dataclass(frozen=True, slots=True)
class Told:
    """Something about a file that the user should know."""

    path: Path
    sentence: str


Event = Saved | NotSaved | Changed | Both | Told
