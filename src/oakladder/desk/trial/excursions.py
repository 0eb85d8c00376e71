"""How far each trade went against and for the trader before it ended."""

from __future__ import annotations

import numpy as np
from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.rung.texts import count_words
from oakladder.trial.report import trade_words
from oakladder.trial.trial import Trial

_LEFT, _BOTTOM, _NEAR = 52, 34, 8.0
_MOST = 5_000
#: What a screen reader says of it when it is empty.
_NOTHING = "Excursions (MAE / MFE)"


class ExcursionsView(PaintedWidget):
    """A dot for each trade: its worst to the left, its best upward. ``picked`` tells the number of a trade."""

    picked = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(_NOTHING)
        self.theme = theme
        self._trial: Trial | None = None
        self._which = np.zeros(0, dtype=np.int64)
        self.setMouseTracking(True)
        self.setMinimumHeight(120)

    def show_trial(self, trial: Trial | None) -> None:
        """Shows the closed trades of a trial, the newest of very many."""
        self._trial = trial
        known = trial.book.done & np.isfinite(trial.results.worst) if trial is not None else np.zeros(0, dtype=bool)
        self._which = np.flatnonzero(known)[-_MOST:]
        many = f"Excursions of {count_words(len(self._which), 'trade')}"
        self.setAccessibleName(many if trial is not None else _NOTHING)
        self.update()

    def _box(self) -> QRectF:
        return QRectF(_LEFT, 8, self.width() - _LEFT - 14, self.height() - _BOTTOM - 8)

    def _ends(self) -> tuple[float, float]:
        assert self._trial is not None
        results = self._trial.results
        worst = float(-np.nanmin(results.worst[self._which], initial=-0.01))
        best = float(np.nanmax(results.best[self._which], initial=0.01))
        return worst * 1.05, best * 1.05

    def _places(self) -> tuple[np.ndarray, np.ndarray]:
        assert self._trial is not None
        box, (worst, best) = self._box(), self._ends()
        results = self._trial.results
        xs = box.right() + box.width() * results.worst[self._which] / worst
        ys = box.bottom() - box.height() * results.best[self._which] / best
        return xs, ys

    def paint(self, painter: QPainter) -> None:
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), self.theme.color("ground"))
        if self._trial is None or not len(self._which):
            return
        box, (worst, best) = self._box(), self._ends()
        painter.setFont(ui_font(SMALL))
        for k in range(5):
            share = k / 4
            x, y = box.right() - box.width() * share, box.bottom() - box.height() * share
            painter.setPen(self.theme.color("line"))
            painter.drawLine(QPointF(x, box.top()), QPointF(x, box.bottom()))
            painter.drawLine(QPointF(box.left(), y), QPointF(box.right(), y))
            painter.setPen(self.theme.color("faint"))
            words = f"-{worst * share:.0%}" if k else "0"
            painter.drawText(QRectF(x - 30, box.bottom() + 2, 60, 14), Qt.AlignmentFlag.AlignHCenter, words)
            painter.drawText(QRectF(0, y - 7, _LEFT - 6, 14), Qt.AlignmentFlag.AlignRight, f"+{best * share:.0%}")
        foot = QRectF(box.left(), self.height() - 17, box.width(), 16)
        painter.drawText(foot, Qt.AlignmentFlag.AlignHCenter, "max adverse excursion; upward: max favourable excursion")
        xs, ys = self._places()
        won = self._trial.book.net[self._which] > 0
        for good, role in ((False, "falling"), (True, "rising")):
            color = self.theme.color(role)
            painter.setPen(QPen(color, 1.2))
            painter.setBrush(color if not good else Qt.BrushStyle.NoBrush)
            for x, y in zip(xs[won == good].tolist(), ys[won == good].tolist(), strict=True):
                painter.drawEllipse(QPointF(x, y), 2.6, 2.6)

    def trade_at(self, place: QPointF) -> int | None:
        """The trade whose dot is nearest to a place, if one is near."""
        if self._trial is None or not len(self._which):
            return None
        xs, ys = self._places()
        far = np.hypot(xs - place.x(), ys - place.y())
        at = int(np.nanargmin(far))
        return int(self._which[at]) if far[at] <= _NEAR else None

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        trade = self.trade_at(event.position())
        if trade is not None and self._trial is not None:
            QToolTip.showText(event.globalPosition().toPoint(), trade_words(self._trial, trade), self)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        trade = self.trade_at(event.position())
        if trade is not None:
            self.picked.emit(trade)
