"""The files that a command writes. They are checked before anything is computed: an output never replaces an input."""

from __future__ import annotations

import csv
import os
import shutil
import sys
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

from oakladder.cli.common import CALL_WRONG, fail
from oakladder.disk import is_regular, replacing, why, write_rows
from oakladder.user.workspace import Workspace

#: What stands for standard output.
STANDARD = Path("-")
_STANDARD_PATHS = {"-", "/dev/stdout", "/dev/fd/1", "/proc/self/fd/1"}


def is_standard(path: Path | None) -> bool:
    """Whether an output goes to standard output."""
    return path is not None and str(path) in _STANDARD_PATHS


def check_outputs(
    outputs: Mapping[str, Path | None],
    reads: Iterable[Path | None] = (),
    *,
    printed: str = "",
    endings: Sequence[str] = (),
) -> None:
    """Ends the program (exit 2, nothing written) where an output would replace a script, a file that the call reads, a
    file of the library or of the user's folders, or another output.

    ``outputs`` are paths by option; ``printed`` names what the command writes to standard output anyway; ``endings`` are
    the endings that an output may have, if any will not do.
    """
    asked = {option: path for option, path in outputs.items() if path is not None}
    inputs = [path for path in reads if path is not None]
    taken: dict[str, Path] = {}
    for option, path in asked.items():
        if is_standard(path):
            if printed:
                fail(CALL_WRONG, f"{option} - would mix with {printed} on standard output. Name a file instead.")
        elif path.is_dir():
            fail(CALL_WRONG, f"{option} {path}: a folder has that name. Name a file.")
        elif endings and path.suffix.lower() not in endings:
            fail(CALL_WRONG, f"{option} {path}: the name must end in {' or '.join(endings)}.")
        else:
            _check_replaced(option, path, inputs)
        for other, before in taken.items():
            if _same(path, before):
                fail(CALL_WRONG, f"{other} and {option} name the same file, {path}. Give each its own.")
        taken[option] = path


def _check_replaced(option: str, path: Path, inputs: Sequence[Path]) -> None:
    what = "Choose another name; nothing was written."
    for read in inputs:
        if _same(path, read):
            fail(CALL_WRONG, f"{option} {path} would replace a file that this command reads. {what}")
    real = _real(path)
    if real.suffix.lower() == ".rung" and (is_regular(path) or path.is_symlink()):
        fail(CALL_WRONG, f"{option} {path} would replace a script. {what}")
    workspace = Workspace.default()
    for folder, of in (
        (workspace.library_folder, "the library"),
        (workspace.data, "Oak Ladder"),
        (workspace.config, "Oak Ladder"),
    ):
        if real.is_relative_to(_real(folder)):
            fail(CALL_WRONG, f"{option} {path} lies in a folder that belongs to {of}, {folder}. {what}")


def _real(path: Path) -> Path:
    return Path(os.path.realpath(path))


def _same(one: Path, other: Path) -> bool:
    """Whether two paths lead to one file, also where it does not exist yet."""
    if is_standard(one) or is_standard(other):
        return is_standard(one) and is_standard(other)
    try:
        return os.path.samefile(one, other)
    except OSError:
        return _real(one) == _real(other)


def write_table(option: str, path: Path | None, rows: Iterable[Sequence[object]]) -> None:
    """Writes rows as CSV into an output; ends the program where that cannot be done."""
    if path is None:
        return
    if is_standard(path):
        csv.writer(sys.stdout, lineterminator="\n").writerows(rows)
        return
    try:
        write_rows(path, rows)
    except OSError as error:
        fail(CALL_WRONG, f"{option} {path} cannot be written: {why(error)}.")


def put_file(option: str, path: Path, made: Path) -> None:
    """Copies a finished file into an output; ends the program where that cannot be done."""
    try:
        if is_standard(path):
            sys.stdout.flush()
            with made.open("rb") as file:
                shutil.copyfileobj(file, sys.stdout.buffer)
            sys.stdout.buffer.flush()
            return
        with replacing(path) as partial:
            shutil.copyfile(made, partial)
    except OSError as error:
        fail(CALL_WRONG, f"{option} {path} cannot be written: {why(error)}.")
