"""One condition of a scan, put together from choices."""

from __future__ import annotations

from collections.abc import Mapping

from PyQt6.QtCore import pyqtSignal
from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDoubleSpinBox,
    QHBoxLayout,
    QSpinBox,
    QToolButton,
    QWidget,
)

from oakladder.bars.timeframes import STANDARD
from oakladder.engine.columns import offered
from oakladder.engine.rules import RELATIONS, Field, Fresh, named_values
from oakladder.rung import Program
from oakladder.user.scans import SCRIPT, Line, settings_said

from ..programs import title_of
from ..widgets.passing import answered
from .given import Given

_KINDS = {SCRIPT: "a script's", **{f.value: f.value for f in Field}}
_HOLDS = "holds"


class NumberBox(QDoubleSpinBox):
    """A number without the zeros that nobody typed."""

    def textFromValue(self, value: float) -> str:
        return f"{value:.4f}".rstrip("0").rstrip(".")


class LineEditor(QWidget):
    """One line. ``removed`` asks for it to be taken away, ``changed`` tells that it says something else now."""

    removed = pyqtSignal(object)
    changed = pyqtSignal()

    def __init__(
        self,
        line: Line,
        programs: Mapping[str, Program],
        sectors: list[str],
        lists: list[str],
        parent: QWidget | None = None,
    ):
        super().__init__(parent)
        self._programs, self._sectors, self._lists = programs, sectors, lists
        self._settings = dict(line.settings)
        self._extended = line.extended
        self.negated = QCheckBox("not")
        self.kind, self.script, self.name = QComboBox(), QComboBox(), QComboBox()
        self.relation, self.frame, self.fresh, self.word = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.number, self.bars = NumberBox(), QSpinBox()
        self.given = QToolButton(text="Settings")
        self.remove = QToolButton(text="Remove")
        self._fill(line)
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 1, 0, 1)
        row.setSpacing(5)
        self._parts: list[QWidget] = [
            self.negated,
            self.kind,
            self.script,
            self.name,
            self.relation,
            self.number,
            self.word,
            self.frame,
            self.fresh,
            self.bars,
            self.given,
        ]
        for part in self._parts:
            row.addWidget(part)
        row.addStretch(1)
        row.addWidget(self.remove)
        self.given.clicked.connect(self._ask_given)
        self.remove.clicked.connect(lambda: self.removed.emit(self))
        self.kind.currentIndexChanged.connect(lambda _: self._arrange())
        self.script.currentIndexChanged.connect(lambda _: self._script_chosen())
        self.name.currentIndexChanged.connect(lambda _: self._arrange())
        self.relation.currentIndexChanged.connect(lambda _: self._arrange())
        self.fresh.currentIndexChanged.connect(lambda _: self._arrange())
        for signal in (self.number.valueChanged, self.bars.valueChanged, self.word.currentTextChanged):
            signal.connect(lambda _: self.changed.emit())
        self.frame.currentTextChanged.connect(lambda _: self.changed.emit())
        self.negated.toggled.connect(lambda _: self.changed.emit())
        self._arrange()

    def _fill(self, line: Line) -> None:
        self.negated.setChecked(line.negated)
        for key, words in _KINDS.items():
            self.kind.addItem(words, key)
        self.kind.setCurrentIndex(max(self.kind.findData(line.kind), 0))
        for script in self._programs:
            self.script.addItem(title_of(script), script)
        self.script.setCurrentIndex(max(self.script.findData(line.script), 0))
        self._offer_names(line.name)
        self.relation.addItems([_HOLDS, *RELATIONS])
        self.relation.setCurrentText(line.relation or _HOLDS)
        self.number.setDecimals(4)
        self.number.setRange(-1e12, 1e12)
        self.number.setValue(line.number * (100 if line.kind == Field.CHANGE else 1))
        self.number.setMinimumWidth(90)
        self.frame.setEditable(True)
        self.frame.addItems([str(t) for t in STANDARD])
        self.frame.setCurrentText(line.timeframe)
        for fresh in Fresh:
            self.fresh.addItem(fresh.value, fresh.value)
        self.fresh.setCurrentText(line.fresh)
        self.bars.setRange(1, 5000)
        self.bars.setSuffix(" bars")
        self.bars.setValue(line.bars)
        self.word.setMinimumWidth(130)
        self.word.setEditable(False)
        self._offer_words()
        if line.words:
            self.word.setCurrentText(line.words[0])

    def _program(self) -> Program | None:
        return self._programs.get(str(self.script.currentData()))

    def _offer_names(self, current: str) -> None:
        program = self._program()
        self.name.clear()
        if program is not None:
            values = named_values(program)
            self.name.addItems([n for n in offered(program) if n in values])
        if current and self.name.findText(current) < 0:
            self.name.addItem(current)  # the script has it no more; the run will say so
        if current:
            self.name.setCurrentText(current)

    def _offer_words(self) -> None:
        words = {Field.SECTOR.value: self._sectors, Field.SYMBOLS.value: self._lists}.get(self.kind.currentData(), [])
        if [self.word.itemText(k) for k in range(self.word.count())] != words:
            self.word.clear()
            self.word.addItems(words)

    def _script_chosen(self) -> None:
        self._settings = {}
        self._offer_names("")
        self._arrange()

    def _arrange(self) -> None:
        """Shows the parts that this kind of line has."""
        kind = self.kind.currentData()
        script, worded = kind == SCRIPT, kind in (Field.SECTOR, Field.SYMBOLS)
        self._offer_words()
        for part in (self.script, self.name, self.frame, self.fresh):
            part.setVisible(script)
        self.word.setVisible(worded)
        self.relation.setVisible(not worded)
        program = self._program()
        op = named_values(program).get(self.name.currentText()) if script and program is not None else None
        flag = op is not None and op.is_flag
        if script and flag:
            self.relation.setCurrentText(_HOLDS)
        elif not worded and self.relation.currentText() == _HOLDS:
            self.relation.setCurrentText(">=")
        self.relation.setEnabled(not flag)
        self.number.setVisible(not worded and not (script and flag))
        self.number.setSuffix(" %" if kind == Field.CHANGE else "")
        self.given.setVisible(script and program is not None)
        self._show_given()
        self.bars.setVisible(script and self.fresh.currentText() in (Fresh.WITHIN, Fresh.LASTING))
        self.changed.emit()

    def _ask_given(self) -> None:
        program = self._program()
        if program is None:
            return
        asked = Given(program, self._settings, self._extended, self)
        if answered(asked):
            self.give(asked.values, asked.extended.isChecked())

    def give(self, settings: dict[str, object], extended: bool) -> None:
        """Sets the script's settings in this condition, and whether it looks at all hours."""
        self._settings, self._extended = settings, extended
        self._show_given()
        self.changed.emit()

    def _show_given(self) -> None:
        words = settings_said(self._settings, self._extended)
        self.given.setText((words if len(words) < 24 else words[:22] + "…") or "Settings")
        self.given.setToolTip(words or "The script's settings in this condition, and the hours it looks at")

    def line(self) -> Line:
        """The line as it is chosen."""
        kind = str(self.kind.currentData())
        relation = self.relation.currentText()
        number = self.number.value() / (100 if kind == Field.CHANGE else 1)
        if kind != SCRIPT:
            words = (self.word.currentText(),) if kind in (Field.SECTOR, Field.SYMBOLS) else ()
            return Line(kind, self.negated.isChecked(), relation="" if words else relation, number=number, words=words)
        return Line(
            SCRIPT,
            self.negated.isChecked(),
            str(self.script.currentData() or ""),
            self.name.currentText(),
            self.frame.currentText().strip(),
            self._settings,
            "" if relation == _HOLDS else relation,
            number if relation != _HOLDS else 0.0,
            self.fresh.currentText(),
            self.bars.value(),
            self._extended,
        )
