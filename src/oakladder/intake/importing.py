"""Taking files into a bar library: what would come in, and then bringing it in, only what is new, symbol by symbol.

An import that is broken off can be run again: what is there already stays, and each symbol is put in place whole.
"""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.library import BarLibrary, SymbolInfo
from oakladder.bars.series import Bars, resample
from oakladder.bars.sessions import DAY, Calendar
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Span, Timeframe

from .layout import Layout, guess
from .reading import Raw, read, zones
from .tidying import Finding, Mend, Tidied, Trouble, tidy_up

ENDINGS = (".csv", ".tsv", ".txt", ".parquet", ".pq", ".arrow", ".feather")


@dataclass(frozen=True, slots=True)
class Options:
    """How files are taken in. What is None is guessed from the bars."""

    calendar: Calendar | None = None
    tick: float | None = None
    kind: str = "share"
    sector: str = "My data"
    zone: str | None = None
    mends: dict[Trouble, Mend] = field(default_factory=dict)


@dataclass(slots=True)
class Intake:
    """One symbol of a file: what would come in or has come in, or why it cannot."""

    path: Path
    symbol: str = ""
    timeframe: Timeframe | None = None
    bars: Bars | None = None
    info: SymbolInfo | None = None
    findings: list[Finding] = field(default_factory=list)
    #: Bars that are new to the library, and those that were there with other values.
    new: int = 0
    changed: int = 0
    trouble: str = ""
    counted: bool = False

    def words(self) -> str:
        """A line for a report."""
        if self.trouble:
            named = self.trouble.startswith(self.path.name)
            return self.trouble if named else f"{self.path.name}: {self.trouble}"
        assert self.bars is not None
        changed = f", {self.changed} corrected" if self.changed else ""
        counted = ", volume counts trades" if self.counted else ""
        return f"{self.path.name}: {self.symbol} {self.timeframe}, {len(self.bars):,} bars, {self.new:,} new{changed}{counted}"


def files_of(paths: Iterable[Path]) -> list[Path]:
    """The data files among paths; folders stand for every data file in and below them."""
    made: list[Path] = []
    for path in paths:
        if path.is_dir():
            made += sorted(p for p in path.rglob("*") if p.suffix.lower() in ENDINGS and p.is_file())
        else:
            made.append(path)
    return list(dict.fromkeys(made))


def look_at(path: Path, library: BarLibrary, options: Options, layout: Layout | None = None) -> list[Intake]:
    """What a file would bring, one entry for each symbol. Nothing is written, nothing raised: trouble is in the entry."""
    try:
        layout = layout or guess(path)
        if options.zone is not None:
            layout = replace(layout, zone=options.zone)
        raws = read(path, layout)
    except (DataProblem, ValueError) as error:
        return [Intake(path, trouble=str(error))]
    except OSError as error:
        return [Intake(path, trouble=f"It cannot be read: {error.strerror or error}.")]
    return [_intake(path, raw, library, options) for raw in raws]


def _intake(path: Path, raw: Raw, library: BarLibrary, options: Options) -> Intake:
    made = Intake(path, raw.symbol, counted=raw.counted)
    if not len(raw.times):
        made.trouble = f"{raw.symbol}: none of its times can be read."
        return made
    known = library.infos.get(raw.symbol)
    times = np.unique(raw.times)
    made.timeframe = timeframe_of(times)
    if made.timeframe.order > ONE_DAY.order:
        made.trouble = f"{raw.symbol}: its bars are {made.timeframe}. The library keeps days and minutes, and makes longer bars of them."
        return made
    calendar = options.calendar or (known.calendar if known else calendar_of(times, made.timeframe))
    tidied = tidy_up(raw, made.timeframe, calendar, options.mends)
    made.findings = tidied.findings
    if not len(tidied.times):
        made.trouble = f"{raw.symbol}: nothing is left after cleaning."
        return made
    made.info = known if known and options.calendar is None else _info(raw.symbol, tidied, calendar, options)
    if made.timeframe.intraday:
        made.info = replace(made.info, step=_step(made.timeframe.count, known, library))
    made.bars = _bars(tidied, made.timeframe, calendar)
    _compare(made, library)
    return made


def _step(minutes: int, known: SymbolInfo | None, library: BarLibrary) -> int:
    """Minutes between the bars that a symbol will have: what the new ones and those that are there both make."""
    if known is None or not library.path(known.symbol, ONE_MINUTE).exists():
        return minutes
    return math.gcd(minutes, known.step)


