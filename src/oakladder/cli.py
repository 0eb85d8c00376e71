"""The same jobs without a window: check, eval, scan, shot, speed.

Exit codes: 0 done, 1 the script has errors, 2 the call was wrong, 3 the data were wrong.
"""

from __future__ import annotations

import csv
import itertools
import json
import logging
import os
import re
import sys
from collections.abc import Callable, Sequence
from enum import StrEnum
from pathlib import Path
from typing import Annotated, Any, NoReturn

import numpy as np
import typer
from rich.console import Console
from rich.table import Table

from oakladder import log
from oakladder.bars.calendar_words import closed_days, closed_words, hours_of, hours_words
from oakladder.bars.csv_files import iso, read_csv
from oakladder.bars.errors import DataProblem
from oakladder.bars.series import Panel, panel_of, resample
from oakladder.bars.store.amend import Change, amend
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.time_words import tick_words
from oakladder.bars.timeframes import ONE_DAY, Timeframe
from oakladder.disk import why, write_rows
from oakladder.engine.picture.draw import as_plain, day_paint, draw
from oakladder.engine.rules import Fresh, Rule
from oakladder.engine.run import Result, run
from oakladder.engine.screen import Screen, screen
from oakladder.intake import importing
from oakladder.intake.importing import session_calendar
from oakladder.intake.tidying import CHOICES, Mend, Trouble
from oakladder.rung import CODES, Program, RunProblem, ScriptError, analyse, compile_script, library
from oakladder.rung.plan.ops import Op
from oakladder.rung.problems import did_you_mean
from oakladder.rung.program import unknown_symbols
from oakladder.rung.teach import describe
from oakladder.user.lists import Watchlists
from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.workspace import Workspace

app = typer.Typer(
    add_completion=False,
    no_args_is_help=False,
    pretty_exceptions_enable=False,
    help="Write a rule once; see it on the chart, down the watchlist, through the market.",
)

SCRIPT_ERRORS, CALL_WRONG, DATA_WRONG = 1, 2, 3


class Format(StrEnum):
    """How a table is written."""

    TABLE = "table"
    CSV = "csv"
    JSON = "json"


ScriptArgument = Annotated[Path, typer.Argument(help="a .rung file")]
TimeframeOption = Annotated[str, typer.Option(help="1m … 4h, 1d, 1w, 1mo")]
SetOption = Annotated[list[str] | None, typer.Option("--set", help="a setting, as in --set fast=12")]


def _fail(code: int, sentence: str) -> NoReturn:
    print(sentence, file=sys.stderr)
    raise typer.Exit(code)


def _load(script: Path, as_json: bool = False) -> Program:
    """Reads and compiles a script; errors go to standard error and end the program."""
    try:
        text = read_script(script)
    except ScriptFileProblem as error:
        _fail(CALL_WRONG if not script.exists() else SCRIPT_ERRORS, str(error))
    try:
        return compile_script(text, Workspace.default().shelf(text))
    except ScriptError as error:
        _print_problems(script, [p for p in error.problems if p.is_error], as_json, sys.stderr)
        raise typer.Exit(SCRIPT_ERRORS) from None


def _print_problems(script: Path, problems: Sequence[Any], as_json: bool, to: Any) -> None:
    if as_json:
        print(json.dumps([{"file": str(script), **p.as_dict()} for p in problems], indent=2), file=to)
        return
    for problem in problems:
        print(problem.line_text(str(script)), file=to)


def _timeframe(text: str) -> Timeframe:
    try:
        return Timeframe.parse(text)
    except ValueError as error:
        _fail(CALL_WRONG, str(error))


def _settings(program: Program, given: list[str] | None) -> dict[str, object]:
    made: dict[str, object] = {}
    for item in given or []:
        name, equals, value = item.partition("=")
        if not equals:
            _fail(CALL_WRONG, f"`--set {item}` says no value. Write --set name=value.")
        made[name.strip()] = value.strip()
    try:
        return {k: v for k, v in program.values_of(made).items() if k in made}
    except RunProblem as error:
        _fail(CALL_WRONG, str(error))


def _known_symbol(library: BarLibrary, symbol: str) -> str:
    name = symbol.upper()
    if name not in library.infos:
        _fail(CALL_WRONG, f"There is no symbol {symbol}. {did_you_mean(name, library.infos).replace('`', '')}".strip())
    return name


def _library(folder: Path | None = None) -> BarLibrary:
    """A bar library; the user's own unless another folder is named. What is wrong with it is said."""
    workspace = Workspace.default()
    try:
        made = BarLibrary(folder) if folder else workspace.library()
    except DataProblem as error:
        _fail(DATA_WRONG, str(error))
    for notice in [*workspace.notices, *made.notices]:
        print(notice, file=sys.stderr)
    return made


