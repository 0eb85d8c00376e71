"""Reading a file by its layout: plain arrays, with what could not be read as none, and the number of every row."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from zoneinfo import ZoneInfo, available_timezones

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc
import pyarrow.csv as pacsv
import pyarrow.feather as feather
import pyarrow.parquet as parquet

from oakladder.bars.errors import DataProblem
from oakladder.bars.series import COLUMNS

from .layout import Layout

#: Times outside these years are misread.
_EARLIEST, _LATEST = -2_208_988_800, 7_258_118_400


@dataclass(slots=True)
class Raw:
    """The rows of one symbol as they stand in the file. ``times`` are UTC seconds; ``rows`` count from 1.

    ``counted`` says that the number of trades stands in for the volume.
    """

    symbol: str
    times: np.ndarray
    columns: dict[str, np.ndarray]
    rows: np.ndarray
    unread: int = 0
    counted: bool = False


def read(path: Path, layout: Layout) -> list[Raw]:
    """Every symbol of a file. Raises `DataProblem` for a file that cannot be read so."""
    missing = [n for n in ("time", "close") if n not in layout.columns]
    if missing:
        raise DataProblem(f"{path.name}: it is not known which column is the {' and the '.join(missing)}.")
    table, odd = _text_table(path, layout) if layout.kind == "text" else (read_table(path), [])
    if table.num_rows == 0:
        raise DataProblem(f"{path.name} has no bars.")
    if max(layout.columns.values()) >= table.num_columns:
        raise DataProblem(
            f"{path.name} has {table.num_columns} columns, and column {max(layout.columns.values()) + 1} is asked for."
        )
    times, good = _times(table, layout)
    columns = {name: _numbers(table, layout, name) for name in (*COLUMNS, "count")}
    close = columns["close"]
    for name in ("open", "high", "low"):
        if name not in layout.columns:  # a series of closes only
            columns[name] = close.copy()
    counted = "volume" not in layout.columns and "count" in layout.columns
    if counted:
        columns["volume"] = columns["count"]
    del columns["count"]
    rows = _row_numbers(path, layout, table.num_rows, odd)
    names = _symbols(table, layout, path)
    made = []
    for symbol in dict.fromkeys(names.tolist()):
        here = names == symbol
        keep = here & good
        made.append(
            Raw(
                symbol,
                times[keep],
                {n: v[keep] for n, v in columns.items()},
                rows[keep],
                int((here & ~good).sum()),
                counted,
            )
        )
    made[0].unread += len(odd)
    if not any(len(raw.times) for raw in made):
        raise DataProblem(f"{path.name}: none of its times can be read. Say how they are written.")
    return made


def _row_numbers(path: Path, layout: Layout, count: int, odd: list[int]) -> np.ndarray:
    """The number of the line on which each row of the table stands; ``odd`` are lines that were left out."""
    if layout.kind != "text":
        return np.arange(1, count + 1)
    first = 1 + layout.skip + (1 if layout.header else 0)
    rows = np.arange(first, first + count + len(odd))
    rows = rows[~np.isin(rows, odd)][:count]
    # The reader does not count empty lines.
    filled = [k for k, line in enumerate(path.read_bytes().splitlines(), 1) if line.strip()]
    return np.array(filled)[rows - 1] if len(filled) >= int(rows[-1]) else rows


def symbol_of(path: Path) -> str:
    """The symbol that a file's name stands for: what comes before the first sign that is no letter or digit."""
    word = "".join(c if c.isalnum() or c in ".-" else " " for c in path.stem).split()
    return (word[0] if word else path.stem).upper()[:16]


def _symbols(table: pa.Table, layout: Layout, path: Path) -> np.ndarray:
    if "symbol" not in layout.columns:
        return np.full(table.num_rows, symbol_of(path), dtype=object)
    texts = table.column(layout.columns["symbol"]).cast(pa.string()).to_pylist()
    return np.array([(t or symbol_of(path)).strip().upper()[:16] for t in texts], dtype=object)


def read_table(path: Path) -> pa.Table:
    """A Parquet or Arrow file. Raises `DataProblem`."""
    try:
        if path.suffix.lower() in (".parquet", ".pq"):
            return parquet.read_table(str(path))
        return feather.read_table(str(path))
    except FileNotFoundError:
        raise DataProblem(f"There is no file {path}.") from None
    except (pa.ArrowException, OSError) as error:
        raise DataProblem(f"{path.name} cannot be read: {str(error).splitlines()[0]}.") from None


def _text_table(path: Path, layout: Layout) -> tuple[pa.Table, list[int]]:
    """A text file with every column as text, and which lines were left out for another width (empty ones not counted)."""
    left_out: list[int] = []

    def odd(row: pacsv.InvalidRow) -> str:
        left_out.append(row.number)
        return "skip"

    try:
        table = pacsv.read_csv(
            str(path),
            read_options=pacsv.ReadOptions(
                skip_rows=layout.skip + (1 if layout.header else 0),
                autogenerate_column_names=True,
                encoding=layout.encoding,
                use_threads=False,
            ),
            parse_options=pacsv.ParseOptions(delimiter=layout.separator, invalid_row_handler=odd),
            convert_options=pacsv.ConvertOptions(
                column_types={f"f{k}": pa.string() for k in range(200)}, strings_can_be_null=False
            ),
        )
        return table, left_out
    except FileNotFoundError:
        raise DataProblem(f"There is no file {path}.") from None
    except pa.ArrowException as error:
        if "Empty" in str(error):
            raise DataProblem(f"{path.name} has no bars.") from None
        raise DataProblem(f"{path.name} cannot be read: {str(error).splitlines()[0]}.") from None
    except OSError as error:
        raise DataProblem(f"{path.name} cannot be read: {error.strerror or error}.") from None