def timeframe_of(times: np.ndarray) -> Timeframe:
    """The timeframe of bars by the commonest distance between them."""
    if len(times) < 2:
        return ONE_DAY
    step = Counter(np.diff(times).tolist()).most_common(1)[0][0]
    if step >= 20 * 3600:
        return ONE_DAY if step < 6 * DAY else Timeframe(Span.WEEK) if step < 26 * DAY else Timeframe(Span.MONTH)
    return Timeframe(Span.MINUTES, max(int(step) // 60, 1))


def calendar_of(times: np.ndarray, timeframe: Timeframe) -> Calendar:
    """A calendar in UTC that holds all the bars: around the clock, at weekends only where they trade."""
    weekdays = (times // DAY + 3) % 7
    return Calendar(weekend=bool((weekdays >= 5).mean() > 0.02))


def session_calendar(zone: str, session: str | None) -> Calendar:
    """A calendar of a zone with regular hours such as ``09:00-15:30``. Raises `DataProblem`."""
    if zone not in zones():
        raise DataProblem(f"`{zone}` is no time zone. Write UTC or a name such as WET.")
    return Calendar(zone) if session is None else Calendar(zone, *hours_of(session))


def hours_of(text: str) -> tuple[int, int]:
    """Hours such as ``09:00-15:30`` as the first and last minute of the day. Raises `DataProblem`."""
    found = re.fullmatch(r"\s*(\d{1,2}):(\d{2})\s*-\s*(\d{1,2}):(\d{2})\s*", text)
    start, end = (int(found[k]) * 60 + int(found[k + 1]) for k in (1, 3)) if found else (0, 0)
    if not 0 <= start < end <= 24 * 60:
        raise DataProblem(f"`{text}` are no hours. Write them as 09:00-15:30.")
    return start, end


def _info(symbol: str, tidied: Tidied, calendar: Calendar, options: Options) -> SymbolInfo:
    tick = options.tick or tick_of(tidied.columns["close"])
    return SymbolInfo(symbol, symbol, options.sector, options.kind, tick, calendar)


def tick_of(prices: np.ndarray) -> float:
    """The smallest step that all prices are multiples of, among the usual ones."""
    some = prices[~np.isnan(prices)][-2000:]
    for decimals in range(7):
        if (np.abs(some - np.round(some, decimals)) < 1e-9 * np.maximum(np.abs(some), 1)).all():
            return float(10.0**-decimals) if decimals != 0 else 1.0
    return 1e-6


def _bars(tidied: Tidied, timeframe: Timeframe, calendar: Calendar) -> Bars:
    """The bars as the library keeps them: minutes, or days stamped with their session's opening.

    Bars between a minute and a day are kept as minutes at their opening times; longer ones cannot be taken.
    """
    columns = {n: np.ascontiguousarray(v) for n, v in tidied.columns.items()}
    if timeframe.intraday:
        return Bars(tidied.symbol, ONE_MINUTE, calendar, tidied.times // 60 * 60, columns)
    # A day is written as a date: whatever the clock says, it is that day's session.
    days = (tidied.times // DAY) if (tidied.times % DAY == 0).all() else calendar.days(tidied.times)
    made = Bars(tidied.symbol, ONE_DAY, calendar, calendar.day_open(days), columns)
    return resample(made, ONE_DAY)


def _compare(made: Intake, library: BarLibrary) -> None:
    """Counts what is new and what differs from what the library has."""
    assert made.bars is not None
    old = _stored(library, made.symbol, made.bars.timeframe)
    if old is None:
        made.new = len(made.bars)
        return
    common, here, there = np.intersect1d(made.bars.times, old.times, return_indices=True)
    made.new = len(made.bars) - len(common)
    differs = np.zeros(len(common), dtype=bool)
    for name in made.bars.columns:
        a, b = made.bars[name][here], old[name][there]
        differs |= ~((a == b) | (np.isnan(a) & np.isnan(b)))
    made.changed = int(differs.sum())


def _stored(library: BarLibrary, symbol: str, base: Timeframe) -> Bars | None:
    if symbol not in library.infos or not library.path(symbol, base).exists():
        return None
    try:
        return library.base(symbol, base)
    except DataProblem:
        return None


def take_in(intake: Intake, library: BarLibrary) -> None:
    """Writes one symbol: the library's bars with the new ones added and the corrected ones in place. Raises `DataProblem`."""
    assert intake.bars is not None and intake.info is not None
    old = _stored(library, intake.symbol, intake.bars.timeframe)
    bars = intake.bars if old is None else _joined(old, intake.bars)
    if library.infos.get(intake.symbol) != intake.info:
        library.add_symbols([intake.info])
    if old is None or intake.new or intake.changed:
        library.write(bars)


def _joined(old: Bars, new: Bars) -> Bars:
    """Two runs of bars as one; where both have a time, the newer file counts."""
    kept = ~np.isin(old.times, new.times)
    times = np.concatenate([old.times[kept], new.times])
    order = np.argsort(times, kind="stable")
    columns = {n: np.concatenate([old[n][kept], new[n]])[order] for n in new.columns}
    return Bars(new.symbol, new.timeframe, new.calendar, times[order], columns)


def import_files(
    paths: Sequence[Path],
    library: BarLibrary,
    options: Options | None = None,
    *,
    dry_run: bool = False,
    layouts: dict[Path, Layout] | None = None,
    progress: Callable[[float], None] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> list[Intake]:
    """Looks at every file and takes in what is sound; one bad file never stops the others."""
    made: list[Intake] = []
    files = files_of(paths)
    for k, path in enumerate(files):
        if cancelled is not None and cancelled():
            break
        for intake in look_at(path, library, options or Options(), (layouts or {}).get(path)):
            if not intake.trouble and not dry_run:
                try:
                    take_in(intake, library)
                except DataProblem as error:
                    intake.trouble = str(error)
            made.append(intake)
        if progress is not None:
            progress((k + 1) / len(files))
    library.settle()
    return made