@app.command()
def start() -> None:
    """Open the application with the demo market."""
    from oakladder.desk.app import run_desk

    raise typer.Exit(run_desk())


@app.command()
def check(
    script: Annotated[Path | None, typer.Argument(help="a .rung file")] = None,
    explain: Annotated[str | None, typer.Option(help="a problem code, as in --explain R501")] = None,
    as_json: Annotated[bool, typer.Option("--json", help="problems as JSON")] = False,
) -> None:
    """List everything that is wrong with a script, each with its place and a fix."""
    if explain is not None:
        code = CODES.get(explain.upper())
        if code is None:
            _fail(CALL_WRONG, f"There is no problem code {explain}. They run from R100 to R703.")
        print(
            f"{explain.upper()} ({code.severity.value}): {code.title}\n\nwrong:\n{_indented(code.wrong)}\nright:\n{_indented(code.right)}"
        )
        return
    if script is None:
        _fail(CALL_WRONG, "Name a script to check, or a code to --explain.")
    try:
        text = read_script(script)
    except ScriptFileProblem as error:
        _fail(CALL_WRONG if not script.exists() else SCRIPT_ERRORS, str(error))
    problems = analyse(text, Workspace.default().shelf(text)).problems
    errors = [p for p in problems if p.is_error]
    if not errors:
        try:
            program = compile_script(text, Workspace.default().shelf(text))
            if program.foreign:
                problems = (*problems, *unknown_symbols(program.foreign, list(_library().infos)))
        except ScriptError as error:
            problems = error.problems
            errors = [p for p in problems if p.is_error]
    _print_problems(script, problems, as_json, sys.stderr)
    if errors:
        raise typer.Exit(SCRIPT_ERRORS)
    if not as_json:
        print(f"{script}: no errors")


def _indented(text: str) -> str:
    return "\n".join("    " + line for line in text.split("\n"))


@app.command("eval")
def evaluate(
    script: ScriptArgument,
    out: Annotated[Path, typer.Option(help="the CSV file to write")],
    csv_file: Annotated[Path | None, typer.Option("--csv", help="bars from a CSV file")] = None,
    symbol: Annotated[str | None, typer.Option(help="a symbol of the demo market")] = None,
    timeframe: Annotated[str | None, typer.Option(help="1m … 4h, 1d, 1w, 1mo")] = None,
    settings: SetOption = None,
    everything: Annotated[bool, typer.Option("--all", help="every top-level let and keep too")] = False,
    as_json: Annotated[bool, typer.Option("--json", help="print the drawings as JSON; problems too")] = False,
) -> None:
    """Run a script over the bars of one symbol and write its outputs."""
    if (csv_file is None) == (symbol is None):
        _fail(CALL_WRONG, "Say where the bars come from: either --csv FILE or --symbol SYMBOL.")
    program = _load(script, as_json)
    values = _settings(program, settings)
    panel = _bars(csv_file, symbol, timeframe)
    names = _columns(program, everything)
    try:
        result = run(program, panel, values, extra=list(names.values()))
    except RunProblem as error:
        _fail(CALL_WRONG, str(error))
    _write_csv(out, panel, names, result)
    if as_json:
        print(json.dumps(as_plain(draw(result, day_paint), panel.size - 1)))


def _bars(csv_file: Path | None, symbol: str | None, timeframe: str | None) -> Panel:
    wanted = _timeframe(timeframe) if timeframe else None
    try:
        if csv_file is not None:
            bars = read_csv(csv_file)
            return panel_of([resample(bars, wanted) if wanted else bars])
        library = _library()
        return library.panel([_known_symbol(library, str(symbol))], wanted or ONE_DAY)
    except DataProblem as error:
        _fail(DATA_WRONG, str(error))
    except ValueError as error:
        _fail(CALL_WRONG, str(error))


def _columns(program: Program, everything: bool) -> dict[str, Op]:
    """The columns of the file: signals, named numbers, and with ``everything`` all top-level values."""
    made: dict[str, Op] = {}
    for output in program.outputs:
        if output.what == "signal":
            made[output.name] = output.roles["value"]
        elif "named" in output.attributes and "value" in output.roles and output.what in ("line", "histogram", "level"):
            made.setdefault(output.attributes["named"], output.roles["value"])
    if everything:
        for name, op in program.plan.values.items():
            if not op.is_shell:
                made.setdefault(name, op)
    return made


