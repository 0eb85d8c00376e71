"""What followed a signal, from the command line."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from rich.table import Table

from oakladder.cli.common import Format, arg, command, load, settings_of
from oakladder.cli.notebook import NotebookWriter
from oakladder.cli.streams import console, json_words
from oakladder.cli.trial import trading
from oakladder.cli.trial_data import GROUND, DataOptions, sentences
from oakladder.engine.run.context import RunContext
from oakladder.trial.batch.task import Task
from oakladder.trial.judge.evidence.as_data import as_plain
from oakladder.trial.judge.evidence.study import Evidence, evidence_of, signal_of
from oakladder.trial.judge.evidence.words import HORIZON_HEADS, horizon_words, sentence, warnings
from oakladder.work import parallel


@command(
    "evidence",
    *GROUND,
    arg("--signal", dest="signal", help="which signal, where the script has several"),
    arg("--format", dest="format_", choices=["table", "json"], default="table"),
)
def evidence(script: Path, settings: list[str] | None, signal: str | None, format_: str, **where: Any) -> None:
    """Say what followed a signal, beside what usually follows, and how often chance does as well."""
    program, asked = load(script), DataOptions(**where)
    values = settings_of(program, settings)
    with sentences():
        signal_of(program, signal)
        ground = asked.ground()
        if asked.breaks_seal:
            task, noting = Task(trading(program, script), ground, settings=values), NotebookWriter(script)
            is_tuned = noting.seal(noting.what(task, asked.name, asked.span_words), task)
            ground = replace(ground, is_tuned=is_tuned)
        with parallel() as executor:
            made = evidence_of(program, ground, signal, values, context=RunContext(executor))
    if Format(format_) is Format.JSON:
        print(json_words(as_plain(made)))
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
    console().print(table)
