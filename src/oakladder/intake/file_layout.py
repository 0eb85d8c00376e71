"""What a file of bars looks like: separator, columns, how times are written. Guessed first, corrected by the user."""

from __future__ import annotations

import csv
import re
from collections import Counter
from dataclasses import dataclass, field, replace
from enum import Enum
from pathlib import Path

from oakladder.bars.errors import DataProblem
from oakladder.disk import is_regular, opened_regular, why
from oakladder.intake.file_search import TABLE_ENDINGS
from oakladder.intake.tables import table_names
from oakladder.intake.times import TIME_FORMS, may_fit, parse_times

#: What a column can be. ``date`` goes with a ``time`` of day in another column; ``adjusted`` is the close adjusted for dividends
#: and splits; ``count`` is the number of trades.
FIELDS = ("time", "date", "open", "high", "low", "close", "adjusted", "volume", "count", "symbol")
_WORDS: dict[str, tuple[str, ...]] = {
    "time": ("time", "datetime", "timestamp", "date time", "date/time", "opentime", "open time", "bar time"),
    "date": ("date", "day", "tradedate", "trade date", "yyyymmdd", "session"),
    "open": ("open", "o", "first", "open price", "openprice"),
    "high": ("high", "h", "max", "high price", "highprice"),
    "low": ("low", "l", "min", "low price", "lowprice"),
    "close": ("close", "c", "last", "settle", "price", "close price", "closeprice", "close/last"),
    "adjusted": ("adj close", "adj. close", "adjclose", "adjusted close", "close adj", "close adjusted", "adjusted"),
    "volume": ("volume", "vol", "v", "qty", "quantity", "shares", "total volume"),
    "count": ("count", "trades", "number of trades", "trade count", "ticks", "tick volume", "n"),
    "symbol": ("symbol", "ticker", "instrument", "code", "name"),
}
_SEPARATORS = (",", ";", "\t", "|")
_SAMPLE_LINES, _SAMPLE_BYTES = 400, 200_000
#: A form that reads none of so many times at the beginning is not looked at any further.
_FIRST_TIMES = 40


class FileKind(Enum):
    """How a file holds its table: written out as text, or as columns (Parquet, Arrow)."""

    TEXT = "text"
    TABLE = "table"


@dataclass(frozen=True, slots=True)
class TableLayout:
    """How to read a file. ``columns`` says for each field which column it is, counted from 0.

    ``zone`` is the time zone of times that name none; ``decimal`` is the sign before the decimals of prices.
    """

    kind: FileKind = FileKind.TEXT
    encoding: str = "utf-8"
    separator: str = ","
    decimal: str = "."
    header: bool = True
    skip: int = 0
    columns: dict[str, int] = field(default_factory=dict)
    time_form: str = ""
    zone: str = "UTC"
    names: tuple[str, ...] = ()

    def with_column(self, name: str, place: int | None) -> TableLayout:
        """The same with a field read from another column, or from none."""
        columns = {k: v for k, v in self.columns.items() if k != name and v != place}
        return replace(self, columns=columns | ({name: place} if place is not None else {}))


def guess(path: Path) -> TableLayout:
    """The layout that fits a file best. Raises `DataProblem` where nothing fits."""
    if path.exists() and not is_regular(path):
        raise DataProblem(f"{path.name} is a folder, a pipe or a device. Bars are read from regular files.")
    if path.suffix.lower() in TABLE_ENDINGS:
        return _guess_table(path)
    every, encoding = sample(path)
    there = [k for k, line in enumerate(every) if line.strip()]
    lines = [every[k] for k in there]
    if not lines:
        raise DataProblem(f"{path.name} is empty.")
    separator, above = _separator(lines)
    skip = there[above]
    rows = [cells_of(line, separator) for line in lines[above:]]
    header = not any(_is_number(cell, ".") or _is_number(cell, ",") for cell in rows[0][1:])
    names = tuple(c.strip() for c in rows[0]) if header else ()
    body = [r for r in (rows[1:] if header else rows) if len(r) > 1] or rows[1:]
    if not body:
        raise DataProblem(f"{path.name} has a first line and no bars.")
    decimal = _decimal(body, separator)
    columns = by_names(names) if header else _by_shape(body, decimal)
    if not {"open", "high", "low", "close"} <= set(columns) and header:
        columns = _by_shape(body, decimal) | columns
    made = TableLayout(FileKind.TEXT, encoding, separator, decimal, header, skip, columns, "", "UTC", names)
    return replace(made, time_form=time_form(times_of(body, columns)))


def sample(path: Path) -> tuple[list[str], str]:
    """The first lines of a text file, and its encoding. Raises `DataProblem`."""
    try:
        with opened_regular(path) as file:
            raw = file.read(_SAMPLE_BYTES)
    except FileNotFoundError:
        raise DataProblem(f"There is no file {path}.") from None
    except OSError as error:
        raise DataProblem(f"{path.name} cannot be read: {why(error)}.") from None
    if raw[:2] in (b"\xff\xfe", b"\xfe\xff"):
        encoding = "utf-16"
    else:
        if b"\0" in raw:
            raise DataProblem(f"{path.name} is no text file. Bars come as CSV, TSV or Parquet.")
        encoding = "utf-8"
        try:
            raw[: raw.rfind(b"\n") + 1].decode("utf-8")
        except UnicodeDecodeError:
            encoding = "cp1252"
    text = raw.decode(encoding, errors="ignore").lstrip("\ufeff")
    lines = re.split(r"\r\n|\n|\r", text)
    if len(raw) == _SAMPLE_BYTES:
        lines = lines[:-1]
        if len(lines) < 2:
            raise DataProblem(
                f"{path.name}, line {len(lines) + 1} has about {_SAMPLE_BYTES:,} bytes or more, too long for a table of "
                "bars. Is it the right file?"
            )
    return lines[:_SAMPLE_LINES], encoding


