"""A small chart: bars with a rule's marks, its timeframe and its span."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from oakladder.desk.look.letters import SMALL, ui_font
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.glance import Glance
from oakladder.engine.signal_ages import TONE_COLOURS
from oakladder.rung.words import Tone

#: The room over and under the bars for marks, and half the width of a mark, in pixels.
_ROOM, _MARK = 9.0, 3.5


def draw_glance(painter: QPainter, shown: Glance, box: QRectF, theme: Theme, *, words: bool = True) -> None:
    """Paints the bars with their marks; with ``words`` the timeframe and the span stand below."""
    painter.save()
    if words:
        painter.setFont(ui_font(SMALL))
        painter.setPen(theme.color("faint"))
        line = painter.fontMetrics().height()
        foot = QRectF(box.left(), box.bottom() - line, box.width(), line)
        said = painter.fontMetrics().elidedText(
            f"{shown.timeframe}  {shown.span}", Qt.TextElideMode.ElideRight, int(box.width())
        )
        painter.drawText(foot, Qt.AlignmentFlag.AlignLeft, said)
        box = box.adjusted(0, 0, 0, -line)
    known = np.concatenate([shown.high, shown.low])
    known = known[~np.isnan(known)]
    if len(known):
        _draw(painter, shown, box, theme, float(known.min()), float(known.max()))
    painter.restore()


def _draw(painter: QPainter, shown: Glance, box: QRectF, theme: Theme, low: float, high: float) -> None:
    plot = box.adjusted(2, _ROOM, -2, -_ROOM)
    step = plot.width() / max(len(shown.close), 1)
    span = (high - low) or 1.0

    def y(price: float) -> float:
        return plot.bottom() - plot.height() * (price - low) / span

    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    if shown.here is not None:
        x = plot.left() + (shown.here + 0.5) * step
        painter.setPen(QPen(theme.color("pin"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
    wide = max(step * 0.6, 1.0)
    for k in range(len(shown.close)):
        o, h, lo, c = (float(a[k]) for a in (shown.open, shown.high, shown.low, shown.close))
        if c != c or o != o:
            continue
        middle = plot.left() + (k + 0.5) * step
        color = theme.color("rising" if c >= o else "falling")
        painter.setPen(QPen(color, 1))
        painter.drawLine(QPointF(middle, y(h)), QPointF(middle, y(lo)))
        body = QRectF(middle - wide / 2, y(max(o, c)), wide, max(abs(y(o) - y(c)), 1.0))
        painter.fillRect(body, theme.color("ground") if c >= o and wide > 2 else color)
        if wide > 2:
            painter.drawRect(body)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    for k, tone in shown.marks:
        middle = plot.left() + (k + 0.5) * step
        painter.setBrush(qcolor(theme.paint(TONE_COLOURS[tone])))
        above = tone is Tone.BEARISH
        edge = float(shown.high[k] if above else shown.low[k])
        if edge == edge:
            _mark(painter, middle, y(edge), tone)


def _mark(painter: QPainter, x: float, y: float, tone: Tone) -> None:
    """An arrow head under or over a bar, or a dot."""
    if tone is Tone.NEUTRAL:
        painter.drawEllipse(QPointF(x, y + 5), 2.5, 2.5)
        return
    way = -1 if tone is Tone.BEARISH else 1
    tip, base = y + way * 2, y + way * (2 + 1.7 * _MARK)
    painter.drawPolygon(QPolygonF([QPointF(x, tip), QPointF(x - _MARK, base), QPointF(x + _MARK, base)]))
