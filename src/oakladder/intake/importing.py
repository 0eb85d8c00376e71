"""Importing files into a bar library: what would come in, and then importing it, only what is new, symbol by symbol.

An import that is broken off can be run again: what is there already stays, and each symbol is put in place whole.
"""

from __future__ import annotations

import logging
import math
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from oakladder.bars.adjustments import Adjustments, found_in
from oakladder.bars.bars import Bars
from oakladder.bars.calendar_words import hours_of, with_hours
from oakladder.bars.errors import DataProblem, Stopped
from oakladder.bars.resample import MERGES
from oakladder.bars.sessions import Calendar
from oakladder.bars.store.edit_metadata import restamped
from oakladder.bars.store.infer_metadata import calendar_of, tick_of
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.store.symbol_info import OWN, SymbolInfo
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE, Timeframe
from oakladder.bars.zones import DAY, is_zone
from oakladder.disk import why
from oakladder.intake.cleaning import Finding, Repair, Tidied, Trouble, clean_bars
from oakladder.intake.closed_days import closed_every_year, recognise
from oakladder.intake.file_layout import TableLayout, guess
from oakladder.intake.file_search import files_of
from oakladder.intake.names import symbol_of
from oakladder.intake.reading import Raw, Stop, read
from oakladder.intake.symbol_conflicts import Conflict, claim_words, claimed_twice, contradiction
from oakladder.intake.times import timeframe_of

_log = logging.getLogger(__name__)


@dataclass(frozen=True, slots=True)
class Options:
    """How files are imported. What is None is guessed from the bars, or from the file's name."""

    calendar: Calendar | None = None
    tick: float | None = None
    kind: str | None = None
    sector: str | None = None
    zone: str | None = None
    repairs: dict[Trouble, Repair] = field(default_factory=dict)
    #: The symbol that the bars of a file belong to.
    symbol: str | None = None
    #: Whether they do so whatever speaks against it: see `claims.Doubt`.
    same: bool = False


@dataclass(slots=True)
class Intake:
    """One symbol of a file: what would come in or has come in, or why it cannot."""

    path: Path
    symbol: str = ""
    timeframe: Timeframe | None = None
    bars: Bars | None = None
    info: SymbolInfo | None = None
    findings: list[Finding] = field(default_factory=list)
    #: Bars that are new to the library, and known ones with other values.
    new: int = 0
    changed: int = 0
    trouble: str = ""
    counted: bool = False
    #: Why it is doubtful that these bars belong to the symbol; the trouble says it in words.
    doubt: Conflict | None = None
    #: Whether the file itself names the symbol, not only its file name.
    in_column: bool = False
    #: Where several files claim the symbol: all of them.
    claimants: tuple[Path, ...] = ()

    def claim(self, symbol: str, claimants: Sequence[Path]) -> Intake:
        """This one, in doubt because several files claim its symbol."""
        self.symbol, self.claimants = symbol, tuple(claimants)
        self.doubt, self.trouble = Conflict.CLAIMED, claim_words(symbol, claimants)
        return self

    def words(self) -> str:
        """A line for a report."""
        if self.trouble:
            named = self.trouble.startswith(self.path.name)
            return self.trouble if named else f"{self.path.name}: {self.trouble}"
        assert self.bars is not None
        changed = f", {self.changed} corrected" if self.changed else ""
        counted = ", volume counts trades" if self.counted else ""
        plural = "bar" if len(self.bars) == 1 else "bars"
        return f"{self.path.name}: {self.symbol} {self.timeframe}, {len(self.bars):,} {plural}, {self.new:,} new{changed}{counted}"


def look_at(
    path: Path, library: BarLibrary, options: Options, layout: TableLayout | None = None, cancelled: Stop | None = None
) -> list[Intake]:
    """What a file would bring, one entry for each symbol. Nothing is written, and nothing raised but `Stopped`: trouble
    is in the entry."""
    try:
        layout = layout or guess(path)
        if options.zone is not None:
            layout = replace(layout, zone=options.zone)
        found = read(path, layout, cancelled, options.symbol)
    except DataProblem as error:
        return [Intake(path, trouble=str(error))]
    except OSError as error:
        return [Intake(path, trouble=f"It cannot be read: {why(error)}.")]
    except MemoryError:
        return [Intake(path, trouble="Not enough memory to read it. Split it into several files.")]
    except Stopped:
        raise
    except Exception as error:  # an unexpected error in one file must not stop the others
        return [Intake(path, trouble=_unforeseen(path, error))]
    made = [Intake(path, trouble=trouble) for trouble in found.troubles]
    for raw in found.symbols:
        if cancelled is not None and cancelled():
            raise Stopped
        try:
            made.append(_intake(path, raw, library, options))
            made[-1].in_column = "symbol" in layout.columns
        except Exception as error:
            made.append(Intake(path, raw.symbol, trouble=f"{raw.symbol}: {_unforeseen(path, error)}"))
    return made


