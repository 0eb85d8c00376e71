"""What followed a signal, a row for each horizon."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QHelpEvent, QKeyEvent, QMouseEvent, QPainter
from PyQt6.QtWidgets import QToolTip, QWidget

from oakladder.app.glossary import meaning
from oakladder.desk.look.fonts import ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.theme import Theme
from oakladder.rung.texts import count_words
from oakladder.trial.judge.evidence.study import USUAL_HORIZON, Evidence, Horizon
from oakladder.trial.judge.evidence.words import HORIZON_HEADS, RARE, chance_words, horizon_words

_ROW, _HEAD = 24, 22
#: Columns that are dropped one by one in a narrow view.
_FIRST_TO_GO = ("Median", "Days", "Usual", "Mean")
#: What a screen reader says of it when it is empty.
_NOTHING = "Results by horizon"


class HorizonRows(PaintedWidget):
    """Paints the rows; ``chosen`` delivers the bars of the selected one."""

    chosen = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(_NOTHING)
        self.theme = theme
        self.horizons: tuple[Horizon, ...] = ()
        self._is_rare = False
        self.bars = USUAL_HORIZON
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMinimumHeight(_HEAD + 7 * _ROW + 4)
        self.setMinimumWidth(330)

    def sizeHint(self) -> QSize:
        return QSize(480, _HEAD + 7 * _ROW + 4)

    def show_evidence(self, evidence: Evidence | None) -> None:
        """Shows the horizons of other evidence."""
        self.horizons = evidence.horizons if evidence is not None else ()
        # The smallest of seven chances is often small: only where all horizons together say so does one stand out.
        self._is_rare = evidence is not None and evidence.overall is not None and evidence.overall <= RARE
        self.setAccessibleName(
            "; ".join(f"{count_words(h.bars, 'bar')}: {chance_words(h)}" for h in self.horizons) or _NOTHING
        )
        self.update()

    def _columns(self) -> list[tuple[int, float]]:
        """The visible columns, and how wide each is. A cut number would be a wrong one: without space for
        all, the less telling columns go."""
        metrics = QFontMetricsF(ui_font())
        rows = [list(HORIZON_HEADS), *map(horizon_words, self.horizons)]
        needed = [max(metrics.horizontalAdvance(row[k]) for row in rows) + 12 for k in range(len(HORIZON_HEADS))]
        shown = list(range(len(needed)))
        for name in _FIRST_TO_GO:
            if sum(needed[k] for k in shown) > self.width():
                shown.remove(HORIZON_HEADS.index(name))
        spare = max(self.width() - sum(needed[k] for k in shown), 0) / len(shown)
        return [(k, needed[k] + spare) for k in shown]

    def paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), self.theme.color("ground"))
        columns = self._columns()
        painter.setFont(ui_font())
        self._row(painter, 0, columns, list(HORIZON_HEADS), "faint", _HEAD)
        for k, one in enumerate(self.horizons):
            top = _HEAD + k * _ROW
            if one.bars == self.bars:
                painter.fillRect(QRectF(0, top, self.width(), _ROW), self.theme.color("pick"))
            if self._is_rare and one.chance is not None and one.chance <= RARE:
                wide = columns[-1][1]
                place = QRectF(self.width() - wide, top + 3, wide - 2, _ROW - 6)
                painter.fillRect(place, self.theme.fill("good"))
            self._row(painter, top, columns, horizon_words(one), "ink", _ROW)
        if self.hasFocus() and self.horizons:
            painter.setPen(self.theme.color("pin"))
            painter.drawRect(self.rect().adjusted(0, 0, -1, -1))

    def _row(
        self, painter: QPainter, top: float, columns: list[tuple[int, float]], cells: list[str], ink: str, height: float
    ) -> None:
        painter.setPen(self.theme.color(ink))
        left = 0.0
        for k, width in columns:
            place = QRectF(left, top, width - 6, height)
            painter.drawText(place, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, cells[k])
            left += width

    def choose(self, bars: int) -> None:
        """Looks at a horizon."""
        if bars != self.bars and any(h.bars == bars for h in self.horizons):
            self.bars = bars
            self.update()
            self.chosen.emit(bars)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        k = int((event.position().y() - _HEAD) // _ROW)
        if 0 <= k < len(self.horizons):
            self.choose(self.horizons[k].bars)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        step = {Qt.Key.Key_Up: -1, Qt.Key.Key_Down: 1}.get(Qt.Key(event.key()), 0)
        at = next((k for k, h in enumerate(self.horizons) if h.bars == self.bars), 0) + step
        if step and 0 <= at < len(self.horizons):
            self.choose(self.horizons[at].bars)
        elif not step:
            super().keyPressEvent(event)

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent):
            left, at = 0.0, len(HORIZON_HEADS) - 1
            for k, width in self._columns():
                left += width
                if event.pos().x() < left:
                    at = k
                    break
            QToolTip.showText(event.globalPos(), f"{HORIZON_HEADS[at]}: {meaning('Evidence', HORIZON_HEADS[at])}", self)
            return True
        return super().event(event)
