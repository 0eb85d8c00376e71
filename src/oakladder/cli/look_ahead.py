"""The look-ahead check from the command line."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from oakladder.cli.argument_types import a_number
from oakladder.cli.common import Format, arg, command, load, settings_of
from oakladder.cli.notebook import NotebookWriter
from oakladder.cli.streams import json_words
from oakladder.cli.trial_data import GROUND, DataOptions, sentences
from oakladder.rung.texts import count_words
from oakladder.trial.broker.money import Account, Costs, Size, Slippage
from oakladder.trial.judge.look_ahead.check import check_look_ahead as check
from oakladder.trial.judge.look_ahead.finding import Clear, FindingKind


@command(
    "honest",
    *GROUND,
    arg("--money", dest="money", type=a_number, default=10_000.0, help="what the account begins with"),
    arg("--size", dest="size", help="100%% of equity, 5000m money, 100u units, 1%%r of equity at risk"),
    arg("--format", dest="format_", choices=["table", "json"], default="table"),
)
def honest(
    script: Path, settings: list[str] | None, money: float, size: str | None, format_: str, **where: Any
) -> None:
    """Run a script on history that ends earlier, and list all that could not have been seen or had at the time."""
    program = load(script)
    values = settings_of(program, settings)
    with sentences():
        account = Account(money, Size.parse(size) if size else None, costs=Costs(0, 0, 0, Slippage()))
        account.check()
        asked = DataOptions(**where)
        ground = asked.ground()
        best = NotebookWriter(script).best_values(program, ground, values, asked)
        found = check(program, ground, account, values, best=best)
    if Format(format_) is Format.JSON:
        checks = [
            {"check": kind.word, "findings": sum(f.kind is kind for f in found.findings), "words": found.verdict(kind)}
            for kind in FindingKind
        ]
        plain = {"findings": [f.as_plain() for f in found.findings], "checks": checks, "words": found.words()}
        print(json_words(plain))
        return
    print(found.words())
    for one in found.rows():
        if isinstance(one, Clear):
            print(f"{one.kind.word}: {one.words}.")
            continue
        line = f"line {one.line}: " if one.line else ""
        print(
            f"{one.kind.word}: {line}{one.words}. {count_words(one.count, 'time')}, last on {one.symbol} at {one.when}."
        )
