"""A small chart: bars with a rule's marks, its timeframe and its span."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QPainter, QPen, QPolygonF

from oakladder.desk.chart.arrays import draw_boxes, draw_lines
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.picture.thumbnail import Thumbnail
from oakladder.engine.signal_ages import TONE_COLOURS
from oakladder.rung.words import Tone

#: The space over and under the bars for marks, and half the width of a mark, in pixels.
_ROOM, _MARK = 9.0, 3.5
#: Width of a bar's body as a share of its step.
_BODY = 0.7
#: Bars that are wider than so many pixels are hollow where they have risen.
_HOLLOW = 2.0


class Plot:
    """Maps bars and prices to places in a box, with space above and below for marks."""

    def __init__(self, box: QRectF, bars: int, low: float, high: float):
        self._plot = box.adjusted(2, _ROOM, -2, -_ROOM)
        self.step = self._plot.width() / max(bars, 1)
        self._low, self._span = low, (high - low) or 1.0

    def x(self, bars: np.ndarray) -> np.ndarray:
        """The middles of bars, in pixels. Any shape, int64; float64 of that shape."""
        return self._plot.left() + (bars + 0.5) * self.step

    def y(self, prices: np.ndarray) -> np.ndarray:
        """The heights of prices, in pixels. Any shape, float64; float64 of that shape."""
        return self._plot.bottom() - self._plot.height() * (prices - self._low) / self._span

    def point(self, bar: int, price: float) -> QPointF:
        """Where a price of a bar stands."""
        return QPointF(float(self.x(np.float64(bar))), float(self.y(np.float64(price))))


def draw_thumbnail(
    painter: QPainter, shown: Thumbnail, box: QRectF, theme: Theme, *, words: bool = True, also: tuple[float, ...] = ()
) -> Plot | None:
    """Paints the bars with their marks, and gives where things stand; None if no bar has a price.

    With ``words`` the timeframe and the span are written below. The scale includes the prices ``also``.
    """
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
    plot = None
    if len(known):
        low, high = min([float(known.min()), *also]), max([float(known.max()), *also])
        plot = Plot(box, len(shown.close), low, high)
        _draw(painter, shown, box, theme, plot)
    painter.restore()
    return plot


def _draw(painter: QPainter, shown: Thumbnail, box: QRectF, theme: Theme, plot: Plot) -> None:
    painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
    middle = plot.x(np.arange(len(shown.close)))
    if shown.here is not None:
        painter.setPen(QPen(theme.color("pin"), 1, Qt.PenStyle.DotLine))
        painter.drawLine(QPointF(middle[shown.here], box.top()), QPointF(middle[shown.here], box.bottom()))
    wide = max(plot.step * _BODY, 1.0)
    opens, highs, lows, closes = (plot.y(a) for a in (shown.open, shown.high, shown.low, shown.close))
    with np.errstate(invalid="ignore"):
        rose = shown.close >= shown.open
    for role, which in (("rising", rose), ("falling", ~rose)):
        color = theme.color(role)
        painter.setPen(QPen(color, 1))
        draw_lines(painter, middle[which], highs[which], middle[which], lows[which])
        painter.setBrush(theme.color("ground") if role == "rising" and wide > _HOLLOW else color)
        top, bottom = np.minimum(opens, closes)[which], np.maximum(opens, closes)[which]
        draw_boxes(painter, middle[which] - wide / 2, top, np.float64(wide), np.maximum(bottom - top, 1.0))
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setPen(Qt.PenStyle.NoPen)
    for k, tone in shown.marks:
        painter.setBrush(qcolor(theme.paint(TONE_COLOURS[tone])))
        edge = float((highs if tone is Tone.BEARISH else lows)[k])
        if edge == edge:
            _mark(painter, float(middle[k]), edge, tone)


def _mark(painter: QPainter, x: float, y: float, tone: Tone) -> None:
    """An arrow head under or over a bar, or a dot."""
    if tone is Tone.NEUTRAL:
        painter.drawEllipse(QPointF(x, y + 5), 2.5, 2.5)
        return
    way = -1 if tone is Tone.BEARISH else 1
    tip, base = y + way * 2, y + way * (2 + 1.7 * _MARK)
    painter.drawPolygon(QPolygonF([QPointF(x, tip), QPointF(x - _MARK, base), QPointF(x + _MARK, base)]))
