"""The honesty check from the command line."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from oakladder.cli.common import Format, arg, command, load, settings_of
from oakladder.cli.streams import json_words
from oakladder.cli.trial_data import GROUND, DataOptions, sentences
from oakladder.rung.texts import count_words
from oakladder.trial.judge.look_ahead.check import check_look_ahead as check


@command(
    "honest",
    *GROUND,
    arg("--format", dest="format_", choices=["table", "json"], default="table"),
)
def honest(script: Path, settings: list[str] | None, format_: str, **where: Any) -> None:
    """Run a script on history that ends earlier, and list all that could not have been seen or had at the time."""
    program = load(script)
    values = settings_of(program, settings)
    with sentences():
        ground = DataOptions(**where).ground()
        found = check(program, ground, settings=values)
    if Format(format_) is Format.JSON:
        print(json_words({"findings": [f.as_plain() for f in found.findings], "words": found.words()}))
        return
    print(found.words())
    for one in found.findings:
        line = f"line {one.line}: " if one.line else ""
        print(
            f"{one.kind.word}: {line}{one.words}. {count_words(one.count, 'time')}, last on {one.symbol} at {one.when}."
        )
