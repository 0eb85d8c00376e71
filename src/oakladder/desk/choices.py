"""What the palette offers: everything in the window that can be done or opened."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from functools import partial
from typing import Protocol

from oakladder.app.actions import ACTIONS, Action
from oakladder.app.session import Session
from oakladder.bars.timeframes import STANDARD, Timeframe
from oakladder.desk.bench.place import Bench
from oakladder.desk.palette import PaletteLine, day_of
from oakladder.engine.picture.parts import PRICE, VOLUME
from oakladder.log import log_file


class Goes(Protocol):
    """Goes to a symbol or a timeframe on the Bench."""

    def __call__(self, symbol: str | None = None, timeframe: Timeframe | None = None) -> None: ...


def choices(
    session: Session, bench: Bench, doer: Callable[[Action], Callable[[], None]], go_to: Goes
) -> list[PaletteLine]:
    """A line for each symbol, timeframe, action, script and pane."""
    made = [
        PaletteLine(f"{i.symbol}  {i.name}", i.sector, lambda s=i.symbol: go_to(symbol=s))  # type: ignore[misc]
        for i in session.symbols.infos.values()
    ]
    made += [PaletteLine(f"Timeframe {t}", "", lambda t=t: go_to(timeframe=t)) for t in STANDARD]  # type: ignore[misc]
    hints = {"open_log": str(log_file())}
    made += [PaletteLine(a.words, hints.get(a.name, a.shortcut), doer(a)) for a in ACTIONS if a.name != "open_palette"]
    for path in session.workspace.script_files():
        title = path.stem.replace("_", " ")
        made.append(PaletteLine(f"Script {title}", "", lambda p=path: session.rule.open(p)))  # type: ignore[misc]
        made.append(PaletteLine(f"Beside: {title}", "", lambda p=path: bench.commands.put_beside(p)))  # type: ignore[misc]
    for name, pane in bench.chart.panes.items():
        if name != PRICE:
            word = "Expand" if pane.folded else "Collapse"
            made.append(PaletteLine(f"{word} the pane {name}", "", lambda n=name: bench.chart.fold_pane(n)))  # type: ignore[misc]
        if name not in (PRICE, VOLUME):
            for words, by in (("up", -1), ("down", 1)):
                go = partial(bench.chart.move_pane, name, by)
                made.append(PaletteLine(f"Move the pane {name} {words}", "", go))
    return made


def made_of(typed: str, bench: Bench, go_to: Goes) -> list[PaletteLine]:
    """What the typed words themselves mean: a timeframe of any length, a date, a line to draw."""
    made = []
    with contextlib.suppress(ValueError):
        frame = Timeframe.parse(typed)
        made.append(PaletteLine(f"Timeframe {frame}", "", lambda: go_to(timeframe=frame)))
    day = day_of(typed)
    if day is not None:
        made.append(PaletteLine(f"Go to {day.item():%d %b %Y}", "", lambda: bench.commands.go_to_day(day)))
    return made
