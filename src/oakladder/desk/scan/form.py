"""The form of one condition of a scan, made of choices."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from PyQt6.QtCore import QSignalBlocker, pyqtSignal
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
from oakladder.desk.look.spacing import HAIR, TIGHT
from oakladder.desk.scan.rule_settings import Given
from oakladder.desk.widgets.transient import answered
from oakladder.engine.columns.cells import available_outputs
from oakladder.engine.scan.conditions import Field, Relation, TriggerMode, named_values
from oakladder.rung import Program
from oakladder.user.scans import SCRIPT, ScanLine, settings_said
from oakladder.user.scripts import title_of

_KINDS = {SCRIPT: "a script's", **{f.value: f.value for f in Field}}
_HOLDS = "holds"


@dataclass(slots=True)
class ConditionParts:
    """What conditions can be made of."""

    programs: Mapping[str, Program] = field(default_factory=dict)
    sectors: list[str] = field(default_factory=list)
    lists: list[str] = field(default_factory=list)


class NumberBox(QDoubleSpinBox):
    """A number without trailing zeros."""

    def textFromValue(self, value: float) -> str:
        return f"{value:.4f}".rstrip("0").rstrip(".")


class LineEditor(QWidget):
    """The choices that make a line. ``changed`` tells that it says something else now."""

    changed = pyqtSignal()

    def __init__(self, line: ScanLine, offer: ConditionParts, parent: QWidget | None = None):
        super().__init__(parent)
        self._offer = offer
        self._settings: dict[str, object] = {}
        self._extended = False
        self.negated = QCheckBox("not")
        self.kind, self.script, self.name = QComboBox(), QComboBox(), QComboBox()
        self.relation, self.frame, self.fresh, self.word = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.number, self.bars = NumberBox(), QSpinBox()
        self.given = QToolButton(text="Settings")
        self._set_up()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, HAIR)
        row.setSpacing(TIGHT)
        #: The choices, as they stand from left to right.
        self.parts: list[QWidget] = [
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
        for part in self.parts:
            row.addWidget(part)
        row.addStretch(1)
        self.given.clicked.connect(self._ask_given)
        self.kind.currentIndexChanged.connect(lambda _: self._kind_chosen())
        self.script.currentIndexChanged.connect(lambda _: self._script_chosen())
        self.name.currentIndexChanged.connect(lambda _: self._arrange())
        self.relation.currentIndexChanged.connect(lambda _: self._arrange())
        self.fresh.currentIndexChanged.connect(lambda _: self._arrange())
        for signal in (self.number.valueChanged, self.bars.valueChanged, self.word.currentTextChanged):
            signal.connect(lambda _: self.changed.emit())
        self.frame.currentTextChanged.connect(lambda _: self.changed.emit())
        self.negated.toggled.connect(lambda _: self.changed.emit())
        self.show_line(line, offer)

    def _set_up(self) -> None:
        """The choices that are always the same."""
        _refill(self.kind, [(words, key) for key, words in _KINDS.items()])
        _refill(self.relation, [(str(relation), str(relation)) for relation in (_HOLDS, *Relation)])
        self.number.setDecimals(4)
        self.number.setRange(-1e12, 1e12)
        self.number.setMinimumWidth(90)
        self.frame.setEditable(True)
        _refill(self.frame, [(str(t), str(t)) for t in STANDARD])
        _refill(self.fresh, [(fresh.value, fresh.value) for fresh in TriggerMode])
        self.bars.setRange(1, 5000)
        self.bars.setSuffix(" bars")
        self.word.setMinimumWidth(130)
        self.word.setEditable(False)

    def show_line(self, line: ScanLine, offer: ConditionParts) -> None:
        """Shows a line, which can be made of other things from now on."""
        self._offer = offer
        self._settings, self._extended = dict(line.settings), line.extended
        silent = [QSignalBlocker(part) for part in self.parts]
        self.negated.setChecked(line.negated)
        self.kind.setCurrentIndex(max(self.kind.findData(line.kind), 0))
        scripts = [(title_of(script), script) for script in offer.programs]
        if line.script and line.script not in offer.programs:  # gone, or with an error; the run says so
            scripts.append((title_of(line.script), line.script))
        _refill(self.script, scripts)
        self.script.setCurrentIndex(max(self.script.findData(line.script), 0))
        self._offer_names(line.name)
        self.relation.setCurrentText(line.relation or _HOLDS)
        self.number.setValue(line.number * (100 if line.kind == Field.CHANGE else 1))
        self.frame.setCurrentText(line.timeframe)
        self.fresh.setCurrentText(line.fresh)
        self.bars.setValue(line.bars)
        self._offer_words()
        word = line.words[0] if line.words else self.word.itemText(0)
        if self.word.findText(word) < 0:  # the list or the group is there no more; the run says so
            self.word.addItem(word)
        self.word.setCurrentText(word)
        for part in silent:
            part.unblock()
        self._arrange()

    def _program(self) -> Program | None:
        return self._offer.programs.get(str(self.script.currentData()))

    def _offer_names(self, current: str) -> None:
        program = self._program()
        values = named_values(program) if program is not None else {}
        names = [n for n in available_outputs(program) if n in values] if program is not None else []
        _refill(self.name, [(n, n) for n in names])
        if current and self.name.findText(current) < 0:
            self.name.addItem(current)  # missing from the script now; the run reports that
        self.name.setCurrentIndex(max(self.name.findText(current), 0))

    def _offer_words(self) -> None:
        words = {Field.SECTOR.value: self._offer.sectors, Field.SYMBOLS.value: self._offer.lists}
        _refill(self.word, [(w, w) for w in words.get(self.kind.currentData(), [])])

    def _kind_chosen(self) -> None:
        self._offer_words()
        self._arrange()

    def _script_chosen(self) -> None:
        self._settings = {}
        self._offer_names("")
        self._arrange()

    def _arrange(self) -> None:
        """Shows the parts that this kind of line has."""
        kind = self.kind.currentData()
        script, worded = kind == SCRIPT, kind in (Field.SECTOR, Field.SYMBOLS)
        for part in (self.script, self.name, self.frame, self.fresh):
            part.setVisible(script)
        self.word.setVisible(worded)
        self.relation.setVisible(not worded)
        program = self._program()
        op = named_values(program).get(self.name.currentText()) if script and program is not None else None
        unknown = script and op is None  # what it was stays, until it can be looked at again
        flag = op.is_flag if op is not None else unknown and self.relation.currentText() == _HOLDS
        if script and flag:
            self.relation.setCurrentText(_HOLDS)
        elif not worded and self.relation.currentText() == _HOLDS:
            self.relation.setCurrentText(">=")
        self.relation.setEnabled(not flag)
        self.number.setVisible(not worded and not (script and flag))
        self.number.setSuffix(" %" if kind == Field.CHANGE else "")
        self.given.setVisible(script and program is not None)
        self._show_given()
        self.bars.setVisible(script and self.fresh.currentText() in (TriggerMode.WITHIN, TriggerMode.LASTING))
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
        self.given.setToolTip(words or "Script settings and hours for this condition")

    def line(self) -> ScanLine:
        """The line as it is chosen."""
        kind = str(self.kind.currentData())
        relation = self.relation.currentText()
        number = self.number.value() / (100 if kind == Field.CHANGE else 1)
        if kind != SCRIPT:
            words = (self.word.currentText(),) if kind in (Field.SECTOR, Field.SYMBOLS) else ()
            return ScanLine(
                kind, self.negated.isChecked(), relation="" if words else relation, number=number, words=words
            )
        return ScanLine(
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


def _refill(box: QComboBox, choices: Sequence[tuple[str, str]]) -> None:
    """Gives a box other choices (words, key), where they are others: a box that stays is not laid out again."""
    if [(box.itemText(k), box.itemData(k)) for k in range(box.count())] == list(choices):
        return
    box.clear()
    for words, key in choices:
        box.addItem(words, key)
