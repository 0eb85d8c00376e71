"""Where we look: symbol, timeframe, how the bars are shown, and what is asked of the core for that."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

import numpy as np
from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.chart_options import BarStyle, ChartOptions, PaneLayout
from oakladder.app.chart_view import ChartView, Look, chart_viewer
from oakladder.app.color_theme import ColorTheme, Themes
from oakladder.app.jobs import Jobs, Ticket, sentence_of
from oakladder.app.replay import ReplayController
from oakladder.app.rule import Compilation, OpenRule
from oakladder.app.script_overlays import ScriptsBeside
from oakladder.app.seals import RuleSeal, SealKeeper
from oakladder.app.symbols import Symbols
from oakladder.app.timers import single_shot
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.timeframes import ONE_DAY, STANDARD, Timeframe
from oakladder.engine.explain.why import Why
from oakladder.engine.signal_ages import RecentSignal, recent_signals
from oakladder.rung import Program, RunProblem
from oakladder.tuning import TUNING
from oakladder.user.workspace import Workspace

_AFTER_CHART_MS = 30


class ChartController(QObject):
    """Asks for everything on the screen: the chart first, what belongs to it after it has been painted.

    ``rest_due`` tells that the columns of the open script may come now, ``to_remember`` that something is to be
    written down, ``told`` a sentence for the user, ``trouble`` what is wrong with what is shown.
    """

    view_changed = pyqtSignal(object)
    why_changed = pyqtSignal(object)
    signal_ages_changed = pyqtSignal(object)
    place_changed = pyqtSignal()
    options_changed = pyqtSignal(object)
    theme_changed = pyqtSignal(object)
    bar_marked = pyqtSignal(int)
    rest_due = pyqtSignal()
    to_remember = pyqtSignal()
    told = pyqtSignal(str)
    trouble = pyqtSignal(str)

    def __init__(
        self,
        workspace: Workspace,
        library: BarLibrary,
        symbols: Symbols,
        jobs: Jobs,
        rule: OpenRule,
        overlays: ScriptsBeside,
        replay: ReplayController,
        themes: Themes,
        seals: SealKeeper,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._workspace, self._library, self._symbols, self._jobs = workspace, library, symbols, jobs
        self._rule, self._overlays, self._replay, self._seals = rule, overlays, replay, seals
        #: What is sealed for the open rule; set by the session.
        self.sealing: Callable[[], RuleSeal] = lambda: seals.of_rule("")
        self.symbol = next(iter(symbols.infos))
        self.timeframe = ONE_DAY
        self.themes, self.theme = themes, themes.day
        self.options = ChartOptions()
        self.panes = PaneLayout()
        self.view: ChartView | None = None
        self.signal_ages: dict[Timeframe, list[RecentSignal]] = {}
        self._mark: int | None = None
        self._columns_due = False
        self._put_off = 0
        #: The signal to be explained once the chart has been painted.
        self._why_due = ""
        self._after_chart = single_shot(self, _AFTER_CHART_MS)
        self._after_chart.timeout.connect(self._ask_the_rest)
        rule.prepare = lambda: (self._looker(), self._asked())
        rule.compiled.connect(self._compiled)
        rule.changed.connect(self._rule_changed)
        rule.failed.connect(self._failed)
        overlays.changed.connect(lambda: self.refresh(columns=False))
        replay.changed.connect(lambda: self.refresh())

    # --- where ------------------------------------------------------------------------------------

    def go_to(self, symbol: str | None = None, timeframe: Timeframe | None = None, mark: int | None = None) -> None:
        """Shows another symbol or timeframe; ``mark`` is the time of a bar to point at."""
        if symbol is not None and symbol in self._symbols.infos:
            self.symbol = symbol
        if timeframe is not None:
            self.timeframe = timeframe
        self._mark = mark
        self.to_remember.emit()
        self.place_changed.emit()
        self.refresh(columns=False)

    def step_timeframe(self, by: int) -> None:
        """Goes up or down the ladder."""
        orders = [f.order for f in STANDARD]
        at = int(np.searchsorted(orders, self.timeframe.order))
        self.go_to(timeframe=STANDARD[min(max(at + by, 0), len(STANDARD) - 1)])

    def step_replay(self, by: int, minutes: bool = False) -> bool:
        """Moves a replay by bars of the chart, or by minutes; False at either end of the bars."""
        frame = self._symbols.infos[self.symbol].finest if minutes else self.timeframe
        return self._replay.step(self.symbol, frame, self.options.extended, by)

    def set_theme(self, theme: ColorTheme) -> None:
        self.theme = theme
        self.theme_changed.emit(theme)
        self.refresh(columns=False)

    def set_options(self, options: ChartOptions) -> None:
        """Shows the bars in another way."""
        again = (options.extended, options.style is BarStyle.AVERAGED) != (
            self.options.extended,
            self.options.style is BarStyle.AVERAGED,
        )
        self.options = options
        self.options_changed.emit(options)
        self.to_remember.emit()
        if again:
            self.refresh(columns=False)

    # --- asking -----------------------------------------------------------------------------------

    def refresh(self, *, columns: bool = True) -> None:
        """Asks for everything on the screen again."""
        self._columns_due = self._columns_due or columns
        self._after_chart.stop()
        look, program, settings = self._looker(), self._rule.program, dict(self._rule.settings)
        self._jobs.start("chart", lambda ticket: look(program, settings, ticket.cancelled), self._shown, self._failed)

    def _looker(self) -> Look:
        return self.looker_at(self.symbol, self.timeframe)

    def looker_at(self, symbol: str, timeframe: Timeframe) -> Look:
        """What makes a view of any place with what the chart shows: its options, the scripts beside, the theme."""
        uses, paint = self._overlays.uses, self.theme.paint
        return chart_viewer(
            self._replay.source,
            symbol,
            timeframe,
            self.options,
            uses,
            self._workspace,
            paint,
            self._seals,
            self.sealing(),
        )

    def _asked(self) -> tuple[object, ...]:
        """What a view depends on besides the program."""
        uses = tuple((use.caption, use.path, use.text) for use in self._overlays.uses)
        return self.symbol, self.timeframe, self.theme.name, self.options, id(self._replay.source), uses

    def shown_as(self) -> tuple[object, ...]:
        """The timeframe, the hours and the kind of bars that are shown, and the scripts beside."""
        uses = tuple((use.caption, use.path, use.text, tuple(use.settings.items())) for use in self._overlays.uses)
        return self.timeframe, self.options.extended, self.options.style is BarStyle.AVERAGED, uses

    def _compiled(self, made: Compilation | None) -> None:
        self._columns_due = True
        if made is not None and made.seen is not None and made.asked == self._asked():
            self._jobs.stop("chart")  # it was asked of the program before
            self._shown(made.seen)
        else:  # the user has gone elsewhere meanwhile
            self.refresh()

    def _rule_changed(self) -> None:
        self.to_remember.emit()
        self.refresh()

    def _shown(self, made: tuple[ChartView, str]) -> None:
        if made[0].bars.symbol not in self._symbols.infos:
            return  # it is in the library no more
        self._after_chart.start()
        self.view, trouble = made
        self.trouble.emit(trouble)
        self.view_changed.emit(self.view)
        for notice in self._library.notices:
            self.told.emit(notice)
        self._library.notices.clear()
        if self._mark is not None:
            at = int(np.searchsorted(self.view.bars.times, self._mark, "right")) - 1
            self._mark = None
            if at >= 0:
                self.bar_marked.emit(at)

    def _failed(self, error: Exception) -> None:
        self.trouble.emit(sentence_of(error))

    def ask_why(self, signal: str) -> None:
        """Has a signal of the open script explained on the bars that are shown, once they are painted."""
        self._why_due = signal
        if self._after_chart.isActive():
            self._jobs.stop("why")
        else:
            self._explain()

    def _explain(self) -> None:
        signal, self._why_due = self._why_due, ""
        program, settings, source = self._rule.program, dict(self._rule.settings), self._replay.source
        view = self.view
        if program is None or view is None or view.result is None:
            self._jobs.stop("why")
            self.why_changed.emit(None)
            return
        symbol, timeframe, extended = view.bars.symbol, view.bars.timeframe, view.bars.extended
        rule = self.sealing()

        def work(ticket: Ticket) -> Why | None:
            try:
                panel = source.panel([symbol], timeframe, extended)
                sealed = rule.hidden(program, (symbol,))
                return Why(program, panel, signal, settings, sealed=sealed, context=ticket.context())
            except (KeyError, RunProblem):
                return None  # the chart has said why

        self._jobs.start("why", work, self.why_changed.emit, slow=True)

    def _ask_the_rest(self) -> None:
        """Runs what may follow once the chart is painted: Why, the ladder's signal ages, the watchlist's columns."""
        if self._jobs.busy_with("trial") and self._put_off < TUNING.put_off_most:
            self._put_off += 1
            self._after_chart.start()
            return
        self._put_off = 0
        if self._why_due:
            self._explain()
        settings = dict(self._rule.settings)
        work = self._pips_work(self.symbol, self._rule.program, settings)
        self._jobs.start("signal_ages", work, self._pipped, slow=True)
        if self._columns_due:
            self._columns_due = False
            self.rest_due.emit()

    def _pips_work(
        self, symbol: str, program: Program | None, settings: dict[str, object]
    ) -> Callable[[Ticket], dict[Timeframe, list[RecentSignal]]]:
        source, frames = self._replay.source, sorted({*STANDARD, self.timeframe}, key=lambda t: t.order)
        rule = self.sealing()

        def work(ticket: Ticket) -> dict[Timeframe, list[RecentSignal]]:
            made: dict[Timeframe, list[RecentSignal]] = {}
            for timeframe in frames:
                if program is None or ticket.cancelled():
                    break
                with contextlib.suppress(RunProblem, DataProblem):
                    sealed = rule.hidden(program, (symbol,))
                    context = ticket.context()
                    made[timeframe] = recent_signals(program, source, symbol, timeframe, settings, context, sealed)
            return made

        return work

    def _pipped(self, made: dict[Timeframe, list[RecentSignal]]) -> None:
        self.signal_ages = made
        self.signal_ages_changed.emit(made)

    @property
    def waiting(self) -> bool:
        """Whether something is still to be asked after the chart has been painted."""
        return self._after_chart.isActive()

    def stop(self) -> None:
        """Asks for nothing more."""
        self._after_chart.stop()
