"""Bar files: one Arrow IPC file for each symbol and base timeframe, checked before it counts and when it is read.

Each column carries a checksum, and the file says whose bars it holds, so that a lost catalogue can be made again.
"""

from __future__ import annotations

import hashlib
import zlib
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
import pyarrow as pa

from oakladder.bars.bars import COLUMNS, Bars, is_tidy
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.symbol_info import SymbolInfo, info_of, plain_of
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE
from oakladder.disk import opened_regular, replacing, why
from oakladder.file_names import plain_name, safe_name

#: The columns of a file, in its order.
NAMES = ("time", *COLUMNS)
#: The end of a file's name, by whether it holds minutes.
SUFFIX = {True: f".{ONE_MINUTE}.arrow", False: f".{ONE_DAY}.arrow"}
#: Times (UTC seconds) of the years 1800 to 2199: anything else is no time of a bar.
EARLIEST, LATEST = -5_364_662_400, 7_258_118_400
_SUM = b"oakladder.sum."
_INFO = b"oakladder.symbol"


@dataclass(frozen=True, slots=True)
class FileLayout:
    """Where the columns of a file begin, and what is known of them.

    ``clock`` names the times: files with the same times have the same. ``clean`` says that no number is absurd.
    """

    count: int
    offsets: tuple[int, ...]
    clock: str
    clean: bool


@lru_cache(maxsize=100_000)
def stem_of(symbol: str) -> str:
    """How the names of a symbol's files begin."""
    return safe_name(symbol)


def file_name(symbol: str, intraday: bool) -> str:
    """The name of the file that holds a symbol's minutes or days."""
    return f"{stem_of(symbol)}{SUFFIX[intraday]}"


def symbol_of_file(name: str) -> str | None:
    """The symbol whose bars a file of that name holds; None for any other file."""
    for suffix in SUFFIX.values():
        if name.endswith(suffix) and not name.startswith("."):
            try:
                return plain_name(name.removesuffix(suffix)) or None
            except ValueError:
                return None
    return None


def check(bars: Bars) -> None:
    """Raises `DataProblem` for bars that the library cannot keep."""
    times = bars.times
    what = "minutes" if bars.timeframe.intraday else "days"
    if bars.timeframe not in (ONE_MINUTE, ONE_DAY):
        raise DataProblem(f"{bars.symbol}: the library keeps minutes and days, and these bars are {bars.timeframe}.")
    if any(len(bars[n]) != len(times) for n in COLUMNS):
        raise DataProblem(f"{bars.symbol}: its columns are not all of one length.")
    if not len(times):
        return
    if int(times[0]) < EARLIEST or int(times[-1]) >= LATEST:
        raise DataProblem(f"{bars.symbol}: the bars of a library lie in the years 1800 to 2199.")
    if not (times[1:] > times[:-1]).all():
        raise DataProblem(f"{bars.symbol}: its {what} are not in order, or contain duplicates.")
    if bars.timeframe.intraday:
        if (times % 60).any():
            raise DataProblem(f"{bars.symbol}: its bars begin within a minute. Put them together to whole minutes.")
    elif (np.diff(bars.calendar.days(times)) <= 0).any():
        raise DataProblem(f"{bars.symbol}: several of its bars fall on one day.")


