"""The same jobs without a window.

Exit codes: 0 done, 1 the script has errors, 2 the call was wrong, 3 the data were wrong, 70 an unexpected error,
130 interrupted, 141 the reader of the output has closed it.
"""

from __future__ import annotations

import argparse
import importlib
import logging
import signal
import sys
from collections.abc import Callable, Sequence

from oakladder import log
from oakladder.bars.errors import DataProblem
from oakladder.cli import streams
from oakladder.cli.common import CALL_WRONG, DATA_WRONG, INTERRUPTED, LOADED, PIPE_CLOSED, UNEXPECTED, Leave
from oakladder.disk import why
from oakladder.locks import Waiting

#: The module of each command: only the requested one is loaded.
COMMANDS = {
    "start": "window",
    "check": "scripts",
    "eval": "evaluate",
    "scan": "scan",
    "trial": "trial",
    "evidence": "evidence",
    "honest": "look_ahead",
    "brief": "scripts",
    "import": "data",
    "symbols": "data",
    "library": "data",
    "cache": "disk_cache",
    "feed": "feed",
    "watch": "watch",
    "alert": "alerts",
    "source": "scripts",
    "shot": "window",
    "speed": "window",
}


def _guarded(go: Callable[[], int]) -> int:
    """Runs a command and gives its exit code. No traceback reaches a user: an unexpected error becomes one sentence, and
    the log has the details."""
    try:
        code = go()
        sys.stdout.flush()  # a full disk or a closed pipe is noticed here, and not after the last word
        return code
    except KeyboardInterrupt:
        return INTERRUPTED
    except BrokenPipeError:
        streams.discard_output()
        return PIPE_CLOSED
    except DataProblem as error:
        print(error, file=sys.stderr)
        return DATA_WRONG
    except OSError as error:
        logging.getLogger(__name__).exception("the system refused")
        name = f"{error.filename} cannot be used" if error.filename else "That cannot be done"
        streams.discard_output()
        print(f"{name}: {why(error)}.", file=sys.stderr, flush=True)
        return CALL_WRONG
    except Exception as error:
        logging.getLogger(__name__).exception("unexpected error")
        print(
            f"Something went wrong ({type(error).__name__}). Please report it; the details are in {log.log_file()}.",
            file=sys.stderr,
        )
        return UNEXPECTED


def command_line(asked: str = "") -> argparse.ArgumentParser:
    """The parser of a call: for one command, or for all."""
    modules = [COMMANDS[asked]] if asked in COMMANDS else dict.fromkeys(COMMANDS.values())
    for module in modules:
        importlib.import_module(f"{__name__}.{module}")
    about = "Write a rule once; see it on the chart, down the watchlist, through the market."
    parser = argparse.ArgumentParser("oak", description=about)
    parsers = parser.add_subparsers(title="commands", metavar="COMMAND", required=True)
    for name in (n for n in COMMANDS if n in LOADED):
        function, arguments = LOADED[name]
        one = parsers.add_parser(name, help=function.__doc__, description=function.__doc__)
        for names, options in arguments:
            one.add_argument(*names, **options)
        one.set_defaults(go=function)
    return parser


def call(words: Sequence[str]) -> int:
    """Carries out a call; gives its exit code."""
    try:
        asked = vars(command_line(words[0] if words else "").parse_args(words or ["--help"]))
        asked.pop("go")(**asked)
    except Leave as left:
        return left.code
    return 0


def main() -> None:
    """The program's entry."""
    streams.set_up()
    if signal.getsignal(signal.SIGINT) is signal.SIG_DFL:
        signal.signal(signal.SIGINT, signal.default_int_handler)
    log.set_up()
    words = sys.argv[1:]
    Waiting.role = f"oak {words[0]}" if words and words[0] in COMMANDS else "oak"
    Waiting.report = lambda sentence: print(sentence, file=sys.stderr, flush=True)
    sys.exit(_guarded(lambda: call(words)))
