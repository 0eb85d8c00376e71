"""Commands about data: taking files in, what is known of symbols, where the bars are kept."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

from oakladder.bars.adjustments import adjusted_words
from oakladder.bars.calendar_words import closed_days, closed_words, hours_of, hours_words
from oakladder.bars.contract import contract_words, parse_margin
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.edit_metadata import Change, edit_symbols
from oakladder.bars.time_words import tick_words
from oakladder.cli.argument_types import a_number, a_path
from oakladder.cli.common import CALL_WRONG, DATA_WRONG, Leave, arg, command, fail, known_symbol, library_of
from oakladder.cli.progress import Reporter
from oakladder.disk import read_text, why
from oakladder.intake import importing
from oakladder.intake.cleaning import CHOICES, Repair, Trouble
from oakladder.intake.importing import session_calendar
from oakladder.intake.names import as_symbol, trouble_of
from oakladder.rung.texts import count_words
from oakladder.user.workspace import Workspace


@command(
    "import",
    arg("files", nargs="+", type=a_path, help="CSV, TSV or Parquet files, or folders of them"),
    arg("--library", dest="library_folder", type=a_path, help="another bar library"),
    arg("--dry-run", dest="dry_run", action="store_true", help="only say what would be imported"),
    arg("--as", dest="symbol", help="the symbol of all the files; the name of each file unless said"),
    arg(
        "--same",
        dest="same",
        action="store_true",
        help="with --as: the files belong together, whatever speaks against it",
    ),
    arg("--zone", dest="zone", help="the time zone of times that name none; UTC unless said"),
    arg("--session", dest="session", help="regular hours in that zone, as in 09:00-15:30"),
    arg("--tick", dest="tick", type=a_number, help="the smallest step of the price"),
    arg("--sector", dest="sector", help="under which sector they are listed; My data unless said"),
    arg("--kind", dest="kind", help="what they are, as in share, pair or future"),
    arg("--mend", dest="repair", action="append", help='what to do about a finding, as in "spike=drop"'),
)
def import_data(
    files: list[Path],
    library_folder: Path | None,
    dry_run: bool,
    symbol: str | None,
    same: bool,
    zone: str | None,
    session: str | None,
    tick: float | None,
    sector: str | None,
    kind: str | None,
    repair: list[str] | None,
) -> None:
    """Import the bars of your own files into the library; only what is new is added."""
    name = _symbol_name(symbol, same)
    workspace = Workspace.default()
    if library_folder is None and workspace.missing_library is not None:
        fail(
            DATA_WRONG,
            f"The folder of the bars, {workspace.missing_library}, is missing, so nothing was imported. "
            "Connect its disk, or name another library with --library.",
        )
    try:
        calendar = session_calendar(zone or "UTC", session) if session or zone else None
    except DataProblem as error:
        fail(CALL_WRONG, str(error))
    if tick is not None and not 0 < tick < 1e9:
        fail(CALL_WRONG, "A tick is a price step above 0, as in 0.01.")
    options = importing.Options(calendar, tick, kind, sector, zone=zone, repairs=_mends(repair), symbol=name, same=same)
    library = library_of(library_folder, create=True)
    reporter = Reporter("imported")
    done = importing.import_files(
        files,
        library,
        options,
        dry_run=dry_run,
        done=_print_intake,
        progress=lambda count, of: reporter.count(count, of, "files"),
    )
    if not done:
        fail(CALL_WRONG, "There is no CSV, TSV or Parquet file among these.")
    told = [f for i in done for f in i.findings if f.trouble is Trouble.CLOSED]
    if told and not dry_run:
        print(f"    {told[0].words()} of {count_words(len(told), 'symbol')}")
    if dry_run:
        print("Nothing was written.")
    else:
        sys.stdout.flush()
        library.pack()  # so that the first scan need not open every file
    if any(i.trouble for i in done):
        raise Leave(DATA_WRONG)


def _symbol_name(given: str | None, same: bool) -> str | None:
    """The symbol that the files are imported as, if one is named."""
    if given is None:
        if same:
            fail(CALL_WRONG, "--same goes with --as: say which symbol the files belong to, as in --same --as KELP.")
        return None
    symbol = as_symbol(given)
    if trouble := trouble_of(symbol):
        fail(CALL_WRONG, f"--as {given}: that is no symbol, as it {trouble}.")
    return symbol


def _print_intake(intake: importing.Intake) -> None:
    """A line for each symbol as it is done: results to standard output, troubles to standard error."""
    hint = f" If they belong together, say so: --same --as {intake.symbol}" if intake.doubt is not None else ""
    print(intake.words() + hint, file=sys.stderr if intake.trouble else sys.stdout, flush=True)
    for finding in intake.findings:
        if finding.trouble is not Trouble.CLOSED:
            print(f"    {finding.words()}", file=sys.stderr if intake.trouble else sys.stdout)


def _mends(given: list[str] | None) -> dict[Trouble, Repair]:
    made: dict[Trouble, Repair] = {}
    for item in given or []:
        name, _, value = item.partition("=")
        trouble = next((t for t in Trouble if t.value.startswith(name.strip())), None)
        allowed = [m.value for m in CHOICES[trouble]] if trouble else []
        if trouble is None or not name.strip():
            fail(CALL_WRONG, f"There is no finding `{name}`. There are {', '.join(t.value for t in Trouble)}.")
        if value.strip() not in allowed:
            fail(CALL_WRONG, f"About `{trouble.value}` can be done: {', '.join(allowed)}.")
        made[trouble] = Repair(value.strip())
    return made


@command(
    "symbols",
    arg("chosen", nargs="*", metavar="SYMBOL", help="symbols; all of them unless said"),
    arg("--of", dest="group", help="only those of a sector"),
    arg("--library", dest="library_folder", type=a_path, help="another bar library"),
    arg("--sector", dest="sector", help="list them under another sector"),
    arg("--kind", dest="kind", help="what they are, as in share, pair or future"),
    arg("--tick", dest="tick", type=a_number, help="the smallest step of the price"),
    arg("--multiplier", dest="multiplier", type=a_number, help="how many times its price one unit is worth, as in 50"),
    arg("--currency", dest="currency", help="the currency of their prices; the account's unless said"),
    arg("--margin", dest="margin", help="what a position ties up: 10%% of its value, or 1200 money a unit"),
    arg("--zone", dest="zone", help="the time zone of their market"),
    arg("--session", dest="session", help="regular hours in that zone, as in 09:00-15:30"),
    arg("--all-hours", dest="hours", help="from early to late, as in 06:00-22:00"),
    arg("--weekend", dest="weekend", action=argparse.BooleanOptionalAction, help="whether they trade at weekends"),
    arg(
        "--closed",
        dest="closed",
        type=a_path,
        help="a file of days without trading, one a line; 2026-12-24 13:00 ends early",
    ),
)
def symbols(
    chosen: list[str] | None,
    group: str | None,
    library_folder: Path | None,
    sector: str | None,
    kind: str | None,
    tick: float | None,
    multiplier: float | None,
    currency: str | None,
    margin: str | None,
    zone: str | None,
    session: str | None,
    hours: str | None,
    weekend: bool | None,
    closed: Path | None,
) -> None:
    """Show what is known of the symbols in the library, or change it."""
    library = library_of(library_folder)
    if chosen and group is not None:
        fail(CALL_WRONG, "Name symbols, or a sector with --of, not both.")
    names = [known_symbol(library, s) for s in chosen or []] or [
        s for s, i in library.infos.items() if group is None or i.sector == group
    ]
    try:
        if zone is not None:
            session_calendar(zone, None)
        change = Change(
            None,
            sector,
            kind,
            tick,
            zone,
            hours_of(session) if session else None,
            hours_of(hours) if hours else None,
            weekend,
            closed_days(_text_of(closed)) if closed is not None else None,
            multiplier,
            currency,
            _margin(margin) if margin is not None else None,
        )
        if change != Change():
            print(f"{edit_symbols(library, names, change)} changed.")
            return
    except DataProblem as error:
        fail(CALL_WRONG, str(error))
    for symbol in names:
        info = library.infos[symbol]
        calendar = info.calendar
        facts = (
            symbol,
            info.name,
            info.sector,
            info.kind,
            tick_words(info.tick),
            calendar.zone,
            hours_words(calendar),
            closed_words(calendar),
            *([", ".join(words)] if (words := contract_words(info.contract)) else []),
            *adjusted_words(info.adjustments),
        )
        print("\t".join(facts))


def _margin(text: str) -> tuple[float, float]:
    try:
        return parse_margin(text)
    except ValueError as error:
        fail(CALL_WRONG, str(error))


def _text_of(path: Path) -> str:
    try:
        return read_text(path)
    except (OSError, UnicodeDecodeError) as error:
        reason = why(error) if isinstance(error, OSError) else "it is no UTF-8 text"
        fail(CALL_WRONG, f"{path} cannot be read: {reason}.")


@command(
    "library",
    arg("--move", dest="move", type=a_path, help="a new folder for the bars, empty or not there yet"),
    arg("--check", dest="check_all", action="store_true", help="read every file through and name what is damaged"),
)
def library_place(
    move: Path | None,
    check_all: bool,
) -> None:
    """Say where the bars are kept, check that they are whole, or move them to another folder."""
    workspace = Workspace.default()
    if move is not None and check_all:
        fail(CALL_WRONG, "--move and --check are two jobs. Run them one after the other.")
    if check_all:
        bad = library_of().damaged()
        print("\n".join(bad) or "Every file is whole.")
        if bad:
            raise Leave(DATA_WRONG)
    if move is not None:
        try:
            workspace.move_library(move, progress=Reporter("moved").share)
        except OSError as error:
            fail(CALL_WRONG, f"The bars cannot be moved to {move}: {why(error)}. They are where they were.")
        except DataProblem as error:
            fail(DATA_WRONG, str(error))
    print(workspace.library_folder)