def write(path: Path, bars: Bars, info: SymbolInfo) -> None:
    """Puts bars in the place of what was there, whole or not at all. Raises `DataProblem`."""
    check(bars)
    columns = {"time": np.ascontiguousarray(bars.times, dtype=np.int64)}
    columns |= {n: np.ascontiguousarray(bars[n], dtype=np.float64) for n in COLUMNS}
    kinds = {"time": pa.timestamp("s", "UTC")} | dict.fromkeys(COLUMNS, pa.float64())
    # From their memory: to be made of arrays they would be compared with every kind that other packages know.
    arrays = {n: pa.Array.from_buffers(kinds[n], len(v), [None, pa.py_buffer(v)]) for n, v in columns.items()}
    if bars.timeframe.intraday:
        arrays["extended"] = pa.array(~bars.calendar.is_regular(bars.times))
    said = {_SUM + n.encode(): str(zlib.crc32(v.tobytes())).encode() for n, v in columns.items()}
    text = msgspec.json.encode(plain_of(info))
    said |= {_INFO: text, _SUM + b"symbol": str(zlib.crc32(text)).encode()}
    table = pa.table(arrays).replace_schema_metadata(said)
    try:
        with replacing(path, make_folder=False) as partial:
            with pa.OSFile(str(partial), "wb") as sink, pa.ipc.new_file(sink, table.schema) as writer:
                writer.write_table(table)
            layout_of(str(partial))
    except OSError as error:
        raise DataProblem(f"{path.name} cannot be written: {why(error)}.") from None
    except (pa.ArrowException, KeyError, ValueError) as error:
        raise DataProblem(f"{path.name} was not written as it should be ({error}). Try again.") from None


def layout_of(path: str) -> FileLayout:
    """Reads a file through and checks it.

    Raises `OSError`, `pa.ArrowException`, `KeyError` or `ValueError` for a file that is damaged or none of ours.
    """
    with opened_regular(Path(path)) as file:
        raw = file.read()
    # Read, not mapped: a mapped file that another program cuts short takes the whole program down.
    whole = pa.py_buffer(raw)
    reader = pa.ipc.open_file(pa.BufferReader(whole))
    if reader.schema.names[: len(NAMES)] != list(NAMES) or reader.num_record_batches > 1:
        raise ValueError("its columns are not the library's")
    said = reader.schema.metadata or {}
    batch = reader.get_batch(0) if reader.num_record_batches else None
    count = batch.num_rows if batch is not None else 0
    if batch is None or not count:
        for name in NAMES:  # a file that lost its bars is damaged, not empty
            _check_sum(said, name, np.zeros(0))
        return FileLayout(0, (0,) * len(NAMES), "", True)
    offsets, clock, clean = [], "", True
    for k, name in enumerate(NAMES):
        values = batch.column(k)
        buffer = values.buffers()[1]
        if values.null_count or values.type.bit_width != 64 or buffer is None:
            raise ValueError(f"the column {name} is not as the library writes it")
        offset = buffer.address - whole.address + 8 * values.offset
        if not 0 <= offset <= whole.size - 8 * count:
            raise ValueError(f"the column {name} lies outside the file")
        offsets.append(offset)
        array = np.frombuffer(raw, dtype=kind_of(name), count=count, offset=offset)
        _check_sum(said, name, array)
        if name == "time":
            if not (array[1:] > array[:-1]).all():
                raise ValueError("times out of order")
            clock = hashlib.blake2b(array.tobytes(), digest_size=12).hexdigest()
        else:
            clean = clean and is_tidy(array)
    return FileLayout(count, tuple(offsets), clock, clean)


def _check_sum(said: Mapping[bytes, bytes], name: str, array: np.ndarray) -> None:
    """A file of the first version has no checksums. Raises `ValueError`."""
    kept = said.get(_SUM + name.encode())
    if kept is not None and kept != str(zlib.crc32(array.tobytes())).encode():
        raise ValueError(f"the column {name} does not have its checksum")


def kind_of(name: str) -> type[np.generic]:
    """How the numbers of a column are kept."""
    return np.int64 if name == "time" else np.float64


def info_in(path: Path) -> SymbolInfo | None:
    """What a file says of its symbol; None where it says nothing that can be trusted."""
    try:
        with opened_regular(path) as file:
            said = pa.ipc.open_file(pa.PythonFile(file, "r")).schema.metadata or {}
        text = said[_INFO]
        if said.get(_SUM + b"symbol") != str(zlib.crc32(text)).encode():
            return None
        plain: dict[str, Any] = msgspec.json.decode(text)
        return info_of(plain)
    except (OSError, pa.ArrowException, msgspec.MsgspecError, KeyError, ValueError):
        return None
