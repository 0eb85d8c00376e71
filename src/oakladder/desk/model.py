"""What the desk is looking at: symbol, timeframe, script, settings; asks the core and tells the views.

Views listen to the signals and hold no numbers of their own. Text and settings may change at any time; the
chart follows first, then the ladder's pips, then the watchlist's columns.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from oakladder.bars.errors import DataProblem
from oakladder.bars.library import BarLibrary
from oakladder.bars.series import Bars
from oakladder.bars.timeframes import ONE_DAY, STANDARD, Timeframe
from oakladder.engine.drawing import Picture, draw
from oakladder.engine.run import Result, run
from oakladder.engine.scan import Cell, Pip, cells, change, pips
from oakladder.rung import Problem, Program, RunProblem, ScriptError, compile_script
from oakladder.workspace import ScriptFileProblem, Workspace, read_script

from .jobs import Jobs, Ticket
from .look.theme import DAY, NIGHT, Theme

COLUMN_TIMEFRAMES = (ONE_DAY, Timeframe.parse("1h"))
_TYPING_PAUSE_MS = 8
_SAVE_PAUSE_MS = 600
_AFTER_CHART_MS = 30

NEW_SCRIPT = """rung 1
title "{title}"
about "Say in a sentence what this rule looks for."

setting length = 20 range 2..200 "Length"

let average = sma(close, length)

signal go = crosses_up(close, average)  bullish "Price climbs over its average"