def _write_csv(path: Path, panel: Panel, names: dict[str, Op], result: Result) -> None:
    columns = [_written(result, op) for op in names.values()]
    rows = ([iso(time), *(c[k] for c in columns)] for k, time in enumerate(panel.times.tolist()))
    try:
        write_rows(path, itertools.chain([["time", *names]], rows))
    except OSError as error:
        _fail(CALL_WRONG, f"{path} cannot be written: {why(error)}.")


def _written(result: Result, op: Op) -> list[str]:
    if op.is_flag:
        return [{1: "1", 0: "0"}.get(v, "") for v in result.flag(op).tolist()]
    return ["" if v != v else repr(v) for v in result.number(op).tolist()]


@app.command()
def scan(
    script: ScriptArgument,
    signal: Annotated[str, typer.Option(help="the name of a signal")],
    timeframe: TimeframeOption = "1d",
    within: Annotated[int, typer.Option(min=1, help="fired within the last n bars")] = 1,
    list_name: Annotated[str, typer.Option("--list", help="all, one of your lists, or a sector")] = "all",
    settings: SetOption = None,
    format_: Annotated[Format, typer.Option("--format")] = Format.TABLE,
) -> None:
    """Find the symbols on which a signal fired lately."""
    program = _load(script)
    values = _settings(program, settings)
    frame = _timeframe(timeframe)
    library = _library()
    symbols = _list(library, list_name)
    try:
        program.signal(signal)
        rule = Rule(program, signal, frame, values, fresh=Fresh.WITHIN, bars=within)
        found = screen(rule, library, symbols, frame)
    except KeyError as error:
        _fail(CALL_WRONG, str(error.args[0]))
    except RunProblem as error:
        _fail(CALL_WRONG, str(error))
    _print_scan(found, library, format_)
    for skipped in found.skipped:
        print(f"{skipped.symbol} left out: {skipped.reason}", file=sys.stderr)


def _list(library: BarLibrary, name: str) -> list[str]:
    if name == "all":
        return list(library.infos)
    own = Watchlists(Workspace.default().config / "watchlists.json")
    if name in own.own:
        return own.symbols(name, library.infos)
    sectors = sorted({i.sector for i in library.infos.values()})
    chosen = [s for s, i in library.infos.items() if i.sector.lower() == name.lower()]
    if not chosen:
        _fail(
            CALL_WRONG,
            f"There is no list `{name}`. {did_you_mean(name, ['all', *sectors]) or 'There are all, ' + ', '.join(sectors) + '.'}",
        )
    return chosen


def _print_scan(found: Screen, library: BarLibrary, format_: Format) -> None:
    hits = sorted(found.found, key=lambda f: (f.ages[0], f.symbol))
    rows = [
        {
            "symbol": h.symbol,
            "name": library.infos[h.symbol].name,
            "bars_ago": h.ages[0],
            "time": iso(h.seen[0]),
            "last": h.last,
            "change": h.change,
        }
        for h in hits
    ]
    if format_ is Format.JSON:
        clean = [{k: None if v != v else v for k, v in row.items()} for row in rows]
        print(json.dumps({"looked_at": found.looked_at, "hits": clean}, indent=2))
    elif format_ is Format.CSV:
        writer = csv.DictWriter(sys.stdout, ["symbol", "name", "bars_ago", "time", "last", "change"])
        writer.writeheader()
        writer.writerows(rows)
    else:
        table = Table(title=f"{len(rows)} of {found.looked_at} symbols", title_justify="left")
        for name, justify in (
            ("Symbol", "left"),
            ("Name", "left"),
            ("Bars ago", "right"),
            ("Last", "right"),
            ("Change", "right"),
        ):
            table.add_column(name, justify=justify)  # type: ignore[arg-type]
        for row, hit in zip(rows, hits, strict=True):
            decimals = library.infos[hit.symbol].decimals
            change = "" if np.isnan(hit.change) else f"{hit.change:+.2%}"
            table.add_row(hit.symbol, str(row["name"]), str(hit.ages[0]), f"{hit.last:,.{decimals}f}", change)
        Console().print(table)


@app.command()
def brief(script: Annotated[Path | None, typer.Argument(help="a .rung file to add, with its problems")] = None) -> None:
    """Print the whole language on one page, to paste to whoever helps with a script."""
    print(describe.brief())
    if script is None:
        return
    try:
        text = read_script(script)
    except ScriptFileProblem as error:
        _fail(CALL_WRONG, str(error))
    print(f"THE SCRIPT AS IT STANDS\n{text}")
    problems = analyse(text, Workspace.default().shelf(text)).problems
    print("ITS PROBLEMS" if problems else "IT HAS NO PROBLEMS")
    _print_problems(script, problems, False, sys.stdout)


