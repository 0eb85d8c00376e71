"""What followed a signal, from the command line."""

from __future__ import annotations

import json
import os
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from rich.console import Console
from rich.table import Table

from oakladder.bars.errors import DataProblem
from oakladder.cli.common import CALL_WRONG, DATA_WRONG, Format, arg, command, fail, load, settings_of
from oakladder.cli.grounds import GROUND, day_of, ground_asked
from oakladder.cli.noting import Noting
from oakladder.cli.trial import trading
from oakladder.rung import RunProblem
from oakladder.trial.evidence.plain import as_plain
from oakladder.trial.evidence.study import Evidence, evidence_of, signal_of
from oakladder.trial.evidence.words import HORIZON_HEADS, horizon_words, sentence, warnings
from oakladder.trial.spans import Span
from oakladder.trial.sweeps.running import Task


@command(
    "evidence",
    *GROUND,
    arg("--signal", dest="signal", help="which signal, where the script has several"),
    arg("--format", dest="format_", choices=["table", "json"], default="table"),
)
def evidence(
    script: Path,
    symbol: str | None,
    list_name: str | None,
    timeframe: str | None,
    extended: bool,
    first: str | None,
    last: str | None,
    settings: list[str] | None,
    broken_seal: bool,
    csv_file: Path | None,
    tick: float | None,
    signal: str | None,
    format_: str,
) -> None:
    """Say what followed a signal, beside what usually follows, and how often chance does as well."""
    program = load(script)
    values = settings_of(program, settings)
    span = Span(day_of(first), day_of(last, after=1), sealed=not broken_seal)
    try:
        signal_of(program, signal)
        ground = ground_asked(symbol, list_name, timeframe, extended, span, csv_file, tick)
        with ThreadPoolExecutor(os.cpu_count() or 1) as executor:
            made = evidence_of(program, ground, signal, values, executor=executor)
        if broken_seal and csv_file is None:
            traded, noting = trading(program, script), Noting(script)
            task = Task(traded, ground, settings=values)
            noting.seal(noting.what(task, symbol or list_name or "all"), task)
    except RunProblem as error:
        fail(CALL_WRONG, str(error))
    except DataProblem as error:
        fail(DATA_WRONG, str(error))
    if Format(format_) is Format.JSON:
        print(json.dumps(as_plain(made)))
    else:
        _print_table(made)


def _print_table(made: Evidence) -> None:
    print(sentence(made))
    for warning in warnings(made):
        print(warning)
    table = Table()
    for name in HORIZON_HEADS:
        table.add_column(name, justify="right")
    for one in made.horizons:
        table.add_row(*horizon_words(one))
    Console().print(table)
