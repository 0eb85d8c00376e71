"""What all commands share: the application, its exit codes, and reading what is given to a command."""

from __future__ import annotations

import sys
from collections.abc import Callable, Sequence
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING, Any, NoReturn

from oakladder.bars.errors import DataProblem
from oakladder.bars.timeframes import Timeframe
from oakladder.cli.streams import json_words
from oakladder.rung import Program, RunProblem, ScriptError, compile_script
from oakladder.rung.problems import did_you_mean
from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.workspace import Workspace
from oakladder.work import service_thread

if TYPE_CHECKING:  # loaded by the commands that need it
    from oakladder.bars.store.library import BarLibrary

#: Names and options of an argument.
Argument = tuple[tuple[str, ...], dict[str, Any]]
#: The commands that are loaded, by name: what carries one out, and its arguments for `argparse`.
LOADED: dict[str, tuple[Callable[..., None], tuple[Argument, ...]]] = {}


def arg(*names: str, **options: Any) -> Argument:
    """An argument of a command, as `argparse.ArgumentParser.add_argument` takes it."""
    return names, options


def command(name: str, *arguments: Argument) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Makes a function a command; its docstring is the command's help."""

    def declare(function: Callable[..., None]) -> Callable[..., None]:
        LOADED[name] = function, arguments
        return function

    return declare


class Leave(Exception):
    """Ends the program with an exit code; what there is to say has been said."""

    def __init__(self, code: int):
        super().__init__(code)
        self.code = code


SCRIPT_ERRORS, CALL_WRONG, DATA_WRONG = 1, 2, 3
UNEXPECTED, INTERRUPTED, PIPE_CLOSED = 70, 130, 141


class Format(StrEnum):
    """How a table is written."""

    TABLE = "table"
    CSV = "csv"
    JSON = "json"


#: An option for programs that start this one: it ends when they close its standard input, or are killed.
ATTACHED = arg("--attached", action="store_true", help="end when standard input is closed")


def when_input_closes(then: Callable[[], object]) -> None:
    """Calls something once standard input is closed, in a thread."""
    service_thread("standard input", lambda: (sys.stdin.read(), then()))


def fail(code: int, sentence: str) -> NoReturn:
    print(sentence, file=sys.stderr)
    raise Leave(code)


def load(script: Path, as_json: bool = False) -> Program:
    """Reads and compiles a script; errors go to standard error and end the program."""
    try:
        text = read_script(script)
    except ScriptFileProblem as error:
        fail(CALL_WRONG if not script.exists() else SCRIPT_ERRORS, str(error))
    try:
        return compile_script(text, Workspace.default().other_scripts(text, script.absolute()))
    except ScriptError as error:
        print_problems(script, [p for p in error.problems if p.is_error], as_json, sys.stderr)
        raise Leave(SCRIPT_ERRORS) from None


def print_problems(script: Path, problems: Sequence[Any], as_json: bool, to: Any) -> None:
    if as_json:
        print(json_words([{"file": str(script), **p.as_dict()} for p in problems], indent=2), file=to)
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


def library_of(folder: Path | None = None, *, create: bool = False) -> BarLibrary:
    """A bar library; the user's own unless another folder is named, which is made only with ``create``. What is wrong
    with it is reported."""
    from oakladder.bars.store.library import BarLibrary

    workspace = Workspace.default()
    try:
        if folder is not None and not create and not folder.is_dir():
            fail(CALL_WRONG, f"There is no library in {folder}: the folder is missing.")
        made = BarLibrary(folder) if folder else workspace.library()
    except DataProblem as error:
        fail(DATA_WRONG, str(error))
    for notice in [*workspace.notices, *made.notices]:
        print(notice, file=sys.stderr)
    return made
