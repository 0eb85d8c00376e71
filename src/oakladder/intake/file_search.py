"""Finding the data files among paths, and in and below folders."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from oakladder.disk import is_regular, why

#: How names of data files end: texts, and files that the separate process reads.
TEXT_ENDINGS = (".csv", ".tsv", ".txt")
TABLE_ENDINGS = (".parquet", ".pq", ".arrow", ".feather")
ENDINGS = (*TEXT_ENDINGS, *TABLE_ENDINGS)


@dataclass(frozen=True, slots=True)
class Files:
    """The data files among some paths, and the folders that could not be read, each with the reason."""

    files: list[Path]
    unreadable: list[tuple[Path, str]]


def files_of(paths: Iterable[Path]) -> Files:
    """The data files among paths; folders stand for every data file in and below them."""
    made: dict[Path, None] = {}
    unreadable: list[tuple[Path, str]] = []
    for path in paths:
        if not path.is_dir():
            made[path] = None
            continue
        for folder, folders, names in os.walk(
            path, onerror=lambda error: unreadable.append((Path(error.filename), why(error)))
        ):
            folders.sort()
            for name in sorted(names):
                file = Path(folder, name)
                if file.suffix.lower() in ENDINGS and is_regular(file):
                    made[file] = None
    return Files(list(made), unreadable)