@app.command("import")
def import_data(
    files: Annotated[list[Path], typer.Argument(help="CSV, TSV or Parquet files, or folders of them")],
    library_folder: Annotated[Path | None, typer.Option("--library", help="another bar library")] = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="only say what would be taken in")] = False,
    zone: Annotated[str | None, typer.Option(help="the time zone of times that name none; UTC unless said")] = None,
    session: Annotated[str | None, typer.Option(help="regular hours in that zone, as in 09:00-15:30")] = None,
    tick: Annotated[float | None, typer.Option(help="the smallest step of the price")] = None,
    sector: Annotated[str | None, typer.Option(help="under which sector they are listed; My data unless said")] = None,
    kind: Annotated[str | None, typer.Option(help="what they are, as in share, pair or future")] = None,
    mend: Annotated[list[str] | None, typer.Option(help='what to do about a finding, as in "spike=drop"')] = None,
) -> None:
    """Take the bars of your own files into the library; only what is new is added."""
    library = _library(library_folder)
    try:
        calendar = session_calendar(zone or "UTC", session) if session or zone else None
    except DataProblem as error:
        _fail(CALL_WRONG, str(error))
    options = importing.Options(calendar, tick, kind, sector, zone=zone, mends=_mends(mend))
    done = importing.import_files(files, library, options, dry_run=dry_run)
    if not done:
        _fail(CALL_WRONG, "There is no CSV, TSV or Parquet file among these.")
    for intake in done:
        print(intake.words(), file=sys.stderr if intake.trouble else sys.stdout)
        for finding in intake.findings:
            print(f"    {finding.words()}")
    if dry_run:
        print("Nothing was written.")
    if any(i.trouble for i in done):
        raise typer.Exit(DATA_WRONG)


def _mends(given: list[str] | None) -> dict[Trouble, Mend]:
    made: dict[Trouble, Mend] = {}
    for item in given or []:
        name, _, value = item.partition("=")
        trouble = next((t for t in Trouble if t.value.startswith(name.strip())), None)
        allowed = [m.value for m in CHOICES[trouble]] if trouble else []
        if trouble is None or not name.strip():
            _fail(CALL_WRONG, f"There is no finding `{name}`. There are {', '.join(t.value for t in Trouble)}.")
        if value.strip() not in allowed:
            _fail(CALL_WRONG, f"About `{trouble.value}` can be done: {', '.join(allowed)}.")
        made[trouble] = Mend(value.strip())
    return made


@app.command()
def symbols(
    chosen: Annotated[list[str] | None, typer.Argument(help="symbols; all of them unless said")] = None,
    group: Annotated[str | None, typer.Option("--of", help="only those of a sector")] = None,
    library_folder: Annotated[Path | None, typer.Option("--library", help="another bar library")] = None,
    sector: Annotated[str | None, typer.Option(help="list them under another sector")] = None,
    kind: Annotated[str | None, typer.Option(help="what they are, as in share, pair or future")] = None,
    tick: Annotated[float | None, typer.Option(help="the smallest step of the price")] = None,
    zone: Annotated[str | None, typer.Option(help="the time zone of their market")] = None,
    session: Annotated[str | None, typer.Option(help="regular hours in that zone, as in 09:00-15:30")] = None,
    hours: Annotated[str | None, typer.Option("--all-hours", help="from early to late, as in 06:00-22:00")] = None,
    weekend: Annotated[
        bool | None, typer.Option("--weekend/--no-weekend", help="whether they trade at weekends")
    ] = None,
    closed: Annotated[
        Path | None,
        typer.Option("--closed", help="a file of days without trading, one a line; 2026-12-24 13:00 ends early"),
    ] = None,
) -> None:
    """Show what is known of the symbols in the library, or change it."""
    library = _library(library_folder)
    names = [_known_symbol(library, s) for s in chosen or []] or [
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
        )
        if change != Change():
            print(f"{amend(library, names, change)} changed.")
            return
    except DataProblem as error:
        _fail(CALL_WRONG, str(error))
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
        )
        print("\t".join(facts))


