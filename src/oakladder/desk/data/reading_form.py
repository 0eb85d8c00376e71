"""How a file is read: one sentence, which unfolds into the form in which it is corrected."""

from __future__ import annotations

from dataclasses import replace

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QComboBox, QGridLayout, QLabel, QLineEdit, QVBoxLayout, QWidget

from oakladder.desk.data.edit_dialog import KINDS, tick_in
from oakladder.desk.data.preview import form_words, offer_columns
from oakladder.desk.look.spacing import GAP, TIGHT
from oakladder.desk.widgets.self_drawn import Card
from oakladder.desk.widgets.sentence import Sentence
from oakladder.intake.cleaning import Repair, Trouble
from oakladder.intake.file_layout import FIELDS, FileKind, TableLayout
from oakladder.intake.importing import Options, session_calendar
from oakladder.intake.times import TIME_FORMS

_SEPARATORS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "upright bar"}
_DECIMALS = {".": "1.5", ",": "1,5"}


class ReadingForm(Card):
    """``corrected`` tells that the file shall be read in another way, ``asked`` that something asked of every file
    has changed."""

    corrected = pyqtSignal()
    asked = pyqtSignal()

    def __init__(self, parent: QWidget | None = None):
        super().__init__(parent)
        self.layout_: TableLayout | None = None
        self.sentence = Sentence()
        self.separator, self.decimal, self.form = QComboBox(), QComboBox(), QComboBox()
        self.zone, self.session = QLineEdit("UTC"), QLineEdit(placeholderText="09:00-15:30")
        self.group = QLineEdit(placeholderText="My data")
        self.tick = QLineEdit(placeholderText="as found")
        self.kind = QComboBox()
        self.columns: dict[str, QComboBox] = {name: QComboBox() for name in FIELDS}
        self._fields = QWidget()
        self._offer()
        self._lay_out()
        self._fields.hide()
        self.sentence.clicked.connect(self.turn)
        for box in (self.separator, self.decimal, self.form, *self.columns.values()):
            box.activated.connect(lambda _: self._correct())
        kind = self.kind.lineEdit()
        assert kind is not None
        for line in (self.zone, self.session, self.group, self.tick, kind):
            line.editingFinished.connect(self._ask)
        self.kind.activated.connect(lambda _: self._ask())
        self.show_layout(None)

    def _offer(self) -> None:
        for sign, words in _SEPARATORS.items():
            self.separator.addItem(words, sign)
        for sign, words in _DECIMALS.items():
            self.decimal.addItem(words, sign)
        for form in TIME_FORMS:
            self.form.addItem(form_words(form), form)
        self.kind.setEditable(True)
        self.kind.addItems(["", *KINDS])
        kind = self.kind.lineEdit()
        assert kind is not None
        kind.setPlaceholderText("share")
        self.kind.setToolTip("Kind of the new symbols; empty leaves known symbols unchanged")
        self.tick.setToolTip("Tick size of the new symbols, such as 0.01")
        self.group.setToolTip("Sector of the new symbols; empty leaves known symbols unchanged")
        self.session.setToolTip("Empty for a 24-hour session")

    def _lay_out(self) -> None:
        asked = (
            ("Separator", self.separator),
            ("Decimals", self.decimal),
            ("Time format", self.form),
            ("Time zone", self.zone),
            ("Regular hours", self.session),
            ("Group", self.group),
            ("Kind", self.kind),
            ("Tick size", self.tick),
        )
        self.form.setMaximumWidth(250)
        self.session.setMinimumWidth(104)
        rows = QVBoxLayout(self._fields)
        rows.setContentsMargins(GAP, 0, GAP, GAP)
        for parts in (asked, tuple((f"Column: {n}", b) for n, b in self.columns.items())):
            grid = QGridLayout()
            grid.setHorizontalSpacing(GAP)
            for k, (words, part) in enumerate(parts):
                grid.addWidget(QLabel(words.removeprefix("Column: "), objectName="quiet"), 0, k)
                grid.addWidget(part, 1, k)
                part.setAccessibleName(words)
                if part in self.columns.values():
                    part.setMinimumWidth(60)
            if parts is not asked:
                rows.addWidget(QLabel("Columns", objectName="quiet"))
            rows.addLayout(grid)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(TIGHT, TIGHT, TIGHT, TIGHT)
        layout.addWidget(self.sentence)
        layout.addWidget(self._fields)

    # --- what is shown ------------------------------------------------------------------------------

    @property
    def unfolded(self) -> bool:
        """Whether the form is shown."""
        return not self._fields.isHidden()

    def turn(self) -> None:
        """Unfolds the form and goes into it, or puts it away."""
        self._fields.setVisible(not self.unfolded)
        if self.unfolded:
            (self.separator if self.separator.isEnabled() else self.zone).setFocus()
        self._say()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Escape in the form puts it away."""
        if event is not None and event.key() == Qt.Key.Key_Escape and self.unfolded:
            self.turn()
            self.sentence.setFocus()
            return
        super().keyPressEvent(event)

    def show_layout(self, layout: TableLayout | None) -> None:
        """Shows how another file is read; None where there is nothing to choose."""
        self.layout_ = layout
        for box in (self.separator, self.decimal, self.form, *self.columns.values()):
            box.setEnabled(layout is not None)
        if layout is not None:
            self.separator.setCurrentIndex(self.separator.findData(layout.separator))
            self.decimal.setCurrentIndex(self.decimal.findData(layout.decimal))
            self.form.setCurrentIndex(max(self.form.findData(layout.time_form), 0))
            offer_columns(self.columns, layout)
        self._say()

    def words(self) -> str:
        """How the file is read, in a sentence."""
        session, zone = self.session.text().strip(), self.zone.text().strip() or "UTC"
        parts = [*self._layout_words(), f"hours {session} {zone}" if session else f"24-hour session ({zone})"]
        parts.append(f"new symbols go to {self.group.text().strip() or 'My data'}")
        return "Read as: " + ", ".join(parts)

    def _layout_words(self) -> list[str]:
        layout = self.layout_
        if layout is None:
            return []
        times = f"times as {form_words(layout.time_form)}"
        if "close" in layout.columns:
            column = layout.columns["close"]
            name = f" ({layout.names[column]})" if column < len(layout.names) and layout.names[column] else ""
            closes = f"close in column {column + 1}{name}"
        else:
            closes = "no close column yet"
        if layout.kind is not FileKind.TEXT:
            return [times, closes]
        return [
            _SEPARATORS.get(layout.separator, layout.separator),
            f"decimals as {_DECIMALS[layout.decimal]}",
            times,
            closes,
        ]

    def _say(self) -> None:
        self.sentence.say(self.words(), "", self.unfolded)

    # --- what is asked ------------------------------------------------------------------------------

    def _correct(self) -> None:
        if self.layout_ is None:
            return
        columns = {name: box.currentData() for name, box in self.columns.items() if box.currentData() is not None}
        self.layout_ = replace(
            self.layout_,
            separator=str(self.separator.currentData()),
            decimal=str(self.decimal.currentData()),
            time_form=str(self.form.currentData()),
            columns=columns,
        )
        self._say()
        self.corrected.emit()

    def _ask(self) -> None:
        self._say()
        self.asked.emit()

    def options(self, repairs: dict[Trouble, Repair]) -> Options:
        """What is asked of every file. Raises `DataProblem` with a sentence where that makes no sense."""
        zone, session = self.zone.text().strip() or "UTC", self.session.text().strip() or None
        calendar = session_calendar(zone, session) if session or zone != "UTC" else None
        tick = tick_in(self.tick.text())
        kind, group = self.kind.currentText().strip() or None, self.group.text().strip() or None
        return Options(calendar, tick, kind=kind, sector=group, zone=zone, repairs=dict(repairs))