def _unforeseen(path: Path, error: Exception) -> str:
    _log.exception("%s cannot be looked at", path)
    return f"An unexpected error occurred ({type(error).__name__}); the log has the details."


def _intake(path: Path, raw: Raw, library: BarLibrary, options: Options) -> Intake:
    made = Intake(path, raw.symbol, counted=raw.counted)
    if not len(raw.times):
        made.trouble = f"{raw.symbol}: none of its times can be read."
        return made
    known = _own(library, raw.symbol)
    times = np.unique(raw.times)
    made.timeframe = timeframe_of(times)
    if made.timeframe.order > ONE_DAY.order:
        made.trouble = f"{raw.symbol}: its bars are {made.timeframe}. The library keeps days and minutes, and makes longer bars of them."
        return made
    calendar = options.calendar or (known.calendar if known else calendar_of(times))
    if known is not None and options.calendar is not None:  # new hours replace the old ones; known closed days stay
        calendar = replace(calendar, holidays=known.calendar.holidays, halves=known.calendar.halves)
    closed = _recognised(times, made.timeframe, calendar) if known is None else frozenset()
    keep_open = options.repairs.get(Trouble.CLOSED) is Repair.DROP
    calendar = calendar if keep_open else replace(calendar, holidays=calendar.holidays | closed)
    tidied = clean_bars(raw, made.timeframe, calendar, options.repairs)
    made.findings = tidied.findings
    if closed:
        opens = tuple((0, int(t)) for t in calendar.day_open(np.array(sorted(closed)[:5])))
        made.findings.append(Finding(Trouble.CLOSED, len(closed), opens, Repair.DROP if keep_open else Repair.KEEP))
    if not len(tidied.times):
        made.trouble = f"{raw.symbol}: nothing is left after cleaning."
        return made
    adjustments = _adjustments(made, tidied, calendar, options, known, library)
    made.info = replace(_info(raw.symbol, tidied, calendar, options, known), adjustments=adjustments)
    if made.timeframe.intraday:
        made.info = replace(made.info, step=_step(made.timeframe.count, known, library))
    made.bars = _bars(tidied, made.timeframe, calendar)
    if raw.cleaned:
        made.findings.append(Finding(Trouble.RENAMED, 1, (), Repair.KEEP, raw.cleaned))
    _compare(made, library, options.same)
    return made


def _adjustments(
    made: Intake, tidied: Tidied, calendar: Calendar, options: Options, known: SymbolInfo | None, library: BarLibrary
) -> Adjustments | None:
    """What the real prices of a symbol will be adjusted by: what the file's adjusted closes say, beside what is known; None
    where all prices are real ones. The column is taken from the cleaned ones."""
    before = known.adjustments if known is not None else None
    adjusted = tidied.columns.pop("adjusted", None)
    if adjusted is None:
        return before
    is_dates = made.timeframe is not None and not made.timeframe.intraday and bool((tidied.times % DAY == 0).all())
    days = tidied.times // DAY if is_dates else calendar.days(tidied.times)
    try:
        found = found_in(days, tidied.columns["close"], adjusted)
    except ValueError:
        made.findings.append(Finding(Trouble.UNADJUSTED, 1, (), Repair.DROP))
        return before
    if found is None:
        return before
    repair = options.repairs.get(Trouble.ADJUSTED, Repair.KEEP)
    if found.steps:
        made.findings.append(Finding(Trouble.ADJUSTED, found.steps, (), repair))
    if repair is Repair.DROP:
        return None  # real prices alone, whatever an earlier file said
    last = [
        int(bars.calendar.days(bars.times[-1:])[0])
        for base in (ONE_DAY, ONE_MINUTE)
        if (bars := _stored(library, tidied.symbol, base, calendar)) is not None and len(bars)
    ]
    joined = found.after(before, max(last, default=None))
    return None if joined.is_plain else joined


def _step(minutes: int, known: SymbolInfo | None, library: BarLibrary) -> int:
    """Minutes between the bars that a symbol will have: from the new and the known bars."""
    if known is None or not library.path(known.symbol, ONE_MINUTE).exists():
        return minutes
    return math.gcd(minutes, known.step)


def session_calendar(zone: str, session: str | None) -> Calendar:
    """A calendar of a zone with regular hours such as ``09:00-15:30``. Raises `DataProblem`."""
    if not is_zone(zone):
        raise DataProblem(f"`{zone}` is not a time zone. Write UTC or a name such as WET.")
    return Calendar(zone) if session is None else with_hours(Calendar(zone), hours_of(session))


