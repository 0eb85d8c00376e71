"""Adding a column: which script, what of it, on which timeframes, with which settings."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from PyQt6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QDialog,
    QGridLayout,
    QLabel,
    QLineEdit,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.columns import ScriptColumn
from oakladder.app.programs import Programs
from oakladder.bars.timeframes import STANDARD, Timeframe
from oakladder.desk.widgets.questions import verb_row
from oakladder.desk.widgets.settings_strip import HeldSettings
from oakladder.desk.widgets.transient import answered
from oakladder.engine.columns.cells import available_outputs
from oakladder.rung import Program
from oakladder.user.scripts import title_of

_USUAL = ("1h", "4h", "1d", "1w")


class ColumnChooser(QDialog):
    """Makes a `ScriptColumn`, or changes one."""

    def __init__(
        self, programs: Mapping[str, Program], column: ScriptColumn | None = None, parent: QWidget | None = None
    ):
        super().__init__(parent)
        self.setWindowTitle("Script column")
        self._programs = list(programs.items())
        self.script, self.output = QComboBox(), QComboBox()
        for name, _ in self._programs:
            self.script.addItem(title_of(name), name)
        self.frames = {str(t): QCheckBox(str(t)) for t in STANDARD}
        self.other = QLineEdit(placeholderText="other lengths, as in 90m 6h")
        self.extended = QCheckBox("include extended hours")
        self.settings = HeldSettings()
        self._first: dict[str, object] = dict(column.settings) if column is not None else {}
        self.word = QLabel(objectName="trouble")
        self.script.currentIndexChanged.connect(lambda _: self._show_script())
        self._lay_out()
        chosen = column.timeframes if column else list(_USUAL)
        for name, box in self.frames.items():
            box.setChecked(name in chosen)
        self.other.setText(" ".join(t for t in chosen if t not in self.frames))
        if column is not None:
            names = [name for name, _ in self._programs]
            if column.script in names:
                self.script.setCurrentIndex(names.index(column.script))
            self.extended.setChecked(column.extended)
        self._show_script()
        if column is not None:
            self.output.setCurrentText(column.name)

    def _lay_out(self) -> None:
        grid = QGridLayout()
        for k, box in enumerate(self.frames.values()):
            grid.addWidget(box, k // 6, k % 6)
        layout = QVBoxLayout(self)
        for words, widget in (("Script", self.script), ("Column or signal", self.output)):
            layout.addWidget(QLabel(words, objectName="quiet"))
            layout.addWidget(widget)
        layout.addWidget(QLabel("On these timeframes, side by side", objectName="quiet"))
        layout.addLayout(grid)
        for part in (self.other, self.extended, self.settings, self.word):
            layout.addWidget(part)
        layout.addLayout(verb_row(self, "Add", accept=self._accept))

    def _show_script(self) -> None:
        if not self._programs:
            self.word.setText("No script without errors has a column to show.")
            return
        _, program = self._programs[self.script.currentIndex()]
        self.output.clear()
        self.output.addItems(available_outputs(program))
        # What another script was set to may suit this one: a setting of the same name keeps its value.
        self.settings.hold(program.settings, self._first | self.settings.given())

    def made(self) -> ScriptColumn | None:
        """The column as it is chosen; None with a word where something is missing."""
        frames = [name for name, box in self.frames.items() if box.isChecked()]
        try:
            frames += [str(Timeframe.parse(t)) for t in self.other.text().replace(",", " ").split()]
        except ValueError as error:
            self.word.setText(str(error))
            return None
        if not self._programs or not self.output.currentText():
            self.word.setText("The script has nothing to show in a column.")
            return None
        if not frames:
            self.word.setText("Choose a timeframe.")
            return None
        frames = sorted(set(frames), key=lambda t: -Timeframe.parse(t).order)
        script, _ = self._programs[self.script.currentIndex()]
        given = self.settings.given()
        return ScriptColumn(script, self.output.currentText(), frames, given, self.extended.isChecked())

    def _accept(self) -> None:
        if self.made() is not None:
            self.accept()


def ask_column(
    known: Programs, parent: QWidget, old: ScriptColumn | None, then: Callable[[ScriptColumn], object]
) -> None:
    """Asks how a column shall be, once the scripts are read; ``then`` gets it, if one was chosen."""

    def ask(programs: dict[str, Program]) -> None:
        chooser = ColumnChooser(programs, old, parent)
        if answered(chooser) and (made := chooser.made()) is not None:
            then(made)

    known.when_read(ask)
