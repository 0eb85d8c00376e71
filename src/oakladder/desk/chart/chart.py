"""The chart: bars with what a script draws on them, panes below, one crosshair through all."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QEvent, QObject, QPointF, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QResizeEvent
from PyQt6.QtWidgets import QToolTip, QWidget

from oakladder.app.chart_options import ChartOptions, PaneLayout
from oakladder.app.chart_view import ChartView
from oakladder.app.time_marks import time_marks
from oakladder.desk.chart.areas import Lanes
from oakladder.desk.chart.autoscale import RIGHT_MARGIN, fit, price_scale
from oakladder.desk.chart.axes import short_number
from oakladder.desk.chart.bars import Hours, PriceBars, VolumeColumns
from oakladder.desk.chart.canvas import Canvas
from oakladder.desk.chart.drawings import hand_out, last_price
from oakladder.desk.chart.edges import Edges
from oakladder.desk.chart.keys import by_key
from oakladder.desk.chart.labels import write
from oakladder.desk.chart.marks import MarksAndLabels
from oakladder.desk.chart.overlay import Measure
from oakladder.desk.chart.pane import Pane
from oakladder.desk.chart.pane_view import Hands
from oakladder.desk.chart.readout import measured, words_of
from oakladder.desk.chart.stack import LANES, Stack
from oakladder.desk.chart.trades import TradePaths
from oakladder.desk.look.theme import Theme
from oakladder.engine.picture.parts import PRICE, VOLUME

_LEAST_SEEN = 8
#: Initial width of a bar in pixels, gap included; a wider chart shows more bars, not wider ones.
_BAR_WIDTH = 4.4


class Chart(Canvas):
    """Shows a `View`. ``hovered`` tells the bar under the cursor (-1 for none), ``ranged`` the bars seen."""

    hovered = pyqtSignal(int)
    picked = pyqtSignal(int)
    ranged = pyqtSignal(float, float)
    typed = pyqtSignal(str)
    asked = pyqtSignal(str, object)
    arranged = pyqtSignal()
    #: The time of the bar that is pinned now (the seconds of its opening), or None.
    time_pinned = pyqtSignal(object)

    #: What is shown; and how wide the chart was. Its size changes before it is made.
    shown: ChartView | None = None
    _width = 0

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.options = ChartOptions()
        self.decimals = 2
        self.pinned: int | None = None
        self._pinned_time: int | None = None
        self._cursor: int | None = None
        self._range = (0.0, 1.0)
        self._series: tuple[str, str] | None = None
        for part in (self, self.viewport()):
            part.setAccessibleName("Chart")
        self.hours, self.bars, self.volume = Hours(), PriceBars(), VolumeColumns()
        self.lanes, self.trades = Lanes(theme), TradePaths()
        hands = Hands(self.pan, self.zoom, self._clicked, self._measured, self._asked)
        self.stack = Stack(self, hands, theme)
        self._build([PRICE, VOLUME], 0)
        self._edges = Edges(self.stack, self.viewport(), self.arranged.emit)
        self.viewport().installEventFilter(self)
        self.set_theme(theme)

    @property
    def panes(self) -> dict[str, Pane]:
        """The panes by name, from top to bottom."""
        return self.stack.panes

    @property
    def pinned_time(self) -> int | None:
        """The time of the pinned bar."""
        return self._pinned_time

    @property
    def marks(self) -> MarksAndLabels:
        """The marks and labels at the bars."""
        return self.panes[PRICE].marks

    # --- panes ------------------------------------------------------------------------------------

    def _build(self, names: list[str], lanes: int) -> None:
        self.stack.build(names, lanes, self._fill)

    def _fill(self, panes: dict[str, Pane]) -> None:
        """Puts the painters of the bars into their panes."""
        for layer, height in ((self.hours, 1), (self.bars, 10), (self.trades, 25)):
            panes[PRICE].add(layer, height)
        panes[VOLUME].add(self.volume, 10)
        if LANES in panes:
            panes[LANES].add(self.lanes, 10)

    def _rebuild(self) -> None:
        """Makes the panes again after they have changed places."""
        if self.shown is not None:
            self._build(list(self.panes), len(self.lanes.lanes))
            self.show_view(self.shown, self.decimals)

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.setBackgroundBrush(theme.color("ground"))
        self.stack.set_theme(theme)

    def set_options(self, options: ChartOptions) -> None:
        """Shows the bars in another way."""
        self.options = options
        self.bars.style = options.style
        for pane in self.panes.values():
            pane.areas.as_known = pane.marks.as_known = options.as_known
        self._apply_range()
        self.viewport().update()

    def set_panes(self, layout: PaneLayout) -> None:
        """Arranges the panes as they were left."""
        self.stack.layout = layout

    def fold_pane(self, name: str) -> None:
        """Folds a pane to its legend, or opens it."""
        self.stack.fold(name)
        self._apply_range()
        self.arranged.emit()

    def move_pane(self, name: str, by: int) -> None:
        """Moves a pane up (-1) or down (1)."""
        if self.stack.moved(name, by):
            self._rebuild()
            self.arranged.emit()

    def toggle(self, name: str) -> None:
        """Hides what is drawn under a name, or shows it again."""
        self.stack.layout.hidden ^= {name}
        if self.shown is not None:
            self._hand_out(self.shown)
            self._apply_range()
            self._write()
        self.arranged.emit()

    # --- what is shown ----------------------------------------------------------------------------

    def show_view(self, view: ChartView, decimals: int) -> None:
        """Shows other bars or another picture; the part that is seen stays where it can."""
        self.decimals = decimals
        bars, picture = view.bars, view.picture
        series = (bars.symbol, str(bars.timeframe))
        lanes = picture.lanes if picture is not None else ()
        names = [PRICE, VOLUME, *([LANES] if lanes else []), *(picture.panes if picture is not None else ())]
        if set(names) != set(self.panes):
            self._build(names, len(lanes))
        self.stack.set_lanes(len(lanes))
        self.lanes.show_lanes(lanes, self.theme)
        right_time = self._right_time() if self.shown is not None else None
        before, self.shown = self.shown, view
        self.panes[PRICE].axis.decimals = decimals
        self.stack.time_axis.show_marks(view.marks or time_marks(bars))
        self.hours.show_bars(bars, None, self.theme)
        self.bars.drawn = view.averaged
        self.bars.show_bars(bars, picture.bar_colours if picture else None, self.theme)
        self.volume.show_bars(bars, picture.volume_colours if picture else None, self.theme)
        self.trades.show_trades(view.trades, self.theme)
        self._hand_out(view)
        if series != self._series or before is None:
            self._repin(series)
            self._first_range(right_time if before is not None and series[0] == (self._series or ("",))[0] else None)
        elif self.pinned is not None and self.pinned >= len(bars):
            self._repin(series)
        elif before is not None and self._range[1] > len(before.bars) - 1 and len(bars) != len(before.bars):
            by = len(bars) - len(before.bars)  # the newest bar stays where it was
            self._range = (self._range[0] + by, self._range[1] + by)
        self._series = series
        self.panes[PRICE].overlay.content.last = last_price(bars, decimals, self.theme)
        self._apply_range()
        self._write()

    def _hand_out(self, view: ChartView) -> None:
        hidden = self.stack.layout.hidden
        hand_out(self.panes, view.bars, view.picture, hidden, self.options.as_known, self.theme)

    def show_trouble(self, sentence: str) -> None:
        """A sentence in the legend about why the script shows nothing new."""
        self.panes[PRICE].overlay.content.trouble = sentence
        self.panes[PRICE].overlay.update()

    def _repin(self, series: tuple[str, str]) -> None:
        """Keeps the pinned bar by its time on every timeframe of a symbol; another symbol begins without one."""
        assert self.shown is not None
        bars = self.shown.bars
        self.pinned = None
        if series[0] != (self._series or ("",))[0]:
            self._pinned_time = None
        if self._pinned_time is not None and len(bars):
            at = int(np.searchsorted(bars.times, self._pinned_time, "right")) - 1
            self.pinned = at if at >= 0 else None

    def _right_time(self) -> int | None:
        """The time of the last bar seen, if it is not the newest."""
        assert self.shown is not None
        bars, last = self.shown.bars, int(self._range[1])
        return int(bars.times[last]) if 0 <= last < len(bars) - 1 else None

    def _first_range(self, right_time: int | None) -> None:
        assert self.shown is not None
        count = len(self.shown.bars)
        right = count - 1
        if right_time is not None:
            right = int(np.searchsorted(self.shown.bars.times, right_time, "right")) - 1
        many = max(self.width() / _BAR_WIDTH, _LEAST_SEEN)
        self._range = (right - many, right + many * RIGHT_MARGIN)
        if self.pinned is not None:  # the same bar in view on every timeframe
            self.centre(self.pinned)

    # --- the part that is seen --------------------------------------------------------------------

    @property
    def seen(self) -> tuple[float, float]:
        """First and last visible bar, margin included."""
        return self._range

    def see(self, first: float, last: float) -> None:
        """Shows the bars from first to last."""
        count = len(self.shown.bars) if self.shown is not None else 1
        width = min(max(last - first, _LEAST_SEEN), max(count * 1.2, _LEAST_SEEN * 2))
        last = min(max(last, min(_LEAST_SEEN, count)), count + width * 0.5)
        self._range = (last - width, last)
        self._apply_range()

    def pan(self, by: float) -> None:
        """Moves along the bars."""
        self.see(self._range[0] + by, self._range[1] + by)

    def zoom(self, factor: float, around: float | None = None) -> None:
        """Shows more bars (factor above 1) or fewer."""
        first, last = self._range
        at = last if around is None else around
        self.see(at - (at - first) * factor, at + (last - at) * factor)

    def centre(self, bar: int) -> None:
        """Brings a bar into view, if it is not there."""
        first, last = self._range
        if not first + 2 <= bar <= last - 2:
            width = last - first
            self.see(bar - width * 0.6, bar + width * 0.4)

    def go_to_time(self, time: int) -> None:
        """Pins the bar that holds a moment and brings it into view."""
        if self.shown is not None and len(self.shown.bars):
            at = int(np.searchsorted(self.shown.bars.times, time, "right")) - 1
            self.pin(max(at, 0))

    def _apply_range(self) -> None:
        if self.shown is None:
            return
        for pane in self.panes.values():
            pane.show_bars(*self._range)
        bars = self.shown.bars
        first, last = max(int(self._range[0]), 0), min(int(self._range[1]) + 1, len(bars))
        if first < last:
            self.panes[PRICE].set_scale(price_scale(self.options.scale, bars, first, last))
            fit(self.panes, self.bars, self.volume, first, last)
        self.ranged.emit(*self._range)

    # --- reading ----------------------------------------------------------------------------------

    def _pane_at(self, place: QPointF) -> Pane | None:
        return next((p for p in self.panes.values() if p.view.sceneBoundingRect().contains(place)), None)

    def moved_to(self, place: QPointF) -> None:
        if self.shown is None or not len(self.shown.bars):
            return
        pane = self._pane_at(place)
        if pane is None:
            self._set_cursor(None, None, None)
            return
        spot = pane.view.from_scene(place)
        self._set_cursor(int(np.clip(round(spot.x()), 0, len(self.shown.bars) - 1)), pane, spot.y())
        self._hover(pane, place)

    def _hover(self, pane: Pane, place: QPointF) -> None:
        """Says what a mark or label means, and on which bar it became known."""
        point = QPointF(self.mapFromScene(place))
        found = pane.marks.at(point)
        self.panes[PRICE].overlay.content.known = (
            (found.bar, found.known) if found and found.known != found.bar else None
        )
        if found is not None and self.shown is not None:
            QToolTip.showText(self.mapToGlobal(point.toPoint()), words_of(self.shown.bars, found), self)
        else:
            QToolTip.hideText()

    def _set_cursor(self, bar: int | None, over: Pane | None, height: float | None) -> None:
        for pane in self.panes.values():
            content = pane.overlay.content
            content.cursor_x = bar
            content.cursor_y = height if pane is over else None
            if pane is over and height is not None:
                value = pane.scale.back(height)
                content.cursor_text = f"{value:,.{self.decimals}f}" if pane.name == PRICE else short_number(value)
        self._cursor = bar
        self._write()
        self.hovered.emit(-1 if bar is None else bar)

    def read_bar(self) -> int | None:
        """The bar whose values are read out: under the cursor, else pinned, else the last."""
        if self.shown is None or not len(self.shown.bars):
            return None
        for bar in (self._cursor, self.pinned):
            if bar is not None and bar < len(self.shown.bars):
                return bar
        return len(self.shown.bars) - 1

    def _write(self) -> None:
        """Fills legends and notes for the bar that is read."""
        if self.shown is not None:
            hidden = self.stack.layout.hidden
            write(self.panes, self.shown, self.read_bar(), self.pinned, self.decimals, self.theme, hidden)

    # --- mouse and keys -----------------------------------------------------------------------------

    def pin(self, bar: int | None) -> None:
        """Keeps a bar marked and read out; one that is not there (any more) lets go of what was pinned."""
        if bar is not None and not 0 <= bar < (len(self.shown.bars) if self.shown is not None else 0):
            bar = None
        self.pinned = bar
        self._pinned_time = None
        if bar is not None and self.shown is not None:
            self._pinned_time = int(self.shown.bars.times[bar])
            self.centre(bar)
        self.time_pinned.emit(self._pinned_time)
        self.panes[PRICE].overlay.content.measure = None
        self._write()
        self.hovered.emit(-1 if self._cursor is None else self._cursor)

    def _clicked(self, place: QPointF) -> None:
        self.setFocus()
        pane = self._pane_at(place)
        if self.shown is None or not len(self.shown.bars) or pane is None:
            return
        point = QPointF(self.mapFromScene(place))
        if pane.overlay.fold_at(point):
            self.fold_pane(pane.name)
            return
        name = pane.overlay.entry_at(point)
        if name is not None and name != "Volume":
            self.toggle(name)
            return
        bar = int(np.clip(round(pane.view.from_scene(place).x()), 0, len(self.shown.bars) - 1))
        self.pin(None if bar == self.pinned else bar)
        self.picked.emit(bar)

    def _asked(self, place: QPointF) -> None:
        pane = self._pane_at(place)
        if pane is not None:
            self.asked.emit(pane.name, self.mapToGlobal(self.mapFromScene(place)))

    def _measured(self, start: QPointF, end: QPointF) -> None:
        pane = self.panes[PRICE]
        ends = []
        for place in (start, end):
            spot = pane.view.from_scene(place)
            ends.append((spot.x(), pane.scale.back(spot.y())))
        self.measure(ends[0], ends[1])

    def measure(self, start: tuple[float, float], end: tuple[float, float]) -> Measure | None:
        """Measures between two points, each a bar and a price, and shows what there is to say."""
        if self.shown is None or not len(self.shown.bars):
            return None
        made = measured(self.shown.bars, start, end, self.decimals)
        self.panes[PRICE].overlay.content.measure = made
        self.panes[PRICE].overlay.update()
        return made

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Leave:
            self._set_cursor(None, None, None)
        if isinstance(event, QMouseEvent) and self._edges.follow(event, self.mapToScene(event.position().toPoint())):
            return True
        return bool(super().eventFilter(watched, event))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The bars stay as wide as they are, and the newest of them stay where they are."""
        super().resizeEvent(event)
        self.stack.apply_heights()
        before, now = self._width, self.width()
        self._width = now
        if self.shown is not None and before and before != now:
            first, last = self._range
            self.see(last - (last - first) * now / before, last)
        else:  # the margin above the bars has a fixed height in pixels
            self._apply_range()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        event.setAccepted(by_key(self, event))