def _recognised(times: np.ndarray, timeframe: Timeframe, calendar: Calendar) -> frozenset[int]:
    """Days on which the market is closed year after year."""
    days = (times // DAY) if not timeframe.intraday and (times % DAY == 0).all() else calendar.days(times)
    return closed_every_year(np.unique(days), calendar)


def _own(library: BarLibrary, symbol: str) -> SymbolInfo | None:
    """What is known of a symbol of the user's; the demo market's own bars give way to what is brought in."""
    known = library.infos.get(symbol)
    return known if known is not None and known.origin == OWN else None


def _info(symbol: str, tidied: Tidied, calendar: Calendar, options: Options, known: SymbolInfo | None) -> SymbolInfo:
    """What will be known of a symbol: what this import says, else what is known, else what the bars tell."""
    if known is None:
        tick = options.tick or tick_of(tidied.columns["close"])
        return SymbolInfo(symbol, symbol, options.sector or "My data", options.kind or "share", tick, calendar)
    return replace(
        known,
        sector=options.sector or known.sector,
        kind=options.kind or known.kind,
        tick=options.tick or known.tick,
        calendar=calendar,
    )


def _bars(tidied: Tidied, timeframe: Timeframe, calendar: Calendar) -> Bars:
    """The bars as the library keeps them: minutes, or days stamped with their session's opening.

    Bars between a minute and a day are kept as minutes at their opening times; longer ones cannot be taken.
    """
    columns = {n: np.ascontiguousarray(v) for n, v in tidied.columns.items()}
    if timeframe.intraday:
        times, columns = _whole_minutes(tidied, columns)
        return Bars(tidied.symbol, ONE_MINUTE, calendar, times, columns)
    # A day is written as a date: whatever the clock says, it is that day's session.
    days = (tidied.times // DAY) if (tidied.times % DAY == 0).all() else calendar.days(tidied.times)
    again = np.concatenate([days[1:] == days[:-1], [False]])
    if again.any():
        tidied.findings.append(Finding(Trouble.REPEAT, int(again.sum()), (), Repair.DROP))
    kept = {n: v[~again] for n, v in columns.items()}
    return Bars(tidied.symbol, ONE_DAY, calendar, calendar.day_open(days[~again]), kept)


def _whole_minutes(tidied: Tidied, columns: dict[str, np.ndarray]) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Bars that begin within a minute, put together to minutes."""
    minutes = tidied.times // 60 * 60
    if (minutes[1:] > minutes[:-1]).all():
        return minutes, columns
    first = np.concatenate([[0], np.flatnonzero(minutes[1:] != minutes[:-1]) + 1])
    last = np.append(first[1:], len(minutes)) - 1
    tidied.findings.append(Finding(Trouble.SECONDS, len(minutes), (), Repair.MEND))
    return minutes[first], {n: merge(columns[n], first, last) for n, merge in MERGES.items()}


def _compare(made: Intake, library: BarLibrary, same: bool) -> None:
    """Counts what is new and what differs from what the library has; unless they are the ``same`` for sure, prices that
    contradict it are a trouble."""
    assert made.bars is not None
    old = _stored(library, made.symbol, made.bars.timeframe, made.bars.calendar)
    if old is None:
        made.new = len(made.bars)
        return
    if not same and (words := contradiction(old, made.bars)):
        made.doubt = Conflict.CONTRADICTS
        made.trouble = f"{made.symbol}: its prices contradict those in the library: {words}."
        return
    common, here, there = np.intersect1d(made.bars.times, old.times, return_indices=True)
    made.new = len(made.bars) - len(common)
    differs = np.zeros(len(common), dtype=bool)
    for name in made.bars.columns:
        a, b = made.bars[name][here], old[name][there]
        differs |= ~((a == b) | (np.isnan(a) & np.isnan(b)))
    made.changed = int(differs.sum())


def _stored(library: BarLibrary, symbol: str, base: Timeframe, calendar: Calendar) -> Bars | None:
    """The user's known bars, stamped by a calendar; None without readable ones."""
    if _own(library, symbol) is None or not library.path(symbol, base).exists():
        return None
    try:
        found = library.base(symbol, base)
    except DataProblem:
        return None
    return restamped(found, calendar) if base == ONE_DAY else found


def take_in(intake: Intake, library: BarLibrary, cancelled: Stop | None = None) -> None:
    """Writes one symbol: the library's bars with the new ones added and the corrected ones in place. Raises `DataProblem`."""
    bars, info = intake.bars, intake.info
    assert bars is not None and info is not None
    base, other = (ONE_MINUTE, ONE_DAY) if bars.timeframe.intraday else (ONE_DAY, ONE_MINUTE)
    with library.changing(cancelled=cancelled):
        known = library.infos.get(info.symbol)
        old = _stored(library, info.symbol, base, info.calendar)
        if old is None or known != info or intake.new or intake.changed:
            library.write(bars if old is None else _joined(old, bars), info)
        if known is not None and known.origin != OWN:
            library.remove(info.symbol, other)  # invented bars have no place beside real ones
        elif known is not None and known.calendar != info.calendar and base != ONE_DAY:
            days = _stored(library, info.symbol, ONE_DAY, info.calendar)
            if days is not None:
                library.write(days)


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
    layouts: Mapping[Path, TableLayout] | None = None,
    choices: Mapping[Path, Options] | None = None,
    done: Callable[[Intake], None] | None = None,
    progress: Callable[[int, int], None] | None = None,
    cancelled: Callable[[], bool] | None = None,
) -> list[Intake]:
    """Looks at every file and imports what is sound; one bad file never stops the others.

    ``choices`` are the options of single files where they differ; ``done`` gets each symbol as it is written, or the
    reason why it is not; ``progress`` gets how many files are done, of how many.
    """
    made: list[Intake] = []
    found = files_of(paths)
    run = _Import(library, options or Options(), dict(layouts or {}), dict(choices or {}), dry_run, cancelled)

    def finish(intake: Intake) -> None:
        made.append(intake)
        if done is not None:
            done(intake)

    for folder, reason in found.unreadable:
        finish(Intake(folder, trouble=f"The folder {folder} cannot be read: {reason}."))
    run.find_claims(found.files)
    for k, path in enumerate(found.files):
        if cancelled is not None and cancelled():
            break
        try:
            for intake in run.intakes(path):
                finish(intake)
        except Stopped:
            break
        if progress is not None:
            progress(k + 1, len(found.files))
    if not dry_run:
        told = recognise(library, [i.symbol for i in made if not i.trouble])
        for intake in made:
            if not intake.trouble and intake.symbol in told:
                intake.findings.append(Finding(Trouble.CLOSED, told[intake.symbol], (), Repair.KEEP))
    library.settle()
    return made


def find_claims(
    files: Sequence[Path], options_of: Callable[[Path], Options], layouts: dict[Path, TableLayout]
) -> dict[Path, Sequence[Path]]:
    """The files whose names claim one symbol, each with all such files; files with a symbol column claim none by
    their names. Layouts that are guessed for that are added to ``layouts``."""

    def has_symbols(path: Path) -> bool:
        try:
            layouts[path] = layouts.get(path) or guess(path)
        except (DataProblem, OSError, ValueError):
            return False
        return "symbol" in layouts[path].columns and options_of(path).symbol is None

    symbols = {p: options_of(p).symbol or symbol_of(p) for p in files if not options_of(p).same}
    return claimed_twice({p: symbols[p] for p in claimed_twice(symbols) if not has_symbols(p)})


class _Import:
    """One import of several files: which symbols they claim, and bringing them in."""

    def __init__(
        self,
        library: BarLibrary,
        options: Options,
        layouts: dict[Path, TableLayout],
        choices: dict[Path, Options],
        dry_run: bool,
        cancelled: Stop | None,
    ):
        self._library, self._options, self._layouts, self._choices = library, options, layouts, choices
        self._dry_run, self._cancelled = dry_run, cancelled
        self._claimed: Mapping[Path, Sequence[Path]] = {}
        #: The file from which each symbol was imported, and whether the file itself names the symbol.
        self._taken: dict[str, tuple[Path, bool]] = {}

    def _options_of(self, path: Path) -> Options:
        return self._choices.get(path, self._options)

    def find_claims(self, files: Sequence[Path]) -> None:
        """Finds the files whose names claim one symbol."""
        self._claimed = find_claims(files, self._options_of, self._layouts)

    def intakes(self, path: Path) -> Iterator[Intake]:
        """Every symbol of a file, imported as far as it can be. Raises `Stopped`."""
        options = self._options_of(path)
        if path in self._claimed:
            yield Intake(path).claim(options.symbol or symbol_of(path), self._claimed[path])
            return
        for intake in look_at(path, self._library, options, self._layouts.get(path), self._cancelled):
            if self._cancelled is not None and self._cancelled():
                raise Stopped
            self._check_claim(intake, options)
            if not intake.trouble and not self._dry_run:
                try:
                    take_in(intake, self._library, self._cancelled)
                except DataProblem as error:
                    intake.trouble = str(error)
            yield intake

    def _check_claim(self, intake: Intake, options: Options) -> None:
        """A symbol that was imported from another file is doubtful, unless both files name it in a column."""
        if intake.trouble:
            return
        before = self._taken.setdefault(intake.symbol, (intake.path, intake.in_column))
        if before[0] != intake.path and not options.same and not (before[1] and intake.in_column):
            intake.claim(intake.symbol, [before[0], intake.path])
