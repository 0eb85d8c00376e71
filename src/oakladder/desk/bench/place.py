"""The Bench: watchlist, timeframe ladder, chart, script, all in sight."""

from __future__ import annotations

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from oakladder.app.basis import CHART, RULE_ON_SYMBOL
from oakladder.app.chart_options import ChartOptions
from oakladder.app.chart_view import ChartView
from oakladder.app.columns import ColumnPlace
from oakladder.app.session import Session
from oakladder.bars.time_words import bar_time
from oakladder.bars.timeframes import Timeframe
from oakladder.desk.bench.chart_commands import ChartCommands
from oakladder.desk.bench.chart_grid import ChartGrid
from oakladder.desk.bench.evidence import EvidenceSummary
from oakladder.desk.bench.folding import Folding
from oakladder.desk.bench.list_columns import Watching
from oakladder.desk.bench.lower_panel import LowerPanel, TrialSummary
from oakladder.desk.bench.replay_bar import ReplayBar
from oakladder.desk.bench.timeframes import Ladder
from oakladder.desk.bench.watchlist import WatchlistPanel
from oakladder.desk.chart.axes import short_number
from oakladder.desk.chart.chart import Chart
from oakladder.desk.chart.signal_strip import SignalStrip
from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.desk.look.theme import theme_of
from oakladder.desk.script.panel import ScriptPanel
from oakladder.desk.why.panel import WhyPanel
from oakladder.desk.widgets.self_drawn import Splitter
from oakladder.desk.widgets.veil import veiled
from oakladder.engine.columns.cells import Cell
from oakladder.engine.explain.why import Why
from oakladder.engine.signal_ages import RecentSignal
from oakladder.rung.service.conditions import conditions


