"""Commands that open the window, take its picture, or measure speed."""

from __future__ import annotations

import gc
import os
import shutil
import signal
import tempfile
from functools import partial
from pathlib import Path
from types import FrameType

from oakladder.cli.argument_types import a_path, at_least
from oakladder.cli.common import CALL_WRONG, INTERRUPTED, Leave, arg, command, fail, known_symbol, timeframe_of
from oakladder.cli.outputs import check_outputs, put_file
from oakladder.disk import is_regular, why
from oakladder.rung.problems import did_you_mean
from oakladder.user.workspace import Workspace


@command(
    "start",
    arg("--alert", metavar="ID", help="with the chart of what an alert told, by its id in the alert log"),
)
def start(alert: str | None) -> None:
    """Open the application with the demo market."""
    gc.disable()  # nothing is thrown away while it opens; from then on the window's sweeper looks after that
    from oakladder.desk.app import run_desk

    raise Leave(run_desk(alert))


@command(
    "shot",
    arg(
        "place",
        help="bench, ladder, scan, trial, evidence, chance, sweep, notebook, honesty, data, symbols, replay, gallery or alerts",
    ),
    arg("out", type=a_path, help="the PNG to write"),
    arg("--size", dest="size", default="1280x800", help="width x height"),
    arg("--symbol", dest="symbol"),
    arg("--timeframe", dest="timeframe", default="1d", help="1m … 4h, 1d, 1w, 1mo"),
    arg("--script", dest="script", help="a .rung file, or the name of a script in the library"),
    arg("--night", dest="night", action="store_true", help="the night theme"),
)
def shot(
    place: str,
    out: Path,
    size: str,
    symbol: str | None,
    timeframe: str,
    script: str | None,
    night: bool,
) -> None:
    """Take a picture of the application as it would look on the screen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    # An exception would be lost in Qt's own code, and waits for threads elsewhere.
    signal.signal(signal.SIGINT, partial(_interrupted, None))
    from oakladder.desk.screenshot import PLACES, take

    if place not in PLACES:
        fail(
            CALL_WRONG,
            f"There is no place `{place}`. {did_you_mean(place, PLACES) or 'There are ' + ', '.join(PLACES) + '.'}",
        )
    width, _, height = size.partition("x")
    if not (width.isdigit() and height.isdigit() and 320 <= int(width) <= 8000 and 240 <= int(height) <= 8000):
        fail(CALL_WRONG, f"`{size}` is no size. Write width x height, as in 1280x800.")
    frame = timeframe_of(timeframe)
    own = Workspace.default()
    if symbol is not None:
        symbol = known_symbol(own.library(), symbol)
    check_outputs({"OUT": out}, [Path(script)] if script else [], endings=[".png"])
    with tempfile.TemporaryDirectory(prefix="oakladder-", ignore_cleanup_errors=True) as folder:
        signal.signal(signal.SIGINT, partial(_interrupted, folder))
        made, copy = Path(folder, "made.png"), own.copy_into(Path(folder))
        path = _script_of(copy, script) if script is not None else None
        take(copy, place, made, (int(width), int(height)), symbol, frame, path, night)
        put_file("OUT", out, made)


def _script_of(workspace: Workspace, script: str) -> Path:
    """The file of a script by its path or its name; ends the program without such a script."""
    path = Path(script)
    if is_regular(path):
        return path.absolute()
    files = workspace.script_files()
    found = next((known for known in files if script in (known.stem, known.name)), None)
    if found is None:
        hint = did_you_mean(script, [known.stem for known in files])
        fail(CALL_WRONG, f"There is no script {script}. {hint}".strip())
    return found


def _interrupted(folder: str | None, number: int, frame: FrameType | None) -> None:
    """Ends the program at once, without waiting for background writes."""
    if folder is not None:
        shutil.rmtree(folder, ignore_errors=True)
    os._exit(INTERRUPTED)


@command(
    "speed",
    arg(
        "what",
        nargs="?",
        default="all",
        help="all, engine, compiling, growth, live, scan, trial, judging, desk or start",
    ),
    arg("--symbols", dest="symbols", type=at_least(10), default=5000, help="symbols of the large panel"),
    arg("--json", dest="kept", type=a_path, help="also write what was measured to this file"),
    arg("--against", dest="against", type=a_path, help="show a file that --json has written beside it"),
)
def speed(
    what: str,
    symbols: int,
    kept: Path | None,
    against: Path | None,
) -> None:
    """Measure speed, as ratios side by side in one run."""
    from oakladder import speed as measured

    if what not in ("all", *measured.PARTS):
        fail(CALL_WRONG, f"There is no part `{what}`. There are all, {', '.join(measured.PARTS)}.")
    check_outputs({"--json": kept}, [against], printed="the report")
    try:
        if against is not None:
            measured.read_rows(against)  # before anything is measured for nothing
    except OSError as error:
        fail(CALL_WRONG, f"{against} cannot be read: {why(error)}.")
    except ValueError as error:
        fail(CALL_WRONG, str(error))
    measured.main(what, symbols, kept, against)
