"""Moves a library to another folder, on the same disk or another, while programs use it.

The library's lock is held throughout, so that imports wait and go on in the new folder. The old folder keeps a note that
leads every program to the new one. Broken off at any moment, the bars are whole in one of the two places, and the
`point`ers and notes lead there.
"""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
from collections.abc import Callable, Sequence
from pathlib import Path

from oakladder.bars.errors import Stopped
from oakladder.bars.store.access import NOTE, OWN_FILES, PACKING_LOCK, leave_folder_with_note, leave_note, note_in
from oakladder.bars.store.library import BarLibrary
from oakladder.locks import locked

#: How names of files end that are being written, and that need not be moved.
_PARTIAL = ".partial"


def move(
    library: BarLibrary,
    new: Path,
    point: Callable[[Sequence[Path]], None],
    *,
    progress: Callable[[float], None] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> None:
    """Moves a library to a folder that is empty or missing; ``point`` writes down where programs look for it, the first
    place that is there counts.

    Raises `OSError`, `DataProblem` where the lock cannot be had, and `Stopped`; the library is where it was then.
    """
    new = new.absolute()
    _check_empty(new)
    with library.changing(cancelled=cancelled):
        old = library.folder
        if new == old:
            raise FileExistsError(errno.EEXIST, "the bars are there already", str(new))
        with locked(old / PACKING_LOCK, cancelled=cancelled, make_folder=False):
            _make_room(new)
            if _renamed(old, new, point):
                leave_folder_with_note(old, new)
            else:
                _copy(old, new, progress, cancelled)
                leave_note(old, new)  # from here on every program goes there
                point([new, old])
                clear(old)
            point([new])


def _renamed(old: Path, new: Path, point: Callable[[Sequence[Path]], None]) -> bool:
    """Renames a folder, if both places are on one disk; whether they are. Raises `OSError`."""
    if new.parent.stat().st_dev != old.lstat().st_dev:
        return False
    point([new, old])
    try:
        os.rename(old, new)
    except OSError as error:
        if error.errno != errno.EXDEV:  # two mounts of one disk
            raise
        return False
    return True


def _check_empty(new: Path) -> None:
    """Raises `OSError` for a folder that holds more than the files that an earlier move left in it."""
    if new.is_dir():
        if set(os.listdir(new)) - OWN_FILES:
            raise FileExistsError(errno.ENOTEMPTY, "the folder is not empty", str(new))
    elif new.exists():
        raise NotADirectoryError(errno.ENOTDIR, "a file has that name", str(new))


def _make_room(new: Path) -> None:
    if new.exists():
        for name in os.listdir(new):
            (new / name).unlink()
        new.rmdir()
    new.parent.mkdir(parents=True, exist_ok=True)


def _copy(old: Path, new: Path, progress: Callable[[float], None] | None, cancelled: Callable[[], bool] | None) -> None:
    """Copies a library to another disk, under a temporary name until the copy is complete."""
    copied = new.with_name(f".{new.name}.moving")
    shutil.rmtree(copied, ignore_errors=True)
    try:
        copied.mkdir()
        entries = [e for e in os.scandir(old) if e.name not in OWN_FILES and not e.name.endswith(_PARTIAL)]
        every = max(sum(e.stat().st_size for e in entries), 1)
        done = 0
        for entry in entries:
            if cancelled is not None and cancelled():
                raise Stopped
            size = entry.stat().st_size
            if entry.is_dir():
                shutil.copytree(entry.path, copied / entry.name)
            else:
                shutil.copy2(entry.path, copied / entry.name)
                if (copied / entry.name).stat().st_size != size:
                    raise OSError(errno.EIO, "not all of it was copied", entry.path)
            done += size
            if progress is not None:
                progress(done / every)
        _sync(copied)
        os.rename(copied, new)
    except BaseException:
        shutil.rmtree(copied, ignore_errors=True)
        raise


def _sync(folder: Path) -> None:
    """Has everything in a folder written to its disk: what it was copied from is deleted next."""
    for name in [*os.listdir(folder), "."]:
        handle = os.open(folder / name, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def clear(old: Path) -> None:
    """Deletes what is left in a folder that a library was moved out of, all but the note and the locks."""
    for entry in list(os.scandir(old)):
        if entry.name not in OWN_FILES:
            with contextlib.suppress(OSError):
                if entry.is_dir(follow_symlinks=False):
                    shutil.rmtree(entry.path)
                else:
                    os.unlink(entry.path)


def finish(new: Path, old: Path) -> None:
    """Finishes a move that was broken off after the library had arrived in ``new``."""
    if not new.is_dir() or note_in(new) is not None:
        return
    with contextlib.suppress(OSError):
        if not old.exists():
            leave_folder_with_note(old, new)
        elif note_in(old) is not None and set(os.listdir(old)) - {NOTE}:
            clear(old)
