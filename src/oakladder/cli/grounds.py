"""The bars that a call asks for: a symbol, a list or a file, over some span."""

from __future__ import annotations

import sys
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path

from oakladder.bars.csv_files import read_csv
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.timeframes import ONE_DAY
from oakladder.cli.common import CALL_WRONG, Argument, a_number, arg, fail, known_symbol, library_of, timeframe_of
from oakladder.cli.lists import symbols_of
from oakladder.engine.frames import Frame
from oakladder.trial.market import ground_in
from oakladder.trial.spans import Span
from oakladder.trial.trial import Ground, ground_of

GROUND: tuple[Argument, ...] = (
    arg("script", type=Path, help="a .rung file"),
    arg("--symbol", dest="symbol", help="one symbol of the library"),
    arg("--list", dest="list_name", help="all, one of your lists, or a sector"),
    arg("--timeframe", dest="timeframe", help="1m … 4h, 1d, 1w, 1mo; 1d unless a file says otherwise"),
    arg("--extended", dest="extended", action="store_true", help="with the hours outside the session"),
    arg("--from", dest="first", help="the first day, as in 2024-03-01"),
    arg("--to", dest="last", help="the last day"),
    arg("--set", dest="settings", action="append", help="a setting, as in --set fast=12"),
    arg("--broken-seal", dest="broken_seal", action="store_true", help="look at the sealed last fifth of history too"),
    arg("--csv", dest="csv_file", type=Path, help="bars from a CSV file, as one symbol"),
    arg("--tick", dest="tick", type=a_number, help="smallest price step of a CSV file's bars, 0.01 unless said"),
)


def ground_asked(
    symbol: str | None,
    list_name: str | None,
    timeframe: str | None,
    extended: bool,
    span: Span,
    csv_file: Path | None,
    tick: float | None,
    *,
    finer: bool = False,
) -> Ground:
    """The bars that a call asks for; says which symbols were left out. Raises `RunProblem`."""
    if sum(given is not None for given in (symbol, list_name, csv_file)) > 1:
        fail(CALL_WRONG, "Say one of --symbol, --list and --csv.")
    wanted = timeframe_of(timeframe) if timeframe else None
    if tick is not None and not tick > 0:
        fail(CALL_WRONG, "A tick is a price step above 0.")
    if csv_file is not None:
        bars = replace(read_csv(csv_file), extended=extended)
        try:
            panel = panel_of([resample(bars, wanted) if wanted else bars])
        except ValueError as error:
            fail(CALL_WRONG, str(error))
        panel.ticks = (tick or 0.01,)
        return ground_of(panel, replace(span, sealed=False))
    if tick is not None:
        fail(CALL_WRONG, "--tick goes with --csv; the library knows the ticks of its symbols.")
    library = library_of()
    symbols = [known_symbol(library, symbol)] if symbol else symbols_of(library, list_name or "all")
    ground, skipped = ground_in(library, symbols, Frame(wanted or ONE_DAY, extended), span, finer=finer)
    for one in skipped:
        print(f"{one.symbol} left out: {one.reason}", file=sys.stderr)
    return ground


def day_of(text: str | None, after: int = 0) -> int | None:
    """Midnight (UTC) of a day, or so many days after it."""
    if text is None:
        return None
    try:
        return int(datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()) + after * 86_400
    except ValueError:
        fail(CALL_WRONG, f"`{text}` is no day. Write it as 2024-03-01.")
