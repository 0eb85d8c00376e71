"""The main chart with those beside it, linked by time: a bar that is pinned on one is marked on all."""

from __future__ import annotations

from PyQt6.QtCore import QTimer, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import QFrame, QGridLayout, QHBoxLayout, QLabel, QToolButton, QVBoxLayout, QWidget

from oakladder.app.chart_options import ChartOptions
from oakladder.app.session import Session
from oakladder.app.side_charts import SideChart
from oakladder.desk.chart.chart import Chart
from oakladder.desk.look.spacing import GAP, HAIR
from oakladder.desk.look.theme import theme_of

#: From this width on one chart beside stands right of the main one, below it else.
_WIDE = 900
#: Milliseconds between the repaints of two charts.
_PAUSE_MS = 15


class _Beside(QFrame):
    """A chart with a line above it: what it shows, and the ages of the signals."""

    def __init__(self, session: Session, parent: QWidget | None = None):
        super().__init__(parent, objectName="beside")
        self._session = session
        self.chart = Chart(theme_of(session))
        self.go = QToolButton(objectName="quiet")
        self.go.setToolTip("Show this on the main chart")
        self.ages = QLabel(objectName="quiet")
        self.ages.setMinimumWidth(20)
        row = QHBoxLayout()
        row.setContentsMargins(GAP, HAIR, GAP, 0)
        row.addWidget(self.go)
        row.addWidget(self.ages, 1)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(row)
        layout.addWidget(self.chart, 1)

    def show_companion(self, made: SideChart | None, words: str) -> None:
        """Shows what has arrived; without anything the ``words`` say why."""
        self.chart.setVisible(made is not None)
        self.go.setVisible(made is not None)
        if made is None:
            self.ages.setText(words)
            return
        bars = made.view.bars
        self.chart.set_panes(self._session.chart.panes)
        self.chart.set_options(self._session.chart.options)
        self.chart.show_view(made.view, self._session.symbols.infos[bars.symbol].decimals)
        self.chart.show_trouble(made.trouble)
        self.go.setText(f"{bars.symbol}  {bars.timeframe}")
        self.ages.setText(made.ages)
        self.ages.setToolTip(made.ages)
        self.chart.setAccessibleName(f"{bars.symbol} on {bars.timeframe}: {made.ages}")


class ChartGrid(QWidget):
    """``typed`` tells letters that were typed on a chart beside."""

    typed = pyqtSignal(str)

    def __init__(self, session: Session, chart: Chart, parent: QWidget | None = None):
        super().__init__(parent)
        self._session, self._main = session, chart
        self.beside: list[_Beside] = []
        self._linking = self._wide = False
        self._unpainted: list[Chart] = []
        self._pace = QTimer(self, singleShot=True, interval=_PAUSE_MS)
        self._pace.timeout.connect(self._paint_next)
        self._grid = QGridLayout(self)
        self._grid.setContentsMargins(0, 0, 0, 0)
        self._grid.setSpacing(HAIR)
        self._grid.addWidget(chart, 0, 0)
        chart.time_pinned.connect(lambda time: self._link(chart, time))
        session.side_charts.changed.connect(self._arrange)
        session.side_charts.arrived.connect(self._arrived)
        session.chart.theme_changed.connect(self._show_theme)
        session.chart.options_changed.connect(self._show_options)
        self._arrange()

    def _arrange(self) -> None:
        count = self._session.side_charts.count
        self._unpainted = []
        for extra in self.beside[count:]:
            extra.hide()
            extra.chart.close()
            self._grid.removeWidget(extra)
            extra.deleteLater()
        del self.beside[count:]
        while len(self.beside) < count:
            self.beside.append(self._made(len(self.beside)))
        for part in (self._main, *self.beside):
            self._grid.removeWidget(part)
        for line in range(2):
            self._grid.setRowStretch(line, 0)
            self._grid.setColumnStretch(line, 0)
        wide = self._wide = self.width() >= _WIDE
        places = {
            0: [(0, 0, 1, 1)],
            1: [(0, 0, 1, 1), (0, 1, 1, 1) if wide else (1, 0, 1, 1)],
            2: [(0, 0, 1, 2), (1, 0, 1, 1), (1, 1, 1, 1)],
            3: [(0, 0, 1, 1), (0, 1, 1, 1), (1, 0, 1, 1), (1, 1, 1, 1)],
        }[count]
        for part, place in zip((self._main, *self.beside), places, strict=True):
            self._grid.addWidget(part, *place)
            self._grid.setRowStretch(place[0], 1)
            self._grid.setColumnStretch(place[1], 1)
        self._one_by_one()

    def _one_by_one(self) -> None:
        """Has the charts beside painted one at each turn: all of them in one go would hold the window up."""
        self._unpainted = [b.chart for b in self.beside]
        for chart in self._unpainted:
            chart.setUpdatesEnabled(False)
        if self._unpainted:
            self._pace.start()

    def _paint_next(self) -> None:
        if self._unpainted:
            self._unpainted.pop(0).setUpdatesEnabled(True)
        if self._unpainted:
            self._pace.start()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._one_by_one()
        if (self.width() >= _WIDE) is not self._wide:
            self._arrange()

    def _made(self, k: int) -> _Beside:
        made = _Beside(self._session, self)
        made.chart.time_pinned.connect(lambda time: self._link(made.chart, time))
        made.chart.typed.connect(self.typed)
        made.go.clicked.connect(lambda: self._go_to(k))
        return made

    def _go_to(self, k: int) -> None:
        places = self._session.side_charts.places()
        if k < len(places):
            self._session.chart.go_to(*places[k])

    def _arrived(self, k: int, made: SideChart | None) -> None:
        if k >= len(self.beside):
            return
        if made is not None and made.view.bars.symbol not in self._session.symbols.infos:
            made = None  # it is in the library no more
        self.beside[k].show_companion(made, self._nothing(k))
        if made is not None and self._main.pinned_time is not None:
            self._pin(self.beside[k].chart, self._main.pinned_time)

    def _nothing(self, k: int) -> str:
        """Why there is nothing to show on a chart beside."""
        places = self._session.side_charts.places()
        if k >= len(places):
            return "The watchlist has no other symbol to show here."
        symbol, timeframe = places[k]
        return f"There are no {timeframe} bars of {symbol}."

    def _link(self, source: Chart, time: int | None) -> None:
        """Marks on all charts the bar that holds a moment of one."""
        if not self._linking:
            for chart in (self._main, *(b.chart for b in self.beside)):
                if chart is not source:
                    self._pin(chart, time)

    def _pin(self, chart: Chart, time: int | None) -> None:
        self._linking = True
        try:
            bars = chart.shown.bars if chart.shown is not None else None
            if time is None or bars is None or not len(bars) or time < bars.times[0]:  # it had not begun by then
                chart.pin(None)
            else:
                chart.go_to_time(time)
        finally:
            self._linking = False

    def _show_options(self, options: ChartOptions) -> None:
        for part in self.beside:
            part.chart.set_options(options)

    def _show_theme(self) -> None:
        for part in self.beside:
            part.chart.set_theme(theme_of(self._session))
        self._one_by_one()
