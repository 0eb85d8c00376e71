"""A condition of a scan as a sentence on a card, which unfolds into its form."""

from __future__ import annotations

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QHBoxLayout, QToolButton, QVBoxLayout, QWidget

from oakladder.desk.look.spacing import HAIR, TIGHT
from oakladder.desk.scan.form import ConditionParts, LineEditor
from oakladder.desk.scan.stage_widgets import AnswerLine, FunnelBar
from oakladder.desk.widgets.self_drawn import Card
from oakladder.desk.widgets.sentence import Sentence
from oakladder.desk.widgets.transient import discard
from oakladder.engine.scan.conditions import Field, named_values
from oakladder.user.scans import SCRIPT, ScanLine, sentence_of
from oakladder.user.scripts import title_of


class LineCard(Card):
    """One condition. ``removed`` asks for it to be taken away, ``changed`` tells that it says something else now,
    ``unfolded`` that its form is shown. The form is created on first use: its twelve widgets take time."""

    removed = pyqtSignal(object)
    changed = pyqtSignal()
    unfolded = pyqtSignal(object)

    def __init__(self, line: ScanLine, offer: ConditionParts, parent: QWidget | None = None):
        super().__init__(parent)
        self._line, self._offer = line, offer
        self.form: LineEditor | None = None
        self.sentence = Sentence()
        self.funnel, self.answer = FunnelBar(), AnswerLine()
        self.remove = QToolButton(text="×", objectName="quiet")
        self.remove.setToolTip("Remove this condition (Delete)")
        self.remove.setAccessibleName("Remove this condition")
        head = QHBoxLayout()
        head.setSpacing(TIGHT)
        head.addWidget(self.sentence, 1)
        head.addWidget(self.funnel)
        head.addWidget(self.remove)
        self._rows = QVBoxLayout(self)
        self._rows.setContentsMargins(0, 0, 0, 0)
        self._rows.setSpacing(HAIR)
        self._rows.addLayout(head)
        self._rows.addWidget(self.answer)
        self.sentence.clicked.connect(self._turn)
        self.remove.clicked.connect(lambda: self.removed.emit(self))
        self._say()

    def show_line(self, line: ScanLine, offer: ConditionParts) -> None:
        """Shows a line, which can be made of other things from now on."""
        self._line, self._offer = line, offer
        if self.form is not None:
            self.form.show_line(line, offer)
        self._say()

    def unfold(self) -> LineEditor:
        """Shows the form; gives it."""
        if self.form is None:
            self.form = LineEditor(self._line, self._offer)
            self.form.changed.connect(self._changed)
            self._rows.addWidget(self.form)
            self.form.show()  # at once: the next key may come before the next turn of events
            before: QWidget = self.sentence
            for part in (*self.form.parts, self.remove):  # Tab goes through the form before it leaves the card
                self.setTabOrder(before, part)
                before = part
            self._changed()
            self.unfolded.emit(self)
        return self.form

    def fold(self) -> None:
        """Puts the form away."""
        if self.form is None:
            return
        self._line, form, self.form = self.form.line(), self.form, None
        self._rows.removeWidget(form)
        discard(form)
        self._say()

    def _turn(self) -> None:
        """Unfolds and goes into the form, or folds."""
        if self.form is None:
            self.unfold().kind.setFocus()
        else:
            self.fold()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Escape in the form puts it away, Delete on the sentence takes the condition away."""
        if event is not None and event.key() == Qt.Key.Key_Delete and self.sentence.hasFocus():
            self.removed.emit(self)
            return
        if event is not None and event.key() == Qt.Key.Key_Escape and self.form is not None:
            self.fold()
            self.sentence.setFocus()
            return
        super().keyPressEvent(event)

    def line(self) -> ScanLine:
        """The condition as edited."""
        return self._line

    def _changed(self) -> None:
        assert self.form is not None
        self._line = self.form.line()
        self._say()
        self.changed.emit()

    def _say(self) -> None:
        self.sentence.say(sentence_of(self._line, title_of), self._trouble(), self.form is not None)

    def _trouble(self) -> str:
        """What is missing: script, signal or list. The run would report it too."""
        line, offer = self._line, self._offer
        program = offer.programs.get(line.script)
        if line.kind == SCRIPT and program is None and line.script:
            return f"{line.script} is missing or has errors"
        if line.kind == SCRIPT and program is not None and line.name not in named_values(program):
            return f"the script has no {line.name}" if line.name else "the script has no signal yet"
        if line.kind == Field.SYMBOLS and not set(line.words) <= set(offer.lists):
            return "that list is missing"
        return ""
