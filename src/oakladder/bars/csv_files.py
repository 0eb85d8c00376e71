"""Bars in CSV files: ``time,open,high,low,close,volume`` with ISO 8601 opening times."""

from __future__ import annotations

import csv
import math
import re
from collections import Counter
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from oakladder.bars.bars import ABSURD, COLUMNS, Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.timeframes import ONE_DAY, BarUnit, Timeframe
from oakladder.bars.zones import DAY
from oakladder.disk import why

_NEEDED = ("time", *COLUMNS)
_ISO = re.compile(r"\d{4}-\d{2}-\d{2}([T ]\d{2}:\d{2}(:\d{2}([.,]\d+)?)?(Z|[+-]\d{2}(:?\d{2})?)?)?")
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")


def read_csv(path: Path, calendar: Calendar | None = None) -> Bars:
    """Reads the bars of one symbol; its timeframe is the commonest distance between bars.

    Without a calendar, days are UTC days, Monday to Friday unless a bar falls on a weekend. Raises
    `DataProblem` with the number of the first bad line.
    """
    times: list[int] = []
    columns: list[list[float]] = [[] for _ in COLUMNS]
    for line, row in _rows(path):
        moment = _time(path, line, row[0])
        if times and moment <= times[-1]:
            what = "is there twice" if moment == times[-1] else "comes after a later one"
            raise DataProblem(
                f"{path.name}, line {line}: the time {row[0]} {what}. Sort the file by time, each time once."
            )
        values = [_number(path, line, name, text) for name, text in zip(COLUMNS, row[1:], strict=True)]
        _plausible(path, line, values)
        times.append(moment)
        for column, value in zip(columns, values, strict=True):
            column.append(value)
    if not times:
        raise DataProblem(f"{path.name} has no bars: there is nothing after its first line.")
    stamps = np.array(times, dtype=np.int64)
    if calendar is None:
        weekdays = (stamps // DAY + 3) % 7
        calendar = Calendar(weekend=bool((weekdays >= 5).any()))
    data = {name: np.array(values) for name, values in zip(COLUMNS, columns, strict=True)}
    return Bars(path.stem.upper(), _timeframe(stamps), calendar, stamps, data)


def _rows(path: Path) -> list[tuple[int, list[str]]]:
    """The lines of the file with their numbers, in the order of the needed columns."""
    try:
        text = path.read_text(encoding="utf-8-sig")
    except FileNotFoundError:
        raise DataProblem(f"There is no file {path}.") from None
    except UnicodeDecodeError:
        raise DataProblem(f"{path.name} is not a UTF-8 text file. Save it as CSV in UTF-8.") from None
    except OSError as error:
        raise DataProblem(f"{path.name} cannot be read: {why(error)}.") from None
    reader = csv.reader(text.splitlines())
    head = next(_lines_of(reader, path), None)
    if head is None:
        raise DataProblem(f"{path.name} is empty. It needs a first line with {','.join(_NEEDED)}.")
    names = [h.strip().lower() for h in head]
    missing = [n for n in _NEEDED if n not in names]
    if missing:
        raise DataProblem(
            f"{path.name}, line 1: the column {', '.join(missing)} is missing. "
            f"The first line must name {','.join(_NEEDED)}."
        )
    places = [names.index(n) for n in _NEEDED]
    made: list[tuple[int, list[str]]] = []
    for row in _lines_of(reader, path):
        if not any(cell.strip() for cell in row):
            continue
        if len(row) < len(head):
            raise DataProblem(
                f"{path.name}, line {reader.line_num}: {len(row)} values stand here, and the first line names {len(head)}."
            )
        made.append((reader.line_num, [row[p].strip() for p in places]))
    return made


def _lines_of(reader: Iterator[list[str]], path: Path) -> Iterator[list[str]]:
    try:
        yield from reader
    except csv.Error as error:
        raise DataProblem(f"{path.name} cannot be read as a table: {error}.") from None


def _time(path: Path, line: int, text: str) -> int:
    try:
        if _ISO.fullmatch(text) is None:
            raise ValueError
        moment = datetime.fromisoformat(text)
        if not 1800 <= moment.year < 2200:
            raise ValueError
    except ValueError:
        raise DataProblem(
            f"{path.name}, line {line}: `{text}` is no time. Write it as 2026-03-02 or 2026-03-02T09:30:00+00:00."
        ) from None
    return int((moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp())


def _number(path: Path, line: int, name: str, text: str) -> float:
    if text in ("", "nan"):
        return math.nan
    value = float(text) if _NUMBER.fullmatch(text) else math.nan
    if not abs(value) < ABSURD:
        what = "is no number" if math.isnan(value) else f"is too large: numbers are less than {ABSURD:g}"
        raise DataProblem(f"{path.name}, line {line}: `{text[:40]}` in the column {name} {what}.")
    return value


def _plausible(path: Path, line: int, values: list[float]) -> None:
    open_, high, low, close, volume = values
    if high < low:
        raise DataProblem(f"{path.name}, line {line}: the high {high:g} is below the low {low:g}.")
    if high < max(open_, close) or low > min(open_, close):
        raise DataProblem(f"{path.name}, line {line}: the open or close lies outside of low {low:g} and high {high:g}.")
    if volume < 0:
        raise DataProblem(f"{path.name}, line {line}: the volume {volume:g} is negative.")


def _timeframe(times: np.ndarray) -> Timeframe:
    if len(times) < 2:
        return ONE_DAY
    step = Counter(np.diff(times).tolist()).most_common(1)[0][0]
    if step >= 26 * DAY:
        return Timeframe(BarUnit.MONTH)
    if step >= 6 * DAY:
        return Timeframe(BarUnit.WEEK)
    if step >= 20 * 3600:
        return ONE_DAY
    return Timeframe(BarUnit.MINUTES, max(int(step) // 60, 1))


def iso(time: int) -> str:
    """A time as it stands in files: ISO 8601 in UTC."""
    return datetime.fromtimestamp(int(time), UTC).isoformat()
