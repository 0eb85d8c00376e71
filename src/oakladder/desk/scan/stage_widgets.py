"""What the last run says of a condition: how many symbols it lets through, and what it says of one of them."""

from __future__ import annotations

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import QLabel, QSizePolicy, QWidget

from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.spacing import HAIR, WIDE
from oakladder.desk.look.theme import DAY, Theme
from oakladder.engine.scan.funnel import Stage
from oakladder.engine.scan.why_not import Answer
from oakladder.rung.texts import agree, count_words

_BAR, _WORDS = 150, 150
_NOT_RUN = "Run the scan to see how many symbols match"


class FunnelBar(PaintedWidget):
    """A stage of the funnel as a bar: faint as far as the condition alone goes, full with those before it.

    Its space is reserved before there is a stage, so that the layout does not move.
    """

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.theme: Theme = DAY
        self._stage: Stage | None = None
        self._of = 0
        self.setFont(ui_font(SMALL))
        self.setSizePolicy(QSizePolicy.Policy.Fixed, QSizePolicy.Policy.Preferred)
        self.setAccessibleName(_NOT_RUN)

    def sizeHint(self) -> QSize:
        return QSize(_BAR + _WORDS, self.fontMetrics().height() + 2)

    def show_stage(self, stage: Stage | None, of: int, theme: Theme) -> None:
        """Shows a stage of so many symbols; None takes the bar away."""
        if stage is None and self._stage is None:
            return
        self._stage, self._of, self.theme = stage, of, theme
        said = _NOT_RUN
        if stage is not None:
            said = (
                f"{stage.alone:,} of {count_words(of, 'symbol')} {agree(stage.alone, 'matches', 'match')} it on its own; "
                f"{stage.after:,} {agree(stage.after, 'remains', 'remain')} after the conditions above and this one"
            )
        self.setToolTip(said if stage is not None else "")
        self.setAccessibleName(said)
        self.update()

    @property
    def words(self) -> str:
        """The text beside the bar."""
        return f"{self._stage.after:,} remain, {self._stage.alone:,} on its own" if self._stage is not None else ""

    def paint(self, painter: QPainter) -> None:
        if self._stage is None:
            return
        high = 10
        top = (self.height() - high) / 2
        painter.fillRect(QRectF(0, top, _BAR, high), self.theme.color("sunken"))
        for count, strength in ((self._stage.alone, 0.25), (self._stage.after, 1.0)):
            color = self.theme.color("pin")
            color.setAlphaF(strength)
            painter.fillRect(QRectF(0, top, _BAR * count / max(self._of, 1), high), color)
        painter.setPen(self.theme.color("ink"))
        place = QRectF(_BAR + 8, 0, _WORDS - 8, self.height())
        painter.drawText(place, Qt.AlignmentFlag.AlignVCenter, self.words)


class AnswerLine(QLabel):
    """What a condition says of the symbol that was asked about; hidden until one is."""

    def __init__(self) -> None:
        super().__init__()
        self.setWordWrap(True)
        self.setMinimumWidth(20)
        self.setContentsMargins(WIDE + WIDE, 0, 0, HAIR)
        self.hide()

    def show_answer(self, symbol: str, answer: Answer | None, *, decides: bool = False) -> None:
        """Shows an answer; the failing one is emphasised. None hides it."""
        self.setVisible(answer is not None)
        if answer is None:
            return
        self.setObjectName("trouble" if decides else "quiet")
        self.setText(f"{'yes' if answer.holds else 'no'} for {symbol}: {answer.words}")
        style = self.style()
        if style is not None:
            style.polish(self)
