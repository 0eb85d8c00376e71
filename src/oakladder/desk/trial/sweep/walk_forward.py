"""A rule walked forward: the joined curve beside hindsight's, and what each span promised and brought."""

from __future__ import annotations

from datetime import UTC, datetime

import numpy as np
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QHelpEvent, QPainter, QPen
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from oakladder.desk.chart.arrays import draw_chain
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets.curve import thinned
from oakladder.rung.texts import count_words
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.sweep.ranges import point_words, settings_words
from oakladder.trial.sweep.walk_forward import Step, Walk

_LEFT, _RIGHT, _TOP, _FOOT = 8, 66, 22, 58
#: How high the strip is in which the chosen value of a setting goes up and down, and the space below the last.
_STRIP, _SPACE = 26, 6
_NOTHING = "No walk forward yet"


class WalkView(PaintedWidget):
    """Paints the curves over their spans."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme = theme
        self.walk: Walk | None = None
        self.setAccessibleName(_NOTHING)
        self.setMinimumHeight(140)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(560, 380)

    def show_walk(self, walk: Walk | None) -> None:
        """Shows another walk."""
        self.walk = walk
        self.setAccessibleName(walk.words() if walk is not None else _NOTHING)
        self.update()

    @property
    def _strips(self) -> list[str]:
        """The settings whose choices are shown below the spans: as many as there is room for."""
        if self.walk is None:
            return []
        names = [name for name, values in self.walk.choices.items() if len(values) > 1]
        room = (self.height() - _TOP - _FOOT) * 0.4 - _SPACE
        return names[: max(int(room // _STRIP), 0)]

    def _box(self) -> QRectF:
        below = _FOOT + (len(self._strips) * _STRIP + _SPACE if self._strips else 0)
        return QRectF(_LEFT, _TOP, self.width() - _LEFT - _RIGHT, self.height() - _TOP - below)

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        if self.walk is None:
            painter.setPen(self.theme.color("faint"))
            painter.setFont(ui_font())
            words = (
                "Walk forward: the best settings of three spans are traded on the next one, and so on. "
                "The joined result is out of sample; the one with hindsight is not."
            )
            place = self.rect().adjusted(20, 20, -20, -20)
            painter.drawText(place, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, words)
            return
        self._spans(painter, self.walk)
        self._curves(painter, self.walk)
        for k, name in enumerate(self._strips):
            self._drift(painter, self.walk, name, self.height() - _SPACE - (len(self._strips) - k) * _STRIP)

    def _drift(self, painter: QPainter, walk: Walk, name: str, top: float) -> None:
        """The value of a setting that each span was traded with, up and down in its range."""
        box = self._box()
        values = walk.choices[name]
        painter.setFont(ui_font(SMALL))
        painter.setPen(QPen(self.theme.color("line"), 1))
        for edge in (top + 3, top + _STRIP - 3):
            painter.drawLine(QPointF(box.left(), edge), QPointF(box.right(), edge))
        edges = self._x(np.array([(s.first, s.last) for s in walk.steps]).ravel())
        places = top + _STRIP - 3 - (_STRIP - 6) * walk.drift(name)
        painter.setPen(QPen(self.theme.color("pin"), 2))
        draw_chain(painter, edges, np.repeat(places, 2))
        painter.setPen(self.theme.color("faint"))
        words = f"{name} {point_words(values[0])}..{point_words(values[-1])}"
        place = QRectF(box.left() + 3, top + 2, box.width(), _STRIP - 4)
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, words)

    def _x(self, times: np.ndarray) -> np.ndarray:
        assert self.walk is not None
        first, last = self.walk.steps[0].first, self.walk.steps[-1].last
        box = self._box()
        return np.asarray(box.left() + box.width() * (times - first) / max(last - first, 1))

    def _spans(self, painter: QPainter, walk: Walk) -> None:
        box = self._box()
        painter.setFont(ui_font(SMALL))
        for k, step in enumerate(walk.steps):
            left, right = self._x(np.array([step.first, step.last])).tolist()
            if k % 2 == 0:
                painter.fillRect(QRectF(left, box.top(), right - left, box.height()), self.theme.color("sunken"))
            painter.setPen(self.theme.color("faint"))
            day = f"{datetime.fromtimestamp(step.first, UTC):%b %Y}"
            lines = (day, settings_words(step.settings), _told(step, walk.metric))
            for row, words in enumerate(lines):
                place = QRectF(left + 3, box.bottom() + 4 + 17 * row, right - left - 6, 16)
                shown = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(place.width()))
                painter.setPen(self.theme.color("ink" if row else "faint"))
                painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, shown)

    def _curves(self, painter: QPainter, walk: Walk) -> None:
        box, joined, other = self._box(), walk.equity, walk.hindsight.equity
        values = np.concatenate([joined.value, other.value, joined.held])
        low, high = float(values.min()), float(values.max())
        room = (high - low) * 0.05 or 1.0
        low, high = low - room, high + room

        def y(of: np.ndarray) -> np.ndarray:
            return np.asarray(box.bottom() - box.height() * (of - low) / (high - low))

        painter.setFont(ui_font(SMALL))
        curves = (
            ("buy and hold", joined.times, joined.held, QPen(self.theme.color("mute"), 1.2)),
            ("with hindsight", other.times, other.value, QPen(self.theme.color("warn"), 1.4)),
            ("walked forward", joined.times, joined.value, QPen(self.theme.color("ink"), 2.2)),
        )
        for k, (words, times, of, pen) in enumerate(curves):
            painter.setPen(pen)
            some = thinned(of, self.width())
            draw_chain(painter, self._x(times[some]), y(of[some]))
            left = box.left() + 4 + 120 * k
            painter.drawLine(QPointF(left, 12), QPointF(left + 16, 12))
            painter.setPen(self.theme.color("ink"))
            painter.drawText(QRectF(left + 21, 4, 96, 16), Qt.AlignmentFlag.AlignVCenter, words)
        painter.setPen(self.theme.color("faint"))
        for share in (0.0, 0.5, 1.0):
            value = low + (high - low) * share
            place = QRectF(box.right() + 6, box.bottom() - box.height() * share - 8, _RIGHT - 8, 16)
            painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, f"{value:,.0f}")

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent) and self.walk is not None:
            words = ""
            for step in self.walk.steps:
                left, right = self._x(np.array([step.first, step.last])).tolist()
                if left <= event.pos().x() < right:
                    title = METRICS[self.walk.metric].title
                    days = " to ".join(f"{datetime.fromtimestamp(t, UTC):%d %b %Y}" for t in (step.first, step.last))
                    words = "\n".join(
                        (
                            days,
                            settings_words(step.settings),
                            f"{title}: {_told(step, self.walk.metric)}",
                            count_words(step.trades, "trade"),
                        )
                    )
            QToolTip.showText(event.globalPos(), words, self)
            return True
        return super().event(event)


def _told(step: Step, metric: str) -> str:
    promised, brought = (metric_words({metric: v}, metric) for v in (step.promised, step.brought))
    return f"{promised} → {brought}"
