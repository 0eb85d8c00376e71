"""Running a script over the bars of one symbol and writing its outputs."""

from __future__ import annotations

import itertools
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from oakladder.bars.errors import DataProblem
from oakladder.bars.panel import Panel
from oakladder.bars.panels import panel_of
from oakladder.bars.resample import resample
from oakladder.bars.time_words import iso
from oakladder.bars.timeframes import ONE_DAY
from oakladder.cli.argument_types import a_path
from oakladder.cli.common import (
    CALL_WRONG,
    DATA_WRONG,
    arg,
    command,
    fail,
    known_symbol,
    library_of,
    load,
    settings_of,
    timeframe_of,
)
from oakladder.cli.outputs import check_outputs, write_table
from oakladder.cli.streams import json_words
from oakladder.engine.columns.cells import Cell, column_cell, column_name
from oakladder.engine.picture.as_data import as_plain, day_paint
from oakladder.engine.picture.draw import draw
from oakladder.engine.run.execute import Result, run
from oakladder.intake.one_symbol import read_one
from oakladder.rung import Program, RunProblem
from oakladder.rung.plan.ops import Op
from oakladder.rung.words import Shown


@command(
    "eval",
    arg("script", type=a_path, help="a .rung file"),
    arg("--out", dest="out", type=a_path, required=True, help="the CSV file to write; - for standard output"),
    arg("--csv", dest="csv_file", type=a_path, help="bars from a CSV file"),
    arg("--symbol", dest="symbol", help="a symbol of the library"),
    arg("--timeframe", dest="timeframe", help="1m … 4h, 1d, 1w, 1mo"),
    arg("--extended", dest="extended", action="store_true", help="with the hours outside the session"),
    arg("--set", dest="settings", action="append", help="a setting, as in --set fast=12"),
    arg(
        "--all",
        dest="everything",
        action="store_true",
        help="every top-level let and keep too, and the texts and fills of columns",
    ),
    arg("--json", dest="as_json", action="store_true", help="print the drawings as JSON; problems too"),
)
def evaluate(
    script: Path,
    out: Path,
    csv_file: Path | None,
    symbol: str | None,
    timeframe: str | None,
    extended: bool,
    settings: list[str] | None,
    everything: bool,
    as_json: bool,
) -> None:
    """Run a script over the bars of one symbol and write its outputs."""
    if (csv_file is None) == (symbol is None):
        fail(CALL_WRONG, "Say where the bars come from: either --csv FILE or --symbol SYMBOL.")
    check_outputs({"--out": out}, [script, csv_file], printed="the drawings" if as_json else "")
    program = load(script, as_json)
    values = settings_of(program, settings)
    panel = _bars(csv_file, symbol, timeframe, extended)
    names = _columns(program, everything)
    if not panel.size:
        fail(DATA_WRONG, "There are no bars to run the script on.")
    try:
        result = run(program, panel, values, extra=list(names.values()))
    except RunProblem as error:
        fail(CALL_WRONG, str(error))
    cells = _cells(result) if everything else {}
    _write(out, panel, {n: _written(result, op) for n, op in names.items()} | _in_columns(cells, names))
    if as_json:
        drawn = as_plain(draw(result, day_paint), panel.size - 1)
        told = [
            {"name": name, "text": [c.text for c in some], "fill": [c.fill for c in some]}
            for name, some in cells.items()
        ]
        print(json_words(drawn | {"columns": told} if everything else drawn))


def _bars(csv_file: Path | None, symbol: str | None, timeframe: str | None, extended: bool) -> Panel:
    wanted = timeframe_of(timeframe) if timeframe else None
    try:
        if csv_file is not None:
            bars = replace(read_one(csv_file), extended=extended)
            return panel_of([resample(bars, wanted) if wanted else bars])
        library = library_of()
        return library.panel([known_symbol(library, str(symbol))], wanted or ONE_DAY, extended)
    except DataProblem as error:
        fail(DATA_WRONG, str(error))
    except ValueError as error:
        fail(CALL_WRONG, str(error))


def _columns(program: Program, everything: bool) -> dict[str, Op]:
    """The columns of the file: signals, named numbers, and with ``everything`` all top-level values."""
    made: dict[str, Op] = {}
    for output in program.outputs:
        if output.what is Shown.SIGNAL:
            made[output.name] = output.roles["value"]
        elif (
            "named" in output.attributes
            and "value" in output.roles
            and output.what in (Shown.LINE, Shown.HISTOGRAM, Shown.LEVEL)
        ):
            made.setdefault(output.attributes["named"], output.roles["value"])
    if everything:
        for name, op in program.plan.values.items():
            if not op.is_shell:
                made.setdefault(name, op)
    return made


def _cells(result: Result) -> dict[str, list[Cell]]:
    """What each `column` of a script shows on every bar."""
    return {
        column_name(o): [column_cell(result, o, bar) for bar in range(result.panel.size)]
        for o in result.outputs
        if o.what is Shown.COLUMN
    }


def _in_columns(cells: dict[str, list[Cell]], taken: Iterable[str]) -> dict[str, list[str]]:
    """Texts and fills as columns of the file, under names that are free."""
    made: dict[str, list[str]] = {}
    for name, some in cells.items():
        own = f"{name} text" if name in taken else name
        made[own] = [c.text for c in some]
        made[f"{name} fill"] = [c.fill or "" for c in some]
    return made


def _write(path: Path, panel: Panel, columns: dict[str, list[str]]) -> None:
    rows = ([iso(time), *(c[k] for c in columns.values())] for k, time in enumerate(panel.times.tolist()))
    write_table("--out", path, itertools.chain([["time", *columns]], rows))


def _written(result: Result, op: Op) -> list[str]:
    if op.is_flag:
        return [{1: "1", 0: "0"}.get(v, "") for v in result.flag(op).tolist()]
    return ["" if v != v else repr(v) for v in result.number(op).tolist()]
