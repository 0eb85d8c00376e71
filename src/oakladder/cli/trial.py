"""Trials from the command line."""

from __future__ import annotations

import sys
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path
from typing import IO, Any

from rich.table import Table

from oakladder.cli.argument_types import a_number, a_path, at_least
from oakladder.cli.common import CALL_WRONG, Format, arg, command, fail, load, settings_of
from oakladder.cli.notebook import NotebookWriter
from oakladder.cli.outputs import check_outputs, is_standard, write_table
from oakladder.cli.streams import console, json_words, visible
from oakladder.cli.sweep import SWEEPING, sweep, variants_of
from oakladder.cli.trial_data import GROUND, DataOptions, sentences
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.rung.texts import count_words
from oakladder.trial.batch.task import Task
from oakladder.trial.broker.money import Account, Costs, Size, Slippage, parse_ratio
from oakladder.trial.compose import draft_of, with_trade
from oakladder.trial.judge.bootstrap import Bootstrap, bootstrap_of
from oakladder.trial.judge.shift_test import ShiftTest, shift_test_of
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.report import as_plain, equity_table, through_words, trades_table
from oakladder.trial.spans import TUNED_WORDS
from oakladder.trial.trial import Trial, run_trial
from oakladder.user.scripts import title_of
from oakladder.user.workspace import Workspace


@command(
    "trial",
    *GROUND,
    *SWEEPING,
    arg("--money", dest="money", type=a_number, default=10_000.0, help="what the account begins with"),
    arg("--size", dest="size", help="100%% of equity, 5000m money, 100u units, 1%%r of equity at risk"),
    arg("--lot", dest="lot", type=a_number, default=1.0, help="the step of a size, 1 unless said"),
    arg("--cost", dest="cost", default="0.05%", help="of each fill's value"),
    arg("--cost-order", dest="cost_order", type=a_number, default=0.0, help="money for each fill"),
    arg("--cost-unit", dest="cost_unit", type=a_number, default=0.0, help="money for each unit of a fill"),
    arg("--financing", dest="financing", default="0", help="what holding a long position costs a year, as in 4%%"),
    arg("--borrow", dest="borrow", default="0", help="what holding a short position costs a year, as in 2%%"),
    arg("--currency", dest="currency", default="", help="the account's currency; that of the symbols unless said"),
    arg(
        "--slip",
        dest="slip",
        default="1t",
        help="what market and stop fills are worse by: 1t (ticks), 0.02%%, 10%%range, 0.5%%volume, or several, as 1t+10%%range",
    ),
    arg("--power", dest="power", type=a_number, default=1.0, help="buying power in multiples of equity"),
    arg("--apart", dest="apart", action="store_true", help="a separate account for each symbol"),
    arg("--most", dest="most", type=at_least(1), help="the most positions at once"),
    arg(
        "--through",
        dest="through",
        action="store_true",
        help="limits and targets fill only where prices go beyond them",
    ),
    arg("--finer", dest="finer", action="store_true", help="walk through bars by minutes where there are some"),
    arg(
        "--chance",
        dest="chance",
        action="store_true",
        help="compare with chance: trades shifted through time, sessions resampled",
    ),
    arg("--format", dest="format_", choices=["table", "json"], default="table"),
    arg("--trades", dest="trades_out", type=a_path, help="a CSV file for the trades; - for standard output"),
    arg("--equity", dest="equity_out", type=a_path, help="a CSV file for the curve; - for standard output"),
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
    cost_order: float,
    cost_unit: float,
    financing: str,
    borrow: str,
    currency: str,
    slip: str,
    power: float,
    apart: bool,
    most: int | None,
    through: bool,
    finer: bool,
    chance: bool,
    format_: str,
    trades_out: Path | None,
    equity_out: Path | None,
    **where: Any,
) -> None:
    """Put a rule on trial: its trades with an account, and what that comes to."""
    as_json = Format(format_) is Format.JSON
    outputs = {"--trades": trades_out, "--equity": equity_out}
    standard = any(map(is_standard, outputs.values()))
    if sweeps:
        _check_alone("--sweep", {"--chance": chance, **{option: path is not None for option, path in outputs.items()}})
    elif walk or draw is not None or cluster is not None:
        fail(
            CALL_WRONG,
            "--walk, --draw and --cluster go with --sweep: say which setting is to be tried over which range.",
        )
    check_outputs(outputs, [script, where["csv_file"]], printed="the JSON report" if as_json and standard else "")
    program = trading(load(script), script)
    values = settings_of(program, settings)
    asked = DataOptions(**where)
    with sentences():
        holding = parse_ratio(financing), parse_ratio(borrow)
        costs = Costs(cost_order, cost_unit, parse_ratio(cost), Slippage.parse(slip), *holding)
        asked_size = Size.parse(size) if size else None
        account = Account(money, asked_size, lot, most, power, costs, apart, through, currency.strip())
        account.check()
        ground = asked.ground(finer=finer)
        if finer:
            program = program.finer()
        other_scripts = Workspace.default().other_scripts(program.text, script.absolute())
        task = Task(program, ground, account, values, other_scripts, finer)
        noting = NotebookWriter(script)
        what = noting.what(task, asked.name, asked.span_words)
        if asked.breaks_seal:
            variants = variants_of(task, sweeps, draw)[1] if sweeps else [{}]
            ground = replace(ground, is_tuned=noting.seal(what, task, variants))
            task = replace(task, ground=ground)
        if sweeps:
            ranges, rows = sweep(task, sweeps, draw, by, walk, cluster, Format(format_))
            noting.sweep(what, ranges, rows, task)
            return
        done = run_trial(program, ground, account, values)
        plain = run_trial(program, ground, replace(account, through=False), values) if through else None
        traded = bool(done.book.done.any())
        judged: list[ShiftTest | Bootstrap] = [shift_test_of(done), bootstrap_of(done)] if chance and traded else []
    tries = noting.trial(what, done)
    write_table("--trades", trades_out, trades_table(done))
    write_table("--equity", equity_out, equity_table(done))
    if as_json:
        none = dict.fromkeys((ShiftTest.name, Bootstrap.name)) if chance else {}
        told = as_plain(done) | none | {"tries": tries.as_plain() if tries is not None else None}
        told |= {"at_touch": plain.metrics} if plain is not None else {}
        print(json_words(told | {part.name: part.as_plain() for part in judged}))
        return
    to = sys.stderr if standard else sys.stdout  # the report makes way for a table on standard output
    _print_table(done, script, to)
    if plain is not None:
        print(through_words(done, plain), file=to)
    if chance and not traded:
        print("There is no closed trade to put beside chance.", file=to)
    for part in (*([tries] if tries is not None else []), *judged):
        print(part.words(), file=to)
        if isinstance(part, Bootstrap):
            print(part.fall_words(), file=to)


