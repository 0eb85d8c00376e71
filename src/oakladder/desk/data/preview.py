"""Preview of an import: the bars, the recognised symbol, the findings and the action for each."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import (
    QComboBox,
    QHeaderView,
    QTableWidget,
    QTableWidgetItem,
)

from oakladder.bars.adjustments import adjusted_words
from oakladder.bars.calendar_words import hours_words
from oakladder.bars.time_words import bar_time, tick_words
from oakladder.intake.cleaning import CHOICES, Repair, Trouble, done_words
from oakladder.intake.file_layout import TableLayout
from oakladder.intake.importing import Intake

_SHOWN_ROWS = 12
#: Width of the column with the action for a finding, in pixels.
_DONE_WIDTH = 180
_FORM_WORDS = {
    "": "2026-03-12 or 2026-03-12T09:30:00+00:00",
    "seconds": "seconds since 1970",
    "milliseconds": "milliseconds since 1970",
}


def form_words(form: str) -> str:
    """A form of times as an example of it."""
    example = {"%Y": "2026", "%m": "03", "%d": "12", "%b": "Mar", "%H": "09", "%M": "30", "%S": "00"}
    made = _FORM_WORDS.get(form, form)
    for sign, words in example.items():
        made = made.replace(sign, words)
    return made


def show_preview(table: QTableWidget, shown: Intake | None) -> None:
    """The first and last bars of a symbol, as they would come in."""
    heads = ("symbol", "time", "open", "high", "low", "close", "volume")
    table.setColumnCount(len(heads))
    table.setHorizontalHeaderLabels(heads)
    header = table.horizontalHeader()
    assert header is not None
    header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
    for c in range(len(heads)):
        head = table.horizontalHeaderItem(c)
        if head is not None:
            head.setTextAlignment(int(_side(c > 1)))
    if shown is None or shown.bars is None:
        table.setRowCount(0)
        return
    bars, count = shown.bars, len(shown.bars)
    rows = list(range(min(count, _SHOWN_ROWS // 2))) + list(
        range(max(count - _SHOWN_ROWS // 2, _SHOWN_ROWS // 2), count)
    )
    table.setRowCount(len(rows))
    for r, bar in enumerate(rows):
        cells = [bars.symbol, bar_time(bars, bar)]
        cells += ["–" if (v := float(bars[n][bar])) != v else f"{v:,.10g}" for n in heads[2:]]
        for c, text in enumerate(cells):
            item = QTableWidgetItem(text)
            item.setTextAlignment(int(_side(c > 1)))
            table.setItem(r, c, item)


def _side(right: bool) -> Qt.AlignmentFlag:
    return (Qt.AlignmentFlag.AlignRight if right else Qt.AlignmentFlag.AlignLeft) | Qt.AlignmentFlag.AlignVCenter


def facts_of(shown: Intake | None, symbols: Collection[str]) -> str:
    """What was recognised of the symbol itself."""
    if shown is None or shown.info is None:
        return ""
    info, known = shown.info, shown.symbol in symbols
    where = "already in the library; its details stay unchanged" if known else f"new, in {info.sector}"
    adjusted = "".join(f", {words}" for words in adjusted_words(info.adjustments))
    return (
        f"{info.symbol}: {info.kind}, {shown.timeframe} bars, tick size {tick_words(info.tick)}, "
        f"{hours_words(info.calendar)} {info.calendar.zone}{adjusted}; {where}"
    )


def show_findings(
    table: QTableWidget,
    intakes: list[Intake],
    repairs: Mapping[Trouble, Repair],
    choose: Callable[[Trouble, Repair], None],
) -> None:
    """The findings, with a choice of action for each; ``choose`` receives the choice."""
    found: dict[Trouble, tuple[int, str]] = {}
    for intake in intakes:
        for f in intake.findings:
            count, words = found.get(f.trouble, (0, ""))
            rows = ", ".join(f"row {row}" for row, _ in f.places if row)
            found[f.trouble] = (count + f.count, words or f.about or rows)
    table.setColumnCount(4)
    table.setHorizontalHeaderLabels(["what", "count", "where", "action"])
    table.setRowCount(len(found))
    header = table.horizontalHeader()
    assert header is not None
    header.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
    for c in (0, 1):
        header.setSectionResizeMode(c, QHeaderView.ResizeMode.ResizeToContents)
    header.setSectionResizeMode(3, QHeaderView.ResizeMode.Fixed)
    header.resizeSection(3, _DONE_WIDTH)
    for c in range(4):
        head = table.horizontalHeaderItem(c)
        if head is not None:
            head.setTextAlignment(int(_side(False)))
    for r, (trouble, (count, where)) in enumerate(found.items()):
        for c, text in enumerate((trouble.value, f"{count:,}", where)):
            item = QTableWidgetItem(text)
            item.setToolTip(text)
            table.setItem(r, c, item)
        box = QComboBox()
        for repair in CHOICES[trouble]:
            box.addItem(done_words(trouble, repair), repair)
        box.setCurrentIndex(box.findData(repairs.get(trouble, CHOICES[trouble][0])))
        box.setEnabled(len(CHOICES[trouble]) > 1)
        box.setToolTip(box.currentText())
        box.activated.connect(lambda _, t=trouble, b=box: choose(t, b.currentData()))
        table.setCellWidget(r, 3, box)


def words_of_file(intakes: list[Intake]) -> str:
    """A file in the list: its first symbols, and how many more."""
    return "\n".join(i.words() for i in intakes[:3]) + (f"\nand {len(intakes) - 3} more" if len(intakes) > 3 else "")


def offer_columns(boxes: Mapping[str, QComboBox], layout: TableLayout) -> None:
    """Offers the columns of a file for each field, with the assumed one selected."""
    width = max([*layout.columns.values(), len(layout.names) - 1]) + 1
    for name, box in boxes.items():
        box.clear()
        box.addItem("–", None)
        for k in range(width):
            box.addItem(layout.names[k] if k < len(layout.names) and layout.names[k] else f"column {k + 1}", k)
        box.setCurrentIndex(box.findData(layout.columns.get(name)) if name in layout.columns else 0)
