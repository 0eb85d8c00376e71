"""The map of a sweep: a metric over one setting as a line, over two as a field of squares."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from types import MappingProxyType

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.desk.trial.sweep.shades import picture, shades
from oakladder.rung.texts import count_words
from oakladder.trial.batch.task import Tried
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.sweep.map import SweepMap
from oakladder.trial.sweep.ranges import point_words, settings_words

_LEFT, _BOTTOM, _TOP, _RIGHT = 64, 38, 12, 16
#: More squares than this are painted as a picture.
_MOST_SQUARES = 1_500
_NOTHING = "No sweep"
_HINT = "Click or press Enter to use these settings."


class SweepMapView(PaintedWidget):
    """Paints the map of a sweep. ``picked`` tells the settings of a variant (dict)."""

    picked = pyqtSignal(object)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.map: SweepMap | None = None
        self.tried: Sequence[Tried] = ()
        #: The sweep that was looked at before, by settings in words.
        self.before: Mapping[str, Tried] = {}
        #: The variant under the keys, and the settings that the rule has now.
        self.at = 0
        self.current: dict[str, object] = {}
        self._shown: list[int] = []
        self._at_place: dict[tuple[int, ...], int] = {}
        self._current: int | None = None
        self.setAccessibleName(_NOTHING)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(140)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(560, 380)

    def show_map(
        self, made: SweepMap | None, tried: Sequence[Tried], before: Mapping[str, Tried] = MappingProxyType({})
    ) -> None:
        """Shows another map, with the sweep before it beside it. Of more than two settings the first two make the field; of the variants that share a square
        that with the middle metric stands for all."""
        self.map, self.tried, self.before = made, tried, before
        self._shown = _one_a_square(made) if made is not None else []
        places = made.places[self._shown, :2].tolist() if made is not None else []
        self._at_place = {tuple(place): k for place, k in zip(places, self._shown, strict=True)}
        self.at = made.broad if made is not None and made.broad is not None else 0
        if self._shown and self.at not in self._shown:
            self.at = self._nearest(self.at)
        self.setAccessibleName(self.words_of(self.at) if self._shown else _NOTHING)
        self.update()

    def _nearest(self, number: int) -> int:
        assert self.map is not None
        places = self.map.places[:, :2]
        return min(self._shown, key=lambda k: int(np.abs(places[k] - places[number]).sum()))

    def words_of(self, number: int) -> str:
        """A variant in words: its settings, its metric, its neighbours'."""
        made, one = self.map, self.tried[number]
        if made is None:
            return ""
        title = METRICS[made.metric].title
        if one.problem:
            return f"{settings_words(one.settings)}: {one.problem}"
        value = metric_words(one.metrics, made.metric)
        around = metric_words({made.metric: float(made.around[number])}, made.metric)
        trades = count_words(int(one.metrics["trades"] or 0), "trade")
        told = [f"{settings_words(one.settings)}: {title} {value}, its neighbours {around}, {trades}"]
        other = self.before.get(settings_words(one.settings))
        if other is not None and other.metrics != one.metrics:
            told.append(f"in the sweep before {metric_words(other.metrics, made.metric)}")
        if made.lonely[number]:
            told.append("a lonely peak: its neighbours are much worse, so it is most likely luck")
        if number == made.best:
            told.append("the best of all")
        if number == made.broad:
            told.append("the best with its neighbours")
        return "; ".join(told)

    # --- where things are ---------------------------------------------------------------------------

    def box(self) -> QRectF:
        """Where all squares stand."""
        return QRectF(_LEFT, _TOP, self.width() - _LEFT - _RIGHT, self.height() - _TOP - _BOTTOM)

    @property
    def _is_line(self) -> bool:
        return self.map is not None and len(self.map.ranges) == 1

    def cell(self, number: int) -> QRectF:
        """The square of a variant."""
        assert self.map is not None
        box = self.box()
        across, upright = self.map.ranges[-1 if len(self.map.ranges) < 2 else 1], self.map.ranges[0]
        place = self.map.places[number]
        if self._is_line:
            width = box.width() / len(across.values)
            return QRectF(box.left() + place[0] * width, box.top(), width, box.height())
        width, height = box.width() / len(across.values), box.height() / len(upright.values)
        return QRectF(box.left() + place[1] * width, box.bottom() - (place[0] + 1) * height, width, height)

    def variant_at(self, point: QPointF) -> int | None:
        """The variant whose square is at a place."""
        box = self.box()
        if self.map is None or not self._shown or not box.contains(point):
            return None
        ranges = self.map.ranges
        across = ranges[0] if self._is_line else ranges[1]
        column = int((point.x() - box.left()) / box.width() * len(across.values))
        if self._is_line:
            return self._at_place.get((column,))
        row = int((box.bottom() - point.y()) / box.height() * len(ranges[0].values))
        return self._at_place.get((row, column))

    # --- painting -----------------------------------------------------------------------------------

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        if self.map is None or not self._shown:
            painter.setPen(self.theme.color("faint"))
            painter.setFont(ui_font())
            words = "Select one or two settings and press Sweep: each combination becomes a square here."
            painter.drawText(self.rect().adjusted(20, 20, -20, -20), Qt.AlignmentFlag.AlignCenter | _WRAP, words)
            return
        self._current = self._of_the_rule()
        if self._is_line:
            known = self.map.values[self._shown]
            known = known[np.isfinite(known)]
            self._line(painter, *((float(known.min()), float(known.max())) if len(known) else (0.0, 1.0)))
        else:
            self._field(painter)
        self._axes(painter)

    def _field(self, painter: QPainter) -> None:
        assert self.map is not None
        painter.setFont(ui_font(SMALL))
        colors = shades(self.map.values[self._shown], METRICS[self.map.metric].good, self.theme)
        if len(self._shown) > _MOST_SQUARES:
            rows, columns = self.map.places[self._shown, :2].T
            size = len(self.map.ranges[0].values), len(self.map.ranges[1].values)
            painter.drawImage(self.box(), picture(colors, rows, columns, size, self.theme.color("sunken")))
            special = np.flatnonzero(self.map.lonely) if self.map.lonely.sum() < 500 else np.zeros(0, dtype=np.int64)
            for k in {*special.tolist(), self.map.best, self.map.broad, self.at, self._current} & set(self._shown):
                self._marks(painter, k, self.cell(k).adjusted(-4, -4, 4, 4))
            return
        for k, color in zip(self._shown, colors.tolist(), strict=True):
            cell = self.cell(k).adjusted(1, 1, -1, -1)
            painter.fillRect(cell, QColor.fromRgba(color))
            if cell.width() > 44 and cell.height() > 16:
                value = float(self.map.values[k])
                painter.setPen(self.theme.color("ink"))
                words = "–" if value != value else metric_words({self.map.metric: value}, self.map.metric)
                painter.drawText(cell, Qt.AlignmentFlag.AlignCenter, words)
            self._marks(painter, k, cell)

    def _marks(self, painter: QPainter, k: int, cell: QRectF) -> None:
        """A frame for the best, an oak one for the best with its neighbours, a dotted one for a lonely peak, a dot for the
        settings that the rule has, a line around what the keys stand on."""
        assert self.map is not None
        painter.setBrush(Qt.BrushStyle.NoBrush)
        if k == self.map.best:
            painter.setPen(QPen(self.theme.color("ink"), 2))
            painter.drawRect(cell.adjusted(1, 1, -1, -1))
            self._beyond(painter, cell)
        if k == self.map.broad:
            painter.setPen(QPen(self.theme.color("pin"), 3))
            painter.drawRect(cell.adjusted(3, 3, -3, -3))
        if self.map.lonely[k]:
            painter.setPen(QPen(self.theme.color("warn"), 2, Qt.PenStyle.DotLine))
            painter.drawRect(cell.adjusted(5, 5, -5, -5))
        if k == self._current:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(self.theme.color("ink"))
            painter.drawEllipse(QPointF(cell.right() - 7, cell.top() + 7), 3, 3)
            painter.setBrush(Qt.BrushStyle.NoBrush)
        if k == self.at and self.hasFocus():
            painter.setPen(QPen(self.theme.color("ink"), 1))
            painter.drawRect(cell.adjusted(-1, -1, 1, 1))

    def _beyond(self, painter: QPainter, cell: QRectF) -> None:
        """A wedge out of each end of a range at which the best lies: a better one may lie beyond."""
        assert self.map is not None
        painter.save()
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(self.theme.color("warn"))
        middle, size = cell.center(), min(cell.width(), cell.height(), 28.0) / 4
        for name, way in self.map.edges.items():
            place = [r.name for r in self.map.ranges].index(name)
            if self._is_line or place == 1:  # to the left or the right
                x = cell.right() - 2 if way > 0 else cell.left() + 2
                tip, ends = QPointF(x, middle.y()), [QPointF(x - way * size, middle.y() + d) for d in (-size, size)]
            elif place == 0:  # values grow upwards
                y = cell.top() + 2 if way > 0 else cell.bottom() - 2
                tip, ends = QPointF(middle.x(), y), [QPointF(middle.x() + d, y + way * size) for d in (-size, size)]
            else:
                continue
            painter.drawPolygon(QPolygonF([tip, *ends]))
        painter.restore()

    def _of_the_rule(self) -> int | None:
        """The variant with the settings that the rule has now, if it is shown."""
        assert self.map is not None
        place = []
        for one in self.map.ranges:
            now = point_words(_as_point(self.current.get(one.name)))
            place.append(next((k for k, value in enumerate(one.values) if point_words(value) == now), -1))
        found = self._at_place.get(tuple(place[:2]))
        return found if found is not None and self.map.places[found].tolist() == place else None

    def _line(self, painter: QPainter, low: float, high: float) -> None:
        assert self.map is not None
        box, room = self.box(), (high - low) * 0.08 or 1.0
        low, high = low - room, high + room

        def y(value: float) -> float:
            return box.bottom() - box.height() * (value - low) / (high - low)

        for share in (0.0, 0.5, 1.0):
            value = low + (high - low) * share
            painter.setPen(self.theme.color("line"))
            painter.drawLine(QPointF(box.left(), y(value)), QPointF(box.right(), y(value)))
        for values, pen in (
            (self.map.around, QPen(self.theme.color("mute"), 1.4, Qt.PenStyle.DashLine)),
            (self.map.values, QPen(self.theme.color("ink"), 2)),
        ):
            points = [
                QPointF(self.cell(k).center().x(), y(float(values[k]))) for k in self._shown if values[k] == values[k]
            ]
            painter.setPen(pen)
            painter.drawPolyline(QPolygonF(points))
        for k in self._shown:
            value = float(self.map.values[k])
            if value == value:
                self._marks(painter, k, QRectF(self.cell(k).center().x() - 13, y(value) - 13, 26, 26))

    def _axes(self, painter: QPainter) -> None:
        assert self.map is not None
        box, ranges = self.box(), self.map.ranges
        across = ranges[0] if self._is_line else ranges[1]
        painter.setFont(ui_font(SMALL))
        painter.setPen(self.theme.color("faint"))
        width = box.width() / len(across.values)
        every = max(int(np.ceil(34 / max(width, 1))), 1)
        for k in range(0, len(across.values), every):
            place = QRectF(box.left() + k * width - 20, box.bottom() + 3, width + 40, 14)
            painter.drawText(place, Qt.AlignmentFlag.AlignHCenter, point_words(across.values[k]))
        painter.setPen(self.theme.color("ink"))
        painter.drawText(
            QRectF(box.left(), box.bottom() + 18, box.width(), 16), Qt.AlignmentFlag.AlignHCenter, across.name
        )
        if self._is_line:
            self._line_axis(painter, box)
            return
        upright = ranges[0]
        height = box.height() / len(upright.values)
        every = max(int(np.ceil(16 / max(height, 1))), 1)
        painter.setPen(self.theme.color("faint"))
        for k in range(0, len(upright.values), every):
            place = QRectF(16, box.bottom() - (k + 1) * height, _LEFT - 22, height)
            painter.drawText(
                place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, point_words(upright.values[k])
            )
        painter.save()
        painter.translate(12, box.center().y())
        painter.rotate(-90)
        painter.setPen(self.theme.color("ink"))
        painter.drawText(QRectF(-100, -8, 200, 16), Qt.AlignmentFlag.AlignCenter, upright.name)
        painter.restore()

    def _line_axis(self, painter: QPainter, box: QRectF) -> None:
        assert self.map is not None
        known = self.map.values[np.isfinite(self.map.values)]
        if not len(known):
            return
        low, high = float(known.min()), float(known.max())
        room = (high - low) * 0.08 or 1.0
        painter.setPen(self.theme.color("faint"))
        for share in (0.0, 0.5, 1.0):
            value = low - room + (high - low + 2 * room) * share
            y = box.bottom() - box.height() * share
            words = metric_words({self.map.metric: value}, self.map.metric)
            painter.drawText(
                QRectF(0, y - 8, _LEFT - 6, 16), Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, words
            )

    # --- keys and mouse -----------------------------------------------------------------------------

    def _pick(self, number: int) -> None:
        self.at = number
        self.setAccessibleName(self.words_of(number))
        self.update()
        self.picked.emit(dict(self.tried[number].settings))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        found = self.variant_at(event.position())
        if found is not None:
            self._pick(found)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        key = Qt.Key(event.key())
        if key in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self._shown:
            self._pick(self.at)
        elif key in _STEPS and self._shown:
            self._step(*_STEPS[key])
        else:
            super().keyPressEvent(event)

    def _step(self, across: int, upward: int) -> None:
        assert self.map is not None
        place = self.map.places[self.at].copy()
        if self._is_line:
            place[0] += across
        else:
            place[1] += across
            place[0] += upward
        found = self._at_place.get(tuple(place[:2].tolist()))
        if found is not None:
            self.at = found
            self.setAccessibleName(self.words_of(self.at))
            self.setToolTip(self.words_of(self.at))
            self.update()

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent) and self.map is not None:
            found = self.variant_at(QPointF(event.pos()))
            QToolTip.showText(event.globalPos(), f"{self.words_of(found)}\n{_HINT}" if found is not None else "", self)
            return True
        return super().event(event)


def _one_a_square(made: SweepMap) -> list[int]:
    """The variants in view: of several that share a square, the one with the median metric."""
    if len(made.ranges) <= 2:
        return list(range(len(made.values)))
    groups: dict[tuple[int, int], list[int]] = {}
    for k, place in enumerate(made.places.tolist()):
        groups.setdefault((place[0], place[1]), []).append(k)
    shown = []
    for members in groups.values():
        ordered = sorted(members, key=lambda k: (made.values[k] != made.values[k], float(made.values[k])))
        shown.append(ordered[len(ordered) // 2])
    return shown


def _as_point(value: object) -> object:
    return float(value) if isinstance(value, int | float) else value


_WRAP = Qt.TextFlag.TextWordWrap
_STEPS = {
    Qt.Key.Key_Left: (-1, 0),
    Qt.Key.Key_Right: (1, 0),
    Qt.Key.Key_Up: (0, 1),
    Qt.Key.Key_Down: (0, -1),
}
