"""The bars that a call asks for: a symbol, a list or a file, over some span."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from functools import partial
from pathlib import Path

import numpy as np

from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import USUAL_TICK, Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.store.infer_metadata import tick_of
from oakladder.bars.time_words import tick_words
from oakladder.bars.timeframes import ONE_DAY
from oakladder.cli.argument_types import a_number, a_path
from oakladder.cli.common import CALL_WRONG, DATA_WRONG, Argument, arg, fail, known_symbol, library_of, timeframe_of
from oakladder.cli.lists import symbols_of
from oakladder.engine.bar_selection import BarSelection
from oakladder.intake.one_symbol import read_one
from oakladder.rung import RunProblem
from oakladder.trial.spans import Span
from oakladder.trial.trial import TrialData, trial_data_of
from oakladder.trial.universe import days_in, trial_data_in
from oakladder.user.lists import ALL
from oakladder.user.workspace import Workspace

#: Prices of fewer ticks, which are no whole number of them, are not meant for that tick.
_FEWEST_TICKS = 10
GROUND: tuple[Argument, ...] = (
    arg("script", type=a_path, help="a .rung file"),
    arg("--symbol", dest="symbol", help="one symbol of the library"),
    arg("--list", dest="list_name", help="all, one of your lists, or a sector"),
    arg("--timeframe", dest="timeframe", help="1m … 4h, 1d, 1w, 1mo; 1d unless a file says otherwise"),
    arg("--extended", dest="extended", action="store_true", help="with the hours outside the session"),
    arg("--from", dest="first", help="the first day, as in 2024-03-01"),
    arg("--to", dest="last", help="the last day"),
    arg("--set", dest="settings", action="append", help="a setting, as in --set fast=12"),
    arg("--broken-seal", dest="broken_seal", action="store_true", help="look at the sealed last fifth of history too"),
    arg("--csv", dest="csv_file", type=a_path, help="bars from a CSV file, as one symbol"),
    arg("--tick", dest="tick", type=a_number, help="smallest price step of a CSV file's bars, 0.01 unless said"),
)


@dataclass(frozen=True, slots=True)
class DataOptions:
    """The bars that a call asks for, as `GROUND` takes them."""

    symbol: str | None
    list_name: str | None
    timeframe: str | None
    extended: bool
    first: str | None
    last: str | None
    broken_seal: bool
    csv_file: Path | None
    tick: float | None

    @property
    def name(self) -> str:
        """The list or symbol, as notebooks name it."""
        return self.symbol or self.list_name or (str(self.csv_file) if self.csv_file else "all")

    @property
    def list_key(self) -> str:
        """The list or symbol, as what is sealed goes by."""
        name = self.symbol or self.list_name or "all"
        return ALL if name == "all" else name.strip()

    @property
    def span_words(self) -> str:
        """The dates that were asked for; empty where none were."""
        given = [f"from {self.first}"] * bool(self.first) + [f"to {self.last}"] * bool(self.last)
        return " ".join(given)

    @property
    def breaks_seal(self) -> bool:
        """Whether the call reads the sealed days of a library; a file is not sealed."""
        return self.broken_seal and self.csv_file is None

    def ground(self, *, finer: bool = False) -> TrialData:
        """The bars; says which symbols were left out. Raises `RunProblem` and `DataProblem`."""
        if sum(given is not None for given in (self.symbol, self.list_name, self.csv_file)) > 1:
            fail(CALL_WRONG, "Say one of --symbol, --list and --csv.")
        begin, end = _day(self.first), _day(self.last, after=1)
        if begin is not None and end is not None and begin >= end:
            fail(CALL_WRONG, f"--from {self.first} is later than --to {self.last}. Swap them.")
        span = Span(begin, end)
        wanted = timeframe_of(self.timeframe) if self.timeframe else None
        if self.tick is not None and not self.tick > 0:
            fail(CALL_WRONG, "A tick is a price step above 0.")
        if self.csv_file is not None:
            bars = replace(read_one(self.csv_file), extended=self.extended)
            try:
                panel = panel_of([resample(bars, wanted) if wanted else bars])
            except ValueError as error:
                fail(CALL_WRONG, str(error))
            panel.ticks = (_tick_for(panel, self.tick or USUAL_TICK),)
            return trial_data_of(panel, span)
        if self.tick is not None:
            fail(CALL_WRONG, "--tick goes with --csv; the library knows the ticks of its symbols.")
        library = library_of()
        symbols = [known_symbol(library, self.symbol)] if self.symbol else symbols_of(library, self.list_name or "all")
        sealed = Workspace.default().seals().sealed(self.list_key, symbols, partial(days_in, library))
        if not self.broken_seal:
            span = replace(span, seal=sealed)
        frame = BarSelection(wanted or ONE_DAY, self.extended)
        ground, skipped = trial_data_in(library, symbols, frame, span, finer=finer)
        for one in skipped:
            print(f"{one.symbol} skipped: {one.reason}", file=sys.stderr)
        return ground


def _tick_for(panel: Panel, tick: float) -> float:
    """The tick of a file's prices; ends the program where they are far below it: stops and limits would all be
    rounded to the same price."""
    close = panel.column("close") / panel.column("adjusted_by")  # real prices alone have ticks
    known = np.abs(close[np.isfinite(close)])
    usual, guess = float(np.median(known)) if len(known) else 0.0, tick_of(close)
    if 0 < usual < _FEWEST_TICKS * tick and guess < tick:
        fail(
            DATA_WRONG,
            f"The prices are about {usual:.4g}, far below a tick of {tick_words(tick)}. Say what their smallest step is, as in "
            f"--tick {tick_words(guess)}.",
        )
    return tick


@contextmanager
def sentences() -> Iterator[None]:
    """Ends the program with a sentence and its exit code where a run makes no sense or the data are wrong."""
    try:
        yield
    except RunProblem as error:
        fail(CALL_WRONG, str(error))
    except DataProblem as error:
        fail(DATA_WRONG, str(error))


def _day(text: str | None, after: int = 0) -> int | None:
    """Midnight (UTC) of a day, or so many days after it."""
    if text is None:
        return None
    try:
        return int(datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()) + after * 86_400
    except ValueError:
        fail(CALL_WRONG, f"`{text}` is no day. Write it as 2024-03-01.")
