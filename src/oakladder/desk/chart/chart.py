"""The chart: bars with what a script draws on them, panes below, one crosshair through all."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QEvent, QObject, QPointF, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QWidget

from oakladder.engine.drawing import PRICE, VOLUME

from ..look.theme import Theme, qcolor
from ..model import View
from .areas import LANE_HEIGHT, Lanes
from .axes import TimeAxis, short_number
from .items import Candles, MarksAndLabels, VolumeColumns
from .overlay import Entry
from .pane import Pane, PaneView

LANES = "lanes"
#: Empty room at the right, as a share of the bars seen.
ROOM = 0.06
_FIRST_SEEN = 130
_LEAST_SEEN, _PANE_ROWS = 8, 2


class Chart(pg.GraphicsLayoutWidget):
    """Shows a `View`. ``hovered`` tells the bar under the cursor (-1 for none), ``ranged`` the bars seen."""

    hovered = pyqtSignal(int)
    picked = pyqtSignal(int)
    ranged = pyqtSignal(float, float)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.shown: View | None = None
        self.decimals = 2
        self.pinned: int | None = None
        self._cursor: int | None = None
        self._range = (0.0, 1.0)
        self._series: tuple[str, str] | None = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setFrameShape(self.Shape.NoFrame)
        self.ci.layout.setSpacing(0)
        self.ci.layout.setContentsMargins(0, 0, 0, 0)
        self.time_axis = TimeAxis()
        self.panes: dict[str, Pane] = {}
        self.candles, self.volume, self.marks = Candles(), VolumeColumns(), MarksAndLabels()
        self.lanes = Lanes(theme)
        self._build([PRICE, VOLUME])
        self.setMouseTracking(True)
        self.scene().sigMouseMoved.connect(self._mouse_at)
        self.viewport().installEventFilter(self)
        self.set_theme(theme)

    # --- panes ------------------------------------------------------------------------------------

    def _build(self, names: list[str]) -> None:
        """Makes the panes: price, lanes if there are any, volume, and one for each other unit or name."""
        for item in (self.candles, self.volume, self.marks, self.lanes):
            if item.getViewBox() is not None:
                item.getViewBox().removeItem(item)
        self.ci.clear()
        self.panes = {}
        self.time_axis = TimeAxis()
        for row, name in enumerate(names):
            view = PaneView(self.pan, self.zoom, self._clicked)
            pane = Pane(name, view, self.theme, self.time_axis if row == len(names) - 1 else None)
            self.panes[name] = pane
            self.ci.addItem(pane.plot, row=row, col=0)
            self.ci.layout.setRowStretchFactor(row, {PRICE: 12, VOLUME: 2}.get(name, 3))
        self.panes[PRICE].view.addItem(self.candles, ignoreBounds=True)
        self.candles.setZValue(10)
        self.panes[PRICE].view.addItem(self.marks, ignoreBounds=True)
        self.marks.setZValue(30)
        self.panes[VOLUME].view.addItem(self.volume, ignoreBounds=True)
        self.panes[VOLUME].plot.setMaximumHeight(90)
        if LANES in self.panes:
            self.panes[LANES].view.addItem(self.lanes, ignoreBounds=True)
            self.panes[LANES].axis.setStyle(showValues=False)
        for pane in self.panes.values():
            pane.set_theme(self.theme)

    def set_theme(self, theme: Theme) -> None:
        self.theme = theme
        self.setBackground(theme.color("ground"))
        for pane in self.panes.values():
            pane.set_theme(theme)

    # --- what is shown ----------------------------------------------------------------------------

    def show_view(self, view: View, decimals: int) -> None:
        """Shows other bars or another picture; the part that is seen stays where it can."""
        self.decimals = decimals
        bars, picture = view.bars, view.picture
        series = (bars.symbol, str(bars.timeframe))
        lanes = picture.lanes if picture is not None else ()
        names = [PRICE, *([LANES] if lanes else []), VOLUME, *(picture.panes if picture is not None else ())]
        if names != list(self.panes):
            self._build(names)
        self.lanes.show_lanes(lanes, self.theme)
        if lanes:
            self.panes[LANES].plot.setFixedHeight(len(lanes) * LANE_HEIGHT + 5)
        right_time = self._right_time() if self.shown is not None else None
        before, self.shown = self.shown, view
        self.panes[PRICE].axis.decimals = decimals
        self.time_axis.show_bars(bars)
        self.candles.show_bars(bars, picture.bar_colours if picture else None, self.theme)
        self.volume.show_bars(bars, picture.volume_colours if picture else None, self.theme)
        self.marks.show_all(bars, picture.marks if picture else (), picture.labels if picture else (), self.theme)
        for name, pane in self.panes.items():
            if picture is None:
                pane.lines.show_lines([])
                pane.areas.show_areas(None, [], [], [], [])
                continue
            pane.lines.show_lines([line for line in picture.lines if line.pane == name])
            pane.areas.show_areas(
                picture.ground_colours if name == PRICE else None,
                [band for band in picture.bands if band.pane == name],
                [columns for columns in picture.histograms if columns.pane == name],
                list(picture.zones) if name == PRICE else [],
                [link for link in picture.links if link.pane == name],
            )
        if series != self._series or before is None:
            self.pinned = None
            self._first_range(right_time if before is not None and series[0] == (self._series or ("",))[0] else None)
        self._series = series
        self._apply_range()
        self._write(self._cursor)

    def show_trouble(self, sentence: str) -> None:
        """A sentence in the legend about why the script shows nothing new."""
        self.panes[PRICE].overlay.content.trouble = sentence
        self.panes[PRICE].overlay.update()

    def _right_time(self) -> int | None:
        """The time of the last bar seen, if it is not the newest."""
        assert self.shown is not None
        bars, last = self.shown.bars, int(self._range[1])
        return int(bars.times[last]) if 0 <= last < len(bars) - 1 else None

    def _first_range(self, right_time: int | None) -> None:
        assert self.shown is not None
        count = len(self.shown.bars)
        right = (
            count - 1 if right_time is None else int(np.searchsorted(self.shown.bars.times, right_time, "right")) - 1
        )
        self._range = (right - _FIRST_SEEN, right + _FIRST_SEEN * ROOM)

    # --- the part that is seen --------------------------------------------------------------------

    @property
    def seen(self) -> tuple[float, float]:
        """First and last bar seen, with the empty room."""
        return self._range

    def see(self, first: float, last: float) -> None:
        """Shows the bars from first to last."""
        count = len(self.shown.bars) if self.shown is not None else 1
        width = min(max(last - first, _LEAST_SEEN), max(count * 1.2, _LEAST_SEEN * 2))
        last = min(max(last, min(_LEAST_SEEN, count)), count + width * 0.5)
        self._range = (last - width, last)
        self._apply_range()

    def pan(self, by: float, _: float = 0.0) -> None:
        self.see(self._range[0] + by, self._range[1] + by)

    def zoom(self, factor: float, around: float | None = None) -> None:
        first, last = self._range
        at = last if around is None else around
        self.see(at - (at - first) * factor, at + (last - at) * factor)

    def centre(self, bar: int) -> None:
        """Brings a bar into view, if it is not there."""
        first, last = self._range
        if not first + 2 <= bar <= last - 2:
            width = last - first
            self.see(bar - width * 0.6, bar + width * 0.4)

    def _apply_range(self) -> None:
        if self.shown is None:
            return
        for pane in self.panes.values():
            pane.view.setXRange(*self._range, padding=0)
        bars = self.shown.bars
        first, last = max(int(self._range[0]), 0), min(int(self._range[1]) + 1, len(bars))
        if first < last:
            self._scale(first, last)
        self.ranged.emit(*self._range)

    def _scale(self, first: int, last: int) -> None:
        """Fits each pane's scale to what it shows."""
        assert self.shown is not None
        bars = self.shown.bars
        low, high = _ends([bars["low"][first:last], bars["high"][first:last]])
        for name, pane in self.panes.items():
            values = [
                np.where(line.colours[first:last] != 0, line.values[first:last], np.nan) for line in pane.lines.lines
            ]
            values += [part for band in pane.areas.bands for part in (band.first[first:last], band.second[first:last])]
            values += [part for c in pane.areas.histograms for part in (c.values[first:last], c.base[first:last])]
            a, b = _ends(values)
            if name == PRICE:
                if low == low:  # a line far away must not flatten the bars
                    span = max(high - low, 1e-12)
                    a, b = max(a, low - span * 0.6), min(b, high + span * 0.6)
                pane.scale_to(float(np.fmin(low, a)), float(np.fmax(high, b)), 0.09)
            elif name == LANES:
                continue
            elif name == VOLUME:
                top = _ends([bars["volume"][first:last], *values])[1]
                pane.view.setYRange(0, top * 1.08 if top > 0 else 1, padding=0)
            else:
                pane.scale_to(a, b)

    # --- reading ----------------------------------------------------------------------------------

    def _mouse_at(self, position: QPointF) -> None:
        if self.shown is None:
            return
        for pane in self.panes.values():
            if pane.view.sceneBoundingRect().contains(position):
                place = pane.view.mapSceneToView(position)
                bar = int(np.clip(round(place.x()), 0, len(self.shown.bars) - 1)) if len(self.shown.bars) else None
                self._set_cursor(bar, pane, place.y())
                return
        self._set_cursor(None, None, None)

    def _set_cursor(self, bar: int | None, over: Pane | None, value: float | None) -> None:
        for pane in self.panes.values():
            content = pane.overlay.content
            content.cursor_x = bar
            content.cursor_y = value if pane is over else None
            if pane is over and value is not None:
                content.cursor_text = f"{value:,.{self.decimals}f}" if pane.name == PRICE else short_number(value)
        self._cursor = bar
        self._write(bar)
        self.hovered.emit(-1 if bar is None else bar)

    def read_bar(self) -> int | None:
        """The bar whose values are read out: under the cursor, else pinned, else the last."""
        if self.shown is None or not len(self.shown.bars):
            return None
        for bar in (self._cursor, self.pinned):
            if bar is not None and bar < len(self.shown.bars):
                return bar
        return len(self.shown.bars) - 1

    def _write(self, bar: int | None) -> None:
        """Fills legends and notes for the bar that is read."""
        at = self.read_bar()
        picture = self.shown.picture if self.shown is not None else None
        for name, pane in self.panes.items():
            content = pane.overlay.content
            content.pinned = self.pinned
            content.entries = []
            if name == VOLUME and self.shown is not None and at is not None:
                content.entries = [
                    Entry(self.theme.color("mute"), "Volume", short_number(float(self.shown.bars["volume"][at])))
                ]
            for line in pane.lines.lines:
                if line.is_level or at is None:
                    continue
                value = float(line.values[at])
                text = "–" if value != value else f"{value:,.{self.decimals}f}" if name == PRICE else f"{value:,.4g}"
                shown = line.colours[line.colours != 0]
                color = qcolor(int(shown[-1])) if len(shown) else self.theme.color("mute")
                content.entries.append(Entry(color, line.name, text))
            if name == PRICE and at is not None and picture is not None:
                content.notes = [(n.corner, n.text_at(at), qcolor(n.colour_at(at))) for n in picture.notes]
            pane.overlay.update()

    # --- by hand ----------------------------------------------------------------------------------

    def pin(self, bar: int | None) -> None:
        """Keeps a bar marked and read out."""
        self.pinned = bar
        if bar is not None:
            self.centre(bar)
        self._write(self._cursor)

    def _clicked(self, x: float) -> None:
        self.setFocus()
        if self.shown is None or not len(self.shown.bars):
            return
        bar = int(np.clip(round(x), 0, len(self.shown.bars) - 1))
        self.pin(None if bar == self.pinned else bar)
        self.picked.emit(bar)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.Leave:
            self._set_cursor(None, None, None)
        return bool(super().eventFilter(watched, event))

    def close(self) -> bool:
        """Lets go of the viewport first: closing empties the scene while the mouse may still leave it."""
        viewport = self.viewport()
        if viewport is not None:
            viewport.removeEventFilter(self)
        return bool(super().close())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        width = self._range[1] - self._range[0]
        count = len(self.shown.bars) if self.shown is not None else 0
        plain = event.modifiers() in (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.KeypadModifier)
        key = event.key() if plain or event.text() in "+-=" else 0
        match key:
            case Qt.Key.Key_Left:
                self.pan(-width * 0.1)
            case Qt.Key.Key_Right:
                self.pan(width * 0.1)
            case Qt.Key.Key_Up | Qt.Key.Key_Plus | Qt.Key.Key_Equal:
                self.zoom(0.8)
            case Qt.Key.Key_Down | Qt.Key.Key_Minus:
                self.zoom(1.25)
            case Qt.Key.Key_Home:
                self.see(0, width)
            case Qt.Key.Key_End:
                self.see(count - 1 - width, count - 1 + width * ROOM)
            case Qt.Key.Key_Escape:
                self.pin(None)
            case _:
                event.ignore()
                return
        event.accept()


def _ends(parts: list[np.ndarray]) -> tuple[float, float]:
    """The smallest and the largest known value."""
    known = [p[~np.isnan(p)] for p in parts]
    known = [p for p in known if len(p)]
    if not known:
        return float("nan"), float("nan")
    return min(float(p.min()) for p in known), max(float(p.max()) for p in known)