def _check_alone(option: str, others: dict[str, bool]) -> None:
    """Ends the program where an option is given together with another that it would ignore."""
    given = [other for other, is_given in others.items() if is_given]
    if given:
        fail(
            CALL_WRONG, f"{' and '.join(given)} cannot be combined with {option}. Run the chosen settings on their own."
        )


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
    return compile_script(text, Workspace.default().other_scripts(text, script.absolute()))


def _print_table(done: Trial, script: Path, to: IO[str]) -> None:
    table = Table(title=visible(_title(done, script)), title_justify="left", show_header=False)
    table.add_column("Metric")
    table.add_column("Value", justify="right")
    table.add_column("Meaning", style="dim")
    for name, metric in METRICS.items():
        table.add_row(metric.title, metric_words(done.metrics, name), metric.about)
    console(to).print(table)
    told = [f"{count} {name}" for name, count in done.counts.items() if count]
    skipped = int((done.book.taken != 0).sum())
    told += [f"{count_words(skipped, 'entry')} skipped"] if skipped else []
    told += [f"{int(done.book.open.sum())} still open"] if done.book.open.any() else []
    if told:
        print(", ".join(told) + ".", file=to)
    if done.ground.is_tuned:
        print(TUNED_WORDS, file=to)


def _title(done: Trial, script: Path) -> str:
    symbols = done.ground.panel.symbols
    name = done.program.title or title_of(script.name)
    where = symbols[0] if len(symbols) == 1 else f"{len(symbols)} symbols"
    seal = done.ground.seal
    until = f", sealed from {datetime.fromtimestamp(seal, UTC):%Y-%m-%d} on" if seal is not None else ""
    return f"{name} on {where}, {done.ground.panel.timeframe}{until}"
