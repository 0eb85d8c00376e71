"""Asking what shall be otherwise for some symbols of the library."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.bars.calendar_words import closed_days, closed_text, hours_of, hours_words
from oakladder.bars.contract import margin_text, parse_margin
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.edit_metadata import Change
from oakladder.bars.store.symbol_info import SymbolInfo, zones
from oakladder.bars.zones import is_zone
from oakladder.disk import read_text, why

#: What symbols usually are; anything else can be typed.
KINDS = ("share", "index", "fund", "pair", "future", "good")
_STAYS = "unchanged"


def tick_in(text: str) -> float | None:
    """The smallest step of a price as it was typed; None for nothing. Raises `DataProblem`."""
    words = text.strip().replace(",", ".")
    if not words:
        return None
    try:
        tick = float(words)
    except ValueError:
        tick = float("nan")
    if not 0 < tick < 1e9:
        raise DataProblem(f"`{text.strip()}` is not a tick size. Write a number such as 0.01.")
    return tick


def _number_in(text: str) -> float | None:
    """A multiplier as it was typed; None for nothing. Raises `DataProblem`."""
    words = text.strip().replace(",", ".")
    try:
        return float(words) if words else None
    except ValueError:
        raise DataProblem(f"`{text.strip()}` is not a multiplier. Write a number such as 50.") from None


def _margin_in(text: str) -> tuple[float, float] | None:
    """A margin as it was typed; None for nothing. Raises `DataProblem`."""
    try:
        return parse_margin(text) if text.strip() else None
    except ValueError as error:
        raise DataProblem(str(error)) from None


class EditDialog(QDialog):
    """Edits what the library knows of some symbols; empty fields stay unchanged."""

    def __init__(self, infos: list[SymbolInfo], parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle("Edit symbols")
        self.name, self.tick, self.hours, self.all_hours = QLineEdit(), QLineEdit(), QLineEdit(), QLineEdit()
        self.group, self.kind, self.zone, self.weekend = QComboBox(), QComboBox(), QComboBox(), QComboBox()
        self.multiplier, self.currency, self.margin = QLineEdit(), QLineEdit(), QLineEdit()
        self.word = QLabel(objectName="trouble")
        self.word.setWordWrap(True)
        one = infos[0] if len(infos) == 1 else None
        self.name.setEnabled(one is not None)
        for box, offered in (
            (self.group, sorted({i.sector for i in infos})),
            (self.kind, list(KINDS)),
            (self.zone, sorted(zones())),
        ):
            box.setEditable(True)
            box.addItems(["", *offered])
            line = box.lineEdit()
            assert line is not None
            line.setPlaceholderText(_STAYS)
        self.weekend.addItem(_STAYS, None)
        self.weekend.addItem("trades at weekends", True)
        self.weekend.addItem("closed at weekends", False)
        examples = (
            (self.name, one.name if one else "different for each symbol"),
            (self.tick, f"{infos[0].tick:g}" if len({i.tick for i in infos}) == 1 else "different"),
            (
                self.hours,
                hours_words(infos[0].calendar) if len({hours_words(i.calendar) for i in infos}) == 1 else "different",
            ),
            (self.all_hours, "as in 06:00-22:00"),
            *self._contract_examples(infos),
        )
        for line, words in examples:
            line.setPlaceholderText(f"{_STAYS}: {words}" if line is not self.all_hours else words)
        form = QFormLayout()
        form.addRow("Name", self.name)
        form.addRow("Group", self.group)
        form.addRow("Kind", self.kind)
        form.addRow("Tick size", self.tick)
        form.addRow("Multiplier", self.multiplier)
        form.addRow("Currency", self.currency)
        form.addRow("Margin", self.margin)
        form.addRow("Time zone", self.zone)
        form.addRow("Regular hours", self.hours)
        form.addRow("Extended hours", self.all_hours)
        form.addRow("Weekends", self.weekend)
        form.addRow("Closed days", self._closed_part(infos))
        self.go, leave = QPushButton("Change"), QPushButton("Cancel")
        self.go.clicked.connect(lambda: self._accept())
        leave.clicked.connect(self.reject)
        self.go.setDefault(True)
        buttons = QHBoxLayout()
        buttons.addStretch(1)
        buttons.addWidget(self.go)
        buttons.addWidget(leave)
        layout = QVBoxLayout(self)
        count = infos[0].symbol if one else f"{len(infos)} symbols"
        layout.addWidget(QLabel(f"For {count}. Empty fields stay unchanged.", objectName="quiet"))
        layout.addLayout(form)
        layout.addWidget(self.word)
        layout.addLayout(buttons)
        self._infos = infos
        self.setMinimumWidth(420)

    def _contract_examples(self, infos: list[SymbolInfo]) -> list[tuple[QLineEdit, str]]:
        """The fields of what one unit is, with what is known."""
        self.multiplier.setToolTip("How many times its price one unit is worth, such as 50 for a future")
        self.currency.setToolTip(
            "The currency of the prices; a trial in another currency needs a pair of the two in the library"
        )
        self.margin.setToolTip("What a position ties up: 10% of its value, or 1200 money for each unit")
        made = []
        for line, words in (
            (self.multiplier, lambda c: f"{c.multiplier:g}"),
            (self.currency, lambda c: c.currency or "the account's"),
            (self.margin, margin_text),
        ):
            known = {words(i.contract) for i in infos}
            made.append((line, known.pop() if len(known) == 1 else "different"))
        return made

    def _closed_part(self, infos: list[SymbolInfo]) -> QWidget:
        """The days on which the market is closed or closes early: as text, or out of a file."""
        known = {closed_text(i.calendar) for i in infos}
        self._closed_before = known.pop() if len(known) == 1 else ""
        self.closed = QPlainTextEdit(self._closed_before)
        self.closed.setPlaceholderText(
            "2026-12-25\n2026-12-24 13:00  closes early"
            if not known
            else "different for each symbol; a new list replaces them all"
        )
        self.closed.setToolTip("One day per line, such as 2026-12-25; with a time, the session ends early")
        self.closed.setFixedHeight(88)
        self.closed.setTabChangesFocus(True)
        from_file = QPushButton("From a file …")
        from_file.clicked.connect(lambda: self._ask_closed())
        part = QWidget()
        column = QVBoxLayout(part)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.closed)
        column.addWidget(from_file)
        return part

    def _ask_closed(self) -> None:
        name, _ = QFileDialog.getOpenFileName(self, "A file of closed days", "", "Text (*.txt *.csv);;All files (*)")
        if not name:
            return
        try:
            text = read_text(Path(name))
            closed_days(text)
        except OSError as error:
            self.word.setText(f"{Path(name).name} cannot be read: {why(error)}.")
        except UnicodeDecodeError:
            self.word.setText(f"{Path(name).name} is not UTF-8 text.")
        except DataProblem as error:
            self.word.setText(f"{Path(name).name}: {error}")
        else:
            self.closed.setPlainText(text.strip())
            self.word.setText("")

    def made(self) -> Change | None:
        """What shall be otherwise; None with a word where it makes no sense."""
        try:
            change = self._read()
            for info in self._infos:
                change.info(info)
        except DataProblem as error:
            self.word.setText(str(error))
            return None
        return change

    def _read(self) -> Change:
        step = tick_in(self.tick.text())
        zone = self.zone.currentText().strip() or None
        if zone is not None and not is_zone(zone):
            raise DataProblem(f"`{zone}` is not a time zone. Write UTC or a name such as WET.")
        return Change(
            self.name.text().strip() or None,
            self.group.currentText().strip() or None,
            self.kind.currentText().strip() or None,
            step,
            zone,
            hours_of(self.hours.text()) if self.hours.text().strip() else None,
            hours_of(self.all_hours.text()) if self.all_hours.text().strip() else None,
            self.weekend.currentData(),
            closed_days(said) if (said := self.closed.toPlainText().strip()) != self._closed_before.strip() else None,
            _number_in(self.multiplier.text()),
            self.currency.text().strip() or None,
            _margin_in(self.margin.text()),
        )

    def _accept(self) -> None:
        if self.made() is not None:
            self.accept()
