"""Commands about scripts: what is wrong with one, the language on a page, a library function's source."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from oakladder.cli.argument_types import a_path
from oakladder.cli.common import CALL_WRONG, SCRIPT_ERRORS, Leave, arg, command, fail, library_of, print_problems
from oakladder.rung import CODES, ScriptError, analyse, compile_script, library
from oakladder.rung.problems import did_you_mean
from oakladder.rung.program import unknown_symbols
from oakladder.rung.service import reference_docs
from oakladder.user.scripts import ScriptFileProblem, read_script
from oakladder.user.workspace import Workspace


@command(
    "check",
    arg("script", nargs="?", type=a_path, help="a .rung file"),
    arg("--explain", dest="explain", help="a problem code, as in --explain R501"),
    arg("--json", dest="as_json", action="store_true", help="problems as JSON"),
)
def check(
    script: Path | None,
    explain: str | None,
    as_json: bool,
) -> None:
    """List everything that is wrong with a script, each with its place and a fix."""
    if explain is not None:
        code = CODES.get(explain.upper())
        if code is None:
            fail(CALL_WRONG, f"There is no problem code {explain}. They run from {min(CODES)} to {max(CODES)}.")
        print(
            f"{explain.upper()} ({code.severity.value}): {code.title}\n\nwrong:\n{_indented(code.wrong)}\nright:\n{_indented(code.right)}"
        )
        return
    if script is None:
        fail(CALL_WRONG, "Name a script to check, or a code to --explain.")
    try:
        text = read_script(script)
    except ScriptFileProblem as error:
        fail(CALL_WRONG if not script.exists() else SCRIPT_ERRORS, str(error))
    try:
        program = compile_script(text, Workspace.default().other_scripts(text, script.absolute()))
        problems = program.problems
        if program.foreign:
            problems = (*problems, *unknown_symbols(program.foreign, list(library_of().infos)))
    except ScriptError as error:
        problems = error.problems
    print_problems(script, problems, as_json, sys.stderr)
    if any(p.is_error for p in problems):
        raise Leave(SCRIPT_ERRORS)
    if not as_json:
        print(f"{script}: no errors")


def _indented(text: str) -> str:
    return "\n".join("    " + line for line in text.split("\n"))


@command(
    "brief",
    arg("script", nargs="?", type=a_path, help="a .rung file to add, with its problems"),
)
def brief(
    script: Path | None,
) -> None:
    """Print the whole language on one page, to paste into a chat with an assistant or a forum."""
    try:
        text = read_script(script) if script is not None else ""
    except ScriptFileProblem as error:
        fail(CALL_WRONG, str(error))
    print(reference_docs.brief())
    if script is None:
        return
    print(f"THE SCRIPT AS IT STANDS\n{text}")
    problems = analyse(text, Workspace.default().other_scripts(text, script.absolute())).problems
    print("ITS PROBLEMS" if problems else "IT HAS NO PROBLEMS")
    print_problems(script, problems, False, sys.stdout)


@command(
    "source",
    arg("function", help="a library function, as in rsi"),
    arg("--as", dest="own", help="a name of your own, to copy it into a script"),
)
def source(
    function: str,
    own: str | None,
) -> None:
    """Print a library function as it is written in Rung, or a copy of it under another name."""
    if function not in library.names():
        built_in = reference_docs.word_help(function)
        hint = did_you_mean(function, library.names()) or "`./oak brief` lists them all."
        fail(
            CALL_WRONG,
            f"{built_in} It is built into the compiler."
            if built_in
            else f"There is no library function `{function}`. {hint}",
        )
    if own is not None and not re.fullmatch(r"[a-z_][a-z0-9_]*", own):
        fail(CALL_WRONG, f"`{own}` is no name. Names are small letters, digits and _.")
    found = library.function(function)
    assert found is not None
    if own is None:
        print(found.source, end="")
        return
    copy = library.copy_of(function, own)
    wrong = next((p for p in analyse(f"rung 1\n{copy}").problems if p.is_error), None)
    if wrong is not None:
        fail(CALL_WRONG, f"{wrong.message} Choose another name than `{own}`.")
    print(copy, end="")
