"""The timeframe ladder: a rung for each timeframe, with the recent signals of the open script on it."""

from __future__ import annotations

from PyQt6.QtCore import QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QMouseEvent, QPainter, QPen, QPolygonF
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from oakladder.bars.timeframes import STANDARD, Timeframe
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.engine.signal_ages import TONE_COLOURS, RecentSignal
from oakladder.rung.texts import count_words

_FRESH = 20


class Ladder(PaintedWidget):
    """Longest timeframe on top. A pip's height of fill says how fresh it is; below stands the age of the newest."""

    chosen = pyqtSignal(object)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName("Timeframes")
        self.theme = theme
        self.current = STANDARD[9]
        self.signal_ages: dict[Timeframe, list[RecentSignal]] = {}
        self.setFixedWidth(58)
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Expanding)

    def sizeHint(self) -> QSize:
        return QSize(58, 400)

    def show_signal_ages(self, signal_ages: dict[Timeframe, list[RecentSignal]]) -> None:
        self.signal_ages = signal_ages
        self.setAccessibleDescription("; ".join(f"{t}: {', '.join(self._said(t))}" for t in self.steps))
        self.update()

    def show_current(self, timeframe: Timeframe) -> None:
        if timeframe != self.current:
            self.current = timeframe
            self.update()

    @property
    def steps(self) -> list[Timeframe]:
        """The timeframes, longest first: the usual ones, and the current one if it is another."""
        return sorted({*STANDARD, self.current}, key=lambda t: -t.order)

    def step_at(self, y: float) -> Timeframe:
        """The timeframe of the rung at a height."""
        steps = self.steps
        return steps[min(max(int(y / max(self.height(), 1) * len(steps)), 0), len(steps) - 1)]

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("sunken"))
        for x in (5.5, self.width() - 5.5):
            painter.setPen(QPen(self.theme.color("pin"), 2))
            painter.drawLine(QPointF(x, 0), QPointF(x, self.height()))
        steps = self.steps
        height = self.height() / len(steps)
        for k, timeframe in enumerate(steps):
            self._draw_rung(painter, QRectF(0, k * height, self.width(), height), timeframe)

    def _draw_rung(self, painter: QPainter, box: QRectF, timeframe: Timeframe) -> None:
        inner = box.adjusted(7, 1, -7, -1)
        here = timeframe == self.current
        if here:
            painter.fillRect(inner, self.theme.color("pick"))
        painter.setPen(QPen(self.theme.color("pin"), 2 if here else 1))
        painter.drawLine(QPointF(6, box.bottom() - 0.5), QPointF(box.right() - 6, box.bottom() - 0.5))
        painter.setPen(self.theme.color("ink"))
        painter.setFont(ui_font(strong=here))
        painter.drawText(
            inner.adjusted(0, 2, 0, 0), Qt.AlignmentFlag.AlignHCenter | Qt.AlignmentFlag.AlignTop, str(timeframe)
        )
        signal_ages = self.signal_ages.get(timeframe, [])
        for pip in (p for p in signal_ages if p.held is not None):  # a stroke along the rung while a position is held
            stroke = QRectF(inner.left() + 1, inner.top() + 3, 3, inner.height() - 6)
            painter.fillRect(stroke, qcolor(self.theme.paint(TONE_COLOURS[pip.tone])))
        found = sorted((p for p in signal_ages if p.held is None), key=lambda p: p.age)[:3]
        if not found:
            return
        middle, step = box.center().y() + 3, 13
        x = box.center().x() - step * (len(found) - 1) / 2
        for pip in found:
            self._draw_pip(painter, x, middle, pip)
            x += step
        painter.setPen(self.theme.color("faint"))
        painter.setFont(ui_font(SMALL))
        painter.drawText(
            QRectF(inner.left(), middle + 6, inner.width(), 12), Qt.AlignmentFlag.AlignHCenter, str(found[0].age)
        )

    def _draw_pip(self, painter: QPainter, x: float, y: float, pip: RecentSignal) -> None:
        """Up for bullish, down for bearish, level for neutral; filled while fresh."""
        color = qcolor(self.theme.paint(TONE_COLOURS[pip.tone]))
        painter.setPen(QPen(color, 1.5 if pip.age <= _FRESH else 1.0))
        painter.setBrush(color if pip.age <= 3 else Qt.BrushStyle.NoBrush)
        up = {"bullish": -1.0, "bearish": 1.0}.get(pip.tone, 0.0)
        if up:
            painter.drawPolygon(
                QPolygonF([QPointF(x - 4.5, y - 3.5 * up), QPointF(x + 4.5, y - 3.5 * up), QPointF(x, y + 4 * up)])
            )
        else:
            painter.drawRect(QRectF(x - 4, y - 2, 8, 4))

    def _said(self, timeframe: Timeframe) -> list[str]:
        """What the signals say on a timeframe."""
        found = self.signal_ages.get(timeframe, [])
        return [f"{p.signal}: {p.held.words() if p.held else _ago(p.age)}" for p in found] or [
            "no signal in the loaded history"
        ]

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.chosen.emit(self.step_at(event.position().y()))

    def event(self, event: object) -> bool:
        if isinstance(event, QHelpEvent):
            timeframe = self.step_at(event.pos().y())
            QToolTip.showText(event.globalPos(), "\n".join([str(timeframe), *self._said(timeframe)]), self)
            return True
        return super().event(event)


def _ago(age: int) -> str:
    return "on the last bar" if age == 0 else f"{count_words(age, 'bar')} ago"
