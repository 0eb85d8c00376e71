"""The same jobs without a window.

Exit codes: 0 done, 1 the script has errors, 2 the call was wrong, 3 the data were wrong.
"""

from __future__ import annotations

import importlib
import logging
import sys
from collections.abc import Callable

import typer

from oakladder import log
from oakladder.bars.errors import DataProblem
from oakladder.cli.common import CALL_WRONG, DATA_WRONG, app
from oakladder.disk import why

#: Where each command is: only the module of the one that is asked for is loaded.
COMMANDS = {
    "start": "window",
    "check": "scripts",
    "eval": "evaluate",
    "scan": "scan",
    "brief": "scripts",
    "import": "data",
    "symbols": "data",
    "library": "data",
    "source": "scripts",
    "shot": "window",
    "speed": "window",
}


def _guarded(go: Callable[[], object]) -> None:
    """No traceback reaches a user: what nobody foresaw becomes one sentence, and the log has the details."""
    try:
        go()
    except (KeyboardInterrupt, BrokenPipeError):
        sys.exit(130)
    except DataProblem as error:
        print(error, file=sys.stderr)
        sys.exit(DATA_WRONG)
    except OSError as error:
        logging.getLogger(__name__).exception("the system refused")
        name = f"{error.filename} cannot be used" if error.filename else "That cannot be done"
        print(f"{name}: {why(error)}.", file=sys.stderr)
        sys.exit(CALL_WRONG)
    except Exception as error:
        logging.getLogger(__name__).exception("not foreseen")
        print(f"Something went wrong that should not: {error}. The details are in {log.log_file()}.", file=sys.stderr)
        sys.exit(70)


def command_line(asked: str = "") -> typer.Typer:
    """The commands: the one that is asked for, or all."""
    modules = [COMMANDS[asked]] if asked in COMMANDS else dict.fromkeys(COMMANDS.values())
    for module in modules:
        importlib.import_module(f"{__name__}.{module}")
    order = list(COMMANDS)
    app.registered_commands.sort(key=lambda c: order.index(c.name or c.callback.__name__))  # type: ignore[union-attr]
    return app


def main() -> None:
    """The program's entry."""
    log.set_up()
    args = sys.argv[1:] or ["--help"]
    _guarded(lambda: command_line(args[0])(args=args, prog_name="oak"))
