"""The folder of a bar library as a whole: names of files that are no more in use, files that are damaged."""

from __future__ import annotations

import contextlib
import errno
import logging
import os
from collections.abc import Callable, Iterator
from pathlib import Path

import pyarrow as pa

from oakladder.bars.errors import DataProblem
from oakladder.bars.store.files import SUFFIX, file_name, info_in, layout_of, symbol_of_file
from oakladder.bars.store.infer_metadata import infer_info
from oakladder.bars.store.symbol_info import SymbolInfo
from oakladder.disk import set_aside, why

_log = logging.getLogger(__name__)
#: Why a sound file may be out of reach for now: it must not pass for damaged.
_NOT_DAMAGED = {errno.EACCES, errno.EPERM, errno.EMFILE, errno.ENFILE, errno.ENOMEM, errno.EIO}


def take_old_names(folder: Path) -> None:
    """Files of the first version were called by their symbols as they are written."""
    for name in os.listdir(folder):
        end = next((e for e in SUFFIX.values() if name.endswith(e)), None)
        if end is not None and symbol_of_file(name) is None and not name.startswith("."):
            with contextlib.suppress(OSError):
                os.rename(folder / name, folder / file_name(name.removesuffix(end), end == SUFFIX[True]))


def infos_in_files(folder: Path, known: set[str]) -> Iterator[SymbolInfo]:
    """The symbols that have bar files and are not among the known ones, as far as their files say."""
    found: dict[str, SymbolInfo | None] = {}
    for entry in sorted(os.listdir(folder)):
        symbol = symbol_of_file(entry)
        if symbol is not None and symbol not in known and found.get(symbol) is None:
            found[symbol] = info_in(folder / entry)
    for symbol, info in found.items():
        if info is not None and info.symbol == symbol:
            yield info
        else:
            yield infer_info(symbol, [folder / file_name(symbol, minutes) for minutes in (False, True)])


def damaged_files(folder: Path, cancelled: Callable[[], bool] | None = None) -> list[str]:
    """Verifies every file and returns the names of the damaged ones, which stay in place."""
    made = []
    for entry in sorted(os.listdir(folder)):
        if cancelled is not None and cancelled():
            break
        if symbol_of_file(entry) is not None:
            try:
                layout_of(f"{folder}/{entry}")
            except (OSError, pa.ArrowException, KeyError, ValueError):
                made.append(entry)
    return made


def set_damaged_aside(path: str, error: Exception) -> str:
    """Keeps a damaged file under a dated name; gives a sentence about it, empty where another program was quicker.

    Raises `DataProblem` where the file is out of reach and not damaged, or cannot be moved.
    """
    name = Path(path).name
    if isinstance(error, OSError) and error.errno in _NOT_DAMAGED:
        raise DataProblem(f"{name} cannot be read: {why(error)}.") from None
    _log.warning("%s is damaged: %s", path, error)
    try:
        kept = set_aside(Path(path))
    except FileNotFoundError:
        return ""
    except OSError as reason:
        raise DataProblem(f"{name} is damaged, and cannot be moved: {why(reason)}.") from None
    return f"{name} was damaged and was renamed to {kept.name}. Import its bars again."
