"""Text files of bars, read a block at a time: memory stays small and stopping takes effect soon."""

from __future__ import annotations

import os
from bisect import bisect_left
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO

import numpy as np
import pyarrow as pa
import pyarrow.csv as pacsv

from oakladder.bars.errors import DataProblem
from oakladder.disk import why
from oakladder.intake import arrow_compute as pc
from oakladder.intake.file_layout import TableLayout, width_of

#: Bytes that are read at a time; a longer line cannot be read.
BLOCK_BYTES = 4_000_000


@dataclass(frozen=True, slots=True)
class Block:
    """Some rows of a file: a column for each field that is read, and the number of each row in the file."""

    columns: dict[str, pa.Array]
    rows: np.ndarray


def text_blocks(path: Path, layout: TableLayout, odd: list[int]) -> Iterator[Block]:
    """The rows of a text file; ``odd`` collects the numbers of rows with another width. Raises `DataProblem`."""
    width = width_of(path, layout)
    if max(layout.columns.values()) >= width:
        raise DataProblem(f"{path.name} has {width} columns, and column {max(layout.columns.values()) + 1} is wanted.")
    names = {place: f"f{place}" for place in sorted(set(layout.columns.values()))}
    following = 1 + layout.skip + (1 if layout.header else 0)

    def skip(row: pacsv.InvalidRow) -> str:
        odd.append(row.number or 0)
        return "skip"

    try:
        reader = pacsv.open_csv(
            _source(path),
            read_options=pacsv.ReadOptions(
                skip_rows=following - 1,
                column_names=[f"f{k}" for k in range(width)],
                encoding=layout.encoding,
                use_threads=False,
                block_size=BLOCK_BYTES,
            ),
            parse_options=pacsv.ParseOptions(
                delimiter=layout.separator, invalid_row_handler=skip, ignore_empty_lines=False
            ),
            convert_options=pacsv.ConvertOptions(
                include_columns=list(names.values()),
                column_types=dict.fromkeys(names.values(), pa.binary()),
                strings_can_be_null=False,
            ),
        )
        for batch in reader:
            rows = _numbers_from(following, batch.num_rows, odd)
            following = int(rows[-1]) + 1 if len(rows) else following
            cells = {place: _as_text(batch.column(name)) for place, name in names.items()}
            there = _not_empty(list(cells.values()))
            columns = {field: cells[place].filter(pa.array(there)) for field, place in layout.columns.items()}
            yield Block(columns, rows[there])
    except FileNotFoundError:
        raise DataProblem(f"There is no file {path}.") from None
    except pa.ArrowException as error:
        if "Empty" in str(error):
            raise DataProblem(f"{path.name} has no bars.") from None
        raise DataProblem(f"{path.name} cannot be read: {str(error).splitlines()[0].rstrip('.')}.") from None
    except OSError as error:
        raise DataProblem(f"{path.name} cannot be read: {why(error)}.") from None


def _source(path: Path) -> str | BinaryIO:
    """What Arrow opens: a path, or an open file where the path is no text."""
    try:
        os.fspath(path).encode()
    except UnicodeEncodeError:
        return path.open("rb")
    return str(path)


def _numbers_from(following: int, count: int, odd: list[int]) -> np.ndarray:
    """The numbers in the file of so many rows from one on, those with another width left out."""
    begin = bisect_left(odd, following)
    others = np.array(odd[begin:], dtype=np.int64)
    made = np.arange(following, following + count + len(others), dtype=np.int64)
    return made[~np.isin(made, others)][:count]


def _as_text(column: pa.Array) -> pa.Array:
    """Bytes as text; what is no UTF-8 becomes a sign that no number has."""
    if pa.types.is_null(column.type):
        return pa.array([""] * len(column))
    try:
        return column.cast(pa.string())
    except pa.ArrowInvalid:
        return pa.array([(raw or b"").decode("utf-8", "replace") for raw in column.to_pylist()], pa.string())


def _not_empty(columns: list[pa.Array]) -> np.ndarray:
    """Where a row holds anything at all: an empty line is no row."""
    there = np.zeros(len(columns[0]), dtype=bool)
    for column in columns:
        there |= np.asarray(pc.not_equal(column, "").to_numpy(zero_copy_only=False), dtype=bool)
    return there
