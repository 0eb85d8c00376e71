"""Commands that open the window, take its picture, or measure speed."""

from __future__ import annotations

import gc
import os
from pathlib import Path

from oakladder.cli.common import CALL_WRONG, Leave, a_path, arg, at_least, command, fail, known_symbol, timeframe_of
from oakladder.cli.outputs import check_outputs
from oakladder.disk import why
from oakladder.rung.problems import did_you_mean
from oakladder.user.scripts import ScriptFileProblem
from oakladder.user.workspace import Workspace


@command(
    "start",
)
def start() -> None:
    """Open the application with the demo market."""
    gc.disable()  # nothing is thrown away while it opens; from then on the window's sweeper looks after that
    from oakladder.desk.app import run_desk

    raise Leave(run_desk())


@command(
    "shot",
    arg(
        "place",
        help="bench, ladder, scan, trial, evidence, chance, sweep, notebook, honesty, data, symbols, replay or gallery",
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
    """Take a picture of the application as it would stand on the screen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from oakladder.desk.shot import PLACES, take

    if place not in PLACES:
        fail(
            CALL_WRONG,
            f"There is no place `{place}`. {did_you_mean(place, PLACES) or 'There are ' + ', '.join(PLACES) + '.'}",
        )
    width, _, height = size.partition("x")
    if not (width.isdigit() and height.isdigit() and 320 <= int(width) <= 8000 and 240 <= int(height) <= 8000):
        fail(CALL_WRONG, f"`{size}` is no size. Write width x height, as in 1280x800.")
    frame = timeframe_of(timeframe)
    workspace = Workspace.default()
    if symbol is not None:
        symbol = known_symbol(workspace.library(), symbol)
    check_outputs({"OUT": out}, [Path(script)] if script else [], endings=[".png"])
    try:
        take(workspace, place, out, (int(width), int(height)), symbol, frame, script, night)
    except ScriptFileProblem as error:
        fail(CALL_WRONG, str(error))


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
