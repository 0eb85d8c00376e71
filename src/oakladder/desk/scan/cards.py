"""The conditions of a scan one below the other, and groups of them that are joined in their own way."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence

from PyQt6.QtCore import QEvent, QObject, QSignalBlocker, Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QScrollArea,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.desk.look.spacing import GAP, HAIR, TIGHT
from oakladder.desk.look.theme import Theme
from oakladder.desk.scan.card import LineCard
from oakladder.desk.scan.form import ConditionParts
from oakladder.desk.scan.stage_widgets import AnswerLine, FunnelBar
from oakladder.desk.widgets.transient import discard
from oakladder.engine.scan.conditions import Join
from oakladder.engine.scan.funnel import Stage
from oakladder.engine.scan.why_not import WhyNot
from oakladder.rung import Program
from oakladder.user.scans import GROUP, ScanLine

#: How the parts of a group go together, in words.
JOINS = {
    Join.ALL: "all of these hold",
    Join.ANY: "any of these holds",
    Join.NONE: "none of these holds",
}


def join_box(how: str) -> QComboBox:
    """A choice of how conditions are joined."""
    box = QComboBox(accessibleName="How conditions combine")
    for join, words in JOINS.items():
        box.addItem(words, join.value)
    box.setCurrentIndex(max(box.findData(how), 0))
    return box


class GroupEditor(QFrame):
    """A group of conditions with a separate way to combine; groups can be nested."""

    removed = pyqtSignal(object)
    changed = pyqtSignal()
    unfolded = pyqtSignal(object)

    def __init__(self, line: ScanLine, offer: Callable[[], ConditionParts], parent: QWidget | None = None):
        super().__init__(parent, objectName="group")
        self.negated = QCheckBox("not")
        self.join = join_box(line.join)
        self.funnel, self.answer = FunnelBar(), AnswerLine()
        self.remove = QToolButton(text="×", objectName="quiet")
        self.remove.setToolTip("Remove this group with all its conditions")
        self.remove.setAccessibleName("Remove this group")
        self.inner = LinesEditor(offer)
        head = QHBoxLayout()
        head.setSpacing(TIGHT)
        for part in (self.negated, self.join):
            head.addWidget(part)
        head.addStretch(1)
        head.addWidget(self.funnel)
        head.addWidget(self.remove)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, TIGHT, 0, TIGHT)
        layout.setSpacing(HAIR)
        layout.addLayout(head)
        layout.addWidget(self.answer)
        layout.addWidget(self.inner)
        self.show_line(line)
        self.negated.toggled.connect(lambda _: self.changed.emit())
        self.join.currentIndexChanged.connect(lambda _: self.changed.emit())
        self.inner.changed.connect(self.changed)
        self.inner.unfolded.connect(self.unfolded)
        self.remove.clicked.connect(lambda: self.removed.emit(self))

    def show_line(self, line: ScanLine) -> None:
        """Shows a group."""
        silent = QSignalBlocker(self)
        self.negated.setChecked(line.negated)
        self.join.setCurrentIndex(max(self.join.findData(line.join), 0))
        self.inner.show_lines(list(line.lines))
        silent.unblock()

    def line(self) -> ScanLine:
        """The group as edited."""
        return ScanLine(
            GROUP, self.negated.isChecked(), join=str(self.join.currentData()), lines=tuple(self.inner.lines())
        )


Card = LineCard | GroupEditor


class LinesEditor(QWidget):
    """All conditions of a scan or of a group. ``unfolded`` tells the card whose form is shown: one at a time is."""

    changed = pyqtSignal()
    unfolded = pyqtSignal(object)

    def __init__(self, offer: Callable[[], ConditionParts] | None = None, parent: QWidget | None = None):
        super().__init__(parent)
        self._offered = ConditionParts()
        self._offer = offer or (lambda: self._offered)
        self.editors: list[Card] = []
        self._rows = QVBoxLayout()
        self._rows.setSpacing(TIGHT)
        self.add_button = QToolButton(text="Add a condition")
        self.add_button.clicked.connect(lambda: self._add_new(ScanLine()))
        self.group_button = QToolButton(text="Add a group")
        self.group_button.setToolTip("Conditions that combine in their own way, as in: this, and any of those")
        self.group_button.clicked.connect(
            lambda: self._add_new(ScanLine(GROUP, join=Join.ANY.value, lines=(ScanLine(),)))
        )
        self.empty = QLabel("No conditions yet.", objectName="quiet")
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addLayout(self._rows)
        foot = QHBoxLayout()
        for part in (self.add_button, self.group_button, self.empty):
            foot.addWidget(part)
        foot.addStretch(1)
        layout.addLayout(foot)
        if offer is None:  # the outermost
            self.unfolded.connect(self.fold)

    def offer(self, programs: Mapping[str, Program], sectors: list[str], lists: list[str]) -> None:
        """Sets what conditions can be made of; existing conditions stay unchanged."""
        self._offered = ConditionParts(programs, sectors, lists)
        self.show_lines(self.lines())

    def show_lines(self, lines: list[ScanLine]) -> None:
        """Shows other conditions. Editors that stand are used again: to make one takes longer than to fill it."""
        for k, line in enumerate(lines):
            if k < len(self.editors) and self._shown_in(self.editors[k], line):
                continue
            for editor in self.editors[k:]:
                self._drop(editor)
            self.add(line)
        for editor in self.editors[len(lines) :]:
            self._drop(editor)
        self._tell()

    def _shown_in(self, editor: Card, line: ScanLine) -> bool:
        """Shows a line in an editor that stands; False where it is another kind of editor."""
        if isinstance(editor, GroupEditor) is not (line.kind == GROUP):
            return False
        if isinstance(editor, GroupEditor):
            editor.show_line(line)
        else:
            editor.show_line(line, self._offer())
        return True

    def add(self, line: ScanLine) -> Card:
        """One more condition or group at the end."""
        made: Card = GroupEditor(line, self._offer) if line.kind == GROUP else LineCard(line, self._offer())
        made.removed.connect(self._drop)
        made.changed.connect(self.changed)
        made.unfolded.connect(self.unfolded)
        self.editors.append(made)
        self._rows.addWidget(made)
        self._tell()
        return made

    def _add_new(self, line: ScanLine) -> None:
        """A condition that the user asks for stands with its form open."""
        card = self.add(line)
        while isinstance(card, GroupEditor):
            card = card.inner.editors[0]
        card.unfold().kind.setFocus()

    def fold(self, but: object = None) -> None:
        """Puts the forms away, but one card's."""
        for editor in self.editors:
            if isinstance(editor, GroupEditor):
                editor.inner.fold(but)
            elif editor is not but:
                editor.fold()

    def _drop(self, editor: Card) -> None:
        self.editors.remove(editor)
        self._rows.removeWidget(editor)
        discard(editor)
        self._tell()

    def show_funnel(self, stages: Sequence[Stage], of: int, theme: Theme) -> None:
        """Shows what each condition lets through, of so many symbols; without stages nothing."""
        for k, editor in enumerate(self.editors):
            editor.funnel.show_stage(stages[k] if k < len(stages) else None, of, theme)

    def show_theme(self, theme: Theme) -> None:
        """By day or by night."""
        for editor in self.editors:
            editor.funnel.theme = theme
            editor.funnel.update()

    def show_answers(self, symbol: str, told: WhyNot | None) -> None:
        """Shows what each condition says of a symbol; None takes that away."""
        for k, editor in enumerate(self.editors):
            answer = told.answers[k] if told is not None and k < len(told.answers) else None
            editor.answer.show_answer(symbol, answer, decides=told is not None and told.first == k)

    def _tell(self) -> None:
        self.empty.setVisible(not self.editors)
        self.changed.emit()

    def lines(self) -> list[ScanLine]:
        return [e.line() for e in self.editors]


class CardScroll(QScrollArea):
    """Holds the conditions: as high as they are, up to two fifths of the place; more of them scroll."""

    def __init__(self, lines: LinesEditor, parent: QWidget | None = None):
        super().__init__(parent)
        self._lines = lines
        self.setWidget(lines)
        self.setWidgetResizable(True)
        self.setAccessibleName("The conditions")
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAsNeeded)
        lines.setObjectName("place")
        lines.installEventFilter(self)

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        if event is not None and event.type() == QEvent.Type.LayoutRequest:
            self._fit()
        return super().eventFilter(watched, event)

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        window = self.parentWidget()
        most = window.height() * 2 // 5 if window is not None else 300
        bar = self.horizontalScrollBar()
        more = bar.sizeHint().height() if bar is not None and bar.isVisible() else 0
        self.setFixedHeight(min(self._lines.sizeHint().height() + more, max(most, 90)))
