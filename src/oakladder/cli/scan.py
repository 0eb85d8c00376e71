"""Scans from the command line."""

from __future__ import annotations

import csv
import sys
from pathlib import Path

import numpy as np
from rich.table import Table

from oakladder.bars.store.library import BarLibrary
from oakladder.bars.time_words import iso
from oakladder.cli.argument_types import a_path, at_least
from oakladder.cli.common import CALL_WRONG, Format, arg, command, fail, library_of, load, settings_of, timeframe_of
from oakladder.cli.lists import symbols_of
from oakladder.cli.streams import console, json_words, visible
from oakladder.engine.scan.conditions import Rule, TriggerMode
from oakladder.engine.scan.run import ScanResult, run_scan
from oakladder.rung import RunProblem
from oakladder.rung.texts import count_words


@command(
    "scan",
    arg("script", type=a_path, help="a .rung file"),
    arg("--signal", dest="signal", required=True, help="the name of a signal"),
    arg("--timeframe", dest="timeframe", default="1d", help="1m … 4h, 1d, 1w, 1mo"),
    arg("--within", dest="within", type=at_least(1), default=1, help="fired within the last n bars"),
    arg("--list", dest="list_name", default="all", help="all, one of your lists, or a sector"),
    arg("--set", dest="settings", action="append", help="a setting, as in --set fast=12"),
    arg("--format", dest="format_", choices=[f.value for f in Format], default=Format.TABLE.value),
)
def scan(
    script: Path,
    signal: str,
    timeframe: str,
    within: int,
    list_name: str,
    settings: list[str] | None,
    format_: str,
) -> None:
    """Find the symbols on which a signal fired lately."""
    program = load(script)
    values = settings_of(program, settings)
    frame = timeframe_of(timeframe)
    library = library_of()
    symbols = symbols_of(library, list_name)
    try:
        program.signal(signal)
        rule = Rule(program, signal, frame, values, fresh=TriggerMode.WITHIN, bars=within)
        found = run_scan(rule, library, symbols, frame)
    except RunProblem as error:
        fail(CALL_WRONG, str(error))
    _print_scan(found, library, Format(format_))
    for skipped in found.skipped:
        print(f"{skipped.symbol} skipped: {skipped.reason}", file=sys.stderr)


def _print_scan(found: ScanResult, library: BarLibrary, format_: Format) -> None:
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
        print(json_words({"looked_at": found.looked_at, "hits": clean}, indent=2))
    elif format_ is Format.CSV:
        writer = csv.DictWriter(
            sys.stdout, ["symbol", "name", "bars_ago", "time", "last", "change"], lineterminator="\n"
        )
        writer.writeheader()
        writer.writerows(rows)
    else:
        table = Table(title=f"{len(rows)} of {count_words(found.looked_at, 'symbol')}", title_justify="left")
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
            table.add_row(
                visible(hit.symbol), visible(str(row["name"])), str(hit.ages[0]), f"{hit.last:,.{decimals}f}", change
            )
        console().print(table)
