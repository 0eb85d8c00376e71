"""What all commands share: the application, its exit codes, and reading what is given to a command."""

from __future__ import annotations

import json
import sys
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, NoReturn

import typer

from oakladder.bars.errors import DataProblem
from oakladder.bars.timeframes import Timeframe
from oakladder.rung import Program, RunProblem, ScriptError, compile_script
from oakladder.rung.problems import did_you_mean
from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.workspace import Workspace

if TYPE_CHECKING:  # loaded by the commands that need it
    from oakladder.bars.store.library import BarLibrary

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


def fail(code: int, sentence: str) -> NoReturn:
    print(sentence, file=sys.stderr)
    raise typer.Exit(code)


def load(script: Path, as_json: bool = False) -> Program:
    """Reads and compiles a script; errors go to standard error and end the program."""
    try:
        text = read_script(script)
    except ScriptFileProblem as error:
        fail(CALL_WRONG if not script.exists() else SCRIPT_ERRORS, str(error))
    try:
        return compile_script(text, Workspace.default().shelf(text))
    except ScriptError as error:
        print_problems(script, [p for p in error.problems if p.is_error], as_json, sys.stderr)
        raise typer.Exit(SCRIPT_ERRORS) from None


def print_problems(script: Path, problems: Sequence[Any], as_json: bool, to: Any) -> None:
    if as_json:
        print(json.dumps([{"file": str(script), **p.as_dict()} for p in problems], indent=2), file=to)
        return
    for problem in problems:
        print(problem.line_text(str(script)), file=to)


def timeframe_of(text: str) -> Timeframe:
    try:
        return Timeframe.parse(text)
    except ValueError as error:
        fail(CALL_WRONG, str(error))


def settings_of(program: Program, given: list[str] | None) -> dict[str, object]:
    made: dict[str, object] = {}
    for item in given or []:
        name, equals, value = item.partition("=")
        if not equals:
            fail(CALL_WRONG, f"`--set {item}` says no value. Write --set name=value.")
        made[name.strip()] = value.strip()
    try:
        return {k: v for k, v in program.values_of(made).items() if k in made}
    except RunProblem as error:
        fail(CALL_WRONG, str(error))


def known_symbol(library: BarLibrary, symbol: str) -> str:
    name = symbol.upper()
    if name not in library.infos:
        fail(CALL_WRONG, f"There is no symbol {symbol}. {did_you_mean(name, library.infos).replace('`', '')}".strip())
    return name


def library_of(folder: Path | None = None) -> BarLibrary:
    """A bar library; the user's own unless another folder is named. What is wrong with it is said."""
    from oakladder.bars.store.library import BarLibrary

    workspace = Workspace.default()
    try:
        made = BarLibrary(folder) if folder else workspace.library()
    except DataProblem as error:
        fail(DATA_WRONG, str(error))
    for notice in [*workspace.notices, *made.notices]:
        print(notice, file=sys.stderr)
    return made