def _text_of(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = why(error) if isinstance(error, OSError) else "it is no UTF-8 text"
        _fail(CALL_WRONG, f"{path} cannot be read: {reason}.")


@app.command("library")
def library_place(
    move: Annotated[Path | None, typer.Option(help="a new folder for the bars, empty or not there yet")] = None,
    check_all: Annotated[
        bool, typer.Option("--check", help="read every file through and name what is damaged")
    ] = False,
) -> None:
    """Say where the bars are kept, look whether they are whole, or move them to another folder."""
    workspace = Workspace.default()
    if check_all:
        bad = _library().damaged()
        print("\n".join(f"{name} is damaged." for name in bad) or "Every file is whole.")
        if bad:
            raise typer.Exit(DATA_WRONG)
    if move is not None:
        try:
            workspace.move_library(move)
        except OSError as error:
            _fail(CALL_WRONG, f"The bars cannot be moved to {move}: {why(error)}. They are where they were.")
        except DataProblem as error:
            _fail(DATA_WRONG, str(error))
    print(workspace.library_folder)


@app.command()
def source(
    function: Annotated[str, typer.Argument(help="a library function, as in rsi")],
    own: Annotated[str | None, typer.Option("--as", help="a name of your own, to copy it into a script")] = None,
) -> None:
    """Print a library function as it is written in Rung, or a copy of it under another name."""
    if function not in library.names():
        built_in = describe.word_help(function)
        hint = did_you_mean(function, library.names()) or "`./oak brief` lists them all."
        _fail(
            CALL_WRONG,
            f"{built_in}. The compiler knows it by itself."
            if built_in
            else f"There is no library function `{function}`. {hint}",
        )
    if own is not None and not re.fullmatch(r"[a-z_][a-z0-9_]*", own):
        _fail(CALL_WRONG, f"`{own}` is no name. Names are small letters, digits and _.")
    found = library.function(function)
    assert found is not None
    print(library.copy_of(function, own) if own else found.source, end="")


@app.command()
def shot(
    place: Annotated[str, typer.Argument(help="bench, ladder, scan, data, symbols, replay or gallery")],
    out: Annotated[Path, typer.Argument(help="the PNG to write")],
    size: Annotated[str, typer.Option(help="width x height")] = "1280x800",
    symbol: Annotated[str | None, typer.Option()] = None,
    timeframe: TimeframeOption = "1d",
    script: Annotated[str | None, typer.Option(help="a .rung file, or the name of a script in the library")] = None,
    night: Annotated[bool, typer.Option("--night", help="the night theme")] = False,
) -> None:
    """Take a picture of the application as it would stand on the screen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from oakladder.desk.shot import PLACES, take

    if place not in PLACES:
        _fail(
            CALL_WRONG,
            f"There is no place `{place}`. {did_you_mean(place, PLACES) or 'There are ' + ', '.join(PLACES) + '.'}",
        )
    width, _, height = size.partition("x")
    if not (width.isdigit() and height.isdigit() and 320 <= int(width) <= 8000 and 240 <= int(height) <= 8000):
        _fail(CALL_WRONG, f"`{size}` is no size. Write width x height, as in 1280x800.")
    frame = _timeframe(timeframe)
    workspace = Workspace.default()
    if symbol is not None:
        symbol = _known_symbol(workspace.library(), symbol)
    try:
        take(workspace, place, out, (int(width), int(height)), symbol, frame, script, night)
    except ScriptFileProblem as error:
        _fail(CALL_WRONG, str(error))


@app.command()
def speed(
    what: Annotated[str, typer.Argument(help="all, engine, compiling, growth, live, scan or desk")] = "all",
    symbols: Annotated[int, typer.Option(min=10, help="symbols of the large panel")] = 5000,
) -> None:
    """Measure speed, as ratios side by side in one run."""
    from oakladder import speed as measured

    if what not in ("all", *measured.PARTS):
        _fail(CALL_WRONG, f"There is no part `{what}`. There are all, {', '.join(measured.PARTS)}.")
    measured.main(what, symbols)


def _guarded(go: Callable[[], object]) -> None:
    """No traceback reaches a user: what nobody foresaw becomes one sentence, and the log has the details."""
    try:
        go()
    except (KeyboardInterrupt, BrokenPipeError):
        sys.exit(130)
    except DataProblem as error:
        print(error, file=sys.stderr)
        sys.exit(DATA_WRONG)
    except OSError as error:
        logging.getLogger(__name__).exception("the system refused")
        name = f"{error.filename} cannot be used" if error.filename else "That cannot be done"
        print(f"{name}: {why(error)}.", file=sys.stderr)
        sys.exit(CALL_WRONG)
    except Exception as error:
        logging.getLogger(__name__).exception("not foreseen")
        print(f"Something went wrong that should not: {error}. The details are in {log.log_file()}.", file=sys.stderr)
        sys.exit(70)


def main() -> None:
    """The program's entry."""
    log.set_up()
    _guarded(lambda: app(args=sys.argv[1:] or ["--help"], prog_name="oak"))
