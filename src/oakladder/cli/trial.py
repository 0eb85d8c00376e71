"""Trials from the command line."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.table import Table

from oakladder.cli.common import (
    CALL_WRONG,
    Format,
    a_number,
    arg,
    at_least,
    command,
    fail,
    load,
    settings_of,
)
from oakladder.cli.grounds import GROUND, Where, sentences
from oakladder.cli.noting import Noting
from oakladder.cli.sweep import SWEEPING, sweep
from oakladder.disk import why, write_rows
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.trial.chance import Bootstrap, Chance, bootstrap_of, chance_of
from oakladder.trial.compose import draft_of, with_trade
from oakladder.trial.figures import FIGURES, figure_words
from oakladder.trial.money import Account, Costs, Size, Slippage, parse_ratio
from oakladder.trial.report import as_plain, equity_table, trades_table
from oakladder.trial.sweeps.task import Task
from oakladder.trial.trial import Trial, put_on_trial
from oakladder.user.workspace import Workspace


@command(
    "trial",
    *GROUND,
    *SWEEPING,
    arg("--money", dest="money", type=a_number, default=10_000.0, help="what the account begins with"),
    arg("--size", dest="size", help="100%% of equity, 5000m money, 100u units, 1%%r of equity at risk"),
    arg("--lot", dest="lot", type=a_number, default=1.0, help="the step of a size, 1 unless said"),
    arg("--cost", dest="cost", default="0.05%", help="of each fill's value"),
    arg("--slip", dest="slip", default="1t", help="1t (ticks) or 0.02%%: what market and stop fills are worse by"),
    arg("--power", dest="power", type=a_number, default=1.0, help="buying power in multiples of equity"),
    arg("--apart", dest="apart", action="store_true", help="each symbol with an account of its own"),
    arg("--most", dest="most", type=at_least(1), help="the most positions at once"),
    arg("--finer", dest="finer", action="store_true", help="walk through bars by minutes where there are some"),
    arg(
        "--chance",
        dest="chance",
        action="store_true",
        help="beside chance: entries moved at random, trades drawn again",
    ),
    arg("--format", dest="format_", choices=["table", "json"], default="table"),
    arg("--trades", dest="trades_out", type=Path, help="a CSV file for the trades"),
    arg("--equity", dest="equity_out", type=Path, help="a CSV file for the curve"),
)
def trial(
    script: Path,
    settings: list[str] | None,
    sweeps: list[str] | None,
    draw: int | None,
    by: str,
    walk: bool,
    cluster: str | None,
    money: float,
    size: str | None,
    lot: float,
    cost: str,
    slip: str,
    power: float,
    apart: bool,
    most: int | None,
    finer: bool,
    chance: bool,
    format_: str,
    trades_out: Path | None,
    equity_out: Path | None,
    **where: Any,
) -> None:
    """Put a rule on trial: its trades with an account, and what that comes to."""
    program = trading(load(script), script)
    values = settings_of(program, settings)
    asked = Where(**where)
    with sentences():
        costs = Costs(ratio=parse_ratio(cost), slippage=Slippage.parse(slip))
        account = Account(money, Size.parse(size) if size else None, lot, most, power, costs, apart)
        account.check()
        ground = asked.ground(finer=finer)
        if finer:
            program = program.finer()
        shelf = Workspace.default().shelf(program.text, script.absolute())
        task = Task(program, ground, account, values, shelf, finer)
        noting = Noting(script)
        what = noting.what(task, asked.name)
        if asked.breaks_seal:
            noting.seal(what, task)
        if not sweeps and (walk or draw is not None or cluster is not None):
            raise RunProblem(
                "--walk, --draw and --cluster go with --sweep: say which setting is to be tried over which range."
            )
        if sweeps:
            ranges, rows = sweep(task, sweeps, draw, by, walk, cluster, Format(format_))
            noting.sweep(what, ranges, rows, sealed=ground.seal is not None)
            return
        done = put_on_trial(program, ground, account, values)
        traded = bool(done.book.done.any())
        judged: list[Chance | Bootstrap] = [chance_of(done), bootstrap_of(done)] if chance and traded else []
    tries = noting.trial(what, done)
    _write(trades_out, trades_table(done))
    _write(equity_out, equity_table(done))
    if Format(format_) is Format.JSON:
        none = dict.fromkeys((Chance.name, Bootstrap.name)) if chance else {}
        plain = as_plain(done) | none | {"tries": tries.as_plain() if tries is not None else None}
        print(json.dumps(plain | {part.name: part.as_plain() for part in judged}))
        return
    _print_table(done)
    if chance and not traded:
        print("There is no closed trade to put beside chance.")
    for part in (*([tries] if tries is not None else []), *judged):
        print(part.words())
        if isinstance(part, Bootstrap):
            print(part.fall_words())


def trading(program: Program, script: Path) -> Program:
    """The script with a trade; one is composed, and said, where it has none."""
    if program.plan.trading is not None:
        return program
    try:
        draft = draft_of(program)
    except RunProblem as error:
        fail(CALL_WRONG, f"{script}: {error}")
    print(f"The script has no trade, so one is composed: {draft.words()}.", file=sys.stderr)
    text = with_trade(program, draft)
    return compile_script(text, Workspace.default().shelf(text, script.absolute()))


def _write(path: Path | None, rows: Iterable[Sequence[object]]) -> None:
    if path is None:
        return
    try:
        write_rows(path, rows)
    except OSError as error:
        fail(CALL_WRONG, f"{path} cannot be written: {why(error)}.")


def _print_table(done: Trial) -> None:
    table = Table(title=_title(done), title_justify="left", show_header=False)
    table.add_column("Figure")
    table.add_column("Value", justify="right")
    table.add_column("Meaning", style="dim")
    for name, figure in FIGURES.items():
        table.add_row(figure.title, figure_words(done.figures, name), figure.about)
    Console().print(table)
    told = [f"{count} {name}" for name, count in done.counts.items() if count]
    skipped = int((done.book.taken != 0).sum())
    told += [f"{skipped} entries skipped"] if skipped else []
    told += [f"{int(done.book.open.sum())} still open"] if done.book.open.any() else []
    if told:
        print(", ".join(told) + ".")


def _title(done: Trial) -> str:
    symbols = done.ground.panel.symbols
    name = done.program.title or "A rule"
    where = symbols[0] if len(symbols) == 1 else f"{len(symbols)} symbols"
    seal = done.ground.seal
    until = f", sealed from {datetime.fromtimestamp(seal, UTC):%Y-%m-%d} on" if seal is not None else ""
    return f"{name} on {where}, {done.ground.panel.timeframe}{until}"