class Bench(QWidget):
    """The main place."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent, objectName="place")
        self.session = session
        self.watchlist = WatchlistPanel(list(session.symbols.infos.values()), session.basis, theme_of(session))
        self.ladder = Ladder(theme_of(session))
        self.chart = Chart(theme_of(session))
        self.charts = ChartGrid(session, self.chart)
        self.strip = SignalStrip(theme_of(session))
        self.script = ScriptPanel(session)
        self.why = WhyPanel(theme_of(session))
        self.below = LowerPanel(
            self.why,
            EvidenceSummary(session.judging, session.basis, theme_of(session)),
            TrialSummary(session.trials, session.basis, theme_of(session)),
        )
        self.replay = ReplayBar(session)
        self.commands = ChartCommands(session, self.chart, self.replay, self)
        self.watching = Watching(session, self)
        self.heading, self.reading = QLabel(objectName="head"), QLabel(objectName="quiet")
        self.show_button = QToolButton(text="Show", popupMode=QToolButton.ToolButtonPopupMode.InstantPopup)
        self.show_button.setToolTip("Bar style, scale, hours, and what else the chart shows")
        self._lay_out()
        self._charted = veiled(session.basis, CHART, self.middle)
        self._pipped = veiled(session.basis, RULE_ON_SYMBOL, self.ladder)
        self._explained = veiled(session.basis, CHART, self.why)
        self._connect()

    def _lay_out(self) -> None:
        middle = self.middle = QWidget()
        column = QVBoxLayout(middle)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        head = QHBoxLayout()
        head.setContentsMargins(GAP, TIGHT, GAP, TIGHT)
        head.addWidget(self.heading)
        head.addSpacing(6)
        head.addWidget(self.show_button)
        head.addStretch(1)
        head.addWidget(self.reading)
        self.reading.setMinimumWidth(20)
        self.reading.setFont(ui_font())
        column.addLayout(head)
        column.addWidget(self.replay)
        column.addWidget(self.charts, 1)
        column.addWidget(self.strip)
        centre = QWidget()
        row = QHBoxLayout(centre)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(0)
        row.addWidget(self.ladder)
        row.addWidget(middle, 1)
        self.side = Splitter(Qt.Orientation.Vertical)
        self.side.addWidget(self.script)
        self.side.addWidget(self.below)
        self.side.setSizes([440, 330])
        self.side.setChildrenCollapsible(False)
        self.splitter = Splitter(Qt.Orientation.Horizontal)
        for widget in (self.watchlist, centre, self.side):
            self.splitter.addWidget(widget)
        for k, share in enumerate((0, 1, 0)):  # a large screen shows more bars: the sides keep their width
            self.splitter.setStretchFactor(k, share)
        centre.setMinimumWidth(430)
        self.splitter.setSizes([272, 628, 380])
        self.splitter.setChildrenCollapsible(False)
        self.watchlist.setMinimumWidth(272)
        self.side.setMinimumWidth(240)
        self.folding = Folding(self.splitter, centre, (self.watchlist, self.side))
        layout = QHBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.splitter)

    def _connect(self) -> None:
        session = self.session
        self.watchlist.list_chosen.connect(self.show_list)
        self.watchlist.columns_asked.connect(self.watching.menu)
        self.watchlist.show_columns(session.watchlist.columns)
        session.watchlist.columns_changed.connect(lambda: self.watchlist.show_columns(session.watchlist.columns))
        self.watchlist.chosen.connect(lambda symbol: session.chart.go_to(symbol=symbol))
        self.ladder.chosen.connect(lambda timeframe: session.chart.go_to(timeframe=timeframe))
        self.strip.asked.connect(self.chart.pin)
        self.chart.ranged.connect(self.strip.show_range)
        self.splitter.splitterMoved.connect(lambda *_: self._read())
        self.chart.hovered.connect(lambda _: self._read())
        self.chart.picked.connect(lambda _: self._read())
        self.chart.asked.connect(self.commands.pane_menu)
        self.chart.arranged.connect(session.remembered.soon)
        self.why.asked.connect(lambda _: self._ask_why())
        self.why.came.connect(self._ask_why)
        self.why.went.connect(self.mark_bar)
        session.chart.options_changed.connect(self._show_options)
        session.chart.view_changed.connect(self._show_view)
        session.trouble.connect(self.chart.show_trouble)
        session.chart.bar_marked.connect(self.mark_bar)
        session.chart.why_changed.connect(self._show_why)
        session.chart.signal_ages_changed.connect(self._show_pips)
        session.watchlist.quotes_changed.connect(self._show_quotes)
        session.watchlist.cells_changed.connect(self._show_cells)
        session.chart.place_changed.connect(self._show_place)
        session.chart.theme_changed.connect(lambda _: self._show_theme())

    # --- what the desk tells ----------------------------------------------------------------------

    def show_list(self, name: str) -> None:
        """Shows another list in the narrow watchlist."""
        infos = self.session.symbols.infos
        names = self.session.lists.names(infos)
        self.session.watchlist.show_list(name if name in names else names[0])
        self.watchlist.show_lists(names, self.session.watchlist.list_name)
        self.watchlist.show_infos(
            [infos[s] for s in self.session.lists.symbols(self.session.watchlist.list_name, infos)]
        )
        self.watchlist.show_symbol(self.session.chart.symbol)

    def _show_options(self, options: ChartOptions) -> None:
        self.chart.set_panes(self.session.chart.panes)
        if self.watchlist.lists.count() == 0:
            self.show_list(self.session.watchlist.list_name)
        self.chart.set_options(options)

    def _ask_why(self) -> None:
        """Has the chosen signal explained on the bars that are shown."""
        names = list(conditions(self.session.rule.program.trace)) if self.session.rule.program is not None else []
        signal = self.why.show_signals(names)
        if signal and self.why.isVisible():
            self.session.chart.ask_why(signal)
        elif not self.why.isVisible():  # requested when it becomes visible
            self._show_why(None)

    def _show_place(self) -> None:
        self.ladder.show_current(self.session.chart.timeframe)
        self.watchlist.show_symbol(self.session.chart.symbol)

    def _show_view(self, view: ChartView) -> None:
        info = self.session.symbols.infos[view.bars.symbol]
        before = self.chart.shown.bars if self.chart.shown is not None else None
        if before is not None and (before.symbol, before.timeframe) != (view.bars.symbol, view.bars.timeframe):
            self._show_why(None)  # what is explained there is of other bars
        self.chart.show_view(view, info.decimals)
        self._charted.took()
        self.strip.show_events(view.picture.events if view.picture else (), len(view.bars))
        self.strip.show_range(*self.chart.seen)
        self.why.show_trades(view.trades)
        self.heading.setText(f"{info.symbol}  {view.bars.timeframe}")
        self.heading.setToolTip(f"{info.name}, {info.sector}")
        self._show_place()
        self._read()
        self._ask_why()

    def _show_why(self, why: Why | None) -> None:
        bars = self.chart.shown.bars if self.chart.shown is not None else None
        if why is not None and bars is not None and why.result.panel.size != len(bars):
            return  # other bars are shown meanwhile; they have been asked about
        self.why.show_why(why, bars)
        self._explained.took() if why is not None else self._explained.cleared()
        self.why.follow(self.chart.read_bar())

    def _show_pips(self, signal_ages: dict[Timeframe, list[RecentSignal]]) -> None:
        self.ladder.show_signal_ages(signal_ages)
        self._pipped.took()

    def _show_quotes(self, quotes: dict[str, tuple[float, float]]) -> None:
        self.watchlist.show_quotes(quotes)

    def _show_cells(self, cells: dict[ColumnPlace, dict[str, Cell]]) -> None:
        self.watchlist.show_cells(cells, self.session.watchlist.heads)

    def _show_theme(self) -> None:
        theme = theme_of(self.session)
        for widget in (self.ladder, self.strip):
            widget.theme = theme
            widget.update()
        self.chart.set_theme(theme)
        self.watchlist.set_theme(theme)
        self.script.refresh_theme()
        self.why.set_theme(theme)
        for part in (self.below.trial, self.below.evidence):
            part.set_theme(theme)

    # --- reading and stepping ---------------------------------------------------------------------

    def _read(self) -> None:
        """Writes out the bar under the cursor (or pinned, or the last)."""
        bar, shown = self.chart.read_bar(), self.chart.shown
        self.why.follow(bar)
        if bar is None or shown is None:
            self.reading.setText("")
            return
        bars, d = shown.bars, self.chart.decimals
        o, h, lo, c, v = (float(bars[k][bar]) for k in ("open", "high", "low", "close", "volume"))
        before = float(bars["close"][bar - 1]) if bar else float("nan")
        moved = "" if not before or before != before else f"  {c / before - 1:+.2%}"
        when = bar_time(bars, bar)
        prices = f"O {o:,.{d}f}  H {h:,.{d}f}  L {lo:,.{d}f}  C {c:,.{d}f}{moved}"
        volume = f"V {short_number(v)}"
        room = self.charts.width() - self.heading.sizeHint().width() - self.show_button.width() - 36
        metrics = self.reading.fontMetrics()
        close = f"C {c:,.{d}f}"
        forms = (f"{when}   {prices}  {volume}", f"{when}  {prices}", prices, f"{when}  {close}{moved}", close + moved)
        self.reading.setToolTip(forms[0])
        self.chart.setAccessibleDescription(f"{self.heading.text()} {forms[0]}")  # the bar under the cursor
        self.reading.setText(next((t for t in forms if metrics.horizontalAdvance(t) <= room), forms[-1]))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self.folding.fit()
        QTimer.singleShot(0, self._read)  # once the widgets have their sizes, as many metrics are shown as fit

    def mark_bar(self, bar: int) -> None:
        """Pins a bar and brings it into view."""
        self.chart.pin(bar)
        self._read()

    def step_signal(self, forward: bool) -> None:
        """Goes to the next or previous occurrence of any signal."""
        at = self.chart.pinned
        if at is None:
            at = int(self.chart.seen[1]) if not forward else int(self.chart.seen[0])
        bar = self.strip.next_after(at) if forward else self.strip.last_before(at)
        if bar is None:
            self.session.status.emit("There is no later signal." if forward else "There is no earlier signal.")
        else:
            self.mark_bar(bar)

    def step_trade(self, forward: bool) -> None:
        """Goes to the entry of the next or previous trade."""
        shown = self.chart.shown
        trades = shown.trades if shown is not None else None
        if trades is None:
            self.session.status.emit("The script takes no position: it has no `trade`.")
            return
        at = self.chart.pinned
        if at is None:
            at = int(self.chart.seen[1]) if not forward else int(self.chart.seen[0])
        bar = trades.next_entry(at) if forward else trades.last_entry(at)
        if bar is None:
            self.session.status.emit("There is no later trade." if forward else "There is no earlier trade.")
            return
        self.mark_bar(bar)
        found = trades.held_at(bar)
        if found is not None:
            self.session.status.emit(trades.words(found))

    def more_charts(self) -> None:
        """One more chart beside; behind the fourth there is one again."""
        self.session.side_charts.more()

    def one_chart(self) -> None:
        """Back to one chart."""
        self.session.side_charts.none()

    def turn_charts(self) -> None:
        """Other symbols beside instead of other timeframes, or the other way round."""
        self.session.side_charts.turn()

    def read_evidence(self) -> None:
        """Shows what followed the open rule's signal, below its text."""
        self._read_below(self.below.evidence)

    def read_trial(self) -> None:
        """Shows what the open rule brought, below its text."""
        self._read_below(self.below.trial)

    def _read_below(self, part: QWidget) -> None:
        self.folding.show(self.side)
        self.below.show()
        self.below.setCurrentWidget(part)

    def fold_why(self) -> None:
        """Folds Why away, or brings it back with the bar at hand."""
        if self.below.isVisible() and self.below.currentWidget() is not self.why:
            self.below.setCurrentWidget(self.why)
        else:
            self.below.setVisible(not self.below.isVisible())
        self._ask_why()