def cells_of(line: str, separator: str) -> list[str]:
    """The cells of a line."""
    try:
        return next(csv.reader([line], delimiter=separator), [])
    except csv.Error:  # a cell that no table would have
        return line.split(separator)


def width_of(path: Path, layout: TableLayout) -> int:
    """How many columns most lines of a text file have, read by a layout. Raises `DataProblem`."""
    lines, _ = sample(path)
    counts = Counter(len(cells_of(line, layout.separator)) for line in lines[layout.skip :] if line.strip())
    if not counts:
        raise DataProblem(f"{path.name} has no bars.")
    return counts.most_common(1)[0][0]


def _separator(lines: list[str]) -> tuple[str, int]:
    """The separator that gives most lines the same number of columns, and how many lines stand before the table."""
    best, best_score, skip = ",", -1.0, 0
    for separator in _SEPARATORS:
        counts = [len(cells_of(line, separator)) for line in lines]
        width, often = Counter(counts).most_common(1)[0]
        score = (often / len(counts)) * min(width, 8) if width > 2 else 0.0
        if score > best_score:
            best, best_score = separator, score
            skip = next(k for k, c in enumerate(counts) if c == width)
    return best, skip


def _is_number(text: str, decimal: str) -> bool:
    cleaned = text.strip().replace(" ", "")
    if decimal == ",":
        cleaned = cleaned.replace(".", "").replace(",", ".")
    try:
        float(cleaned)
    except ValueError:
        return False
    return bool(cleaned)


def _decimal(body: list[list[str]], separator: str) -> str:
    """Whether decimals follow a comma: where numbers are seen to be so, and in quotes if the separator is one too."""
    # Three digits behind a comma are more likely thousands where the comma parts the columns too.
    digits = r"\d{1,2}|\d{4,}" if separator == "," else r"\d+"
    commas = sum(bool(re.fullmatch(rf"-?[\d. ]*,({digits})", c.strip())) for row in body[:100] for c in row)
    points = sum(bool(re.fullmatch(r"-?\d+\.\d+", c.strip())) for row in body[:100] for c in row)
    return "," if commas > points else "."


def by_names(names: tuple[str, ...]) -> dict[str, int]:
    """Which column is which field, by their names."""
    plain = [re.sub(r"[<>\[\]\"']", "", n).strip().lower().replace("_", " ") for n in names]
    made: dict[str, int] = {}
    for name, words in _WORDS.items():
        for word in words:
            if word in plain and plain.index(word) not in made.values():
                made[name] = plain.index(word)
                break
    if "date" in made and "time" not in made:
        made["time"] = made.pop("date")
    return made


def _by_shape(body: list[list[str]], decimal: str) -> dict[str, int]:
    """Which column is which without names: times first, then four prices of which one is highest and one lowest."""
    width = min(len(r) for r in body[:50])
    numeric = [all(_is_number(r[k], decimal) for r in body[:50] if r[k].strip()) for k in range(width)]
    made: dict[str, int] = {}
    at = 0
    if width and not numeric[0] and re.fullmatch(r"[A-Za-z.]+[\w.]*", body[0][0].strip()):
        made["symbol"], at = 0, 1
    made["time"] = at
    at += 1
    if at < width and re.fullmatch(r"\d{1,2}:\d{2}(:\d{2})?|\d{4}|\d{6}", body[0][at].strip()) and _clock(body, at):
        made["date"], made["time"], at = at - 1, at, at + 1
    for name in ("open", "high", "low", "close", "volume"):
        if at < width:
            made[name] = at
            at += 1
    return made


def _clock(body: list[list[str]], column: int) -> bool:
    return all(re.fullmatch(r"\d{1,2}:\d{2}(:\d{2})?", r[column].strip()) for r in body[:50])


def times_of(body: list[list[str]], columns: dict[str, int]) -> list[str]:
    """The texts of the times, of both columns where the date stands apart."""
    made = []
    for row in body:
        parts = [row[columns[n]].strip() for n in ("date", "time") if n in columns and columns[n] < len(row)]
        made.append(" ".join(parts))
    return made


def time_form(texts: list[str]) -> str:
    """The form that reads the most times; of equally good forms, the best ordered one."""
    best, best_score = "", -1.0
    for form in (f for f in TIME_FORMS if may_fit(texts[:_FIRST_TIMES], f)):
        made, good = parse_times(texts, form)
        if not good.any():
            continue
        steps = made[good][1:] - made[good][:-1]
        ordered = max((steps > 0).mean(), (steps < 0).mean()) if len(steps) else 1.0
        score = float(good.mean()) + 0.5 * float(ordered)
        if score > best_score + 1e-9:
            best, best_score = form, score
    return best


def _guess_table(path: Path) -> TableLayout:
    names = tuple(table_names(path))
    return TableLayout(FileKind.TABLE, columns=by_names(names), names=names)
