"""What can be done with the chart: the actions of the Bench, by the names in `actions.ACTIONS`."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np
from PyQt6.QtCore import QObject, QPoint
from PyQt6.QtWidgets import QApplication, QFileDialog, QWidget

from oakladder.app.chart_options import BarStyle, ScaleKind
from oakladder.app.script_overlays import ScriptUse, line_use
from oakladder.app.session import Session
from oakladder.desk.bench.replay_bar import ReplayBar
from oakladder.desk.chart.chart import Chart
from oakladder.desk.chart.export import picture_of, save_data
from oakladder.desk.widgets.questions import one_of, words_for
from oakladder.desk.widgets.transient import passing_menu
from oakladder.engine.picture.parts import PRICE, VOLUME
from oakladder.rung import analyse
from oakladder.user.scripts import title_of


class ChartCommands(QObject):
    """Carries out the chart's actions; ``owner`` is what their menus and dialogs stand over."""

    def __init__(self, session: Session, chart: Chart, replay: ReplayBar, owner: QWidget):
        super().__init__(owner)
        self.session, self.chart, self.replay, self._owner = session, chart, replay, owner

    # --- how bars are shown -----------------------------------------------------------------------

    def _style(self, style: BarStyle) -> None:
        self.session.chart.set_options(replace(self.session.chart.options, style=style))

    def show_candles(self) -> None:
        self._style(BarStyle.CANDLES)

    def show_bars(self) -> None:
        self._style(BarStyle.BARS)

    def show_line(self) -> None:
        self._style(BarStyle.LINE)

    def show_averaged(self) -> None:
        self._style(BarStyle.AVERAGED)

    def _scale(self, scale: ScaleKind) -> None:
        self.session.chart.set_options(replace(self.session.chart.options, scale=scale))

    def scale_plain(self) -> None:
        self._scale(ScaleKind.PLAIN)

    def scale_log(self) -> None:
        self._scale(ScaleKind.LOG)

    def scale_percent(self) -> None:
        self._scale(ScaleKind.PERCENT)

    def toggle_extended(self) -> None:
        self.session.chart.set_options(
            replace(self.session.chart.options, extended=not self.session.chart.options.extended)
        )

    def toggle_as_known(self) -> None:
        self.session.chart.set_options(
            replace(self.session.chart.options, as_known=not self.session.chart.options.as_known)
        )
        word = "where it became known" if self.session.chart.options.as_known else "where the script puts it"
        self.session.status.emit(f"Every drawing stands {word}.")

    # --- reading ----------------------------------------------------------------------------------

    def measure_pinned(self) -> None:
        """Measures from the pinned bar to the last, close to close."""
        chart = self.chart
        if chart.pinned is None or chart.shown is None:
            self.session.status.emit(
                "Pin a bar first: click it, or step to a signal. Shift and drag measures anywhere."
            )
            return
        closes = chart.shown.bars["close"]
        last = len(closes) - 1
        chart.measure((chart.pinned, float(closes[chart.pinned])), (last, float(closes[last])))

    def go_to_day(self, day: np.datetime64) -> None:
        """Pins the first bar of a day and brings it into view."""
        chart = self.chart
        if chart.shown is None:
            return
        number = day.astype("datetime64[D]").astype(np.int64)
        closes = chart.shown.bars.calendar.day_close(np.array([number]), extended=True)
        chart.go_to_time(int(closes[0]) - 1)

    # --- replay -----------------------------------------------------------------------------------

    def start_replay(self) -> None:
        """Goes back to the pinned bar, or to a bar in the middle of what is seen."""
        chart = self.chart
        if chart.shown is None or not len(chart.shown.bars):
            return
        bars = chart.shown.bars
        at = chart.pinned
        if at is None:
            at = int(np.clip(sum(chart.seen) / 2, 0, len(bars) - 1))
        closes = bars.calendar.closes(bars.times[at : at + 1], bars.timeframe, bars.extended)
        chart.pin(None)
        self.session.replay.stand_at(int(closes[0]))

    def replay_forward(self) -> None:
        self._in_replay(lambda: self.replay.step(1))

    def replay_back(self) -> None:
        self._in_replay(lambda: self.replay.step(-1))

    def replay_play(self) -> None:
        self._in_replay(self.replay.toggle)

    def leave_replay(self) -> None:
        self.replay.leave()

    def _in_replay(self, go: object) -> None:
        """Runs a replay command; starts a replay first if none runs."""
        if self.session.replay.moment is None:
            self.start_replay()
        else:
            go()  # type: ignore[operator]

    # --- beside the script ------------------------------------------------------------------------

    def add_line(self) -> None:
        """Asks for an expression and draws it as a line."""
        words = words_for(
            self._owner, "Which line do you want to add?", "Draw", "sma(close, 50)", "Any expression in Rung."
        )
        if words is not None and words.strip():
            self.put_line(words.strip())

    def put_line(self, expression: str) -> None:
        """Draws an expression as a line beside the script, or says what is wrong with it."""
        use = line_use(expression)
        error = next((p for p in analyse(use.text).problems if p.is_error), None)
        if error is not None:
            self.session.status.emit(f"`{expression}` cannot be drawn: {error.message} {error.fix}".strip())
            return
        self.session.overlays.add(use)

    def put_beside(self, path: Path) -> None:
        """Puts a script of the folder beside the open one."""
        self.session.overlays.add(ScriptUse(title_of(path.name), path))

    def add_beside(self) -> None:
        """Asks which script to overlay on the chart."""
        files = self.session.workspace.script_files()
        titles = [title_of(p.name) for p in files]
        which = one_of(self._owner, "Which script do you want to add to the chart?", "Add", titles)
        if which is not None:
            self.put_beside(files[which])

    def copy_beside(self) -> None:
        """Puts the open script beside itself as it is set now, to compare the two."""
        if self.session.script.path is not None:
            path, settings = self.session.script.path, dict(self.session.rule.settings)
            use = ScriptUse(title_of(path.name), path, "", settings)
            self.session.jobs.write(self.session.script.save, lambda _: self.session.overlays.add(use))

    # --- panes ------------------------------------------------------------------------------------

    def pane_menu(self, name: str, place: QPoint) -> None:
        """What can be done with a pane, where the mouse asked."""
        menu = passing_menu(self._owner)
        if name not in (PRICE, VOLUME):
            menu.addAction("Move up", lambda: self.chart.move_pane(name, -1))
            menu.addAction("Move down", lambda: self.chart.move_pane(name, 1))
        if name != PRICE:
            folded = self.chart.panes[name].folded
            menu.addAction("Expand" if folded else "Collapse", lambda: self.chart.fold_pane(name))
        for entry in self.chart.panes[name].overlay.content.entries:
            if entry.name != "Volume":
                word = "Show" if entry.hidden else "Hide"
                menu.addAction(f"{word} {entry.name}", lambda n=entry.name: self.chart.toggle(n))
        menu.addSeparator()
        menu.addAction("Copy the picture", self.copy_picture)
        menu.popup(place)

    # --- taking it away ---------------------------------------------------------------------------

    def copy_picture(self) -> None:
        board = QApplication.clipboard()
        if board is not None:
            board.setPixmap(self.chart.grab())
            self.session.status.emit("The chart is on the clipboard.")

    def save_chart(self) -> None:
        """Asks where to, and writes the chart as PNG or SVG."""
        name, _ = QFileDialog.getSaveFileName(
            self._owner,
            "Save the chart",
            f"{self.session.chart.symbol}_{self.session.chart.timeframe}.png",
            "PNG (*.png);;SVG (*.svg)",
        )
        if name:
            self.write_chart(Path(name))

    def save_chart_data(self) -> None:
        """Asks where to, and writes bars and lines as CSV."""
        name, _ = QFileDialog.getSaveFileName(
            self._owner,
            "Save the data",
            f"{self.session.chart.symbol}_{self.session.chart.timeframe}.csv",
            "CSV (*.csv)",
        )
        if name:
            self.write_chart(Path(name))

    def write_chart(self, path: Path) -> None:
        """Writes the chart by the ending of the name: PNG, SVG or CSV."""
        shown = self.chart.shown
        if path.suffix.lower() == ".csv" and shown is not None:
            write: Callable[[], None] = partial(save_data, shown, path)
        else:
            write = picture_of(self.chart, path)
        said = self.session.status.emit
        self.session.jobs.start(
            f"export {path}", lambda _: write(), lambda _: said(f"Saved as {path.name}."), owed=True
        )
