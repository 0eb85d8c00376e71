"""The folder of a bar library as a whole: names of files that are no more in use, files that are damaged."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable
from pathlib import Path

import pyarrow as pa

from oakladder.bars.store.files import SUFFIX, file_name, layout_of, symbol_of_file


def take_old_names(folder: Path) -> None:
    """Files of the first version were called by their symbols as they are written."""
    for name in os.listdir(folder):
        end = next((e for e in SUFFIX.values() if name.endswith(e)), None)
        if end is not None and symbol_of_file(name) is None and not name.startswith("."):
            with contextlib.suppress(OSError):
                os.rename(folder / name, folder / file_name(name.removesuffix(end), end == SUFFIX[True]))


def damaged_files(folder: Path, cancelled: Callable[[], bool] | None = None) -> list[str]:
    """Reads every file through, and gives the names of those that are damaged; they stay where they are."""
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
