"""An open text: as typed, as noted in the journal, as saved in its file."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from pathlib import Path

from oakladder.disk import read_regular
from oakladder.user.scripts import MAX_SCRIPT_BYTES, ScriptText

#: Seconds without a key after which a text is saved, and the longest that steady typing puts that off.
PAUSE, LONGEST = 0.6, 3.0


@dataclass(slots=True, eq=False)
class Draft:
    """A script that is open, or has a text that is not saved."""

    path: Path
    #: The file's content when it was last read or written here, and its line endings; None without a file.
    base: bytes | None
    manner: ScriptText
    text: str
    #: When the first and the last key came that are not saved (monotonic seconds); None where all is.
    first: float | None = None
    last: float = 0.0
    #: What the journal has of it, and when it may be written there again.
    noted: str | None = None
    note_at: float = 0.0
    unnotable: bool = False
    #: Whether it shall be saved without a pause, whether that has failed, and when it is tried again.
    hurry: bool = False
    failed: bool = False
    retry_at: float = 0.0
    reason: str = ""
    #: What another program wrote into the file meanwhile.
    theirs: bytes | None = None

    @property
    def raw(self) -> bytes:
        return self.manner.with_text(self.text).raw()

    @property
    def idle(self) -> bool:
        return self.first is None and self.theirs is None

    @property
    def unnoted(self) -> bool:
        """Whether there is something that neither the file nor the journal has."""
        return self.first is not None and self.text != self.noted

    def due(self) -> float | None:
        """When it is to be saved; None where nothing is, or the user must decide first."""
        if self.first is None or self.theirs is not None:
            return None
        if self.hurry:
            return 0.0
        return self.retry_at if self.failed else min(self.last + PAUSE, self.first + LONGEST)


def on_disk(path: Path) -> bytes | None:
    """The content of a file; None without one. Raises `OSError`."""
    try:
        return read_regular(path, MAX_SCRIPT_BYTES)
    except FileNotFoundError:
        return None


def text_of(raw: bytes | None) -> ScriptText:
    """A script's text whatever its bytes are: what is no UTF-8 is shown as replaced signs."""
    try:
        return ScriptText.of(raw or b"")
    except UnicodeDecodeError:
        return ScriptText((raw or b"").decode("utf-8", "replace"))


def mark_of(raw: bytes | None) -> str:
    """A short name of the content of a file; empty for no file."""
    return "" if raw is None else hashlib.blake2b(raw, digest_size=16).hexdigest()