line average color teal width 2 named "Average"
"""


@dataclass(frozen=True, slots=True)
class View:
    """One consistent picture of the chart: the bars, what the script gave on them, and what to draw."""

    bars: Bars
    result: Result | None
    picture: Picture | None


@dataclass(frozen=True, slots=True)
class Compiled:
    """What came of a text: its problems, and if it is sound the program and a view for what was asked then."""

    problems: tuple[Problem, ...]
    program: Program | None
    seen: tuple[View, str] | None
    asked: tuple[str, Timeframe, str, dict[str, object]]


def fitting(program: Program, settings: dict[str, object]) -> dict[str, object]:
    """The settings that a program still has and that still fit."""
    made: dict[str, object] = {}
    for name, value in settings.items():
        with contextlib.suppress(RunProblem):
            program.values_of({name: value})
            made[name] = value
    return made


class Desk(QObject):
    """The model behind the window."""

    view_changed = pyqtSignal(object)
    problems_changed = pyqtSignal(object)
    script_opened = pyqtSignal(str)
    settings_changed = pyqtSignal()
    pips_changed = pyqtSignal(object)
    quotes_changed = pyqtSignal(object)
    cells_changed = pyqtSignal(object, object)
    place_changed = pyqtSignal()
    theme_changed = pyqtSignal(object)
    bar_marked = pyqtSignal(int)
    trouble = pyqtSignal(str)
    status = pyqtSignal(str)

    def __init__(self, workspace: Workspace, library: BarLibrary, parent: QObject | None = None):
        super().__init__(parent)
        self.workspace, self.library = workspace, library
        self.jobs = Jobs(self)
        self.theme: Theme = DAY
        self.symbol = next(iter(library.infos))
        self.timeframe = ONE_DAY
        self.path: Path | None = None
        self.text = ""
        self.problems: tuple[Problem, ...] = ()
        self.program: Program | None = None
        self.settings: dict[str, object] = {}
        self.view: View | None = None
        self.pips: dict[Timeframe, list[Pip]] = {}
        self.cells: dict[Timeframe, dict[str, Cell]] = {}
        self._typing = QTimer(self, singleShot=True, interval=_TYPING_PAUSE_MS)
        self._typing.timeout.connect(self._recompile)
        self._saving = QTimer(self, singleShot=True, interval=_SAVE_PAUSE_MS)
        self._saving.timeout.connect(self.save)
        self._mark: int | None = None
        self._columns_due = False
        self._after_chart = QTimer(self, singleShot=True, interval=_AFTER_CHART_MS)
        self._after_chart.timeout.connect(self._ask_the_rest)

    # --- from the last time -----------------------------------------------------------------------

    def restore(self) -> None:
        """Opens what was open last time, or the first script on the first symbol."""
        state = self.workspace.remembered()
        if state.get("symbol") in self.library.infos:
            self.symbol = str(state["symbol"])
        with contextlib.suppress(ValueError):
            self.timeframe = Timeframe.parse(str(state.get("timeframe", "1d")))
        if state.get("theme") == NIGHT.name:
            self.set_theme(NIGHT)
        files = self.workspace.script_files()
        wanted = (
            [p for p in files if p.name == state.get("script")] or [p for p in files if p.stem == "tide_turn"] or files
        )
        if wanted:
            saved = state.get("settings")
            self.open_script(wanted[0], saved if isinstance(saved, dict) else {})

    def remember(self) -> None:
        """Writes down what is open, for the next start."""
        self.save()
        state: dict[str, object] = {
            "symbol": self.symbol,
            "timeframe": str(self.timeframe),
            "theme": self.theme.name,
            "script": self.path.name if self.path else "",
            "settings": self.settings,
        }
        try:
            self.workspace.remember(state)
        except OSError as error:
            self.trouble.emit(f"What is open could not be written down: {error.strerror}.")

    # --- the script -------------------------------------------------------------------------------

    def open_script(self, path: Path, settings: dict[str, object] | None = None) -> None:
        """Opens a script file, with settings of its own if given; what was open is saved first."""
        self.save()
        try:
            text = read_script(path)
        except ScriptFileProblem as error:
            self.trouble.emit(str(error))
            return
        self.path, self.text, self.settings = path, text, dict(settings or {})
        self.script_opened.emit(text)
        self._recompile()

    def new_script(self, title: str) -> Path:
        """Makes a script file with a rule to start from, and opens it. Raises `OSError`."""
        stem = "".join(c if c.isalnum() else "_" for c in title.lower()).strip("_") or "script"
        path, k = self.workspace.scripts / f"{stem}.rung", 2
        while path.exists():
            path, k = self.workspace.scripts / f"{stem}_{k}.rung", k + 1
        self.workspace.save_script(path, NEW_SCRIPT.format(title=title.replace('"', "'")))
        self.open_script(path)
        return path

    def set_text(self, text: str) -> None:
        """Takes what was typed; it is compiled after a short pause and saved after a longer one."""
        if text == self.text:
            return
        self.text = text
        self._typing.start()
        self._saving.start()

    def save(self) -> None:
        """Writes the script to its file, if it has changed."""
        self._saving.stop()
        if self.path is None or not self.text:
            return
        try:
            self.workspace.save_script(self.path, self.text)
        except OSError as error:
            self.trouble.emit(
                f"{self.path.name} cannot be saved: {error.strerror}. The text is still here; free some space or check the folder."
            )

    def _recompile(self) -> None:
        text, shelf, look, asked = self.text, self.workspace.shelf(self.text), self._looker(), self._asked()

        def work(ticket: Ticket) -> Compiled:
            try:
                program = compile_script(text, shelf)
            except ScriptError as error:
                return Compiled(error.problems, None, None, asked)
            return Compiled(program.problems, program, look(program, fitting(program, asked[-1])), asked)

        self.jobs.stop("chart")
        self.jobs.start("compile", work, self._compiled, self._failed)

    def _asked(self) -> tuple[str, Timeframe, str, dict[str, object]]:
        """What a view depends on besides the program."""
        return self.symbol, self.timeframe, self.theme.name, dict(self.settings)

    def _compiled(self, made: Compiled) -> None:
        self.problems, program = made.problems, made.program
        in_time = made.asked == self._asked()
        self.problems_changed.emit(self.problems)
        if program is None:
            return
        before = self.program.settings if self.program else ()
        self.program = program
        self.settings = fitting(program, self.settings)
        if program.settings != before:
            self.settings_changed.emit()
        self._columns_due = True
        if in_time and made.seen is not None:
            self.jobs.stop("chart")  # it was asked of the program before
            self._shown(made.seen)
        else:  # the user has gone elsewhere meanwhile
            self.refresh()

    def set_setting(self, name: str, value: object) -> None:
        """Changes a setting of the open script; nothing is compiled again."""
        if self.program is None:
            return
        try:
            self.program.values_of({name: value})
        except RunProblem as error:
            self.trouble.emit(str(error))
            return
        self.settings[name] = value
        self.refresh()

    # --- where we look ----------------------------------------------------------------------------

    def go_to(self, symbol: str | None = None, timeframe: Timeframe | None = None, mark: int | None = None) -> None:
        """Shows another symbol or timeframe; ``mark`` is the time of a bar to point at."""
        if symbol is not None and symbol in self.library.infos:
            self.symbol = symbol
        if timeframe is not None:
            self.timeframe = timeframe
        self._mark = mark
        self.place_changed.emit()
        self.refresh(columns=False)

    def step_timeframe(self, by: int) -> None:
        """Goes up or down the ladder."""
        orders = [f.order for f in STANDARD]
        at = int(np.searchsorted(orders, self.timeframe.order))
        self.go_to(timeframe=STANDARD[min(max(at + by, 0), len(STANDARD) - 1)])

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.theme_changed.emit(theme)
        self.refresh(columns=False)

    # --- asking the core --------------------------------------------------------------------------

    def refresh(self, *, columns: bool = True) -> None:
        """Asks for everything on the screen again."""
        self._columns_due = self._columns_due or columns
        self._after_chart.stop()
        look, program, settings = self._looker(), self.program, dict(self.settings)
        self.jobs.start("chart", lambda ticket: look(program, settings), self._shown, self._failed)

    def _looker(self) -> Callable[[Program | None, dict[str, object]], tuple[View, str]]:
        """What makes a view of the place that is looked at now: bars, result, picture, and a word if that fails."""
        symbol, timeframe, paint, library = self.symbol, self.timeframe, self.theme.paint, self.library

        def look(program: Program | None, settings: dict[str, object]) -> tuple[View, str]:
            bars = library.bars(symbol, timeframe)
            if program is None or not len(bars):
                return View(bars, None, None), "" if len(bars) else f"There are no {timeframe} bars of {symbol}."
            try:
                result = run(program, library.panel([symbol], timeframe), settings)
            except RunProblem as error:
                return View(bars, None, None), str(error)
            return View(bars, result, draw(result, paint)), ""

        return look

    def _ask_the_rest(self) -> None:
        """What may come after the chart has been painted: the ladder's pips, the watchlist's columns."""
        settings = dict(self.settings)
        self.jobs.start(
            "pips", self._pips_work(self.symbol, self.program, settings), self._pipped, self._failed, slow=True
        )
        if self._columns_due:
            self._columns_due = False
            self._ask_columns(self.program, settings)

    def _shown(self, made: tuple[View, str]) -> None:
        self._after_chart.start()
        self.view, trouble = made
        self.trouble.emit(trouble)
        self.view_changed.emit(self.view)
        for notice in self.library.notices:
            self.status.emit(notice)
        self.library.notices.clear()
        if self._mark is not None:
            at = int(np.searchsorted(self.view.bars.times, self._mark, "right")) - 1
            self._mark = None
            if at >= 0:
                self.bar_marked.emit(at)

    def _failed(self, error: Exception) -> None:
        self.trouble.emit(
            str(error) if isinstance(error, DataProblem | RunProblem) else f"Something went wrong: {error}"
        )

    def _pips_work(self, symbol: str, program: Program | None, settings: dict[str, object]) -> Any:
        def work(ticket: Ticket) -> dict[Timeframe, list[Pip]]:
            made: dict[Timeframe, list[Pip]] = {}
            for timeframe in STANDARD:
                if program is None or ticket.cancelled():
                    break
                with contextlib.suppress(RunProblem, DataProblem):
                    made[timeframe] = pips(program, self.library, symbol, timeframe, settings)
            return made

        return work

    def _pipped(self, made: dict[Timeframe, list[Pip]]) -> None:
        self.pips = made
        self.pips_changed.emit(made)

    def _ask_columns(self, program: Program | None, settings: dict[str, object]) -> None:
        symbols = list(self.library.infos)
        for timeframe in COLUMN_TIMEFRAMES:

            def work(ticket: Ticket, timeframe: Timeframe = timeframe) -> dict[str, Cell]:
                if program is None:
                    return {}
                with contextlib.suppress(RunProblem):
                    return cells(program, self.library, symbols, timeframe, settings, cancelled=ticket.cancelled)
                return {}

            def then(made: dict[str, Cell], timeframe: Timeframe = timeframe) -> None:
                self.cells[timeframe] = made
                self.cells_changed.emit(timeframe, made)

            self.jobs.start(f"column {timeframe}", work, then, self._failed, slow=True)

    def ask_quotes(self) -> None:
        """Asks for the last price and the day's change of every symbol."""
        symbols = list(self.library.infos)

        def work(ticket: Ticket) -> dict[str, tuple[float, float]]:
            made = {}
            for symbol in symbols:
                with contextlib.suppress(DataProblem):
                    closes = self.library.bars(symbol, ONE_DAY)["close"]
                    made[symbol] = (float(closes[-1]), change(closes)) if len(closes) else (float("nan"), float("nan"))
            return made

        self.jobs.start("quotes", work, self.quotes_changed.emit, self._failed)

    def idle(self) -> bool:
        """Whether everything asked for has arrived and nothing waits to be asked."""
        return not (self.jobs.busy() or self._typing.isActive() or self._after_chart.isActive())

    def close(self) -> None:
        """Saves everything and stops the threads."""
        self._typing.stop()
        self._after_chart.stop()
        self.remember()
        self.jobs.close()
