"""The rule's notebook: what was tried, notes, and the seal with what it kept apart."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from html import escape

import msgspec
from PyQt6.QtCore import QModelIndex, pyqtSignal
from PyQt6.QtWidgets import (
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QTableView,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from oakladder.app.judging import JudgingController
from oakladder.app.notebook import NotebookController
from oakladder.desk.look.spacing import GAP
from oakladder.desk.look.theme import Theme
from oakladder.desk.widgets import tables
from oakladder.desk.widgets.questions import agreed
from oakladder.desk.widgets.rows_model import RowsModel
from oakladder.desk.widgets.sorted_rows import SortedRows
from oakladder.rung.texts import count_words
from oakladder.trial.metrics.metrics import METRICS, metric_words
from oakladder.trial.notebook import Broken, Notebook, Remark, Swept, Try, What, change_words, grouped, ranges_of
from oakladder.trial.seal import COMPARED, others_words, seal_words
from oakladder.trial.spans import TUNED, TUNED_WORDS
from oakladder.trial.sweep.ranges import point_words

_FIGURES = ("trades", "winners", "average", "growth", "drawdown", "sharpe")
_HEADS = ("When", "Try", "Trades", "Winners", "Average", "Return p.a.", "Drawdown", "Sharpe", "History")
#: So many rows are looked at for notes and sweeps; each costs the table time.
_MOST_SPANS = 500
_SEALED = "The last fifth of history is sealed: no trial, sweep or evidence of this rule has seen it."
_ASK = (
    "Breaking the seal shows what this rule makes of the part of history that it was not found on. It can be done once: "
    "afterwards that part is as well known as the rest, whatever the timeframe, and what is changed after it is marked as "
    f"{TUNED}."
)
#: What the last column says of a try.
_OPEN_PART, _ALL = "the open part", "all of it"


class _Entries(RowsModel):
    """A row for each variant that was tried and each note."""

    left = frozenset({0, 1, len(_HEADS) - 1})

    def __init__(self, theme: Theme):
        super().__init__(theme)
        self.entries: list[Try | Remark | Broken | Swept] = []
        self._marks: list[str] = []
        self._telling: set[str] = set()
        #: What is otherwise in each try than in the one before, and how many others came to the same, by the try's identity.
        self._changes: dict[int, str] = {}
        self._alike: dict[int, int] = {}

    def show(self, book: Notebook) -> None:
        """Shows another notebook, the newest entry first."""
        self.beginResetModel()
        tries = {(e.what.key, e.sealed): e for e in book.entries if isinstance(e, Try)}
        in_order = sorted(tries.values(), key=lambda e: e.moment)
        befores = [None, *(e.what for e in in_order)]
        self._changes = {id(e): change_words(before, e.what) for before, e in zip(befores, in_order, strict=False)}
        # Of several ways to the same result the newest stands for all.
        groups = grouped(in_order)
        self._alike = {id(group[-1]): len(group) - 1 for group in groups}
        others = [e for e in book.entries if isinstance(e, Remark | Broken | Swept)]
        self.entries = sorted([*(group[-1] for group in groups), *others], key=lambda e: -e.moment)
        self._marks = list(dict.fromkeys(e.what.text for e in reversed(self.entries) if isinstance(e, Try | Swept)))
        self._telling = _differing(list(tries.values()))
        self.endResetModel()

    def count(self) -> int:
        return len(self.entries)

    def sections(self) -> int:
        return len(_HEADS)

    def head(self, section: int) -> str:
        return _HEADS[section]

    def head_hint(self, section: int) -> str:
        metric = METRICS[_FIGURES[section - 2]] if 2 <= section < 2 + len(_FIGURES) else None
        return f"{metric.title}: {metric.about}" if metric is not None else _HEADS[section]

    def text(self, row: int, section: int) -> str:
        one = self.entries[row]
        if section == 0:
            return f"{datetime.fromtimestamp(one.moment):%d %b %Y %H:%M}"
        if isinstance(one, Remark):
            return one.text if section == 1 else ""
        if isinstance(one, Swept):
            return self._sweep_words(one) if section == 1 else ""
        if isinstance(one, Broken):
            return f"The seal was broken. {seal_words(one)}" if section == 1 else ""
        if section == 1:
            return self._words(one)
        if section == len(_HEADS) - 1:
            return _OPEN_PART if one.sealed else TUNED if one.tuned else _ALL
        return metric_words(one.metrics, _FIGURES[section - 2])

    def _words(self, one: Try) -> str:
        told = {name: value for name, value in one.what.settings.items() if name in self._telling}
        alike = self._alike.get(id(one), 0)
        beside = f"; {count_words(alike, 'other way')} to the same result" if alike else ""
        where = f"{self._text(one.what)}{msgspec.structs.replace(one.what, settings=told).words()}"
        return f"{where} ({self._changes.get(id(one), '')}{beside})"

    def _text(self, what: What) -> str:
        """Which of several texts it was."""
        return f"text {self._marks.index(what.text) + 1}, " if len(self._marks) > 1 else ""

    def _sweep_words(self, one: Swept) -> str:
        ranges = " × ".join(f"{r.name} {point_words(r.values[0])}..{point_words(r.values[-1])}" for r in ranges_of(one))
        where = f"{self._text(one.what)}{one.what.list_name} {one.what.timeframe}"
        tuned = f", {TUNED}" if one.tuned else ""
        return f"{where}: a sweep of {ranges}, {one.count:,} combinations{tuned}"

    def order(self, row: int, section: int) -> float | str:
        one = self.entries[row]
        if section == 0:
            return one.moment
        if isinstance(one, Try) and 2 <= section < 2 + len(_FIGURES):
            value = one.metrics.get(_FIGURES[section - 2])
            return -1e300 if value is None else value
        return self.text(row, section) if section in (1, len(_HEADS) - 1) else -1e300

    def hint(self, row: int, section: int) -> str:
        one = self.entries[row]
        if isinstance(one, Try) and one.tuned and section == len(_HEADS) - 1:
            return TUNED_WORDS
        return f"{self._text(one.what)}{one.what.words()}" if isinstance(one, Try) else self.text(row, 1)


class NotebookView(QWidget):
    """The entries, a line for a note, and the seal. ``asked`` tells a `Try` that is to be looked at again."""

    asked = pyqtSignal(object)

    def __init__(
        self, notes: NotebookController, judging: JudgingController, theme: Theme, parent: QWidget | None = None
    ):
        super().__init__(parent)
        self._notes, self._judging = notes, judging
        self.source, self.table = _Entries(theme), QTableView(accessibleName="Tries")
        self.rows = SortedRows(self.source)
        self.counted, self.seal = QLabel(objectName="head"), QLabel(objectName="quiet")
        self.compared = QLabel(objectName="rich")
        self.note, self.note_button = (
            QLineEdit(placeholderText="A note about this rule", accessibleName="A note about this rule"),
            QToolButton(text="Add note"),
        )
        self.break_button = QToolButton(text="Break the seal …")
        #: Asks whether the seal is really to be broken.
        self.ask: Callable[[], bool] = self._ask
        self._set_up_table()
        self._lay_out()
        self.note.returnPressed.connect(self._write)
        self.note_button.clicked.connect(lambda: self._write())
        self.break_button.clicked.connect(lambda: self._break())
        self.table.activated.connect(self._open)
        notes.changed.connect(self._show)
        judging.list_changed.connect(self._show_seal)
        self.rows.layoutChanged.connect(self._span)
        self._show()

    def _set_up_table(self) -> None:
        table = self.table
        table.setModel(self.rows)
        across = tables.set_up(table, sortable=True)
        table.setAlternatingRowColors(True)
        table.setToolTip("Enter takes the settings of a try, or shows its text where that was another")
        for k, width in enumerate((124, 0, 58, 62, 64, 78, 72, 60, 138)):
            if width:
                table.setColumnWidth(k, width)
        across.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        table.setAccessibleName("Tries")

    def _lay_out(self) -> None:
        for line in (self.counted, self.seal, self.compared):
            line.setWordWrap(True)
            line.setMinimumWidth(20)
        head = QHBoxLayout()
        head.addWidget(self.counted, 1)
        seal = QHBoxLayout()
        seal.addWidget(self.seal, 1)
        seal.addWidget(self.break_button)
        line = QHBoxLayout()
        line.addWidget(self.note, 1)
        line.addWidget(self.note_button)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(GAP, GAP, GAP, GAP)
        layout.addLayout(head)
        layout.addLayout(seal)
        layout.addWidget(self.compared)
        layout.addLayout(line)
        layout.addWidget(self.table, 1)

    def _span(self) -> None:
        """Notes and sweeps may extend over the empty cells beside them."""
        self.table.clearSpans()
        for row in range(min(self.rows.rowCount(), _MOST_SPANS)):
            if not isinstance(self.source.entries[self.rows.mapToSource(self.rows.index(row, 0)).row()], Try):
                self.table.setSpan(row, 1, 1, len(_HEADS) - 1)

    def _show(self) -> None:
        book = self._notes.book
        self.source.show(book)
        self._span()
        count = len(book.hypotheses)
        tries = (
            "No tries yet" if not count else "1 variant was tried" if count == 1 else f"{count:,} variants were tried"
        )
        self.counted.setText(
            f"{tries}. A result counts once it was visible for a moment, and each combination of a sweep."
        )
        self._show_seal()

    def _show_seal(self) -> None:
        """Whether the rule has seen the sealed part of the list, how that went, and who else has seen it."""
        state = self._judging.seal()
        broken = state.broken
        self.break_button.setVisible(not state.is_broken)
        self.compared.setVisible(broken is not None)
        others = f" {others_words(state.others)}" if state.others else ""
        if broken is None:
            self.seal.setText(f"{_SEALED}{others}")
            return
        again = "" if state.is_broken else " Some symbols of the list are still sealed."
        self.seal.setText(
            f"The seal was broken on {datetime.fromtimestamp(broken.moment):%d %b %Y at %H:%M}. {seal_words(broken)}"
            f"{again}{others}"
        )
        self.compared.setText(_table(broken))

    def enter(self) -> None:
        """Reads it again: another program may have written into it."""
        self._notes.read()

    def _write(self) -> None:
        text = self.note.text().strip()
        if text:
            self._notes.remark(text)
            self.note.clear()

    def _break(self) -> None:
        if self.ask():
            self._judging.break_seal()

    def _ask(self) -> bool:
        words = f"{_ASK} {others_words(self._judging.seal().others)}"
        return agreed(self, "Break the seal of this rule?", words, "Break the seal", "Cancel")

    def _open(self, index: QModelIndex) -> None:
        entry = self.source.entries[self.rows.mapToSource(index).row()]
        if isinstance(entry, Try):
            self.asked.emit(entry)

    def set_theme(self, theme: Theme) -> None:
        self.source.theme = theme
        self.source.refresh()


def _differing(tries: list[Try]) -> set[str]:
    """The settings that were not the same in all tries."""
    seen: dict[str, set[str]] = {}
    for one in tries:
        for name, value in one.what.settings.items():
            seen.setdefault(name, set()).add(value)
    return {name for name, values in seen.items() if len(values) > 1}


def _table(broken: Broken) -> str:
    """Promise and sealed part side by side."""
    cells = "".join(f"<th align='right'>&nbsp;&nbsp;{escape(METRICS[n].title)}</th>" for n in COMPARED)
    rows = []
    for name, metrics in (("promised", broken.promised), ("the sealed part", broken.showed)):
        told = "".join(f"<td align='right'>&nbsp;&nbsp;{escape(metric_words(metrics, n))}</td>" for n in COMPARED)
        rows.append(f"<tr><td>{name}</td>{told}</tr>")
    return f"<table><tr><th></th>{cells}</tr>{''.join(rows)}</table>"
