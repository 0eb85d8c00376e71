"""The bars of one symbol from a file, for a single run: what `import` reads, held to stricter rules.

An import cleans what is wrong and reports it. A run on a file cannot ask questions, so the first doubtful row is an error.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import numpy as np

from oakladder.bars.adjustments import Adjustments, found_in
from oakladder.bars.bars import ABSURD, COLUMNS, Bars
from oakladder.bars.errors import DataProblem
from oakladder.bars.sessions import Calendar
from oakladder.bars.zones import DAY
from oakladder.intake.file_layout import FileKind, TableLayout, cells_of, guess
from oakladder.intake.names import symbol_of
from oakladder.intake.reading import NoTimes, Raw, read
from oakladder.intake.times import timeframe_of

#: The longest cell that is quoted in a message, in letters.
_MOST_QUOTED = 40


def read_one(path: Path, calendar: Calendar | None = None) -> Bars:
    """Reads the bars of one symbol, named after the file; its timeframe is the commonest distance between bars.

    Without a calendar, days are UTC days, Monday to Friday unless a bar falls on a weekend. Raises `DataProblem` with
    the number of the first bad line.
    """
    layout = guess(path)
    try:
        found = read(path, layout)
    except NoTimes:
        row = 1 + layout.skip + layout.header
        raise DataProblem(_located(path, layout, row, _no_time(path, layout, row))) from None
    if found.troubles:
        raise DataProblem(f"{path.name}: {found.troubles[0]}")
    if len(found.symbols) != 1:
        names = ", ".join(raw.symbol for raw in found.symbols[:4])
        raise DataProblem(
            f"{path.name} has {len(found.symbols)} symbols ({names}), and a run takes one. "
            "Import it, or split it into a file for each symbol."
        )
    raw = found.symbols[0]
    _check_rows(path, layout, raw)
    times = np.asarray(raw.times, dtype=np.int64)
    if calendar is None:
        weekdays = (times // DAY + 3) % 7
        calendar = Calendar(weekend=bool((weekdays >= 5).any()))
    columns = {name: np.ascontiguousarray(raw.columns[name]) for name in COLUMNS}
    bars = Bars(symbol_of(path), timeframe_of(times), calendar, times, columns)
    return bars.adjusted(_adjustments(path, bars, raw.columns.get("adjusted")))


def _adjustments(path: Path, bars: Bars, adjusted: np.ndarray | None) -> Adjustments | None:
    """What a column of adjusted closes says. Raises `DataProblem` where it says nothing that makes sense."""
    if adjusted is None:
        return None
    try:
        found = found_in(bars.calendar.days(bars.times), bars["close"], adjusted)
    except ValueError:
        raise DataProblem(
            f"{path.name}: its adjusted close changes too often against the close to come from dividends and splits. Take the "
            "column out, or give it another name."
        ) from None
    return None if found is None or found.is_plain else found


def _check_rows(path: Path, layout: TableLayout, raw: Raw) -> None:
    """Raises `DataProblem` for the first row that cannot be read, is out of order or makes no sense as a bar."""
    troubles = {**_unread(path, layout, raw), **_out_of_order(path, layout, raw), **_odd_numbers(path, layout, raw)}
    troubles |= {row: words for row, words in _implausible(raw).items() if row not in troubles}
    if troubles:
        row = min(troubles)
        raise DataProblem(_located(path, layout, row, troubles[row]))
    if not len(raw.times):
        raise DataProblem(f"{path.name} has no bars: there is nothing after its first line.")


def _unread(path: Path, layout: TableLayout, raw: Raw) -> dict[int, str]:
    """Rows with a time or a width that cannot be read: the first of them, by its number."""
    if not len(raw.unread_rows):
        return {}
    row = int(raw.unread_rows.min())
    return {row: _no_time(path, layout, row)}


def _no_time(path: Path, layout: TableLayout, row: int) -> str:
    """Why the time of a row cannot be read: the row has another width, or the cell is no time."""
    cells = _cells(path, layout, row)
    width = len(layout.names) or 1 + max(layout.columns.values())
    if cells is not None and len(cells) != width:
        return f"the line has {len(cells)} values, and the first line names {width}."
    text = _quoted(cells, layout, "time")[:_MOST_QUOTED]
    return f"`{text}` is no time. Write it as 2026-03-02 or 2026-03-02T09:30:00+00:00."


def _located(path: Path, layout: TableLayout, row: int, words: str) -> str:
    """A message about a row of a file."""
    return f"{path.name}, {'line' if layout.kind is FileKind.TEXT else 'row'} {row}: {words}"


def _out_of_order(path: Path, layout: TableLayout, raw: Raw) -> dict[int, str]:
    """The first row whose time is not after the one before."""
    bad = np.flatnonzero(np.diff(raw.times) <= 0) + 1
    if not len(bad):
        return {}
    place = int(bad[0])
    row = int(raw.rows[place])
    what = "is there twice" if raw.times[place] == raw.times[place - 1] else "comes after a later one"
    text = _quoted(_cells(path, layout, row), layout, "time")
    return {row: f"the time {text} {what}. Sort the file by time, each time once."}


def _odd_numbers(path: Path, layout: TableLayout, raw: Raw) -> dict[int, str]:
    """The first row with a number that cannot be read or is absurdly large."""
    large = np.zeros(len(raw.times), dtype=bool)
    for values in raw.columns.values():
        large |= np.abs(values) >= ABSURD
    bad = np.union1d(np.flatnonzero(large), raw.unreadable)
    if not len(bad):
        return {}
    row = int(raw.rows[int(bad[0])])
    cells = _cells(path, layout, row)
    name = next((n for n in raw.columns if _is_odd(_quoted(cells, layout, n))), "close")
    text = _quoted(cells, layout, name)
    infinite = "inf" in text.lower()
    what = (
        f"is too large: numbers are less than {ABSURD:g}"
        if _number(text) is not None and not infinite
        else "is no number"
    )
    return {row: f"`{text[:_MOST_QUOTED]}` in the column {name} {what}."}


def _implausible(raw: Raw) -> dict[int, str]:
    """Rows whose numbers make no bar, each with the reason: the first of each kind."""
    open_, high, low, close, volume = (raw.columns[n] for n in COLUMNS)
    outside = (high < np.fmax(open_, close)) | (low > np.fmin(open_, close))
    kinds = {
        "the volume {v:g} is negative.": volume < 0,
        "the open or close lies outside of low {l:g} and high {h:g}.": outside,
        "the high {h:g} is below the low {l:g}.": high < low,
    }
    made = {}
    for words, found in kinds.items():
        if found.any():
            k = int(found.argmax())
            made[int(raw.rows[k])] = words.format(h=high[k], l=low[k], v=volume[k])
    return made


def _cells(path: Path, layout: TableLayout, row: int) -> list[str] | None:
    """The cells of a line of a text file, by its number; None where they cannot be had."""
    if layout.kind is not FileKind.TEXT:
        return None
    try:
        with path.open(encoding=layout.encoding, errors="replace") as file:
            line = next((text for k, text in enumerate(file, 1) if k == row), None)
    except OSError:
        return None
    return None if line is None else [c.strip() for c in cells_of(line.rstrip("\r\n"), layout.separator)]


def _quoted(cells: list[str] | None, layout: TableLayout, name: str) -> str:
    """The content of a column of a line, date and time of day joined."""
    if cells is None:
        return "it"
    places: Mapping[str, int] = layout.columns
    names = ("date", "time") if name == "time" else (name,)
    return " ".join(cells[places[n]] for n in names if n in places and places[n] < len(cells))


def _number(text: str) -> float | None:
    try:
        return float(text) if "_" not in text else None
    except ValueError:
        return None


def _is_odd(text: str) -> bool:
    """Whether a cell holds something that is no number, or one that is too large."""
    if not text or text.lower() in ("nan", "none", "null", "-", "n/a"):
        return False
    value = _number(text)
    return value is None or not abs(value) < ABSURD
