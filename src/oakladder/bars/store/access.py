"""The protocol that everything follows which reads or writes a library: where it is, who writes, what has changed.

* A folder that a library was moved out of holds a note with its new place. Every program follows it, also those that
  had opened the library before.
* Whoever writes holds the library's lock, and looks after taking it whether the library is still there.
* Every change ends with a new generation. Readers compare it and read again what they had remembered.
"""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import time
from pathlib import Path

from oakladder.bars.errors import DataProblem
from oakladder.disk import read_text, why, write_atomic

#: Holds the folder to which a library was moved, in the folder from which it was.
NOTE = "moved-to.txt"
#: Holds the number of the library's last change.
GENERATION = "generation.txt"
LOCK, PACKING_LOCK = ".changing.lock", ".packing.lock"
#: Files of the protocol: they belong to a folder, not to the library in it, and are not moved.
OWN_FILES = frozenset([NOTE, LOCK, PACKING_LOCK])
#: Notes lead from one to the next at most so often.
_MOST_MOVES = 50
#: Seconds for which a folder may be missing while it is moved, and between two looks at it.
_MOVING, _PAUSE = 2.0, 0.02


def note_in(folder: Path) -> Path | None:
    """The folder that a note leads to; None without a note that can be read."""
    try:
        lines = read_text(folder / NOTE).splitlines()
    except (OSError, UnicodeDecodeError):
        return None
    return Path(lines[0]) if lines and lines[0] else None


def leave_note(old: Path, new: Path) -> None:
    """Writes into a folder that its library is in another one now. Raises `OSError`."""
    write_atomic(old / NOTE, f"{new}\nThe bars of Oak Ladder are in the folder above. This note leads there.\n")


def leave_folder_with_note(old: Path, new: Path) -> None:
    """Puts a folder with the note where a library was renamed away: at no moment is it there without the note, when it
    would pass for a library. Raises `OSError`."""
    made = old.with_name(f".{old.name[:80]}.note-{os.getpid()}")
    shutil.rmtree(made, ignore_errors=True)
    made.mkdir()
    try:
        leave_note(made, new)
        os.rename(made, old)
    except OSError:  # another program has made the folder again
        shutil.rmtree(made, ignore_errors=True)
        leave_note(old, new)


def place_of(folder: Path) -> Path:
    """Where a library is that was in a folder: there, or where notes lead. Raises `DataProblem` for a circle of notes."""
    at = folder
    for _ in range(_MOST_MOVES):
        then = note_in(at)
        if then is None:
            return at
        at = then
    raise DataProblem(
        f"The notes about where the bars of {folder} were moved lead in a circle. Delete one: {at / NOTE}."
    )


def place_while_moving(folder: Path, patience: float = _MOVING) -> Path:
    """`place_of`, waiting while the folder is missing: between moving it and leaving the note it is, for a moment."""
    end = time.monotonic() + patience
    while True:
        place = place_of(folder)
        if place.is_dir() or time.monotonic() > end:
            return place
        time.sleep(_PAUSE)


def stamp_of(folder: Path) -> tuple[int, int]:
    """Identifies the generation of a library, for comparing: it is another one after each change."""
    try:
        facts = os.stat(folder / GENERATION)
    except OSError:
        return 0, 0
    return facts.st_ino, facts.st_mtime_ns


def generation_of(folder: Path) -> int:
    """The number of a library's last change; 0 before the first."""
    with contextlib.suppress(OSError, ValueError):
        return int(read_text(folder / GENERATION).strip())
    return 0


def advance(folder: Path) -> None:
    """Begins a new generation. The lock is held; nothing is lost where it cannot be written but that others notice later."""
    with contextlib.suppress(OSError):
        write_atomic(folder / GENERATION, f"{generation_of(folder) + 1}\n", durable=False, make_folder=False)


def cannot_use(folder: Path, error: OSError) -> DataProblem:
    """What is said of a folder that cannot be used."""
    if error.errno == errno.ENOENT:
        return DataProblem(
            f"The folder of the bars, {folder}, is not there any more. Bring it back, or connect its disk."
        )
    return DataProblem(f"The folder of the bars, {folder}, cannot be used: {why(error)}.")
