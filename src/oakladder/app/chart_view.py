"""The content of a chart, made of bars, a program and its overlays."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np

from oakladder.app.chart_options import BarStyle, ChartOptions
from oakladder.app.script_overlays import ScriptUse, draw_beside
from oakladder.app.seals import RuleSeal, SealKeeper
from oakladder.app.time_marks import TimeMarks, time_marks
from oakladder.bars.bars import Bars
from oakladder.bars.panel import Panel
from oakladder.bars.store.as_of import BarSource
from oakladder.bars.timeframes import Timeframe
from oakladder.engine.picture.draw import draw
from oakladder.engine.picture.parts import Paint, Picture
from oakladder.engine.run.context import RunContext
from oakladder.engine.run.execute import Result, run
from oakladder.rung import Program, RunProblem, compile_script
from oakladder.trial.on_chart import ChartTrades, asked_of, chart_trades
from oakladder.user.workspace import Workspace


@dataclass(frozen=True, slots=True)
class ChartView:
    """One consistent picture of the chart: the bars, what the script gave on them, and what to draw."""

    bars: Bars
    result: Result | None
    picture: Picture | None
    #: The smoothed prices of averaged candles, where they are shown.
    averaged: Mapping[str, np.ndarray] | None = None
    #: The trades of the open script on these bars, where it has any.
    trades: ChartTrades | None = None
    #: Where the time axis has its marks; the chart computes them if this is None.
    marks: TimeMarks | None = None


#: Makes a view with a program and its settings, and a word if something fails; the last argument asks whether to stop.
Look = Callable[[Program | None, dict[str, object], Callable[[], bool]], tuple[ChartView, str]]

_AVERAGED = "rung 1\nlet made = smoothed_candle()\nline made.open\nline made.high\nline made.low\nline made.close\n"


def averaged_candles(panel: Panel) -> dict[str, np.ndarray]:
    """The prices of averaged candles, by the library's own definition; for showing only. By name; each shape (bars,),
    float64."""
    program = compile_script(_AVERAGED)
    result = run(program, panel)
    names = ("open", "high", "low", "close")
    return {name: result.number(o.roles["value"]) for name, o in zip(names, program.outputs, strict=True)}


def chart_viewer(
    source: BarSource,
    symbol: str,
    timeframe: Timeframe,
    options: ChartOptions,
    overlays: Sequence[ScriptUse],
    workspace: Workspace,
    paint: Paint,
    seals: SealKeeper,
    rule: RuleSeal,
) -> Look:
    """A function that makes a view for the current place, unaffected by later changes of place. Results that are sealed
    for the open ``rule``, or a script beside it, are not in it."""
    uses = [replace(u, settings=dict(u.settings)) for u in overlays]

    def look(
        program: Program | None, settings: dict[str, object], cancelled: Callable[[], bool]
    ) -> tuple[ChartView, str]:
        bars = source.bars(symbol, timeframe, options.extended)
        if not len(bars):
            return ChartView(bars, None, None), f"There are no {timeframe} bars of {symbol}."
        panel = source.panel([symbol], timeframe, options.extended)
        averaged = averaged_candles(panel) if options.style is BarStyle.AVERAGED else None
        result, picture, trades, troubles = None, None, None, []
        try:
            if program is not None:
                result = run(program, panel, settings, extra=asked_of(program), context=RunContext(cancelled=cancelled))
                sealed = rule.hidden(program, (symbol,))
                picture = draw(result, paint, cancelled, sealed)
                trades = chart_trades(result, sealed)
        except RunProblem as error:
            troubles.append(str(error))
        picture, more = draw_beside(uses, workspace, panel, picture, paint, seals, cancelled)
        return ChartView(bars, result, picture, averaged, trades, time_marks(bars)), "\n".join([*troubles, *more])

    return look
