"""What the desk is looking at: symbol, timeframe, script, settings; asks the core and tells the views.

Views listen to the signals and hold no numbers of their own. Text and settings may change at any time; the
chart follows first, then the ladder's pips, then the watchlist's columns.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal

import numpy as np
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from oakladder.bars.errors import DataProblem
from oakladder.bars.series import Bars, Panel
from oakladder.bars.store.as_of import BarSource, LibraryAsOf
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, STANDARD, Timeframe
from oakladder.desk.beside import Use, compiled, draw_beside, read_use
from oakladder.desk.chart.options import BarStyle, ChartOptions, PaneLayout, read_options, read_panes
from oakladder.desk.columns import OPEN_SCRIPT, ColumnJobs, Place, ScriptColumn, open_columns, places_of, read_columns
from oakladder.desk.jobs import Jobs, Ticket, sentence_of
from oakladder.desk.look.theme import DAY, NIGHT, Theme
from oakladder.desk.open_script import OpenScript
from oakladder.desk.programs import Programs
from oakladder.desk.relay import Relay
from oakladder.disk import why, write_atomic
from oakladder.engine.columns import Cell, Filled
from oakladder.engine.picture.draw import Picture, draw
from oakladder.engine.quotes import quotes
from oakladder.engine.run import Result, run
from oakladder.engine.signal_ages import Pip, pips
from oakladder.engine.why import Why
from oakladder.rung import Problem, Program, RunProblem, ScriptError, compile_script
from oakladder.rung.program import unknown_symbols
from oakladder.user.folder_watch import Watch
from oakladder.user.lists import ALL, ListProblem
from oakladder.user.scripts import ScriptFileProblem
from oakladder.user.state import DeskState
from oakladder.user.workspace import Workspace

#: The narrow watchlist has room for so many sections of columns.
MOST_WATCHED = 3
_TYPING_PAUSE_MS = 8
_AFTER_CHART_MS = 30
_REMEMBER_PAUSE_MS = 1500

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
    #: The smoothed prices of averaged candles, where they are shown.
    averaged: Mapping[str, np.ndarray] | None = None


@dataclass(frozen=True, slots=True)
class Compiled:
    """What came of a text: its problems, and if it is sound the program and a view for what was asked then."""

    problems: tuple[Problem, ...]
    program: Program | None
    seen: tuple[View, str] | None
    asked: tuple[object, ...]
    settings: dict[str, object]


def fitting(program: Program, settings: dict[str, object]) -> dict[str, object]:
    """The settings that a program still has and that still fit."""
    made: dict[str, object] = {}
    for name, value in settings.items():
        with contextlib.suppress(RunProblem):
            program.values_of({name: value})
            made[name] = value
    return made


_AVERAGED = "rung 1\nlet made = smoothed_candle()\nline made.open\nline made.high\nline made.low\nline made.close\n"


def averaged_candles(panel: Panel) -> dict[str, np.ndarray]:
    """The prices of averaged candles, by the library's own definition; for showing only."""
    program = compile_script(_AVERAGED)
    result = run(program, panel)
    names = ("open", "high", "low", "close")
    return {name: result.number(o.roles["value"]) for name, o in zip(names, program.outputs, strict=True)}


