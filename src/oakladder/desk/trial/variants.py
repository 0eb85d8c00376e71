"""The rule and its variants, one below the other: a stroke of its colour, what is changed, and the metrics to compare."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PyQt6.QtCore import QEvent, QPoint, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPen
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QLabel,
    QMenu,
    QScrollArea,
    QToolButton,
    QToolTip,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.actions import hinted
from oakladder.app.trials import Outcome
from oakladder.bars.timeframes import STANDARD
from oakladder.desk.look.fonts import SMALL, ui_font
from oakladder.desk.look.painted_widget import PaintedWidget
from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.desk.look.theme import Theme, qcolor
from oakladder.desk.widgets.curve import VARIANT_COLOURS
from oakladder.desk.widgets.questions import words_for
from oakladder.desk.widgets.transient import passing_menu
from oakladder.rung.settings import SettingInfo
from oakladder.rung.texts import count_words
from oakladder.trial.metrics.metrics import metric_words
from oakladder.trial.spec import Change, ChangeKind

_ROW = 52
_HINT = "Click or use the arrow keys to show it in front; Space or the right button compares; Delete removes it."
_EMPTY = "No variants yet. Add one with another setting, timeframe, list, cost or stop to compare the curves."
#: What a screen reader says of it when it is empty.
_NOTHING = "Variants"


class VariantRows(PaintedWidget):
    """Paints the rows. ``chosen`` tells the number of a row (0 is the plain rule), ``dropped`` one to be taken away."""

    chosen = pyqtSignal(int)
    dropped = pyqtSignal(int)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.setAccessibleName(_NOTHING)
        self.theme = theme
        self.outcomes: list[Outcome] = []
        self.current = 0
        #: The row that the one in front is compared with.
        self.other = 0
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)

    def sizeHint(self) -> QSize:
        return QSize(220, _ROW * max(len(self.outcomes), 3))

    def show_outcomes(self, outcomes: list[Outcome]) -> None:
        self.outcomes = outcomes
        last = max(len(outcomes) - 1, 0)
        self.current, self.other = min(self.current, last), min(self.other, last)
        self.setMinimumHeight(self.sizeHint().height())
        self.setAccessibleName("; ".join(f"{o.words}: {self._numbers(o)}" for o in outcomes) or _NOTHING)
        self.update()

    @staticmethod
    def _numbers(outcome: Outcome) -> str:
        if outcome.trial is None:
            return outcome.trouble
        metrics = outcome.trial.metrics
        growth, fall = metric_words(metrics, "growth"), metric_words(metrics, "drawdown")
        return f"{growth} p.a., drawdown {fall}, {count_words(int(metrics['trades'] or 0), 'trade')}"

    def paint(self, painter: QPainter) -> None:
        painter.fillRect(self.rect(), self.theme.color("ground"))
        for k, outcome in enumerate(self.outcomes):
            top = k * _ROW
            if k == self.current:
                painter.fillRect(0, top, self.width(), _ROW, self.theme.color("pick"))
            word = VARIANT_COLOURS[(k - 1) % len(VARIANT_COLOURS)] if k else "ink"
            painter.fillRect(QRectF(8, top + 9, 4, _ROW - 18), qcolor(self.theme.paint(word)))
            if k == self.other and len(self.outcomes) > 1:
                painter.setPen(QPen(self.theme.color("pin"), 1))
                painter.drawRect(QRectF(4.5, top + 2.5, self.width() - 9, _ROW - 5))
            painter.setPen(self.theme.color("ink"))
            painter.setFont(ui_font(strong=k == 0))
            metrics = painter.fontMetrics()
            room = self.width() - 28
            name = metrics.elidedText(outcome.words, Qt.TextElideMode.ElideRight, room)
            painter.drawText(QRectF(20, top + 6, room, 18), Qt.AlignmentFlag.AlignVCenter, name)
            painter.setFont(ui_font(SMALL))
            painter.setPen(self.theme.color("loss" if outcome.trial is None else "faint"))
            numbers = painter.fontMetrics().elidedText(self._numbers(outcome), Qt.TextElideMode.ElideRight, room)
            painter.drawText(QRectF(20, top + 26, room, 16), Qt.AlignmentFlag.AlignVCenter, numbers)
        if len(self.outcomes) == 1:
            self._hint(painter)

    def _hint(self, painter: QPainter) -> None:
        """What can be done here, while there is nothing beside the plain rule."""
        painter.setFont(ui_font())
        painter.setPen(self.theme.color("faint"))
        place = QRectF(20, _ROW + 10, self.width() - 36, 90)
        painter.drawText(place, Qt.TextFlag.TextWordWrap | Qt.AlignmentFlag.AlignLeft, _EMPTY)

    def event(self, event: QEvent | None) -> bool:
        if isinstance(event, QHelpEvent):
            k = event.pos().y() // _ROW
            words = f"{self.outcomes[k].words}\n{self._numbers(self.outcomes[k])}\n" if k < len(self.outcomes) else ""
            QToolTip.showText(event.globalPos(), words + _HINT, self)
            return True
        return super().event(event)

    def choose(self, k: int) -> None:
        """Looks at a row."""
        if 0 <= k < len(self.outcomes):
            self.current = k
            self.update()
            self.chosen.emit(k)

    def compare_with(self, k: int) -> None:
        """Compares whatever is in front with a row from now on."""
        if 0 <= k < len(self.outcomes):
            self.other = k
            self.update()
            self.chosen.emit(self.current)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        assert event is not None
        self.setFocus()
        k = int(event.position().y()) // _ROW
        if event.button() == Qt.MouseButton.RightButton:
            self.compare_with(k)
        else:
            self.choose(k)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        assert event is not None
        match event.key():
            case Qt.Key.Key_Up:
                self.choose(self.current - 1)
            case Qt.Key.Key_Down:
                self.choose(self.current + 1)
            case Qt.Key.Key_Space:
                self.compare_with(self.current)
            case Qt.Key.Key_Delete | Qt.Key.Key_Backspace if self.current:
                self.dropped.emit(self.current)
            case _:
                super().keyPressEvent(event)


class Variants(QWidget):
    """The rows with what puts another below them. ``asked`` tells a `Change`."""

    asked = pyqtSignal(object)

    def __init__(self, theme: Theme, parent: QWidget | None = None):
        super().__init__(parent)
        self.rows = VariantRows(theme)
        self.settings: Callable[[], Sequence[SettingInfo]] = lambda: ()
        self.lists: Callable[[], Sequence[str]] = lambda: ()
        self.add = QToolButton(text="Add variant")
        self.add.setToolTip(
            hinted("Compare the rule with a variant: a setting, timeframe, list, costs, a stop …", "add_variant")
        )
        self.add.clicked.connect(lambda: self.menu(self.add.mapToGlobal(self.add.rect().bottomLeft())))
        head = QHBoxLayout()
        head.setContentsMargins(GAP, GAP, GAP, TIGHT)
        head.addWidget(QLabel("Variants", objectName="head"))
        head.addStretch(1)
        head.addWidget(self.add)
        area = QScrollArea(accessibleName="Variants")
        area.setWidgetResizable(True)
        area.setFrameShape(QScrollArea.Shape.NoFrame)
        area.setWidget(self.rows)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        layout.addLayout(head)
        layout.addWidget(area, 1)

    def menu(self, place: QPoint) -> QMenu:
        """What can be changed."""
        menu = passing_menu(self)
        for info in self.settings():
            menu.addAction(f"{info.text or info.name} …", lambda i=info: self._ask_setting(i))
        menu.addSeparator()
        frames = menu.addMenu("On another timeframe")
        lists = menu.addMenu("On another list")
        assert frames is not None and lists is not None
        for frame in STANDARD:
            frames.addAction(str(frame), lambda f=frame: self._tell(ChangeKind.TIMEFRAME, str(f)))
        for name in self.lists():
            lists.addAction(name, lambda n=name: self._tell(ChangeKind.LIST, n))
        menu.addSeparator()
        menu.addAction("With other commission …", lambda: self._ask(ChangeKind.COST, "Commission", "0.1%"))
        menu.addAction(
            "With other slippage …", lambda: self._ask(ChangeKind.SLIPPAGE, "Slippage, ticks or a ratio", "2t")
        )
        menu.addAction("With a stop …", lambda: self._ask(ChangeKind.STOP, "Stop distance", "2 * atr(14)"))
        menu.addAction("With limits that need trading through", lambda: self._tell(ChangeKind.THROUGH))
        menu.addAction("Reverse long/short", lambda: self._tell(ChangeKind.SWAPPED))
        menu.addAction("Invert condition", lambda: self._tell(ChangeKind.TURNED))
        menu.popup(place)
        return menu

    def _ask_setting(self, info: SettingInfo) -> None:
        before = info.words(info.default)
        text = words_for(self, info.text or info.name, "Add", before, f"{info.name}, now {before}")
        if text is not None and text.strip():
            self.asked.emit(Change(ChangeKind.SETTING, text.strip(), info.name))

    def _ask(self, what: ChangeKind, words: str, before: str) -> None:
        text = words_for(self, words, "Add", before)
        if text is not None and text.strip():
            self._tell(what, text.strip())

    def _tell(self, what: ChangeKind, value: str = "") -> None:
        self.asked.emit(Change(what, value))