def _numbers(table: pa.Table, layout: Layout, name: str) -> np.ndarray:
    if name not in layout.columns:
        return np.full(table.num_rows, np.nan)
    column = table.column(layout.columns[name])
    if not pa.types.is_string(column.type) and not pa.types.is_large_string(column.type):
        return np.asarray(column.cast(pa.float64(), safe=False).to_numpy(zero_copy_only=False), dtype=np.float64)
    texts = pc.utf8_trim_whitespace(column)
    if layout.decimal == ",":
        texts = pc.replace_substring(pc.replace_substring(texts, ".", ""), ",", ".")
    else:
        texts = pc.replace_substring(texts, ",", "")
    return np.array([_number(t) for t in texts.to_pylist()])


def _number(text: str | None) -> float:
    try:
        value = float(text) if text else np.nan
    except ValueError:
        scale = {"K": 1e3, "M": 1e6, "B": 1e9}.get((text or " ")[-1].upper())
        try:
            return float((text or "")[:-1]) * scale if scale else np.nan
        except ValueError:
            return np.nan
    return value if abs(value) < 1e18 else np.nan


def _times(table: pa.Table, layout: Layout) -> tuple[np.ndarray, np.ndarray]:
    """Times in UTC seconds, and which of them could be read."""
    column = table.column(layout.columns["time"])
    if pa.types.is_timestamp(column.type) or pa.types.is_date(column.type):
        named = pa.types.is_timestamp(column.type) and column.type.tz is not None
        plain = column.cast(pa.timestamp("s", "UTC" if named else None), safe=False)
        good = ~np.asarray(plain.is_null())
        seconds = np.asarray(plain.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False), dtype=np.int64)
        return (seconds if named else to_utc(seconds, layout.zone)), good
    texts = [str(t).strip() for t in column.to_pylist()]
    if "date" in layout.columns:
        dates = [str(t).strip() for t in table.column(layout.columns["date"]).to_pylist()]
        texts = [f"{d} {t}" for d, t in zip(dates, texts, strict=True)]
    seconds, good = parse_times(texts, layout.time_form, layout.zone)
    return seconds, good


def parse_times(texts: list[str], form: str, zone: str = "UTC") -> tuple[np.ndarray, np.ndarray]:
    """Texts as UTC seconds by a form of `layout.TIME_FORMS`, and which of them fit it. Times without a zone are ``zone``'s."""
    if form in ("seconds", "milliseconds"):
        numbers = np.array([_number(t) for t in texts])
        with np.errstate(invalid="ignore"):
            seconds = numbers / (1000 if form == "milliseconds" else 1)
            # Counted milliseconds must not pass for seconds, nor a date written as a number for either.
            good = (seconds > 100_000_000) & (seconds < _LATEST)
        return np.where(good, seconds, 0).astype(np.int64), good
    if form == "":
        return _iso_times(texts, zone)
    made = pc.strptime(pa.array(texts, pa.string()), format=form, unit="s", error_is_null=True)
    good = ~np.asarray(made.is_null())
    seconds = np.asarray(made.cast(pa.int64()).fill_null(0).to_numpy(zero_copy_only=False), dtype=np.int64)
    good &= (seconds > _EARLIEST) & (seconds < _LATEST)
    # What is read must say the same when it is written: 13.02.26 is no 13 February of the year 26.
    good &= np.char.str_len(np.array(texts, dtype=str)) >= _shortest(form)
    return to_utc(seconds, zone), good


def _shortest(form: str) -> int:
    return len(
        form.replace("%Y", "2026").replace("%b", "Jan").replace("%d", "1").replace("%m", "1").replace("%", "")
    ) - (0 if " " not in form else 1)


def _iso_times(texts: list[str], zone: str) -> tuple[np.ndarray, np.ndarray]:
    from datetime import datetime

    seconds, good = np.zeros(len(texts), dtype=np.int64), np.zeros(len(texts), dtype=bool)
    naive = np.zeros(len(texts), dtype=bool)
    for k, text in enumerate(texts):
        if len(text) < 8 or text.isdigit():
            continue
        try:
            moment = datetime.fromisoformat(text)
        except ValueError:
            continue
        good[k] = True
        naive[k] = moment.tzinfo is None
        seconds[k] = int((moment.replace(tzinfo=ZoneInfo("UTC")) if naive[k] else moment).timestamp())
    seconds[naive] = to_utc(seconds[naive], zone)
    return seconds, good


@lru_cache(maxsize=1)
def zones() -> frozenset[str]:
    """Every time zone that is known."""
    return frozenset(available_timezones())


def to_utc(local: np.ndarray, zone: str) -> np.ndarray:
    """Clock times of a zone, as seconds since 1970, in UTC. Raises `DataProblem` for an unknown zone."""
    if zone == "UTC":
        return local
    if zone not in zones():
        raise DataProblem(f"`{zone}` is no time zone. Write UTC or a name such as WET.")
    from oakladder.bars.sessions import Calendar

    return Calendar(zone).utc(local)