class Desk(QObject):
    """The model behind the window."""

    view_changed = pyqtSignal(object)
    problems_changed = pyqtSignal(object)
    script_opened = pyqtSignal(str)
    settings_changed = pyqtSignal()
    why_changed = pyqtSignal(object)
    pips_changed = pyqtSignal(object)
    quotes_changed = pyqtSignal(object)
    cells_changed = pyqtSignal(object)
    watched_changed = pyqtSignal()
    place_changed = pyqtSignal()
    theme_changed = pyqtSignal(object)
    options_changed = pyqtSignal(object)
    uses_changed = pyqtSignal()
    replay_changed = pyqtSignal()
    bar_marked = pyqtSignal(int)
    #: Scripts or lists are otherwise now, by another program or another copy of this one.
    scripts_changed = pyqtSignal()
    lists_changed = pyqtSignal()
    #: What is wrong with what is shown, until it is taken back by an empty one; and anything else that is to be told.
    trouble = pyqtSignal(str)
    status = pyqtSignal(str)

    def __init__(self, workspace: Workspace, library: BarLibrary, parent: QObject | None = None):
        super().__init__(parent)
        self.workspace, self.library = workspace, library
        self.jobs = Jobs(self)
        self.jobs.failed.connect(self.status)
        self.programs = Programs(workspace, self.jobs, self)
        self.theme: Theme = DAY
        self.symbol = next(iter(library.infos))
        self.timeframe = ONE_DAY
        self.script = OpenScript(workspace, self)
        self.script.opened.connect(self._opened)
        self.script.told.connect(self.status)
        self.problems: tuple[Problem, ...] = ()
        self.program: Program | None = None
        self.settings: dict[str, object] = {}
        self.view: View | None = None
        self.options = ChartOptions()
        self.panes = PaneLayout()
        self.beside: list[Use] = []
        self.list_name = ALL
        self.lists, self.scans = workspace.lists(), workspace.scans()
        self.ladder_state: dict[str, object] = {}
        self.scan_state: dict[str, object] = {}
        self.quotes: dict[str, tuple[float, float]] = {}
        #: What is known: the whole library, or in a replay the library as of its moment.
        self.source: BarSource = library
        self.pips: dict[Timeframe, list[Pip]] = {}
        #: The columns of the narrow watchlist, and their cells.
        self.watched: list[ScriptColumn] = open_columns()
        self.cells: dict[Place, dict[str, Cell]] = {}
        self._listed: list[str] = []
        self._open_jobs, self._other_jobs = ColumnJobs(self, "watch open"), ColumnJobs(self, "watch")
        self._typing = QTimer(self, singleShot=True, interval=_TYPING_PAUSE_MS)
        self._typing.timeout.connect(self._recompile)
        self._mark: int | None = None
        self._columns_due, self._others_due = False, True
        self._after_chart = QTimer(self, singleShot=True, interval=_AFTER_CHART_MS)
        self._after_chart.timeout.connect(self._ask_the_rest)
        self._watch: Watch | None = None
        self._outside = Relay(self._take_outside, self)
        self._remembering = QTimer(self, singleShot=True, interval=_REMEMBER_PAUSE_MS)
        self._remembering.timeout.connect(self._write_state)

    # --- from the last time -----------------------------------------------------------------------

    def restore(self) -> None:
        """Opens what was open last time, or the first script on the first symbol."""
        state = self.workspace.remembered()
        if state.symbol in self.library.infos:
            self.symbol = state.symbol
        with contextlib.suppress(ValueError):
            self.timeframe = Timeframe.parse(state.timeframe)
        if state.theme == NIGHT.name:
            self.set_theme(NIGHT)
        self.options, self.panes = read_options(state.chart), read_panes(state.panes)
        self.ladder_state, self.scan_state = state.ladder, state.scan
        self.list_name = state.list_name or ALL
        watched = read_columns(state.watched)
        self.watched = watched if watched and len(places_of(watched)) <= MOST_WATCHED else open_columns()
        self.watched_changed.emit()
        self.script.start()
        self._restore_scripts(state)
        for notice in self.workspace.notices:
            self.status.emit(notice)
        self.workspace.notices.clear()

    def _restore_scripts(self, state: DeskState) -> None:
        try:
            self.workspace.script_folder.prepare()
        except OSError as error:
            self.status.emit(f"The folder of scripts cannot be written: {why(error)}.")
        found = (read_use(u, self.workspace.scripts) for u in state.beside)
        self.beside = [use for use in found if use is not None]
        self.options_changed.emit(self.options)
        self.uses_changed.emit()
        files = self.workspace.script_files()
        wanted = [p for p in files if p.name == state.script] or [p for p in files if p.stem == "tide_turn"] or files
        if wanted:
            self.open_script(wanted[0], dict(state.settings))

    def remember(self) -> None:
        """Has the script saved, and writes down what is open, for the next start."""
        self.save()
        self._write_state()

    def remember_soon(self) -> None:
        """Writes down what is open in a moment, so that it comes back even after a crash."""
        self._remembering.start()

    def _write_state(self) -> None:
        self._remembering.stop()
        state = DeskState(
            self.symbol,
            str(self.timeframe),
            self.theme.name,
            self.path.name if self.path else "",
            {k: v for k, v in self.settings.items() if isinstance(v, bool | int | float | str)},
            self.options.as_plain(),
            self.panes.as_plain(),
            [use.as_plain() for use in self.beside],
            self.list_name,
            [c.as_plain() for c in self.watched],
            self.ladder_state,
            self.scan_state,
        )
        try:
            self.workspace.remember(state)
        except OSError as error:
            self.status.emit(f"What is open could not be written down: {why(error)}.")

    # --- the script -------------------------------------------------------------------------------

    @property
    def path(self) -> Path | None:
        """The file of the open script."""
        return self.script.path

    @property
    def text(self) -> str:
        """The text of the open script."""
        return self.script.text

    def open_script(self, path: Path, settings: dict[str, object] | None = None) -> None:
        """Opens a script file, with settings of its own if given; what was open is saved."""
        before, self.settings = self.settings, dict(settings or {})
        if not self.script.open(path):
            self.settings = before

    def _opened(self, text: str) -> None:
        self.script_opened.emit(text)
        self._recompile()

    def new_script(self, title: str) -> Path:
        """Makes a script file with a rule to start from, and opens it. Raises `OSError`."""
        path = self.workspace.script_folder.free_path(title)
        write_atomic(path, NEW_SCRIPT.format(title=title.replace('"', "'")))
        self.open_script(path)
        return path

    def set_text(self, text: str) -> None:
        """Takes what was typed; it is noted at once, compiled after a short pause and saved after a longer one."""
        if text == self.text:
            return
        self.script.type(text)
        self._typing.start()

    def save(self) -> list[Path]:
        """Has every script saved that is not; gives those that could not be for now."""
        return self.script.save()

    def _recompile(self) -> None:
        text, shelf, look, asked = self.text, self.workspace.shelf(self.text), self._looker(), self._asked()
        settings, known = dict(self.settings), frozenset(self.library.infos)

        def work(ticket: Ticket) -> Compiled:
            try:
                program = compile_script(text, shelf, ticket.cancelled)
            except ScriptError as error:
                return Compiled(error.problems, None, None, asked, settings)
            missing = unknown_symbols(program.foreign, known)
            seen = look(program, fitting(program, settings), ticket.cancelled)
            return Compiled((*program.problems, *missing), program, seen, asked, settings)

        self.jobs.stop("chart")
        self.jobs.start("compile", work, self._compiled, self._failed)

    def _asked(self) -> tuple[object, ...]:
        """What a view depends on besides the program."""
        uses = tuple((use.caption, use.path, use.text) for use in self.beside)
        settings = tuple(sorted(self.settings.items()))
        return self.symbol, self.timeframe, self.theme.name, self.options, id(self.source), uses, settings

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
            self.status.emit(str(error))
            return
        self.settings[name] = value
        self.remember_soon()
        self.refresh()

    def drop_settings(self) -> None:
        """Every setting as the script has it."""
        self.settings.clear()
        self.remember_soon()
        self.refresh()

    # --- what stands beside it --------------------------------------------------------------------

    def add_beside(self, use: Use) -> None:
        """Puts another script, or the same with other settings, or a line beside the open one."""
        self.beside = [*self.beside, use]
        self._beside_changed()

    def remove_beside(self, k: int) -> None:
        """Takes one of those beside away."""
        self.beside = [u for j, u in enumerate(self.beside) if j != k]
        self._beside_changed()

    def set_beside(self, k: int, name: str, value: object) -> None:
        """Changes a setting of one of those beside."""
        try:
            compiled(self.beside[k], self.workspace).values_of({name: value})
        except (RunProblem, ScriptError, ScriptFileProblem) as error:
            self.status.emit(sentence_of(error))
            return
        self.beside[k].settings[name] = value
        self.remember_soon()
        self.refresh(columns=False)

    def _beside_changed(self) -> None:
        self.uses_changed.emit()
        self.remember_soon()
        self.refresh(columns=False)

    def set_options(self, options: ChartOptions) -> None:
        """Shows the bars in another way."""
        again = (options.extended, options.style is BarStyle.AVERAGED) != (
            self.options.extended,
            self.options.style is BarStyle.AVERAGED,
        )
        self.options = options
        self.options_changed.emit(options)
        self.remember_soon()
        if again:
            self.refresh(columns=False)

    # --- replay -----------------------------------------------------------------------------------

    @property
    def moment(self) -> int | None:
        """The moment that a replay stands at (UTC seconds); None when everything is known."""
        return self.source.moment if isinstance(self.source, LibraryAsOf) else None

    def replay(self, moment: int | None) -> None:
        """Shows everything as it was known at a moment, or (None) as it is known now."""
        self.source = self.library if moment is None else LibraryAsOf(self.library, moment)
        self._others_due = True
        self.replay_changed.emit()
        self.refresh()
        self.ask_quotes()

    def replay_step(self, by: int, minutes: bool = False) -> bool:
        """Moves a replay by bars of the chart, or by minutes; False where there is no further bar."""
        if self.moment is None:
            return False
        frame = self.library.infos[self.symbol].finest if minutes else self.timeframe
        try:
            bars = self.library.bars(self.symbol, frame, self.options.extended)
        except DataProblem as error:
            self.status.emit(str(error))
            return False
        closes = bars.calendar.closes(bars.times, frame, bars.extended)
        side: Literal["left", "right"] = "right" if by > 0 else "left"
        at = int(np.searchsorted(closes, self.moment, side)) + (by - 1 if by > 0 else by)
        if not 0 <= at < len(closes):
            self.status.emit("The replay has come to the last bar." if by > 0 else "There are no earlier bars.")
            return False
        self.replay(int(closes[at]))
        return True

    # --- where we look ----------------------------------------------------------------------------

    def go_to(self, symbol: str | None = None, timeframe: Timeframe | None = None, mark: int | None = None) -> None:
        """Shows another symbol or timeframe; ``mark`` is the time of a bar to point at."""
        if symbol is not None and symbol in self.library.infos:
            self.symbol = symbol
        if timeframe is not None:
            self.timeframe = timeframe
        self._mark = mark
        self.remember_soon()
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
        self.jobs.start("chart", lambda ticket: look(program, settings, ticket.cancelled), self._shown, self._failed)

    def _looker(self) -> Callable[[Program | None, dict[str, object], Callable[[], bool]], tuple[View, str]]:
        """What makes a view of the place that is looked at now: bars, result, picture, and a word if that fails."""
        symbol, timeframe, paint, library = self.symbol, self.timeframe, self.theme.paint, self.source
        options, uses, workspace = (
            self.options,
            [replace(u, settings=dict(u.settings)) for u in self.beside],
            self.workspace,
        )

        def look(
            program: Program | None, settings: dict[str, object], cancelled: Callable[[], bool]
        ) -> tuple[View, str]:
            bars = library.bars(symbol, timeframe, options.extended)
            if not len(bars):
                return View(bars, None, None), f"There are no {timeframe} bars of {symbol}."
            panel = library.panel([symbol], timeframe, options.extended)
            averaged = averaged_candles(panel) if options.style is BarStyle.AVERAGED else None
            result, picture, troubles = None, None, []
            try:
                if program is not None:
                    result = run(program, panel, settings, cancelled=cancelled)
                    picture = draw(result, paint, cancelled)
            except RunProblem as error:
                troubles.append(str(error))
            picture, more = draw_beside(uses, workspace, panel, picture, paint, cancelled)
            return View(bars, result, picture, averaged), "\n".join([*troubles, *more])

        return look

    def _ask_the_rest(self) -> None:
        """What may come after the chart has been painted: the ladder's pips, the watchlist's columns."""
        settings = dict(self.settings)
        self.jobs.start("pips", self._pips_work(self.symbol, self.program, settings), self._pipped, slow=True)
        if self._columns_due:
            self._columns_due = False
            self._ask_columns(others=self._others_due)
            self._others_due = False

    def ask_why(self, signal: str) -> None:
        """Has a signal of the open script explained on the bars that are shown."""
        program, settings, view, source = self.program, dict(self.settings), self.view, self.source
        if program is None or view is None or view.result is None:
            self.jobs.stop("why")
            self.why_changed.emit(None)
            return
        symbol, timeframe, extended = view.bars.symbol, view.bars.timeframe, view.bars.extended

        def work(ticket: Ticket) -> Why | None:
            try:
                panel = source.panel([symbol], timeframe, extended)
                return Why(program, panel, signal, settings, cancelled=ticket.cancelled)
            except (KeyError, RunProblem):
                return None  # the chart has said why

        self.jobs.start("why", work, self.why_changed.emit, slow=True)

    def _shown(self, made: tuple[View, str]) -> None:
        if made[0].bars.symbol not in self.library.infos:
            return  # it is in the library no more
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
        self.trouble.emit(sentence_of(error))

    def _pips_work(self, symbol: str, program: Program | None, settings: dict[str, object]) -> Any:
        source, frames = self.source, sorted({*STANDARD, self.timeframe}, key=lambda t: t.order)

        def work(ticket: Ticket) -> dict[Timeframe, list[Pip]]:
            made: dict[Timeframe, list[Pip]] = {}
            for timeframe in frames:
                if program is None or ticket.cancelled():
                    break
                with contextlib.suppress(RunProblem, DataProblem):
                    made[timeframe] = pips(program, source, symbol, timeframe, settings, ticket.cancelled)
            return made

        return work

    def _pipped(self, made: dict[Timeframe, list[Pip]]) -> None:
        self.pips = made
        self.pips_changed.emit(made)

    def _ask_columns(self, *, others: bool) -> None:
        """Asks for the cells of the open script, and of the other scripts in the narrow watchlist too if they are due."""
        symbols = self._listed = self.listed()
        places = places_of(self.watched)
        follows = [p for p in places if self.watched[p.column].script == OPEN_SCRIPT]
        self._open_jobs.ask(self.watched, follows, symbols, self._celled)
        if others:
            rest = [p for p in places if p not in follows]
            self._other_jobs.ask(self.watched, rest, symbols, self._celled)

    def _celled(self, made: dict[Place, Filled]) -> None:
        self.cells |= {place: column.cells for place, column in made.items()}
        self.cells_changed.emit(self.cells)
        for place, column in made.items():  # what is wrong with the open script stands beside its text
            if column.error is not None and self.watched[place.column].script != OPEN_SCRIPT:
                self.status.emit(f"A column of the watchlist: {sentence_of(column.error)}")

    def watch(self, columns: list[ScriptColumn]) -> None:
        """Shows other columns in the narrow watchlist; none stands for the open script's."""
        self.watched = columns or open_columns()
        self.cells = {}
        self.watched_changed.emit()
        self.remember_soon()
        self._ask_columns(others=True)

    def listed(self) -> list[str]:
        """The symbols of the list in the narrow watchlist. Where it is there no more, all symbols take its place."""
        try:
            return self.lists.symbols(self.list_name, self.library.infos)
        except ListProblem:
            self.status.emit(f"The list {self.list_name} is not there any more. All symbols are shown.")
            self.list_name = ALL
            self.lists_changed.emit()
            return self.lists.symbols(ALL, self.library.infos)

    def show_list(self, name: str) -> None:
        """Shows a list in the narrow watchlist; its cells are asked for where it has other symbols than before."""
        self.list_name = name
        self.remember_soon()
        if self.listed() != self._listed and self.program is not None:
            self._ask_columns(others=True)

    def library_changed(self) -> None:
        """Bars or symbols are otherwise now: everything that shows them is asked for again."""
        self._others_due = True
        if self.symbol not in self.library.infos:
            self.go_to(symbol=next(iter(self.library.infos), self.symbol))
        if any(p.is_error and p.code != "R214" for p in self.problems):
            self.refresh()
        else:
            self._recompile()  # whether the symbols that the script names are there may be otherwise
        self.ask_quotes()

    def ask_quotes(self) -> None:
        """Asks for the last price and the day's change of every symbol."""
        symbols, source = list(self.library.infos), self.source

        self.jobs.start("quotes", lambda ticket: quotes(source, symbols, cancelled=ticket.cancelled), self._quoted)

    def _quoted(self, made: dict[str, tuple[float, float]]) -> None:
        self.quotes = made
        self.quotes_changed.emit(made)

    # --- what other programs do -------------------------------------------------------------------

    def watch_folders(self) -> None:
        """Begins to look whether other programs change scripts, lists or scans."""
        if self._watch is None:
            self._watch = Watch([self.workspace.scripts, self.workspace.config], self._outside)

    def _take_outside(self, paths: set[Path]) -> None:
        """Files are otherwise: those of ours that we have written ourselves are found to be as they are held."""
        scripts, config = self.workspace.script_folder.place, self.workspace.config
        names = {p.name for p in paths if p.parent == scripts}
        if names or scripts in paths:
            self.script.look()
            self.scripts_changed.emit()
            if any(use.path is not None and use.path.name in names for use in self.beside):
                self.refresh(columns=False)
            if any(c.script in names for c in self.watched):
                self._ask_columns(others=True)
        if any(p.parent == config for p in paths) or config in paths:
            changed = [self.lists.fresh(), self.scans.fresh()]
            if any(changed):
                self.lists_changed.emit()

    def idle(self) -> bool:
        """Whether everything asked for has arrived and nothing waits to be asked."""
        return not (self.jobs.busy() or self._typing.isActive() or self._after_chart.isActive())

    def close(self) -> None:
        """Saves everything and stops the threads."""
        self._typing.stop()
        self._after_chart.stop()
        self._remembering.stop()
        self._outside.close()
        if self._watch is not None:
            self._watch.close()
        self.remember()
        self.script.close()
        self.jobs.close()
