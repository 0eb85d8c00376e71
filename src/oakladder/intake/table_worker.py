"""The process that reads Parquet and Arrow files for `tables`: a file's path comes in a line, its columns go out.

``python -m oakladder.intake.table_worker`` is only ever started by the program itself.
"""

from __future__ import annotations

import json
import os
import resource
import struct
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any, BinaryIO

import pyarrow as pa
import pyarrow.parquet as parquet

#: Memory that the process may take beside what its libraries do, at most and beside three times the file.
_MOST_MEMORY, _BASE = 1 << 30, 160 << 20
#: Rows that are made ready at a time.
_ROWS = 200_000


class _Trouble(Exception):
    """What is wrong with a file, to follow its name."""


def _bounded(size: int) -> None:
    """Bounds the memory for a file of so many bytes."""
    taken = int(Path("/proc/self/statm").read_text().split()[0]) * os.sysconf("SC_PAGE_SIZE")
    limit = taken + min(_BASE + 3 * size, _MOST_MEMORY)
    resource.setrlimit(resource.RLIMIT_AS, (limit, resource.getrlimit(resource.RLIMIT_AS)[1]))


def _plain(column: pa.Array, name: str) -> pa.Array:
    """A column as texts, numbers or timestamps. Raises `_Trouble` for one that is none of them."""
    kind = column.type
    if pa.types.is_dictionary(kind):
        column, kind = column.dictionary_decode(), kind.value_type
    if pa.types.is_floating(kind) or pa.types.is_decimal(kind):
        return column.cast(pa.float64(), safe=False)
    if pa.types.is_integer(kind):
        return column.cast(pa.int64(), safe=False)
    if pa.types.is_timestamp(kind):
        return column.cast(pa.timestamp("s", kind.tz), safe=False)
    if pa.types.is_date(kind):
        return column.cast(pa.timestamp("s"), safe=False)
    if pa.types.is_string(kind) or pa.types.is_large_string(kind):
        return column.cast(pa.string())
    if pa.types.is_null(kind):
        return pa.array([None] * len(column), pa.string())
    raise _Trouble(f"cannot be used: its column {name} holds values of the kind {kind}, not numbers, texts or times.")


def _batches(path: Path, places: list[int]) -> Iterator[pa.RecordBatch]:
    if path.suffix.lower() in (".parquet", ".pq"):
        file = parquet.ParquetFile(path.open("rb"), memory_map=False)
        names = [file.schema_arrow.names[k] for k in places]
        for batch in file.iter_batches(_ROWS, columns=list(dict.fromkeys(names)), use_threads=False):
            yield batch.select(names)
        return
    with path.open("rb") as source:
        reader = pa.ipc.open_file(source)
        for k in range(reader.num_record_batches):
            batch = reader.get_batch(k)
            batch.validate(full=True)
            yield batch.select(places)


def _names(path: Path) -> list[str]:
    if path.suffix.lower() in (".parquet", ".pq"):
        with path.open("rb") as source:
            return list(parquet.read_schema(source).names)
    with path.open("rb") as source:
        return list(pa.ipc.open_file(source).schema.names)


def _columns(path: Path, places: list[int]) -> bytes:
    names = _names(path)
    if places and max(places) >= len(names):
        raise _Trouble(f"has {len(names)} columns, and column {max(places) + 1} is wanted.")
    sink = pa.BufferOutputStream()
    writer: pa.ipc.RecordBatchStreamWriter | None = None
    for batch in _batches(path, places):
        plain = [_plain(batch.column(k), names[place]) for k, place in enumerate(places)]
        made = pa.RecordBatch.from_arrays(plain, names=[str(k) for k in range(len(places))])
        writer = writer or pa.ipc.new_stream(sink, made.schema)
        writer.write_batch(made)
    if writer is None:
        return b""
    writer.close()
    return sink.getvalue().to_pybytes()


def _answer(request: dict[str, Any]) -> tuple[dict[str, Any], bytes]:
    path = Path(request["path"])
    try:
        _bounded(path.stat().st_size)
        if request["columns"] is None:
            return {"names": _names(path)}, b""
        return {}, _columns(path, request["columns"])
    except _Trouble as error:
        return {"trouble": str(error)}, b""
    except FileNotFoundError:
        return {"trouble": "is not there."}, b""
    except (MemoryError, pa.ArrowMemoryError):
        return {"trouble": "would take more memory than an import may (1 GB). Split it, or it is damaged."}, b""
    except (pa.ArrowException, OSError, ValueError, IndexError, KeyError, OverflowError) as error:
        words = (str(error).splitlines() or ["it is no such file"])[0]
        return {"trouble": f"cannot be read: {words.rstrip('.')[:200]}."}, b""


def main(into: BinaryIO, out: BinaryIO) -> None:
    """Answers one request after the other, until no more come."""
    for line in into:
        head, raw = _answer(json.loads(line))
        text = json.dumps(head).encode()
        out.write(struct.pack("<qq", len(text), len(raw)) + text)
        out.write(raw)
        out.flush()


if __name__ == "__main__":
    main(sys.stdin.buffer, sys.stdout.buffer)
