"""Commands that open the window, take its picture, or measure speed."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated

import typer

from oakladder.cli.common import CALL_WRONG, TimeframeOption, app, fail, known_symbol, timeframe_of
from oakladder.rung.problems import did_you_mean
from oakladder.user.scripts import ScriptFileProblem
from oakladder.user.workspace import Workspace


@app.command()
def start() -> None:
    """Open the application with the demo market."""
    from oakladder.desk.app import run_desk

    raise typer.Exit(run_desk())


@app.command()
def shot(
    place: Annotated[str, typer.Argument(help="bench, ladder, scan, data, symbols, replay or gallery")],
    out: Annotated[Path, typer.Argument(help="the PNG to write")],
    size: Annotated[str, typer.Option(help="width x height")] = "1280x800",
    symbol: Annotated[str | None, typer.Option()] = None,
    timeframe: TimeframeOption = "1d",
    script: Annotated[str | None, typer.Option(help="a .rung file, or the name of a script in the library")] = None,
    night: Annotated[bool, typer.Option("--night", help="the night theme")] = False,
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
    try:
        take(workspace, place, out, (int(width), int(height)), symbol, frame, script, night)
    except ScriptFileProblem as error:
        fail(CALL_WRONG, str(error))


@app.command()
def speed(
    what: Annotated[str, typer.Argument(help="all, engine, compiling, growth, live, scan or desk")] = "all",
    symbols: Annotated[int, typer.Option(min=10, help="symbols of the large panel")] = 5000,
) -> None:
    """Measure speed, as ratios side by side in one run."""
    from oakladder import speed as measured

    if what not in ("all", *measured.PARTS):
        fail(CALL_WRONG, f"There is no part `{what}`. There are all, {', '.join(measured.PARTS)}.")
    measured.main(what, symbols)
