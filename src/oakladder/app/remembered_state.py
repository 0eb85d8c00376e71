"""What is open, from one start to the next."""

from __future__ import annotations

import contextlib

from PyQt6.QtCore import QObject, pyqtSignal

from oakladder.app.chart_controller import ChartController
from oakladder.app.chart_options import read_options, read_panes
from oakladder.app.columns import read_columns
from oakladder.app.jobs import Jobs, sentence_of
from oakladder.app.open_script import OpenScript
from oakladder.app.rule import OpenRule
from oakladder.app.script_overlays import ScriptsBeside
from oakladder.app.side_charts import SideCharts
from oakladder.app.symbols import Symbols
from oakladder.app.timers import single_shot
from oakladder.app.trials import TrialController
from oakladder.app.watchlist import WatchlistController
from oakladder.bars.timeframes import Timeframe
from oakladder.disk import why
from oakladder.user.first_steps import FirstSteps
from oakladder.user.state import DeskState
from oakladder.user.workspace import Workspace

_PAUSE_MS = 1500


class StateRecorder(QObject):
    """Saves what is open a moment after it has changed, and restores it. ``told`` reports what failed."""

    told = pyqtSignal(str)

    def __init__(
        self,
        workspace: Workspace,
        symbols: Symbols,
        script: OpenScript,
        rule: OpenRule,
        overlays: ScriptsBeside,
        chart: ChartController,
        watchlist: WatchlistController,
        trials: TrialController,
        side_charts: SideCharts,
        jobs: Jobs,
        parent: QObject | None = None,
    ):
        super().__init__(parent)
        self._workspace, self._symbols = workspace, symbols
        self._script, self._rule, self._overlays, self._chart, self._watchlist = (
            script,
            rule,
            overlays,
            chart,
            watchlist,
        )
        self._trials, self._side_charts, self._jobs = trials, side_charts, jobs
        #: What the Ladder and the Scan want to find again.
        self.ladder: dict[str, object] = {}
        self.steps = FirstSteps(away=True)
        self.scan: dict[str, object] = {}
        self._pause = single_shot(self, _PAUSE_MS)
        self._pause.timeout.connect(self.write)
        for part in (chart, watchlist, trials, side_charts):
            part.to_remember.connect(self.soon)
        overlays.changed.connect(self.soon)

    def restore(self) -> None:
        """Opens what was open last time, or the first script on the first symbol."""
        state, chart = self._workspace.remembered(), self._chart
        if state.symbol in self._symbols.infos:
            chart.symbol = state.symbol
        with contextlib.suppress(ValueError):
            chart.timeframe = Timeframe.parse(state.timeframe)
        if state.theme == chart.themes.night.name:
            chart.set_theme(chart.themes.night)
        chart.options, chart.panes = read_options(state.chart), read_panes(state.panes)
        self.ladder, self.scan = state.ladder, state.scan
        self.steps = FirstSteps.read(state.steps, known=bool(state.symbol))
        self._trials.restore(state.trial)
        self._side_charts.restore(state.companions)
        self._watchlist.restore(read_columns(state.watched), state.list_name)
        self._script.start()
        self._restore_scripts(state)
        self.tell_notices()

    def tell_notices(self) -> None:
        """Says what was found to be wrong with the user's files."""
        while self._workspace.notices:
            self.told.emit(self._workspace.notices.pop(0))

    def _restore_scripts(self, state: DeskState) -> None:
        try:
            self._workspace.script_folder.prepare()
        except OSError as error:
            self.told.emit(f"The folder of scripts cannot be written: {why(error)}.")
        self._chart.options_changed.emit(self._chart.options)
        self._overlays.restore(state.beside)
        files = self._workspace.script_files()
        wanted = [p for p in files if p.name == state.script] or [p for p in files if p.stem == "tide_turn"] or files
        if wanted:
            self._rule.open(wanted[0], dict(state.settings))

    def soon(self) -> None:
        """Writes down what is open in a moment, so that it comes back even after a crash."""
        self._pause.start()

    @property
    def waiting(self) -> bool:
        """Whether something is to be written down in a moment."""
        return self._pause.isActive()

    def write(self) -> None:
        """Writes it down now."""
        self._pause.stop()
        chart, path = self._chart, self._script.path
        state = DeskState(
            chart.symbol,
            str(chart.timeframe),
            chart.theme.name,
            path.name if path else "",
            {k: v for k, v in self._rule.settings.items() if isinstance(v, bool | int | float | str)},
            chart.options.as_plain(),
            chart.panes.as_plain(),
            [use.as_plain() for use in self._overlays.uses],
            self._watchlist.list_name,
            [c.as_plain() for c in self._watchlist.columns],
            self.ladder,
            self.scan,
            self._trials.as_plain(),
            self.steps.as_plain(),
            self._side_charts.as_plain(),
        )
        self._jobs.write(lambda: self._workspace.remember(state), failed=self._not_written, kind="state")

    def _not_written(self, error: Exception) -> None:
        reason = f"{why(error)}." if isinstance(error, OSError) else sentence_of(error)
        self.told.emit(f"The open places could not be remembered: {reason}")

    def now(self) -> None:
        """Has the script saved, and writes down what is open, for the next start."""
        self._script.save()
        self.write()
