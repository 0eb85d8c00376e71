"""Reading a file by its layout: plain arrays for each symbol, with the number of every row, and what could not be read.

Files are read block by block: linear in their size, bounded in memory, stopped between two blocks.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np
import pyarrow as pa

from oakladder.bars.bars import COLUMNS
from oakladder.bars.errors import DataProblem, Stopped
from oakladder.intake import arrow_compute as pc
from oakladder.intake.cells import Numbers, numbers
from oakladder.intake.file_layout import FileKind, TableLayout
from oakladder.intake.names import as_symbol, cleaned_words, symbol_of, trouble_of
from oakladder.intake.tables import table_columns
from oakladder.intake.text import Block, text_blocks
from oakladder.intake.times import parse_times, stamped_times

#: An import takes at most so many bytes of memory, and about so many for each byte of a text file.
MOST_MEMORY, _PER_BYTE = 1 << 30, 3.0
#: Rows of a table that are looked at together.
_ROWS = 200_000
Stop = Callable[[], bool]


class NoTimes(DataProblem):
    """A file of which no time can be read."""


@dataclass(slots=True)
class Raw:
    """The rows of one symbol in file order. ``times`` are UTC seconds; ``rows`` count from 1.

    ``counted`` says that the number of trades stands in for the volume. The others are the places (in these arrays) of
    rows that have a number which is none, no value where one is due, or a number with K, M or B behind it;
    ``unread_rows`` are the numbers of rows that are not here, because their time or width cannot be.
    """

    symbol: str
    times: np.ndarray
    columns: dict[str, np.ndarray]
    rows: np.ndarray
    counted: bool = False
    #: What was cleaned of the symbol, as a sentence.
    cleaned: str = ""
    #: What the file calls it, where it does so in several ways.
    alike: tuple[str, ...] = ()
    unread_rows: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    unreadable: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    missing: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.int64))
    scaled: np.ndarray = field(default_factory=lambda: np.zeros(0, dtype=np.int64))

    @property
    def unread(self) -> int:
        """How many rows are not here."""
        return len(self.unread_rows)


@dataclass(slots=True)
class Read:
    """A whole file: its symbols, and sentences about rows that belong to none."""

    symbols: list[Raw]
    troubles: list[str]


def read(path: Path, layout: TableLayout, cancelled: Stop | None = None, symbol: str | None = None) -> Read:
    """Every symbol of a file; all of it is ``symbol``, if one is given. Raises `DataProblem` for a file that cannot be
    read so, `Stopped`."""
    missing = [n for n in ("time", "close") if n not in layout.columns]
    if missing:
        raise DataProblem(f"{path.name}: it is not known which column is the {' and the '.join(missing)}.")
    _check_memory(path, layout)
    odd: list[int] = []
    gathered = _Gathered(path, layout, symbol)
    for block in (
        text_blocks(path, layout, odd) if layout.kind is FileKind.TEXT else _table_blocks(path, layout, cancelled)
    ):
        if cancelled is not None and cancelled():
            raise Stopped
        gathered.add(block)
    if not gathered.looked_at:
        raise (NoTimes if odd else DataProblem)(f"{path.name} has no bars.")
    return gathered.parted(odd)


def _check_memory(path: Path, layout: TableLayout) -> None:
    """Raises `DataProblem` for a text file that would take more memory than an import may."""
    try:
        size = path.stat().st_size
    except OSError:
        return  # reading it says why
    if layout.kind is FileKind.TEXT and size * _PER_BYTE > MOST_MEMORY:
        raise DataProblem(
            f"{path.name} would take about {size * _PER_BYTE / 1e9:.1f} GB of memory, and an import may take "
            f"{MOST_MEMORY / 1e9:.0f} GB. Split it into several files; they are put together again."
        )


def _table_blocks(path: Path, layout: TableLayout, cancelled: Stop | None) -> Iterator[Block]:
    places = sorted(set(layout.columns.values()))
    columns = table_columns(path, places, cancelled)
    count = len(next(iter(columns.values())))
    for at in range(0, count, _ROWS):
        size = min(_ROWS, count - at)
        some = {f: columns[place].slice(at, size) for f, place in layout.columns.items()}
        yield Block(some, np.arange(at + 1, at + size + 1))


class _Gathered:
    """The rows of a file so far, as arrays that grow block by block."""

    def __init__(self, path: Path, layout: TableLayout, symbol: str | None):
        self._path, self._layout = path, layout
        self._in_column = symbol is None and "symbol" in layout.columns
        self._own = symbol if symbol is not None else symbol_of(path)
        self._cleaned = cleaned_words(path) if symbol is None and not self._in_column else ""
        self._fields = [n for n in (*COLUMNS, "adjusted") if n in layout.columns]
        if "volume" not in self._fields and "count" in layout.columns:
            self._fields.append("count")
        #: Rows that are kept, and all that were looked at.
        self.count = self.looked_at = 0
        self._times: list[np.ndarray] = []
        self._rows: list[np.ndarray] = []
        self._values: dict[str, list[np.ndarray]] = {n: [] for n in self._fields}
        self._codes: list[np.ndarray] = []
        self._unread: list[np.ndarray] = []
        self._unread_codes: list[np.ndarray] = []
        self._flagged: dict[str, list[np.ndarray]] = {"unreadable": [], "missing": [], "scaled": []}
        #: Name in the file → number of its symbol; symbols in order of appearance.
        self._known: dict[str, int] = {}
        self._symbols: list[str] = []
        self._places: dict[str, int] = {}
        self._by_code: dict[int, set[str]] | None = None
        self._names: set[str] = set()

    def add(self, block: Block) -> None:
        """Takes in some rows."""
        self.looked_at += len(block.rows)
        times, good = self._block_times(block)
        codes = self._block_codes(block)
        try:
            read = {name: numbers(block.columns[name], self._layout.decimal) for name in self._fields}
        except DataProblem as error:
            raise DataProblem(f"{self._path.name}: {error}") from None
        for what, found in self._flagged.items():
            found.append(self.count + np.flatnonzero(_any(read, what)[good]))
        self._times.append(times[good])
        self._rows.append(block.rows[good].astype(np.int64))
        self._codes.append(codes[good])
        self._unread.append(block.rows[~good])
        self._unread_codes.append(codes[~good])
        for name, column in read.items():
            self._values[name].append(column.values[good])
        self.count += int(good.sum())

    def _block_times(self, block: Block) -> tuple[np.ndarray, np.ndarray]:
        column, zone, form = block.columns["time"], self._layout.zone, self._layout.time_form
        if pa.types.is_timestamp(column.type):
            return stamped_times(column, zone)
        if not pa.types.is_string(column.type):
            column = column.cast(pa.string())
        if "date" in block.columns:
            dates = block.columns["date"]
            if pa.types.is_timestamp(dates.type):
                dates = pc.strftime(dates, format="%Y-%m-%d")
            dates = dates if pa.types.is_string(dates.type) else dates.cast(pa.string())
            both = pc.binary_join_element_wise(pc.utf8_trim_whitespace(dates.fill_null("")), column.fill_null(""), " ")
            return parse_times(both, form, zone)
        return parse_times(column, form, zone)

    def _block_codes(self, block: Block) -> np.ndarray:
        """The number of each row's symbol."""
        if not self._in_column:
            if "symbol" in block.columns:  # the caller wants one symbol, so the file must hold one
                self._names.update(block.columns["symbol"].cast(pa.string()).fill_null("").unique().to_pylist())
                if len(self._names) > 1:
                    raise DataProblem(
                        f"{self._path.name} names several symbols ({', '.join(sorted(self._names)[:4])}), so it cannot be "
                        f"imported as {self._own} alone."
                    )
            return np.full(len(block.rows), self._code(""), dtype=np.int32)
        column = block.columns["symbol"]
        column = column if pa.types.is_string(column.type) else column.cast(pa.string())
        coded = column.fill_null("").dictionary_encode()
        table = np.array([self._code(name) for name in coded.dictionary.to_pylist()] or [0], dtype=np.int32)
        return table[np.asarray(coded.indices.to_numpy(zero_copy_only=False), dtype=np.int64)]

    def _code(self, name: str) -> int:
        if name not in self._known:
            symbol = as_symbol(name) if self._in_column else self._own
            if symbol not in self._places:
                self._places[symbol] = len(self._symbols)
                self._symbols.append(symbol)
            self._known[name] = self._places[symbol]
        return self._known[name]

    def parted(self, odd: list[int]) -> Read:
        """The rows symbol by symbol; lines of another width are reported with the first."""
        codes = _joined(self._codes)
        order = np.argsort(codes, kind="stable") if len(self._symbols) > 1 else None
        counts = np.bincount(codes, minlength=len(self._symbols))
        ends = np.concatenate([[0], np.cumsum(counts)])
        flagged = {what: _joined(found) for what, found in self._flagged.items()}
        if order is not None:
            places = np.empty(len(order), dtype=np.int64)
            places[order] = np.arange(len(order))
            flagged = {what: np.sort(places[found]) for what, found in flagged.items()}
        times, rows = _joined(self._times, order), _joined(self._rows, order)
        values = {n: _joined(v, order) for n, v in self._values.items()}
        lost, lost_ends = self._lost()
        made, troubles = [], []
        for k, symbol in enumerate(self._symbols):
            part, gone = slice(int(ends[k]), int(ends[k + 1])), lost[lost_ends[k] : lost_ends[k + 1]]
            wrong = trouble_of(symbol)
            if wrong and not self._in_column:
                raise DataProblem(
                    f"{self._path.name}: its name makes no symbol, as it {wrong}. Rename the file, or say which symbol it is."
                )
            if wrong:
                troubles.append(_no_symbol(symbol, wrong, rows[part], gone))
                continue
            own = {n: v[part] for n, v in values.items()}
            raw = Raw(symbol, times[part], self._filled(own), rows[part], "count" in own)
            raw.unread_rows, raw.alike, raw.cleaned = gone, self._names_of(k), self._cleaned
            for what, found in flagged.items():
                first, last = np.searchsorted(found, (part.start, part.stop))
                setattr(raw, what, found[first:last] - part.start)
            made.append(raw)
        if odd and made:
            made[0].unread_rows = np.sort(np.concatenate([made[0].unread_rows, np.array(odd, dtype=np.int64)]))
        if not any(len(raw.times) for raw in made) and not troubles:
            raise NoTimes(f"{self._path.name}: none of its times can be read. Say how they are written.")
        return Read(made, troubles)

    def _lost(self) -> tuple[np.ndarray, np.ndarray]:
        """The numbers of rows without a time, symbol by symbol, and where each symbol's end."""
        codes, rows = _joined(self._unread_codes), _joined(self._unread)
        order = np.argsort(codes, kind="stable")
        counts = np.bincount(codes, minlength=len(self._symbols))
        return rows[order].astype(np.int64), np.concatenate([[0], np.cumsum(counts)])

    def _names_of(self, code: int) -> tuple[str, ...]:
        """What the file calls a symbol, where it does so in several ways."""
        if self._by_code is None:
            self._by_code = {}
            for name, k in self._known.items():
                self._by_code.setdefault(k, set()).add(name.strip())
        found = self._by_code.get(code, set())
        return tuple(sorted(found)) if len(found) > 1 else ()

    def _filled(self, own: dict[str, np.ndarray]) -> dict[str, np.ndarray]:
        """The five columns, and adjusted closes where there are any: a file with closes only uses them for all prices, and
        trade counts replace a missing volume."""
        close = own["close"]
        none = np.full(len(close), np.nan)
        made = {n: own.get(n, close.copy() if n != "volume" else own.get("count", none)) for n in COLUMNS}
        return made | ({"adjusted": own["adjusted"]} if "adjusted" in own else {})


def _joined(parts: list[np.ndarray], order: np.ndarray | None = None) -> np.ndarray:
    """Parts end to end, in another order if one is given; the parts are let go."""
    made = np.concatenate(parts)
    parts.clear()
    return made if order is None else made[order]


def _any(read: dict[str, Numbers], what: str) -> np.ndarray:
    """Where any column has something of a kind."""
    return np.asarray(np.logical_or.reduce([getattr(column, what) for column in read.values()]))


def _no_symbol(symbol: str, wrong: str, rows: np.ndarray, lost: np.ndarray) -> str:
    every = np.sort(np.concatenate([rows, lost]))
    first = ", ".join(map(str, every[:5].tolist()))
    more = " …" if len(every) > 5 else ""
    shown = f"`{symbol[:30]}`" if symbol.isprintable() and symbol else "The name"
    return f"{len(every):,} rows were left out, as they name no symbol: {shown} {wrong} (row {first}{more})."
