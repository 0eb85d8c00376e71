"""The honesty check from the command line."""

from __future__ import annotations

import json
from pathlib import Path

from oakladder.bars.errors import DataProblem
from oakladder.cli.common import CALL_WRONG, DATA_WRONG, Format, arg, command, fail, load, settings_of
from oakladder.cli.grounds import GROUND, day_of, ground_asked
from oakladder.rung import RunProblem
from oakladder.trial.honesty.check import honest as check
from oakladder.trial.honesty.check import summary
from oakladder.trial.spans import Span


@command(
    "honest",
    *GROUND,
    arg("--format", dest="format_", choices=["table", "json"], default="table"),
)
def honest(
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
    format_: str,
) -> None:
    """Run a script on history that ends earlier, and list all that could not have been seen or had at the time."""
    program = load(script)
    values = settings_of(program, settings)
    span = Span(day_of(first), day_of(last, after=1), sealed=not broken_seal)
    try:
        ground = ground_asked(symbol, list_name, timeframe, extended, span, csv_file, tick)
        found = check(program, ground, settings=values)
    except RunProblem as error:
        fail(CALL_WRONG, str(error))
    except DataProblem as error:
        fail(DATA_WRONG, str(error))
    told = summary(found, len(ground.panel))
    if Format(format_) is Format.JSON:
        print(json.dumps({"findings": [f.as_plain() for f in found], "words": told}))
        return
    print(told)
    for one in found:
        line = f"line {one.line}: " if one.line else ""
        print(f"{one.sin.word}: {line}{one.words}. {one.count:,} times, last on {one.symbol} at {one.when}.")
