"""The symbols of the library: what is known of them and which bars there are, and changing it for several at once."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QSortFilterProxyModel, Qt, pyqtSignal
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QDialog,
    QFileDialog,
    QFormLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.bars.calendar_words import closed_days, closed_text, hours_of, hours_words
from oakladder.bars.errors import DataProblem
from oakladder.bars.store.amend import Change, amend
from oakladder.bars.store.info import SymbolInfo, zones
from oakladder.bars.store.library import BarLibrary
from oakladder.bars.time_words import bar_time, tick_words
from oakladder.bars.timeframes import ONE_DAY, ONE_MINUTE
from oakladder.desk.jobs import Ticket, sentence_of
from oakladder.desk.look.distances import GAP
from oakladder.desk.look.letters import ui_font
from oakladder.desk.look.theme import Theme
from oakladder.desk.session import Desk
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.passing import answered
from oakladder.desk.widgets.rows import PaintedTable, RowPainter
from oakladder.desk.widgets.rows_model import RowsModel
from oakladder.disk import why

_HEADS = ("Symbol", "Name", "Group", "Kind", "Step of price", "Time zone", "Regular hours", "Days", "Within the day")
_WIDTHS = (70, 170, 110, 72, 104, 90, 140, 240, 250)
#: What symbols usually are; anything else can be typed.
KINDS = ("share", "index", "fund", "pair", "future", "good")
_STAYS = "as it is"


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
        raise DataProblem(f"`{text.strip()}` is no step of a price. Write it as 0.01.")
    return tick


@dataclass(frozen=True, slots=True)
class Held:
    """Which bars of a symbol there are, in words."""

    days: str = ""
    minutes: str = ""


def held_of(library: BarLibrary, info: SymbolInfo) -> Held:
    """Looks at the files of a symbol; nothing is made that is not there."""
    words = []
    for base in (ONE_DAY, ONE_MINUTE):
        if not library.path(info.symbol, base).exists():
            words.append("")
            continue
        try:
            bars = library.base(info.symbol, base)
        except (DataProblem, KeyError):
            words.append("cannot be read")
            continue
        step = f" of {info.finest}" if base == ONE_MINUTE else ""
        span = f", {bar_time(bars, 0)[4:15]} to {bar_time(bars, len(bars) - 1)[4:15]}" if len(bars) else ""
        words.append(f"{len(bars):,}{step}{span}")
    return Held(*words)


class SymbolsModel(RowsModel):
    """A row for each symbol of the library."""

    left = frozenset(range(len(_HEADS)))

    def __init__(self, theme: Theme) -> None:
        super().__init__(theme)
        self.infos: list[SymbolInfo] = []
        self._held: dict[str, Held] = {}
        self._texts: list[tuple[str, ...]] = []

    def show_infos(self, infos: list[SymbolInfo]) -> None:
        """Shows symbols; which bars they have is known later, or as it was."""
        self.beginResetModel()
        self.infos = infos
        self._write()
        self.endResetModel()

    def show_held(self, held: dict[str, Held]) -> None:
        """Shows which bars the symbols have."""
        self._held = held
        self._write()
        self.dataChanged.emit(self.index(0, 0), self.index(len(self.infos) - 1, len(_HEADS) - 1))

    def _write(self) -> None:
        """Puts every row into words once: a table asks for them each time it is painted."""
        self._texts = [_texts(i, self._held.get(i.symbol, Held("…", "…"))) for i in self.infos]

    def count(self) -> int:
        return len(self.infos)

    def sections(self) -> int:
        return len(_HEADS)

    def head(self, section: int) -> str:
        return _HEADS[section]

    def text(self, row: int, section: int) -> str:
        return self._texts[row][section]


def _texts(info: SymbolInfo, held: Held) -> tuple[str, ...]:
    """A row of the table."""
    return (
        info.symbol,
        info.name,
        info.sector,
        info.kind,
        tick_words(info.tick),
        info.calendar.zone,
        hours_words(info.calendar),
        held.days,
        held.minutes,
    )


class AmendDialog(QDialog):
    """Asks what shall be otherwise for some symbols; a line that is left empty stays as it is."""

    def __init__(self, infos: list[SymbolInfo], parent: QWidget | None = None):
        super().__init__(parent)
        self.setWindowTitle("Change what is known")
        self.name, self.tick, self.hours, self.all_hours = QLineEdit(), QLineEdit(), QLineEdit(), QLineEdit()
        self.group, self.kind, self.zone, self.weekend = QComboBox(), QComboBox(), QComboBox(), QComboBox()
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
            (self.name, one.name if one else "each its own"),
            (self.tick, f"{infos[0].tick:g}" if len({i.tick for i in infos}) == 1 else "different"),
            (
                self.hours,
                hours_words(infos[0].calendar) if len({hours_words(i.calendar) for i in infos}) == 1 else "different",
            ),
            (self.all_hours, "as in 06:00-22:00"),
        )
        for line, words in examples:
            line.setPlaceholderText(f"{_STAYS}: {words}" if line is not self.all_hours else words)
        form = QFormLayout()
        form.addRow("Name", self.name)
        form.addRow("Group", self.group)
        form.addRow("Kind", self.kind)
        form.addRow("Step of price", self.tick)
        form.addRow("Time zone", self.zone)
        form.addRow("Regular hours", self.hours)
        form.addRow("Early to late", self.all_hours)
        form.addRow("Weekends", self.weekend)
        form.addRow("Closed days", self._closed_part(infos))
        self.go, leave = QPushButton("Change"), QPushButton("Leave as it is")
        self.go.clicked.connect(lambda: self._accept())
        leave.clicked.connect(self.reject)
        self.go.setDefault(True)
        buttons = QHBoxLayout()
        buttons.addStretch(1)
        buttons.addWidget(self.go)
        buttons.addWidget(leave)
        layout = QVBoxLayout(self)
        count = infos[0].symbol if one else f"{len(infos)} symbols"
        layout.addWidget(QLabel(f"For {count}. What is left empty stays as it is.", objectName="quiet"))
        layout.addLayout(form)
        layout.addWidget(self.word)
        layout.addLayout(buttons)
        self._infos = infos
        self.setMinimumWidth(420)

    def _closed_part(self, infos: list[SymbolInfo]) -> QWidget:
        """The days on which the market is closed or closes early: as text, or out of a file."""
        known = {closed_text(i.calendar) for i in infos}
        self._closed_before = known.pop() if len(known) == 1 else ""
        self.closed = QPlainTextEdit(self._closed_before)
        self.closed.setPlaceholderText(
            "2026-12-25\n2026-12-24 13:00  closes early" if not known else "different; written anew for all of them"
        )
        self.closed.setToolTip("A day a line, as in 2026-12-25; with a time after it the session ends then")
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
            text = Path(name).read_text(encoding="utf-8-sig")
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
        if zone is not None and zone not in zones():
            raise DataProblem(f"`{zone}` is no time zone. Write UTC or a name such as WET.")
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
        )

    def _accept(self) -> None:
        if self.made() is not None:
            self.accept()


class SymbolsView(QWidget):
    """The table of the library with a line to filter it. ``changed`` tells that something is otherwise now."""

    changed = pyqtSignal()

    def __init__(self, desk: Desk, parent: QWidget | None = None):
        super().__init__(parent)
        self.desk = desk
        self.model = SymbolsModel(desk.looking.theme)
        self.rows = QSortFilterProxyModel()
        self.rows.setSourceModel(self.model)
        self.rows.setFilterKeyColumn(-1)
        self.rows.setFilterCaseSensitivity(Qt.CaseSensitivity.CaseInsensitive)
        self.filter = QLineEdit(placeholderText="Filter by anything that stands below")
        self.filter.setClearButtonEnabled(True)
        self.filter.textChanged.connect(self.rows.setFilterFixedString)
        desk.looking.theme_changed.connect(self._show_theme)
        self.button = QPushButton("Change the chosen …")
        self.button.clicked.connect(self.ask)
        self.word = QLabel(objectName="quiet")
        self.table = PaintedTable()
        self.table.painter = RowPainter(self.table, self.rows, self.model, ui_font())
        self._set_up()
        row = QHBoxLayout()
        for part, stretch in ((self.filter, 1), (self.button, 0), (self.word, 1)):
            row.addWidget(part, stretch)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, GAP, 0, 0)
        layout.addLayout(row)
        layout.addWidget(self.table, 1)

    def _set_up(self) -> None:
        table = self.table
        table.setModel(self.rows)
        header = tables.set_up(table, sortable=True)
        table.setAlternatingRowColors(True)
        table.setSelectionMode(QAbstractItemView.SelectionMode.ExtendedSelection)
        table.activated.connect(lambda _: self.ask())
        header.setSectionResizeMode(len(_HEADS) - 1, QHeaderView.ResizeMode.Stretch)
        for section, width in enumerate(_WIDTHS):
            table.setColumnWidth(section, width)

    def _show_theme(self, theme: Theme) -> None:
        self.model.theme = theme
        viewport = self.table.viewport()
        if viewport is not None:
            viewport.update()

    def refresh(self) -> None:
        """Shows what the library has now; which bars there are is looked up aside."""
        infos, library = list(self.desk.library.infos.values()), self.desk.library
        self.model.show_infos(infos)
        self._count()

        def work(ticket: Ticket) -> dict[str, Held]:
            made = {}
            for k, info in enumerate(infos):
                if ticket.cancelled():
                    break
                made[info.symbol] = held_of(library, info)
                ticket.report((k + 1) / len(infos))
            return made

        def then(held: dict[str, Held]) -> None:
            self.model.show_held(held)

        self.desk.jobs.start("symbols", work, then, lambda error: self.word.setText(sentence_of(error)), slow=True)

    def _count(self) -> None:
        self.word.setText(f"{self.model.rowCount():,} symbols. Choose some to change what is known of them.")

    def chosen(self) -> list[SymbolInfo]:
        """The symbols of the chosen rows, from top to bottom."""
        selection = self.table.selectionModel()
        rows = selection.selectedRows() if selection is not None else []
        return [self.model.infos[self.rows.mapToSource(i).row()] for i in sorted(rows, key=lambda i: i.row())]

    def ask(self) -> None:
        """Asks what shall be otherwise for the chosen symbols."""
        infos = self.chosen()
        if not infos:
            self.word.setText("Choose one or more symbols first.")
            return
        dialog = AmendDialog(infos, self)
        if answered(dialog) and (change := dialog.made()) is not None:
            self.amend([i.symbol for i in infos], change)

    def amend(self, symbols: list[str], change: Change) -> None:
        """Changes symbols aside, and shows them as they are then."""
        library = self.desk.library

        def work(ticket: Ticket) -> int:
            return amend(library, symbols, change, progress=ticket.report, cancelled=ticket.cancelled)

        def then(count: int) -> None:
            self.refresh()
            self.word.setText(f"{count} changed." if count else "They are so already.")
            self.changed.emit()

        def failed(error: Exception) -> None:
            self.refresh()
            self.word.setText(f"{sentence_of(error)} What could not be changed is as it was.")

        self.desk.jobs.start("amend", work, then, failed, self._share, slow=True)

    def _share(self, share: float) -> None:
        self.word.setText(f"{share:.0%} changed …")
