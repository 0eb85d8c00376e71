"""The fan of paths after a signal, over the fan of paths after any bar."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.signal_ages import TONE_COLOURS
from oakladder.trial.judge.evidence.fan import SHARES, Fan
from oakladder.trial.judge.evidence.study import USUAL_HORIZON, Evidence
from oakladder.trial.judge.evidence.words import sentence

_RIGHT, _BOTTOM, _TOP, _LEFT = 46, 20, 8, 8
#: Opacities of the outer and the inner band.
_OUTER, _INNER = 45, 85


class FanView(PaintedWidget):
    """Paints both fans; ``bars`` is the horizon that is spoken of, marked by a line."""

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName("What followed the signal, compared with any bar")
        self.theme = theme
        self.evidence: Evidence | None = None
        self.bars = USUAL_HORIZON
        self.setMinimumHeight(60)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(420, 220)

    def show_evidence(self, evidence: Evidence | None) -> None:
        """Shows the paths of other evidence."""
        self.evidence = evidence if evidence is not None and evidence.fan.paths else None
        self.setAccessibleName(sentence(evidence) if evidence is not None else "No evidence")
        shares = "; ".join(f"{s:.0%}" for s in SHARES)
        self.setToolTip(
            f"Lines: quantiles {shares}. Coloured: after the signal. Grey: after any bar. "
            "From the next open to the close so many bars later. Dots: the means compared in the sentence."
        )
        self.update()

    def _box(self) -> QRectF:
        return QRectF(_LEFT, _TOP, self.width() - _LEFT - _RIGHT, self.height() - _TOP - _BOTTOM)

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        evidence = self.evidence
        if evidence is None:
            return
        ours, usual = evidence.fan, evidence.usual_fan
        known = np.concatenate([f.lines[[0, -1]].ravel() for f in (ours, usual)])
        known = known[np.isfinite(known)]
        if not len(known):
            return
        low, high = min(float(known.min()), 0.0), max(float(known.max()), 0.0)
        room = (high - low) * 0.04 or 0.01
        low, high = low - room, high + room
        box, count = self._box(), ours.lines.shape[1]

        def place(bar: float, value: float) -> QPointF:
            return QPointF(
                box.left() + box.width() * bar / count, box.bottom() - box.height() * (value - low) / (high - low)
            )

        self._axes(painter, box, count, low, high)
        self._fan(painter, usual, place, self.theme.color("mute"), 1.4, Qt.PenStyle.DashLine)
        colour = qcolor(self.theme.paint(TONE_COLOURS[evidence.tone]))
        self._fan(painter, ours, place, colour, 2.2, Qt.PenStyle.SolidLine)
        one = evidence.at(self.bars)
        for value, shade in ((one.usual, self.theme.color("mute")), (one.mean, colour)):
            if value is not None:
                painter.setPen(QPen(self.theme.color("ground"), 1.5))
                painter.setBrush(shade)
                painter.drawEllipse(place(one.bars, value), 4.5, 4.5)
        self._legend(painter, box, colour)

    def _axes(self, painter: QPainter, box: QRectF, count: int, low: float, high: float) -> None:
        painter.setFont(ui_font(SMALL))
        faint, line = self.theme.color("faint"), self.theme.color("line")
        for bar in (0, 10, 20, 30, 40):
            x = box.left() + box.width() * bar / count
            words = "now" if not bar else f"{bar} bars" if bar == 40 else str(bar)
            painter.setPen(line)
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.setPen(faint)
            side = Qt.AlignmentFlag.AlignLeft if not bar else Qt.AlignmentFlag.AlignHCenter
            left = x if not bar else x - 26
            painter.drawText(QRectF(left, box.bottom() + 3, 52, 14), side, words)
        step = _step(high - low)
        for k in range(int(np.ceil(low / step)), int(np.floor(high / step)) + 1):
            y = box.bottom() - box.height() * (k * step - low) / (high - low)
            painter.setPen(QPen(self.theme.color("faint" if not k else "line"), 1))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(faint)
            words = f"{k * step:+.{0 if step >= 0.01 else 1}%}" if k else "0"
            align = Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
            painter.drawText(QRectF(box.right() + 5, y - 8, _RIGHT - 6, 16), align, words)
        x = box.left() + box.width() * self.bars / count
        painter.setPen(QPen(self.theme.color("pin"), 1.5))
        painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))

    def _fan(self, painter: QPainter, fan: Fan, place, colour: QColor, width: float, style: Qt.PenStyle) -> None:  # type: ignore[no-untyped-def]
        for (below, above), opacity in (((0, -1), _OUTER), ((1, -2), _INNER)):
            first, second = fan.lines[below], fan.lines[above]
            there = np.flatnonzero(np.isfinite(first) & np.isfinite(second))
            points = [place(0, 0.0), *(place(k + 1, first[k]) for k in there.tolist())]
            points += [place(k + 1, second[k]) for k in reversed(there.tolist())]
            fill = QColor(colour)
            fill.setAlpha(opacity)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(fill)
            painter.drawPolygon(QPolygonF(points))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(colour, width, style))
        there = np.flatnonzero(np.isfinite(fan.lines[2]))
        middle = [place(0, 0.0), *(place(k + 1, fan.lines[2][k]) for k in there.tolist())]
        painter.drawPolyline(QPolygonF(middle))

    def _legend(self, painter: QPainter, box: QRectF, colour: QColor) -> None:
        if box.height() < 70:
            return
        painter.setFont(ui_font(SMALL))
        for k, (words, shade) in enumerate((("after the signal", colour), ("after any bar", self.theme.color("mute")))):
            top = box.top() + 2 + 14 * k
            painter.fillRect(QRectF(box.left() + 4, top + 4, 12, 6), shade)
            painter.setPen(self.theme.color("ink"))
            painter.drawText(QRectF(box.left() + 21, top, 130, 14), Qt.AlignmentFlag.AlignVCenter, words)


def _step(span: float) -> float:
    """A round step of which a span has four at most."""
    for step in (0.005, 0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1.0, 2.0, 5.0):
        if span / step <= 4.5:
            return step
    return span
